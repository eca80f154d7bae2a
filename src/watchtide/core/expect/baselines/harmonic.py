"""Baseline by harmonics: a trend with bends, seasons of any length, known days and covariates, fitted together.

A penalised regression. Harmonics cost the more the higher they are, by an amount that blocked
cross-validation chooses, so that a plain season stays smooth and a jagged one may be jagged.
"""

from typing import Any

import numpy as np
from scipy.linalg import lapack

from watchtide.core.expect.baselines import Fitted, Parts
from watchtide.core.expect.baselines.waves import (
    _SPACING_UNIT,
    MOST_HARMONICS,
    Design,
    Layout,
    _dot_rows,
    design_of,
    harmonics,
)
from watchtide.core.expect.frame import DAY_NS, Frame, Period, cycle_blocks
from watchtide.core.robust import chance_of, mad_sigma
from watchtide.core.series import Bools, Floats, Ints

# How much a first harmonic is drawn to nothing, against what n / 2 samples say: tried by cross-validation.
# What is taken where nothing is tried: a plain season may be jagged, a changed one is smooth.
USUAL = {"season": 1e-3, "shared": 1e-2, "bends": 1.0}
RIDGES = (1e-5, 1e-4, 1e-3, 1e-2, 1e-1)
SHARED_RIDGES = (1e-4, 1e-3, 1e-2, 1e-1, 1e1)
BEND_RIDGES = (1e-2, 1.0)
FOLDS = 4
# Tukey's bisquare at 95 % efficiency for Gaussian noise.
BISQUARE = 4.685
SWEEPS = 12


def fit(
    frame: Frame,
    periods: tuple[Period, ...],
    *,
    harmonics_most: int = MOST_HARMONICS,
    bends_ns: int | None = None,
    link: str = "identity",
    is_robust: bool = True,
    ridge: dict[str, float] | None = None,
    start: Fitted | None = None,
) -> Fitted:
    """Fit trend, seasons, known days and covariates together, robustly, to the usable samples.

    periods : any lengths; one that divides another shares its harmonics, and the longer one may change the
        shape of the shorter (a day that differs by weekday).
    bends_ns : spacing of the trend's bends; None takes two weeks and at least 14 samples, and no bend nearer than that to the ends.
    link : "identity", or "log" for parts that multiply: E y = exp(parts), variance growing with E y.
    ridge : penalties of an earlier choice; None cross-validates over blocks of cycles. start : a fit to nearly the same samples, to begin from.
    Tukey's bisquare, from Huber's weights, with Fellner's modified residuals, so that one factorisation
    serves all sweeps. Huber and Ronchetti (2009), chapter 7; Hyndman and Athanasopoulos (2021), section 12.
    """
    use = frame.usable & ~np.isnan(frame.values)
    at = np.flatnonzero(use)
    names = frame.names
    if len(at) == 0:
        return Fitted("harmonic", periods, {"beta": np.full(2, np.nan)}, _facts(periods, link, 0, 0, names))
    origin, end = int(frame.times[at[0]]), int(frame.times[at[-1]])
    longest = max((p.ns for p in periods), default=0)
    knots = np.empty(0)
    if end - origin >= 2 * longest and len(at) >= 24:
        # Coarser than days, two weeks would have a bend for every sample or two.
        spacing = float(bends_ns or max(_SPACING_UNIT, 14.0 * frame.step_ns))
        knots = np.arange(spacing, end - origin - 0.5 * spacing + 1, spacing) / _SPACING_UNIT
    layout = harmonics(periods, frame.step_ns, harmonics_most, len(at))
    part = _rows_of(frame, at)
    x = design_of(part, periods, layout, origin, end, knots)
    # Around its middle, so that a far-off level costs no digits and no penalty.
    middle = 0.0 if link == "log" else float(np.median(part.values))
    y = part.values - middle
    folds = cycle_blocks(part, periods, FOLDS)
    model = _Regression(x, part.weights, folds, layout, len(knots), end - origin >= 2 * DAY_NS, part.event)
    model.middle = middle
    if ridge is None:
        ridge = model.choose(_drawn_in(y) if link == "identity" else _log_start(y))
    penalty = model.penalty(ridge)
    begun = None if start is None else _begun(start, len(penalty), origin, middle)
    beta, weight, inner = model.solve(y, penalty, link=link, is_robust=is_robust, start=begun)
    beta[0] += middle
    columns = {name: getattr(layout, name).astype(np.float64) for name in ("period", "order", "owner")}
    arrays = {"beta": beta, "knots": knots, **columns}
    facts = _facts(periods, link, origin, end, names) | {
        "ridge": ridge,
        "harmonics": len(layout.order),
        "down_weighted": int(np.sum(weight < 0.25)),
        "degrees_of_freedom": inner,
        "most": harmonics_most,
        "samples": len(at),
        "has_slope": end - origin >= 2 * DAY_NS,
        "weight": float(part.weights.sum()),
    }
    return Fitted("harmonic", periods, arrays, facts)


def held_out(fitted: Fitted, frame: Frame, tame: Bools, folds: Ints) -> Floats:
    """(n,) expected values from fits to the samples of the other folds, with the penalties of this fit.

    tame : samples that may speak; folds : (n,) fold of each. One Newton step from the full fit's coefficients: exact for an
    identity link, whose error is quadratic.
    """
    facts, a = fitted.facts, fitted.arrays
    layout = harmonics(fitted.periods, frame.step_ns, facts["most"], facts["samples"])
    x = design_of(frame, fitted.periods, layout, facts["origin"], facts["end"], a["knots"])
    use = np.where(tame, np.nan_to_num(frame.weights), 0.0)
    model = _Regression(x, use, folds, layout, len(a["knots"]), facts["has_slope"], None)
    model.n = facts["weight"]
    beta, penalty = a["beta"], model.penalty(facts["ridge"])
    eta = x @ beta
    y = np.where(tame, frame.values, 0.0)
    if facts["link"] == "log":
        mean = np.exp(np.clip(eta, -30.0, 700.0))
        size, move = use * mean / max(float(np.mean(mean)), 1e-300), np.where(tame, y - mean, 0.0) / mean
    else:
        size, move = use, np.where(tame, y - eta, 0.0)
    out = eta.copy()
    parts = []
    for fold in range(FOLDS):
        rows = folds == fold
        own = x.rows(rows)
        parts.append((rows, own, own.gram(size[rows]), own.moment((size * move)[rows])))
    gram, right = sum(p[2] for p in parts), sum(p[3] for p in parts)
    for rows, own, own_gram, own_right in parts:
        if rows.any():
            step = _solve(gram - own_gram, right - own_right - penalty * beta, penalty)
            out[rows] = own @ (beta + np.clip(step, -2.0, 2.0) if facts["link"] == "log" else beta + step)
    return np.exp(np.clip(out, -30.0, 700.0)) if facts["link"] == "log" else out


def _begun(before: Fitted, size: int, origin: int, middle: float) -> Floats | None:
    """Coefficients of an earlier fit about another origin and middle; None where it has other columns."""
    beta = before.arrays["beta"]
    if len(beta) != size or np.isnan(beta).any():
        return None
    beta = beta.copy()
    # Its bends move along with the origin: nearly where they were.
    beta[0] += beta[1] * (origin - before.facts["origin"]) / _SPACING_UNIT - middle
    return beta


def _facts(
    periods: tuple[Period, ...], link: str, origin: int, end: int, names: tuple[str, ...]
) -> dict[str, Any]:
    return {"link": link, "origin": origin, "end": end, "columns": list(names)}


def _rows_of(frame: Frame, at: Ints) -> Frame:
    return Frame(
        frame.times[at], frame.offsets_ns[at], frame.step_ns, frame.values[at], frame.usable[at],
        frame.weights[at], frame.columns[:, at], frame.names,
        None if frame.counted is None else frame.counted.at(at),
    )  # fmt: skip


def expect(fitted: Fitted, frame: Frame) -> Parts:
    """Trend, seasons, known days and covariates at the samples of a frame; multiplied where the link is log."""
    n, k = len(frame), len(fitted.periods)
    a = fitted.arrays
    if np.isnan(a["beta"]).all():
        blank = np.full(n, np.nan)
        return Parts(blank, blank, np.zeros((k, n)))
    layout = Layout(
        a["period"].astype(np.int64), a["order"].astype(np.int64), a["owner"].astype(np.int64),
        np.zeros(len(a["order"])), np.zeros(len(a["order"]), np.bool_),
    )  # fmt: skip
    x = design_of(frame, fitted.periods, layout, fitted.facts["origin"], fitted.facts["end"], a["knots"])
    beta, names = a["beta"], fitted.facts["columns"]
    m = x.slow.shape[1]
    h = m - len(names)
    trend = _dot_rows(np.ascontiguousarray(x.slow[:, :h]), beta[:h])
    seasons = np.zeros((k, n))
    for i in range(k):
        own = np.repeat(layout.owner == i, 2)
        seasons[i] = _dot_rows(x.seasons[:, own], beta[m:][own])[x.at]
    more = {name: x.slow[:, h + j] * beta[h + j] for j, name in enumerate(names)}
    eta = trend + seasons.sum(axis=0) + sum(more.values())
    if fitted.facts["link"] == "log":
        expected = np.exp(np.minimum(eta, 700.0))
        level = np.exp(np.minimum(trend, 700.0))
        # Told in the data's unit: what each season adds to the level it multiplies.
        return Parts(
            expected,
            level,
            _shared_out(expected - level, seasons, more),
            _scaled(more, expected - level, seasons),
        )
    return Parts(eta, trend, seasons, more)


def _shared_out(total: Floats, seasons: Floats, more: dict[str, Floats]) -> Floats:
    """Seasons in the data's unit, in proportion to what each says in logarithms."""
    logs = seasons.sum(axis=0) + sum(more.values())
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(logs != 0, seasons / logs * total, 0.0))


def _scaled(more: dict[str, Floats], total: Floats, seasons: Floats) -> dict[str, Floats]:
    logs = seasons.sum(axis=0) + sum(more.values())
    with np.errstate(invalid="ignore", divide="ignore"):
        return {name: np.where(logs != 0, part / logs * total, 0.0) for name, part in more.items()}


def _drawn_in(y: Floats) -> Floats:
    """y with its wildest samples drawn in, so that the choice of penalties is not theirs."""
    centre, scale = float(np.median(y)), mad_sigma(y)
    return np.clip(y, centre - 8 * scale, centre + 8 * scale) if scale > 0 else y


def _log_start(y: Floats) -> Floats:
    """Logarithms to start from; values at or near 0 take half of the least positive one."""
    positive = y[y > 0]
    least = float(positive.min()) / 2 if len(positive) else 1.0
    return np.log(np.maximum(y, least))


class _Regression:
    """A penalised regression on one design: cross-validation of the penalties, and the robust fit."""

    def __init__(
        self,
        x: Design,
        weights: Floats,
        folds: Ints,
        layout: Layout,
        knots: int,
        has_slope: bool,
        event: Floats | None,
    ) -> None:
        self.x, self.w, self.folds, self.layout = x, weights, folds, layout
        self.knots, self.has_slope = knots, has_slope
        self.event, self.middle = event, 0.0
        self.n = float(weights.sum())

    def penalty(self, ridge: dict[str, float]) -> Floats:
        """(p,) what each squared coefficient costs."""
        lay = self.layout
        each = np.where(lay.shared, ridge["shared"], ridge["season"]) * lay.roughness**2 * self.n / 2
        slope = 1e-6 if self.has_slope else 1e6
        bends = np.full(self.knots, ridge["bends"] * self.n / 20)
        beside = np.full(self.x.slow.shape[1] - 2 - self.knots, 1e-3 * self.n / 100 + 1e-9)
        return np.asarray(np.r_[1e-9, slope * self.n, bends, beside, np.repeat(each, 2)] + 1e-10 * self.n)

    def choose(self, y: Floats) -> dict[str, float]:
        """Penalties with the least absolute error on blocks of cycles left out in turn (plain fits)."""
        grams = []
        for fold in range(FOLDS):
            rows = self.folds == fold
            xf = self.x.rows(rows)
            grams.append((xf.gram(self.w[rows]), xf.moment(self.w[rows] * y[rows]), xf, y[rows]))
        whole, moment = sum(g[0] for g in grams), sum(g[1] for g in grams)
        kept = [g for g in grams if len(g[3])]

        known: dict[tuple[float, ...], float] = {}

        def error(ridge: dict[str, float]) -> float:
            named = tuple(ridge.values())
            if named not in known:
                known[named] = fresh_error(ridge)
            return known[named]

        def fresh_error(ridge: dict[str, float]) -> float:
            penalty = self.penalty(ridge)
            errors = []
            for gram, right, xf, yf in kept:
                beta = _solve(whole - gram, moment - right, penalty)
                errors.append(np.abs(yf - xf @ beta))
            return float(np.mean(np.concatenate(errors)))

        best = dict(USUAL)
        if len(kept) < 2:
            return best
        ladders: list[tuple[str, tuple[float, ...]]] = [("season", RIDGES)]
        if self.layout.shared.any():
            ladders = [("shared", SHARED_RIDGES), ("season", RIDGES)]
        if self.knots:
            ladders.append(("bends", BEND_RIDGES))
        for name, ladder in ladders:
            tried = {value: error(best | {name: value}) for value in ladder}
            best[name] = min(tried, key=lambda value: tried[value])
        return best

    def solve(
        self, y: Floats, penalty: Floats, *, link: str, is_robust: bool, start: Floats | None = None
    ) -> tuple[Floats, Floats, float]:
        """Coefficients, the robustness weight of each sample, and the effective number of parameters."""
        if link == "log":
            return self._solve_log(y, penalty, is_robust, start)
        gram = self.x.gram(self.w)
        factor = _factor(gram, penalty)
        if start is None or not is_robust:
            huber, beta = SWEEPS // 3, _solved(factor, self.x.moment(self.w * y))
        else:
            huber, beta = 0, start
        weight = np.ones(len(y))
        if is_robust:
            root = np.sqrt(self.w)
            for sweep in range(SWEEPS):
                fitted = self.x @ beta
                residual = (y - fitted) * root
                scale = mad_sigma(residual, centre=0.0)
                if self.event is None and scale <= 1e-12 * (1e-300 + float(np.max(np.abs(y)))):
                    break
                usual: Floats | float = scale
                if self.event is not None:
                    usual = np.maximum(scale, chance_of(fitted + self.middle, self.event) * root)
                weight = _weights(residual / usual, sweep < huber)
                step = _solved(factor, self.x.moment(self.w * weight * (y - fitted)) - penalty * beta)
                beta = beta + step
                if float(np.max(np.abs(step))) < 1e-4 * scale and (sweep > huber or huber == 0):
                    break
        return beta, weight, _effective(factor, penalty)

    def _solve_log(
        self, y: Floats, penalty: Floats, is_robust: bool, start: Floats | None
    ) -> tuple[Floats, Floats, float]:
        """Quasi-likelihood with a log link and a variance that grows with the mean, drawn in like the other."""
        warm = start is not None
        if start is None:
            beta = _solve(self.x.gram(self.w), self.x.moment(self.w * _log_start(y)), penalty)
        else:
            beta = start
        weight = np.ones(len(y))
        gram = np.eye(len(penalty))
        for sweep in range(8):
            eta = np.clip(self.x @ beta, -30.0, 700.0)
            mean = np.exp(eta)
            pearson = (y - mean) * np.sqrt(self.w / mean)
            scale = max(mad_sigma(pearson, centre=0.0), 1e-9)
            if is_robust:
                usual = scale * np.sqrt(mean / np.maximum(self.w, 1e-9))
                if self.event is not None:
                    usual = np.maximum(usual, chance_of(mean, self.event))
                weight = _weights((y - mean) / usual, sweep < 4 and not warm)
            size = self.w * mean / max(float(np.mean(mean)), 1e-300)
            gram = self.x.gram(size)
            move = weight * (y - mean) / mean
            step = _solve(gram, self.x.moment(size * move) - penalty * beta, penalty)
            step = np.clip(step, -2.0, 2.0)
            beta = beta + step
            if float(np.max(np.abs(step))) < (1e-3 if warm else 1e-5) and (warm or sweep >= 5):
                break
        return beta, weight, _effective(_factor(gram, penalty), penalty)


def _weights(u: Floats, is_first: bool) -> Floats:
    """Huber's weights at first, which cannot lose the middle; then the bisquare, which lets go of outliers."""
    size = np.abs(u)
    if is_first:
        return np.asarray(np.minimum(1.0, 1.345 / np.maximum(size, 1e-300)))
    return np.asarray(np.maximum(1 - (size / BISQUARE) ** 2, 0.0) ** 2)


def _factor(gram: Floats, penalty: Floats) -> Floats:
    """Cholesky factor of gram + diag(penalty); straight at LAPACK, since it is called often."""
    # Columns first, as LAPACK has them, so that nothing is copied again; the matrix is its own transpose.
    whole = gram.T.copy(order="F")
    whole.ravel(order="K")[:: len(penalty) + 1] += penalty
    factor, info = lapack.dpotrf(whole, lower=1, overwrite_a=1, clean=0)
    if info != 0:
        raise np.linalg.LinAlgError("the normal equations are not positive definite")
    return np.asarray(factor)


def _solved(factor: Floats, right: Floats) -> Floats:
    """The solution of (gram + diag(penalty)) b = right, by the factor."""
    found, _ = lapack.dpotrs(factor, right, lower=1)
    return np.asarray(found)


def _solve(gram: Floats, right: Floats, penalty: Floats) -> Floats:
    return _solved(_factor(gram, penalty), right)


def _effective(factor: Floats, penalty: Floats) -> float:
    """The effective number of parameters, tr (gram + D)⁻¹ gram = p - tr (gram + D)⁻¹ D, D the penalties."""
    inverse, _ = lapack.dpotri(factor, lower=1)
    return float(len(penalty) - np.diagonal(inverse) @ penalty)
