"""Windows as evidence: ramps, bursts of noise, stuck values and odd shapes, which no single sample betrays; and leaps.

For every end t and several lengths: the clipped mean of the standardised residuals, and the roughness of what is new in each (log of
the clipped mean square), each against its own robust middle and scale, so that autocorrelation is paid
for. Runs of equal values, by how surprising each further equal value is at its time of day. And leaps away from the sample
before, where neighbours go together (`innovations`). Each statistic is put on the scale of the stream's own tail: a window scores as many sigmas as a single sample
that is reached as rarely, in false findings a week.
"""

from dataclasses import replace

import numpy as np

from watchtide.core import robust
from watchtide.core.expect import applying, expectation
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Model
from watchtide.core.expect.runs import equal_chances
from watchtide.core.expect.sliding import (
    least_scales,
    lengths_for,
    middles,
    standardised,
    statistics,
)
from watchtide.core.judge import innovations, shapes
from watchtide.core.judge.tails import MAXIMA, Settings, Tail, fit_tail
from watchtide.core.judge.watches import EPISODE_LENGTHS, LEAPS, LONE, TOGETHER, Beside, Watch, runs_of
from watchtide.core.series import Bools, Floats
from watchtide.core.series.steps import WEEK_NS

# Twenty times more rarely still over a whole history: one that is flagged then carries dozens of samples, not the two or so of a replay.
TOGETHER_WHOLE = 80.0
# Fewer clean samples, or events among samples that are otherwise one value, say too little of how windows vary.
LEAST_SAMPLES = 200
# A tail is not read for what comes less often than this a week.
LEAST_RATE = 1e-4
# Statistics of windows are means of clipped scores, nearly Gaussian: at u sigmas the shape of a Gaussian tail is
# u φ(u)⁻¹ (1 - Φ(u)) - 1, -0.16 at 2 and -0.09 at 3, and they differ less from one another.
OF_WINDOWS = replace(MAXIMA, shape=-0.1, shape_spread=0.1)
# Maxima of blocks of about a day; of a young stream over fewer samples, so that there are enough of them to fit a tail.
LEAST_BLOCK, USUAL_BLOCK, BLOCKS = 6, 24, 42


def calibrate(
    held: Floats,
    clean: Bools,
    beside: Beside,
    step_ns: int,
    *,
    is_causal: bool,
    grain: float = 0.0,
    has_leaps: bool = True,
) -> Watch | None:
    """Windows of a stream, from clean held-out scores; None where there is too little to compare with, as of
    events that are too rare for windows to add anything to them.

    held : (n,) signed held-out scores, NaN where none; clean : (n,) samples that may teach; grain : the data's resolution in
    sigmas. is_causal : whether they are to be used so; has_leaps : whether leaps are used, which mean nothing where the season is
    still in the scores.
    """
    z = np.where(clean, held, np.nan)
    n = int(np.sum(~np.isnan(z)))
    lengths = lengths_for(n, step_ns)
    if n < LEAST_SAMPLES or len(lengths) == 0 or _is_rare(np.where(clean, beside.values, np.nan)):
        return None
    block = int(max(min(USUAL_BLOCK, n // BLOCKS), LEAST_BLOCK, lengths[-1] // 4))
    weeks = n * step_ns / WEEK_NS
    known = replace(MAXIMA, known=robust.independent_samples(z))
    own = {s: _peaks_tail(v, block, weeks, grain, known) for s, v in (("above", z), ("below", -z))}
    if own["above"] is None or own["below"] is None:
        return None
    # Of the newest sample nobody knows whether it is new or the edge of a level.
    correlation = 0.0 if is_causal or not has_leaps else innovations.correlation_of_neighbours(z)
    mean, rough = statistics(z, lengths, new=innovations.novelty(z, correlation))
    of_mean, of_rough = least_scales(z, lengths)
    at = middles(mean, of_mean, lengths), middles(rough, of_rough, lengths)
    equal = equal_chances(beside.values, clean, beside.groups, beside.count)
    follower = innovations.fit(z) if has_leaps else None
    found = _strongest(mean, rough, *at)
    found["stuck"] = np.where(clean, runs_of(equal, beside, held)[0], np.nan)
    if follower is not None:
        leaps = innovations.leaps(z, follower)
        found |= zip(LEAPS, (leaps.up, leaps.down), strict=True)
        if not is_causal:
            longest = EPISODE_LENGTHS * int(lengths[-1])
            found["episode"] = np.where(clean, innovations.episodes(z, follower, longest)[0], np.nan)
    if not is_causal and beside.shapes is not None:
        strength, _ = shapes.strongest(z, beside.shapes, EPISODE_LENGTHS * int(lengths[-1]), is_sure=False)
        if not np.isnan(strength).all():
            found["shape"] = strength
    if beside.isolated is not None:
        found["isolated"] = np.where(clean, beside.isolated, np.nan)
    together = TOGETHER if is_causal else TOGETHER_WHOLE
    scale: dict[str, Floats] = {}
    for name, statistic in found.items():
        rates = _rates_of(name, statistic, block, weeks, step_ns)
        if rates is not None:
            grid, rate = rates
            rarer = TOGETHER if name in LONE else together
            scale[name] = np.array([grid, _sigmas_for(own, name, np.maximum(rate, 1e-12) * rarer)])
    return Watch(lengths, *at, equal, scale, block, together, follower, correlation)


def _is_rare(values: Floats) -> bool:
    """Whether nearly all of what is observed is one value, and too little is another to tell how windows of it vary."""
    seen = values[~np.isnan(values)]
    others = int(np.sum(seen != robust.median(seen))) if len(seen) else 0
    return robust.is_mostly_one_value(values) and others < LEAST_SAMPLES


def beside_of(model: Model, frame: Frame, expected: Floats, before: Frame | None = None) -> Beside:
    """What windows of a frame go by beside the scores of a model. before : the frame with samples before it, which kinds that judge
    whole windows need; None where it begins with the history."""
    isolated = expectation.isolated_of(model, frame if before is None else before)
    return Beside(
        frame.values,
        model.slot_of(applying.spread_groups(frame, model)),
        count=model.groups,
        expected=expected,
        event=frame.event,
        isolated=None if isolated is None else isolated[len(isolated) - len(frame) :],
        lags=model.fitted.facts.get("lags", 1),
    )


def _strongest(mean: Floats, rough: Floats, mean_at: Floats, rough_at: Floats) -> dict[str, Floats]:
    """(n,) of the means and the roughness of windows ending at each sample the strongest over all lengths, in their own scales;
    -inf where none is known."""
    with np.errstate(invalid="ignore"):
        means, roughs = standardised(mean, mean_at), standardised(rough, rough_at)
        return {
            name: np.nanmax(np.where(np.isnan(rows), -np.inf, rows), axis=0)
            for name, rows in (("above", means), ("below", -means), ("rough", roughs))
        }


def _rates_of(
    name: str, statistic: Floats, block: int, weeks: float, step_ns: int
) -> tuple[Floats, Floats] | None:
    """(k,) levels of a statistic, rising, and how often a week each is reached; None where too little is known."""
    tail = _peaks_tail(np.where(np.isfinite(statistic), statistic, np.nan), block, weeks, settings=OF_WINDOWS)
    if tail is None:
        return None
    if name != "stuck":
        return tail.levels, tail.rates_at(tail.levels)
    # Runs so short that they tie are no guide to long ones: chance itself sets the least rate.
    grid = np.linspace(3.0, 60.0, 80)
    return grid, np.maximum(tail.rates_at(grid), WEEK_NS / step_ns * np.exp(-0.8 * grid))


def _sigmas_for(own: dict[str, Tail | None], family: str, rate: Floats) -> Floats:
    """(k,) sigmas that a single sample reaches as often, a week."""
    above, below = own["above"], own["below"]
    assert above is not None and below is not None
    if family == "above":
        return _levels_for(above, rate)
    if family == "below":
        return _levels_for(below, rate)
    return np.maximum(_levels_for(above, rate / 2), _levels_for(below, rate / 2))


def _levels_for(tail: Tail, rate: Floats) -> Floats:
    """The tail's levels, but beyond what it can know as of an exponential one: surer is not so much larger. Its scale is at least
    that of a Gaussian tail there, the reciprocal of the level: that of few distinct scores can be next to nothing."""
    known = np.maximum(rate, LEAST_RATE)
    levels = tail.levels_for(known)
    return np.asarray(levels + np.maximum(tail.scale, 1 / np.maximum(levels, 1.0)) * np.log(known / rate))


def _peaks_tail(
    values: Floats, block: int, weeks: float, grain: float = 0.0, settings: Settings = MAXIMA
) -> Tail | None:
    """Tail of the maxima of blocks, per week."""
    whole = len(values) // block * block
    if whole == 0:
        return None
    rows = values[:whole].reshape(-1, block)
    seen = ~np.isnan(rows).all(axis=1)
    peaks = np.nanmax(rows[seen], axis=1) if seen.any() else np.empty(0)
    # Blocks of about a day are drawn together.
    own = replace(settings, blocks=max(len(peaks) / weeks, 1e-9))
    return fit_tail(peaks, np.arange(len(peaks)) // 2, weeks, settings=own, grain=grain)
