"""Pictures of what was found, in the colours of the page, that print well; they need Matplotlib (`watchtide[plot]`)."""

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np

from watchtide.core.scoring.rows import Finding
from watchtide.core.series import SECOND_NS, Floats, Ints
from watchtide.door.errors import InputError
from watchtide.extras import needed

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# As in the page's light colours; what prints stays light.
PAPER, INK, LINE, BAND, HAIR, SIGNAL = "#f6f1e4", "#16283a", "#7d8c94", "#cfcdc4", "#d8cdb2", "#b83a26"
# Day before month, as everywhere here: of ticks, of the tick where the larger unit begins, and below the axis.
TICKS = ["%Y", "%b", "%-d %b", "%H:%M", "%H:%M", "%S.%f"]
FIRSTS = ["", "%Y", "%b", "%-d %b", "%H:%M", "%H:%M"]
BELOW = ["", "%Y", "%b %Y", "%-d %b %Y", "%-d %b %Y", "%-d %b %Y %H:%M"]
# Inches and dots an inch.
WIDE, TALL, PANEL, DOTS = 9.0, 3.2, 1.5, 120
SMALL = (6.0, 2.2)
SHIFT: dict[str, Any] = {"color": SIGNAL, "linewidth": 1.2, "linestyle": (0, (1, 1.5))}


@dataclass(frozen=True)
class Picture:
    """A picture that notebooks show. figure : Matplotlib's, to change it further."""

    figure: "Figure"

    def save(self, path: str | Path) -> None:
        """Write it as PNG, SVG or PDF, by the ending of the path."""
        self.figure.savefig(path, facecolor=self.figure.get_facecolor())

    def _repr_png_(self) -> bytes:
        out = io.BytesIO()
        self.figure.savefig(out, format="png", facecolor=self.figure.get_facecolor())
        return out.getvalue()


def new(wide: float, tall: float, rows: int = 1, dots: int = DOTS) -> "tuple[Figure, Sequence[Axes]]":
    """An empty figure with one panel under another, which share their times. Raises MissingExtra."""
    with needed("plot", "pictures"):
        from matplotlib.figure import Figure

    figure = Figure(figsize=(wide, tall), dpi=dots, facecolor=PAPER, layout="constrained")
    panels = np.atleast_1d(figure.subplots(rows, 1, sharex=True))
    for axes in panels:
        axes.set_facecolor(PAPER)
        axes.tick_params(colors=INK, labelsize=8, length=0)
        axes.grid(color=HAIR, linewidth=0.6)
        axes.set_axisbelow(True)
        for side in axes.spines.values():
            side.set_visible(False)
    return figure, list(panels)


def moments(times: Ints, zone: str) -> Any:
    """Times in ns as the clock of a zone shows them."""
    place = ZoneInfo(zone)
    return [datetime.fromtimestamp(t / SECOND_NS, place) for t in times.tolist()]


def time_axis(axes: "Axes", zone: str, most: int = 8) -> None:
    """Ticks of the axis of times: days before months, each larger unit once."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    place = ZoneInfo(zone)
    locator = AutoDateLocator(tz=place, minticks=3, maxticks=most)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    formats = {"formats": TICKS, "zero_formats": FIRSTS, "offset_formats": BELOW}
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, tz=place, **formats))  # type: ignore[no-untyped-call]
    axes.xaxis.get_offset_text().set(size=8, color=INK)
    axes.margins(x=0)


def label(axes: "Axes", text: str) -> None:
    axes.set_ylabel(text, color=INK, fontsize=8)


@dataclass(frozen=True)
class About:
    """What a picture is of. zone : of its clock; unit : of the values, empty where it is not known."""

    zone: str
    title: str
    unit: str = ""

    def named(self, what: str) -> str:
        """A quantity with its unit."""
        return f"{what} ({self.unit})" if self.unit else what


def stream(
    columns: Mapping[str, Any],
    findings: Sequence[Finding],
    about: About,
    size: tuple[float, float] = (WIDE, TALL),
) -> Picture:
    """A stream with what was expected, how far it may stray, and what was found. columns : of its points."""
    figure, (axes,) = new(*size)
    at = moments(columns["time"], about.zone)
    value = np.asarray(columns["value"], dtype=np.float64)
    axes.fill_between(at, columns["lower"], columns["upper"], color=BAND, linewidth=0, label="unflagged")
    axes.plot(at, columns["expected"], color=LINE, linewidth=1, dashes=(4, 3), label="expected")
    axes.plot(at, value, color=INK, linewidth=1.1, label="observed")
    _mark(axes, columns["time"], value, findings, about.zone)
    _frame(axes, value)
    time_axis(axes, about.zone)
    label(axes, about.named("value"))
    axes.set_title(about.title, color=INK, fontsize=9, loc="left")
    legend = axes.legend(
        fontsize=8, frameon=False, ncols=5, loc="lower right", bbox_to_anchor=(1, 1), borderpad=0
    )
    for text in legend.get_texts():
        text.set_color(INK)
    return Picture(figure)


def _mark(axes: "Axes", times: Ints, value: Floats, findings: Sequence[Finding], zone: str) -> None:
    """Findings by colour, and by markers or lines too."""
    inside = np.zeros(len(times), np.bool_)
    for f in findings:
        begin, end = moments(np.array([f.start, f.end]), zone)
        if f.kind == "shift":
            axes.axvline(begin, **SHIFT)
        else:
            inside |= (times >= f.start) & (times <= f.end)
            axes.axvspan(begin, end, color=SIGNAL, alpha=0.12, linewidth=0)
    if inside.any():
        at = moments(times[inside], zone)
        axes.plot(at, value[inside], color=SIGNAL, linewidth=0, marker="o", markersize=3, label="found")
    if any(f.kind == "shift" for f in findings):
        axes.plot([], [], label="shift", **SHIFT)


def _frame(axes: "Axes", value: Floats) -> None:
    """A band that is far wider than the data must not flatten them."""
    seen = value[np.isfinite(value)]
    if len(seen):
        low, high = float(seen.min()), float(seen.max())
        room = 0.15 * (high - low) or 1.0
        axes.set_ylim(low - room, high + room)


def parts(times: Ints, panels: Sequence[tuple[str, Floats]], about: About) -> Picture:
    """A stream taken apart: one panel a part. panels : names and (n,) values."""
    figure, every = new(WIDE, PANEL * len(panels), len(panels))
    at = moments(times, about.zone)
    for axes, (name, values) in zip(every, panels, strict=True):
        axes.plot(at, values, color=INK, linewidth=1)
        label(axes, about.named(name))
        if name == "remainder":
            axes.axhline(0, color=LINE, linewidth=0.8)
    time_axis(every[-1], about.zone)
    every[0].set_title(about.title, color=INK, fontsize=9, loc="left")
    return Picture(figure)


def figures(events: Mapping[str, Any]) -> Picture:
    """Precision and recall on the line from 0 to 1, each with its interval and what it counts."""
    figure, (axes,) = new(6.0, 1.7)
    rows = (
        ("precision", "tp_findings", "fp_findings", "findings"),
        ("recall", "tp_labels", "fn_labels", "incidents"),
    )
    names = []
    for y, (name, hits, misses, what) in enumerate(rows):
        value, interval = events[name], events[f"{name}_ci"]
        counted = events[hits] + events[misses]
        names.append(f"{name}  {events[hits]} of {counted} {what}")
        if interval:
            axes.plot(interval, [y, y], color=INK, linewidth=2, marker="|", markersize=10)
        if value is None:
            axes.text(0.02, y, "not known", color=INK, fontsize=8, va="center")
        else:
            axes.plot([value], [y], color=INK, marker="D", markersize=6)
            axes.text(value, y - 0.28, f"{value:.2f}", color=INK, fontsize=8, ha="center", va="bottom")
    axes.set_yticks(range(len(rows)), names)
    axes.set_ylim(1.6, -0.7)
    axes.set_xlim(-0.02, 1.02)
    axes.set_xlabel("share, with its 95 % interval", color=INK, fontsize=8)
    return Picture(figure)


def chosen(series: Sequence[str], stated: str | None) -> int:
    """Which stream is meant. Raises InputError."""
    if stated is None:
        if len(series) != 1:
            raise InputError("series", f"there are {len(series)} streams", "name one of scan.series")
        return 0
    if stated not in series:
        raise InputError("series", f"there is no stream {stated!r}", f"name one of {', '.join(series[:5])}")
    return list(series).index(stated)
