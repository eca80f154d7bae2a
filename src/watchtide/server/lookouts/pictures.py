"""The picture in a mail: a stretch of a stream with its band, what was expected, and what was found."""

import csv
import io
from datetime import datetime
from threading import Lock
from zoneinfo import ZoneInfo

import numpy as np

from watchtide.core.series import SECOND_NS, Floats
from watchtide.tables import clock

# As in the page's own light colours; mail programs invert pictures as they like, or not at all.
PAPER, INK, LINE, BAND, HAIR, SIGNAL = "#f6f1e4", "#16283a", "#7d8c94", "#cfcdc4", "#d8cdb2", "#b83a26"
WIDE, TALL, DOTS = 4.2, 2.1, 200
# Day before month, as everywhere here: of ticks, of the tick where the larger unit begins, and below the axis.
TICKS = ["%Y", "%b", "%-d %b", "%H:%M", "%H:%M", "%S.%f"]
FIRSTS = ["", "%Y", "%b", "%-d %b", "%H:%M", "%H:%M"]
BELOW = ["", "%Y", "%b %Y", "%-d %b %Y", "%-d %b %Y", "%-d %b %Y %H:%M"]
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
    from matplotlib.figure import Figure

    with _drawing:
        figure = Figure(figsize=(WIDE, TALL), dpi=DOTS, facecolor=PAPER, layout="constrained")
        axes = figure.add_subplot(facecolor=PAPER)
        if limits is not None:
            axes.axhspan(*limits, color=BAND, linewidth=0)
        colours = [LINE] * (len(values) - 1) + [INK]
        axes.bar(range(len(values)), values, color=colours, width=0.62, zorder=2)
        axes.set_xticks(range(len(values)), names)
        return _finished(figure, axes, unit)


def _draw(times, value, law, is_found, zone, unit) -> bytes:  # type: ignore[no-untyped-def]
    # Loaded here: only who sends mail needs it, and it takes a moment.
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
    from matplotlib.figure import Figure

    expected, lower, upper = law
    place = ZoneInfo(zone)
    at = [datetime.fromtimestamp(t / SECOND_NS, place) for t in times.tolist()]
    figure = Figure(figsize=(WIDE, TALL), dpi=DOTS, facecolor=PAPER, layout="constrained")
    axes = figure.add_subplot(facecolor=PAPER)
    axes.fill_between(at, lower, upper, color=BAND, linewidth=0)
    axes.plot(at, expected, color=LINE, linewidth=1, dashes=(4, 3))
    axes.plot(at, value, color=INK, linewidth=1.3)
    axes.plot(at, np.where(is_found, value, np.nan), color=SIGNAL, linewidth=2.4, marker="o", markersize=3)
    found = np.flatnonzero(is_found)
    if len(found):
        # Not by colour alone: the span is shaded too.
        axes.axvspan(at[found[0]], at[found[-1]], color=SIGNAL, alpha=0.12, linewidth=0)
    locator = AutoDateLocator(tz=place, minticks=3, maxticks=5)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(
        ConciseDateFormatter(locator, tz=place, formats=TICKS, zero_formats=FIRSTS, offset_formats=BELOW)
    )
    axes.margins(x=0)
    return _finished(figure, axes, unit)


def _finished(figure, axes, unit) -> bytes:  # type: ignore[no-untyped-def]
    """The look that pictures share, and the PNG."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    axes.set_ylabel(unit or "value", color=INK, fontsize=8)
    axes.tick_params(colors=INK, labelsize=8, length=0)
    axes.grid(color=HAIR, linewidth=0.6)
    for side in axes.spines.values():
        side.set_visible(False)
    out = io.BytesIO()
    FigureCanvasAgg(figure).print_png(out)
    return out.getvalue()
