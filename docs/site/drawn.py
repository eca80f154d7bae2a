"""Pictures of the concepts, drawn by our own functions from a made-up stream with a fixed seed."""

import io
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

import watchtide as wt
from watchtide.core.scoring.intervals import wilson
from watchtide.door import pictures as ours

DAYS, STEP_AT = 63, 52
AMOUNTS = (0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0)
BEGIN = datetime(2026, 8, 3, tzinfo=UTC)


def taps() -> dict[str, Any]:
    """Hourly taps at a gate over nine weeks: a day's season, one burst, and a level that rises for good in the eighth week."""
    t = np.arange(DAYS * 24)
    y = 60 + 25 * np.sin(2 * np.pi * (t - 8) / 24) + np.random.default_rng(20).normal(0, 3, len(t))
    y[30 * 24 + 9 : 30 * 24 + 12] += 25
    y[STEP_AT * 24 :] += 18
    return {"time": [BEGIN + timedelta(hours=int(i)) for i in t], "taps": np.round(y, 2)}


def scan(mode: str, level: float = 0.1) -> Any:
    plan = {
        "prepare": {"every": "1h"}, "baseline": {"kind": "harmonic", "seasons": ["24h"]},
        "flag": {"level": {"per-week": level}}, "replay": {"refit": "1d"},
    }  # fmt: skip
    return wt.scan(taps(), wt.Plan.model_validate(plan), time="time", value="taps", tz="UTC", mode=mode)


def _svg(figure: Any) -> bytes:
    out = io.BytesIO()
    figure.savefig(out, format="svg", facecolor=figure.get_facecolor(), metadata={"Date": None})
    return out.getvalue()


def precision() -> bytes:
    """How far a precision of 0.9 can be trusted after so many judged findings."""
    figure, (axes,) = ours.new(8, 3)
    judged = np.array([10, 20, 30, 50, 100, 200, 500, 1000])
    low, high = np.array([wilson(round(0.9 * n), int(n)) for n in judged]).T
    axes.fill_between(judged, low, high, color=ours.BAND, linewidth=0)
    axes.plot(judged, np.full(len(judged), 0.9), color=ours.INK, linewidth=1.1)
    for at in (0, 4, 7):
        axes.annotate(
            f"{low[at]:.2f} to {high[at]:.2f}",
            (judged[at], low[at]),
            (0, -11),
            textcoords="offset points",
            fontsize=8,
            color=ours.INK,
        )
    axes.set_xscale("log")
    axes.set_xticks(judged, [f"{n:,}" for n in judged])
    axes.minorticks_off()
    axes.set_ylim(0.45, 1.02)
    axes.set_xlim(9, 1500)
    axes.set_xlabel("findings judged, nine of ten of them right", color=ours.INK, fontsize=8)
    ours.label(axes, "precision, 95 % interval")
    return _svg(figure)


def level() -> bytes:
    """The size at which flagging begins, by how many false findings a week are allowed."""
    figure, (axes,) = ours.new(8, 3)
    sigmas = [scan("fit", amount).summary["streams"][""]["level"]["below"] for amount in AMOUNTS]
    axes.plot(AMOUNTS, sigmas, color=ours.INK, linewidth=1.1, marker="o", markersize=4)
    for amount, size in zip(AMOUNTS, sigmas, strict=True):
        axes.annotate(
            f"{size:.1f}", (amount, size), (0, 6), textcoords="offset points", fontsize=8, color=ours.INK
        )
    axes.set_xscale("log")
    axes.set_xticks(AMOUNTS, [f"{a:g}" for a in AMOUNTS])
    axes.minorticks_off()
    axes.set_ylim(min(sigmas) - 0.3, max(sigmas) + 0.6)
    axes.set_xlabel("false findings a week", color=ours.INK, fontsize=8)
    ours.label(axes, "flagged from (sigmas)")
    return _svg(figure)


def judged(mode: str) -> bytes:
    """The last fortnight, with the step: as a scan of this mode sees it."""
    found = scan(mode)
    begin = BEGIN + timedelta(days=STEP_AT - 6)
    return _svg(found.plot(found.series[0], start=begin.isoformat(), unit="taps an hour").figure)


def pictures() -> dict[str, bytes]:
    return {"precision": precision(), "level": level(), "fit": judged("fit"), "replay": judged("replay")}
