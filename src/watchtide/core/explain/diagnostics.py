"""Is a baseline any good? Error figures, and diagnoses in plain words, each with the change to the plan that helps."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core import robust
from watchtide.core.expect.baselines import TRAILS
from watchtide.core.expect.frame import DAY_NS
from watchtide.core.expect.seasons import LEAST_CYCLES, strength_of
from watchtide.core.expect.sliding import CLIP
from watchtide.core.series import Bools, Floats

# What is left of a season, or of a trend, that is worth a word.
LEAST_LEFT = 0.15
# Held-out error over training error from which a fit has learnt its noise.
OVERFIT = 1.35


@dataclass(frozen=True)
class Errors:
    """Error figures of (n,) expectations; None where a figure has no meaning, with the reason in `why`."""

    samples: int
    mae: float | None
    rmse: float | None
    mape: float | None
    smape: float | None
    median_ape: float | None
    coverage: float | None
    why: dict[str, str]


@dataclass(frozen=True)
class Diagnosis:
    """What is wrong, in words with figures; remedy : keys of the plan to change, or empty where more data is the remedy."""

    name: str
    words: str
    remedy: dict[str, Any]


def errors(
    values: Floats, expected: Floats, lower: Floats | None = None, upper: Floats | None = None
) -> Errors:
    """Errors of what was expected; samples missing on either side are skipped.

    mape, median_ape, smape in percent: mape is None where a value is 0. coverage : share within lower … upper.
    Hyndman and Koehler (2006), section 2.
    """
    ok = ~np.isnan(values) & ~np.isnan(expected)
    y, e = values[ok], expected[ok]
    if len(y) == 0:
        return Errors(
            0, None, None, None, None, None, None, {"all": "no sample is both observed and expected"}
        )
    why: dict[str, str] = {}
    away = np.abs(y - e)
    mape = median_ape = None
    if np.any(y == 0):
        why["mape"] = f"{int(np.sum(y == 0))} values are 0: a percentage of nothing; read MAE instead"
    else:
        mape = float(np.mean(away / np.abs(y)) * 100)
    if np.any(y != 0):
        median_ape = float(np.median(away[y != 0] / np.abs(y[y != 0])) * 100)
    both = np.abs(y) + np.abs(e)
    smape = float(np.mean(np.where(both > 0, 2 * away / np.where(both > 0, both, 1.0), 0.0)) * 100)
    coverage = None
    if lower is not None and upper is not None:
        coverage = float(np.mean((y >= lower[ok]) & (y <= upper[ok])))
    return Errors(
        len(y),
        float(np.mean(away)),
        float(np.sqrt(np.mean((y - e) ** 2))),
        mape,
        smape,
        median_ape,
        coverage,
        why,
    )


def diagnose(
    values: Floats,
    expected: Floats,
    scores: Floats,
    held: Floats,
    clean: Bools,
    step_ns: int,
    periods: tuple[float, ...],
    *,
    is_multiplied: bool,
    kind: str,
) -> list[Diagnosis]:
    """What is wrong with a baseline, worst first.

    values, expected : (n,); scores, held : (n,) signed scores, in-sample and held-out, NaN where none; clean : training samples that may speak.
    periods : seasons in samples. The remedies are keys of a plan, written with dots.
    """
    found: list[Diagnosis] = []
    residual = np.where(clean, values - expected, np.nan)
    scale = robust.mad_sigma(residual, centre=0.0)
    if scale == 0 or np.sum(~np.isnan(residual)) < 50:
        return found
    calm = np.clip(residual, -6 * scale, 6 * scale)
    checks = (
        _season_left(calm, step_ns, periods, kind),
        autocorrelated(held),
        structured(held) if kind not in NO_NETWORK else None,
        _trend_left(calm, step_ns, kind),
        _overfit(np.where(clean, scores, np.nan), held, kind) if kind not in ("fixed", "trailing") else None,
        _short(len(values), step_ns, periods),
        _form_leak(values, expected, residual, clean, is_multiplied),
    )
    found += [diagnosis for diagnosis in checks if diagnosis is not None]
    return found + _cadence(values, clean, step_ns)


def _season_left(calm: Floats, step_ns: int, periods: tuple[float, ...], kind: str) -> Diagnosis | None:
    """A day, a week or a season of the baseline that still explains part of the remainder."""
    n, day = len(calm), DAY_NS / step_ns
    for length, name in ((day, "24h"), (7 * day, "7d"), *((p, "") for p in periods)):
        if not 4 <= length <= n / LEAST_CYCLES or (left := strength_of(calm, length)) < LEAST_LEFT:
            continue
        remedy: dict[str, Any] = {"baseline.seasons": [*_written(periods, step_ns), name or round(length)]}
        if any(abs(length - p) < 0.02 * p for p in periods):
            remedy = {"baseline.kind": "harmonic" if kind != "harmonic" else "loess"}
        words = f"a season of {name or f'{length:g} samples'} still explains {left:.0%} of the remainder"
        return Diagnosis("leftover season", words, remedy)
    return None


def _trend_left(calm: Floats, step_ns: int, kind: str) -> Diagnosis | None:
    slow = _slow_share(calm, max(int(7 * DAY_NS / step_ns), 50))
    if slow < LEAST_LEFT:
        return None
    remedy = {"baseline.kind": "harmonic"} if kind in ("slot", "fixed") else {"baseline.settle": "2d"}
    return Diagnosis("leftover trend", f"{slow:.0%} of the remainder moves slowly, over weeks", remedy)


def _overfit(scores: Floats, held: Floats, kind: str) -> Diagnosis | None:
    """scores : in-sample ones that may teach, held : held-out ones, NaN elsewhere."""
    if np.isnan(held).all():
        return None
    outside, within = float(np.nanmedian(np.abs(held))), float(np.nanmedian(np.abs(scores)))
    if not (within > 0 and outside / within > OVERFIT):
        return None
    words = f"held-out errors are {outside / within:.2f} times those of training: the baseline has learnt its noise"
    remedy: dict[str, Any] = (
        {"baseline.kind": "harmonic"} if kind != "harmonic" else {"baseline.options": {"harmonics": 4}}
    )
    return Diagnosis("overfit", words, remedy)


def _short(n: int, step_ns: int, periods: tuple[float, ...]) -> Diagnosis | None:
    for p in periods:
        if n < 4 * p:
            more = (4 * p - n) * step_ns / DAY_NS
            words = f"under four cycles of {p:g} samples: {more:.1f} more days would tell season from chance"
            return Diagnosis("too little history", words, {})
    return None


# Lags tested together, the level of the test, and the least correlation that is reported.
LAGS, TESTED_AT, LEAST_CORRELATION = 24, 0.001, 0.2


def autocorrelated(z: Floats) -> Diagnosis | None:
    """Whether neighbouring held-out scores are correlated; None where they are not, or are under 100.

    Q = n (n + 2) Σ r_k² / (n - k) over 24 lags against a chi-squared law with as many degrees of freedom, on scores clipped
    at three sigmas. Ljung and Box (1978). In long histories the least correlation passes the test: that of neighbours
    must be 0.2 too.
    """
    n = int(np.sum(~np.isnan(z)))
    if n < 100:
        return None
    y = np.clip(z, -CLIP, CLIP)
    y = np.nan_to_num(y - np.nanmean(y))
    total = float(y @ y)
    if total <= 0:
        return None
    lags = min(LAGS, n // 5)
    r = np.array([float(y[k:] @ y[:-k]) / total for k in range(1, lags + 1)])
    q = n * (n + 2) * float(np.sum(r**2 / (n - np.arange(1, lags + 1))))
    from scipy.stats import chi2

    if q < chi2.isf(TESTED_AT, lags) or r[0] < LEAST_CORRELATION:
        return None
    return Diagnosis(
        "autocorrelated remainder",
        f"neighbouring remainders have a correlation of {r[0]:.2f} (Ljung-Box Q {q:.0f} over {lags} lags): a deviation lasts "
        "for several samples by chance, and short incidents are harder to find",
        {},
    )


# Kinds whose remainder a network is no remedy for: those that follow the stream themselves, and stated limits.
NO_NETWORK = (*TRAILS, "fixed")
# Scores that a prediction of the remainder needs, the share that judges it, and from which share of variance it is reported.
LEAST_FORETOLD_SCORES, JUDGED_SHARE, LEAST_FORETOLD = 1_000, 0.25, 0.25


def structured(z: Floats) -> Diagnosis | None:
    """Whether what was left unexplained follows from the samples before it, so that a network that predicts the next one would learn it.

    Held-out scores clipped at three sigmas are predicted by least squares from the 24 before them, on the first three
    quarters, and judged on the last: share of variance foretold. None under a quarter, and with under 1,000 scores that have
    all 24 before them.
    """
    y = np.clip(z, -CLIP, CLIP)
    if len(y) <= LAGS:
        return None
    rows = np.lib.stride_tricks.sliding_window_view(y, LAGS + 1)
    rows = rows[~np.isnan(rows).any(axis=1)]
    if len(rows) < LEAST_FORETOLD_SCORES:
        return None
    cut = round((1 - JUDGED_SHARE) * len(rows))
    given, seen = rows[:, :-1], rows[:, -1]
    centre = given[:cut].mean()
    weights, *_ = np.linalg.lstsq(given[:cut] - centre, seen[:cut] - centre, rcond=None)
    off = seen[cut:] - centre - (given[cut:] - centre) @ weights
    spread = float(np.var(seen[cut:]))
    share = 1 - float(np.mean(off**2)) / spread if spread > 0 else 0.0
    if share < LEAST_FORETOLD:
        return None
    return Diagnosis(
        "structure in the remainder",
        f"the {LAGS} samples before one foretell {share:.0%} of the remainder's variance: a network that predicts the next sample may learn "
        "that, at the price that an incident longer than its window becomes the normal",
        {"baseline.kind": "auto+learned"},
    )


def _written(periods: tuple[float, ...], step_ns: int) -> list[str]:
    return [f"{p * step_ns / 3.6e12:g}h" for p in periods]


def _slow_share(residual: Floats, window: int) -> float:
    """Share of the remainder's variance that means over `window` samples carry, less what noise gives them."""
    whole = len(residual) // window * window
    if whole < 4 * window:
        return 0.0
    rows = residual[:whole].reshape(-1, window)
    seen = np.sum(~np.isnan(rows), axis=1)
    rows = rows[seen > window // 2]
    if len(rows) < 4:
        return 0.0
    total = float(np.nanvar(residual))
    long_run = robust.long_run_variance(residual) / window
    return (
        float(np.clip((np.var(np.nanmean(rows, axis=1)) - long_run) / total, 0.0, 1.0)) if total > 0 else 0.0
    )


def _form_leak(
    values: Floats, expected: Floats, residual: Floats, clean: Bools, is_multiplied: bool
) -> Diagnosis | None:
    """A season that adds where it should multiply shows as errors that grow with the level, and the other way round."""
    ok = clean & ~np.isnan(residual) & ~np.isnan(expected)
    if ok.sum() < 200 or np.any(values[ok] <= 0) or np.any(expected[ok] <= 0):
        return None
    e, r = expected[ok], np.abs(residual[ok])
    high, low = e >= np.quantile(e, 0.8), e <= np.quantile(e, 0.2)
    usual_high, usual_low = float(np.median(r[high])), float(np.median(r[low]))
    level = float(np.median(e[high])) / max(float(np.median(e[low])), 1e-300)
    if usual_low <= 0 or level < 1.5:
        return None
    growth = np.log(max(usual_high, 1e-300) / usual_low) / np.log(level)
    if growth > 0.8 and not is_multiplied:
        words = f"errors are {usual_high / usual_low:.1f} times as large where the level is high: the parts multiply rather than add"
        return Diagnosis("wrong form", words, {"baseline.form": "multiplicative"})
    if growth < 0.2 and is_multiplied:
        words = "errors do not grow with the level: the parts add rather than multiply"
        return Diagnosis("wrong form", words, {"baseline.form": "additive"})
    return None


def _cadence(values: Floats, clean: Bools, step_ns: int) -> list[Diagnosis]:
    """A grid finer than the data say anything, or coarser than what happens in a day."""
    seen = values[~np.isnan(values)]
    if len(values) > 200 and len(seen) < 0.35 * len(values):
        coarser = _longer(step_ns, len(values) / max(len(seen), 1))
        return [
            Diagnosis(
                "too fine a cadence",
                f"{1 - len(seen) / len(values):.0%} of the bins hold no sample",
                {"prepare.every": coarser},
            )
        ]
    whole = np.all(seen == np.floor(seen)) and np.all(seen >= 0)
    if len(seen) > 200 and whole and float(np.mean(seen)) < 0.5:
        return [
            Diagnosis("too fine a cadence", f"counts of {float(np.mean(seen)):.2g} a bin tell little: a few are never far from none",
                      {"prepare.every": _longer(step_ns, 2 / max(float(np.mean(seen)), 0.02))})
        ]  # fmt: skip
    if step_ns >= DAY_NS and len(seen) < 60:
        return [
            Diagnosis(
                "too coarse a cadence",
                f"{len(seen)} samples in all: a finer cadence would show the course of a day",
                {"prepare.every": "1h"},
            )
        ]
    return []


def _longer(step_ns: int, factor: float) -> str:
    """The next usual cadence at least this many times longer."""
    for seconds, text in (
        (60, "1m"),
        (300, "5m"),
        (900, "15m"),
        (1800, "30m"),
        (3600, "1h"),
        (10_800, "3h"),
        (21_600, "6h"),
        (86_400, "1d"),
    ):
        if seconds * 10**9 >= step_ns * factor:
            return text
    return "7d"
