"""Scores of samples and of the windows they lie in, combined: over a whole history, or as if live."""

from dataclasses import replace

import numpy as np
from numba import njit

from watchtide.core.expect.sliding import (
    clipped_scores,
    standardised,
    statistics,
    trimmed,
)
from watchtide.core.judge import innovations, shapes
from watchtide.core.judge.extents import goes_on, onset
from watchtide.core.judge.innovations import Leaps
from watchtide.core.judge.watches import EPISODE_LENGTHS, ODD, Beside, Evidence, Watch, alone, runs_of
from watchtide.core.series import Bools, Floats, Ints

# Sigmas that a unit of a window's statistic adds to what its rarity gives.
A_UNIT = 0.01
# The lowest level of the operating curve: no window is reported below it.
LEAST_SCORE = 2.0
# Standard error of the log mean square past the end of a fit, an error of 8 % in the spread. Chosen on `bench promises`, seeds 950
# to 955: 0.15 and 0.3 gave the same. Without it one window of two days had as many samples as `odds` allow in months.
CARRIED_ROUGH = 0.15


def combine(
    watch: Watch | None,
    z: Floats,
    beside: Beside,
    *,
    is_causal: bool,
    drift: Floats | None = None,
    leaps: Leaps | None = None,
    past_end: Bools | None = None,
    since: int = 0,
) -> Evidence:
    """Scores of samples combined with those of windows, from `since` on; causal ones alone may begin there.

    watch : None takes every sample by itself; z : (n,) signed scores, NaN where not judged. Not causal: windows are taken strongest
    first without overlap, and each gives its score to its trimmed span, of a ramp to all of it. Causal: a sample counts windows ending at it
    only, and only those whose trimmed span holds it, or whose level may still go on (`extents`). drift : (n,), or (w, n) by length, what the mean of a window may stray beyond its usual scale, in
    sigmas, where a fit is carried past its end. past_end : (n,) samples there, whose spread may be a little off. leaps : those that
    end where z does, as they are known by the scores of one and the same fit, so that a refit is no leap; None takes them from z.
    """
    if watch is None:
        return alone(z[since:])
    fresh = z[since:]
    clipped, seen = clipped_scores(z)
    new = innovations.novelty(z, watch.correlation)
    sigmas = _sigmas_of_windows(watch, z, new, drift, past_end, since)
    sizes = clipped if new is z else clipped_scores(new)[0]
    run, began = runs_of(watch.equal, beside, z)
    stuck = np.zeros(len(fresh))
    if "stuck" in watch.scale:
        stuck = _sigmas(np.where(np.isnan(fresh), np.nan, run[since:]), *watch.scale["stuck"])
    out = alone(fresh)
    out = replace(out, first=out.first + since)
    if watch.follower is not None and leaps is None:
        leaps = innovations.leaps(z, watch.follower)
    _take_lone(watch, beside, leaps, fresh, out, is_causal=is_causal)
    to = out.score, out.side, out.window, out.first
    if is_causal:
        _combine_causal(sigmas, stuck, began, watch.lengths, clipped, sizes, seen, *to, since)
    else:
        # Past the end of a fit a level strays, which a ramp explains.
        known = z if past_end is None else np.where(past_end, np.nan, z)
        spans = _spans(watch, z, beside, stuck, began, past_end)
        _combine_whole(sigmas, *spans, watch.lengths, known, clipped, sizes, seen, *to)
    return out


def _spans(
    watch: Watch, z: Floats, beside: Beside, stuck: Floats, began: Ints, past_end: Bools | None
) -> tuple[Floats, Ints, Ints, Bools]:
    """(k, n) sigmas of what has a beginning and an end, the first and last sample of each, and (k,) whether it may hold what is
    stronger: runs of equal values where they end, episodes at another level, and cycles of another shape, which do: a missing
    season's morning can be an episode. Past the end of a fit no shape is judged: what a season is off by
    there it is off by in every cycle, and all of them would be found."""
    at = np.arange(len(z))
    runs = np.where(np.r_[began[1:] != began[:-1], np.ones(min(len(z), 1), np.bool_)], stuck, 0.0)
    spans = [(runs, began, at, False)]
    longest = EPISODE_LENGTHS * int(watch.lengths[-1])
    if watch.follower is not None and "episode" in watch.scale:
        statistic, first = innovations.episodes(z, watch.follower, longest)
        spans.append((_sigmas(statistic, *watch.scale["episode"]), first, at - 1, False))
    if beside.shapes is not None and "shape" in watch.scale:
        statistic, first = shapes.strongest(z, beside.shapes, longest)
        if past_end is not None:
            statistic = np.where(past_end, np.nan, statistic)
        spans.append((_sigmas(statistic, *watch.scale["shape"]), first, at, True))
    sigmas, begins, ends, may_hold = (np.stack(x) for x in zip(*spans, strict=True))
    return sigmas, begins, ends, may_hold


def _sigmas_of_windows(
    watch: Watch, z: Floats, new: Floats, drift: Floats | None, past_end: Bools | None, since: int
) -> Floats:
    """(4, lengths, n - since) sigmas of the windows that end at each sample: means above and below, roughness of what is new; the last
    is empty."""
    mean, rough = statistics(z, watch.lengths, since, new=new)
    strays = None if past_end is None else CARRIED_ROUGH * past_end.astype(np.float64)
    sigmas = np.zeros((4, len(watch.lengths), mean.shape[1]))
    families = (
        ("above", mean, watch.mean, 1, drift),
        ("below", mean, watch.mean, -1, drift),
        ("rough", rough, watch.rough, 1, strays),
    )
    for place, (name, rows, at, sign, stray) in enumerate(families):
        if name in watch.scale:
            sigmas[place] = _sigmas(sign * standardised(rows, at, stray), *watch.scale[name])
    return sigmas


def _take_lone(
    watch: Watch, beside: Beside, leaps: Leaps | None, fresh: Floats, out: Evidence, *, is_causal: bool
) -> None:
    """Take the score of a family that flags one sample where it exceeds that of the sample by itself. fresh : (m,) its scores.
    is_causal : a leap counts for as long as scores are away since then; where all is known episodes have that."""
    lone: list[tuple[str, Floats, int, Ints]] = []
    if beside.isolated is not None:
        lone.append(("isolated", beside.isolated, ODD, np.full(len(fresh), beside.lags)))
    if leaps is not None:
        new = slice(len(leaps.up) - len(fresh), None)
        away = leaps.away[new] * is_causal
        # Two samples make a leap: the one before it and its own.
        count = np.where(away != 0, leaps.ages[new], 0) + 2
        for name, code, leap in (("rise", 1, leaps.up[new]), ("fall", -1, leaps.down[new])):
            since = code * away
            lone.append((name, np.where(since > 0, np.fmax(leap, since), leap), code, count))
    for name, statistic, code, count in lone:
        if name in watch.scale:
            sigmas = _sigmas(np.where(np.isnan(fresh), np.nan, statistic), *watch.scale[name])
            is_higher = sigmas > out.score
            out.score[is_higher], out.side[is_higher] = sigmas[is_higher], code
            out.window[is_higher] = count[is_higher]


@njit(cache=True, nogil=True)
def _sigmas(x, grid, sigmas):  # type: ignore[no-untyped-def]
    """Sigmas of a statistic, of its shape: 0 under the scale's threshold, between its points in straight lines, beyond it those of
    its end. grid, sigmas : (m,) of the scale, rising."""
    out = np.zeros(x.shape)
    rising, last = sigmas.copy(), len(grid) - 1
    for j in range(1, len(rising)):
        rising[j] = max(rising[j], rising[j - 1])
    flat, to = x.ravel(), out.ravel()
    for i in range(len(flat)):
        if not flat[i] >= grid[0]:
            continue
        j = np.searchsorted(grid, flat[i], side="right") - 1
        to[i] = rising[j]
        if j < last and flat[i] != grid[j]:
            to[i] += (rising[j + 1] - rising[j]) / (grid[j + 1] - grid[j]) * (flat[i] - grid[j])
        # A little for the statistic itself, so that of two windows past all rates the larger goes first.
        to[i] += A_UNIT * (flat[i] - grid[0])
    return out


@njit(cache=True, nogil=True)
def _common_side(a, b, clipped, seen):  # type: ignore[no-untyped-def]
    """1 or -1 where all samples of a window lie on that side by at least half a sigma, else no side: a blackout is below."""
    above = below = 0
    for i in range(a, b + 1):
        if seen[i]:
            if clipped[i] >= 0.5:
                above += 1
            elif clipped[i] <= -0.5:
                below += 1
            else:
                return ODD
    if above and not below:
        return 1
    return -1 if below and not above else ODD


@njit(cache=True, nogil=True)
def _mark(a, b, sigmas, code, seen, score, side, window, first):  # type: ignore[no-untyped-def]
    counted = 0
    for i in range(a, b + 1):
        if seen[i]:
            counted += 1
    for i in range(a, b + 1):
        if seen[i] and sigmas > score[i]:
            score[i], side[i], window[i], first[i] = sigmas, code, counted, a


@njit(cache=True, nogil=True)
def _is_level(a, b, clipped, seen):  # type: ignore[no-untyped-def]
    """Whether the level of a span explains more than half of its squares: then it is a level, and no noise."""
    total = square = 0.0
    count = 0
    for i in range(a, b + 1):
        if seen[i]:
            total += clipped[i]
            square += clipped[i] * clipped[i]
            count += 1
    return total * total > 0.5 * count * square


@njit(cache=True, nogil=True)
def _heads(sigmas, spans, lengths):  # type: ignore[no-untyped-def]
    """(m,) windows that are the strongest of their family and length within half a length on either side, and all spans, each as one
    number, row * n + t, and their sigmas. A row is a family and a length, or after these a kind of span."""
    n = sigmas.shape[2]
    heads = np.empty(n * len(lengths) * 3 // 2 + n * len(spans) + 1, np.int64)
    values = np.empty(len(heads))
    m = 0
    for family in range(3):
        for li in range(len(lengths)):
            row = sigmas[family, li]
            half = max(lengths[li] // 2, 1)
            last = -half - 1
            for t in range(n):
                if row[t] < LEAST_SCORE:
                    continue
                # The strongest within half a length on either side stands for them all.
                if m > 0 and last >= 0 and t - last <= half:
                    if row[t] > values[m - 1]:
                        values[m - 1] = row[t]
                        heads[m - 1] = (family * len(lengths) + li) * n + t
                        last = t
                    continue
                if m < len(heads):
                    heads[m] = (family * len(lengths) + li) * n + t
                    values[m] = row[t]
                    m += 1
                    last = t
    for kind in range(len(spans)):
        for t in range(n):
            if spans[kind, t] >= LEAST_SCORE and m < len(heads):
                heads[m] = (3 * len(lengths) + kind) * n + t
                values[m] = spans[kind, t]
                m += 1
    return heads[:m], values[:m]


@njit(cache=True, nogil=True)
def _is_crossed(a, b, owner):  # type: ignore[no-untyped-def]
    """Whether what claimed samples of a span reaches beyond it."""
    n = len(owner)
    return (a > 0 and owner[a] > 0 and owner[a - 1] == owner[a]) or (
        b + 1 < n and owner[b] > 0 and owner[b + 1] == owner[b]
    )


@njit(cache=True, nogil=True)
def _combine_whole(  # type: ignore[no-untyped-def]
    sigmas, spans, begins, ends, may_hold, lengths, known, clipped, sizes, seen, score, side, window, first
):
    """clipped : (n,) scores; sizes : (n,) of what is new in each, 0 where missing. may_hold : (k,) of the kinds of spans."""
    n, k = len(clipped), len(lengths)
    heads, values = _heads(sigmas, spans, lengths)
    # Which window claims a sample; 0 where none does.
    owner = np.zeros(n, np.int64)
    for h in np.argsort(-values, kind="mergesort"):
        row, t = heads[h] // n, heads[h] % n
        family = min(row // k, 3)
        if family == 3:
            a, b = begins[row - 3 * k, t], ends[row - 3 * k, t]
        else:
            a, b = trimmed(family, t - lengths[row % k] + 1, t, sizes if family == 2 else clipped, seen)
        # A level is rough too, by its squares: such a window lends its samples its score where that is higher, and claims none of them.
        if family != 2 or not _is_level(a, b, clipped, seen):
            if owner[a : b + 1].any() and (
                family < 3 or not may_hold[row - 3 * k] or _is_crossed(a, b, owner)
            ):
                continue
            owner[a : b + 1] = h + 1
        if family < 2:
            a = onset(a, b, 1.0 - 2.0 * family, known)
        code = 1 if family == 0 else (-1 if family == 1 else _common_side(a, b, clipped, seen))
        _mark(a, b, values[h], code, seen, score, side, window, first)


@njit(cache=True, nogil=True)
def _combine_causal(sigmas, stuck, began, lengths, clipped, sizes, seen, score, side, window, first, since):  # type: ignore[no-untyped-def]
    """sigmas, stuck and what comes out : of the samples from `since` on; the rest of all."""
    for i in range(len(score)):
        t = since + i
        if not seen[t]:
            continue
        for family in range(4):
            if family == 3:
                if stuck[i] >= LEAST_SCORE and stuck[i] > score[i]:
                    score[i], first[i], window[i] = stuck[i], began[t], t - began[t] + 1
                    side[i] = _common_side(began[t], t, clipped, seen)
                continue
            for li in range(len(lengths)):
                w = sigmas[family, li, i]
                if w < LEAST_SCORE or w <= score[i]:
                    continue
                a, b = trimmed(family, t - lengths[li] + 1, t, sizes if family == 2 else clipped, seen)
                if b == t or (family < 2 and goes_on(a, b, t, 1.0 - 2.0 * family, clipped)):
                    score[i] = w
                    side[i] = 1 if family == 0 else (-1 if family == 1 else _common_side(a, b, clipped, seen))
                    first[i] = a
                    counted = 0
                    for j in range(a, b + 1):
                        if seen[j]:
                            counted += 1
                    window[i] = counted
