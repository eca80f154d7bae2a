"""The picture in a mail: a stretch of a stream with its band, what was expected, and what was found."""

import csv
import io
from threading import Lock

import numpy as np

from watchtide.core.series import Floats
from watchtide.door import pictures as look
from watchtide.tables import clock

# Inches, and dots an inch.
WIDE, TALL, DOTS = 4.2, 2.1, 200
# The library keeps fonts and caches that threads share.
_drawing = Lock()


def drawn(points: str, zone: str, first_ns: int, last_ns: int, unit: str) -> bytes:
    """A PNG of points as CSV, those of a closed span marked. Empty where there are no points."""
    rows = list(csv.DictReader(io.StringIO(points)))
    if not rows:
        return b""
    times = np.array([clock.parse_one(r["time"]) for r in rows])
    value, expected, lower, upper = (_column(rows, n) for n in ("value", "expected", "lower", "upper"))
    with _drawing:
        return _draw(
            times, value, (expected, lower, upper), (times >= first_ns) & (times <= last_ns), zone, unit
        )


def _column(rows: list[dict[str, str]], name: str) -> Floats:
    return np.array([float(r[name]) if r[name] else np.nan for r in rows])


def bars(names: list[str], values: list[float], limits: tuple[float, float] | None, unit: str) -> bytes:
    """A PNG of a period beside the same ones before it, the last one marked; limits : lower and upper of that one."""
    with _drawing:
        figure, (axes,) = look.new(WIDE, TALL, dots=DOTS)
        if limits is not None:
            axes.axhspan(*limits, color=look.BAND, linewidth=0)
        colours = [look.LINE] * (len(values) - 1) + [look.INK]
        axes.bar(range(len(values)), values, color=colours, width=0.62, zorder=2)
        axes.set_xticks(range(len(values)), names)
        return _finished(figure, axes, unit)


def _draw(times, value, law, is_found, zone, unit) -> bytes:  # type: ignore[no-untyped-def]
    expected, lower, upper = law
    at = look.moments(times, zone)
    figure, (axes,) = look.new(WIDE, TALL, dots=DOTS)
    axes.fill_between(at, lower, upper, color=look.BAND, linewidth=0)
    axes.plot(at, expected, color=look.LINE, linewidth=1, dashes=(4, 3))
    axes.plot(at, value, color=look.INK, linewidth=1.3)
    axes.plot(
        at, np.where(is_found, value, np.nan), color=look.SIGNAL, linewidth=2.4, marker="o", markersize=3
    )
    found = np.flatnonzero(is_found)
    if len(found):
        # Not by colour alone: the span is shaded too.
        axes.axvspan(at[found[0]], at[found[-1]], color=look.SIGNAL, alpha=0.12, linewidth=0)
    look.time_axis(axes, zone, 5)
    return _finished(figure, axes, unit)


def _finished(figure, axes, unit) -> bytes:  # type: ignore[no-untyped-def]
    """The PNG, with the axis of values named."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    look.label(axes, unit or "value")
    out = io.BytesIO()
    FigureCanvasAgg(figure).print_png(out)
    return out.getvalue()
