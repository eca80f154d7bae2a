"""Several sources of one stream combined: sums of additive values, else the mean, the newest or the largest.

Sources start and end at different times. Where only one reports, its samples are kept unchanged; where several do, they are combined on a
grid of their common cadence.
"""

from collections.abc import Sequence

import numpy as np

from watchtide.core.series import SECOND_NS, Bools, Floats, Ints, cadence, gridding, steps

Source = tuple[Ints, Floats]
JOINS = ("sum", "mean", "last", "max")
# A source that is silent for so many steps has ended, and begins anew with its next sample.
SILENT_STEPS = 3.5
MINUTE_NS = 60 * SECOND_NS
# Bins of which less than this is covered by any source say nothing.
LEAST_COVERED = 0.5


def joined(sources: Sequence[Source], how: str, step_ns: int = 0) -> Source:
    """The samples of one stream from those of its sources.

    sources : (times, values) each, sorted, NaN for missing; how : one of `JOINS`; step_ns : the length of a bin, 0 takes the
    coarsest cadence of these samples. With `sum`, a source that reports before and after a bin but not in it counts with
    its last value: a late sample is no drop. `last` takes the newest stamp. Raises ValueError for another way. O(n log n).
    """
    if how not in JOINS:
        raise ValueError(f"sources are put together by one of {', '.join(JOINS)}, got {how!r}")
    sources = [s for s in sources if len(s[0])]
    if len(sources) < 2:
        return sources[0] if sources else (np.empty(0, np.int64), np.empty(0))
    step = step_ns or max(_step(t) for t, _ in sources)
    spans = [_spans(t, step) for t, _ in sources]
    placed = [_placed(t, v, step) for t, v in sources]
    together = _shared(spans, step)
    times, values = _alone(sources, together)
    bins = np.unique(np.concatenate([labels[_inside(stamps, together)] for labels, stamps, _ in placed]))
    if len(bins):
        rows = np.stack(
            [
                _at(bins, labels, v, span, step, how)
                for (labels, _, v), span in zip(placed, spans, strict=True)
            ]
        )
        stamps = np.stack([_latest(bins, labels, raw) for labels, raw, _ in placed])
        times.append(bins)
        values.append(_newest(rows, stamps) if how == "last" else reduced(rows, how))
    return _in_order(times, values)


def joined_rates(sources: Sequence[tuple[Ints, Floats, Ints]], step_ns: int = 0) -> Source:
    """Rates per second of one stream from those of several counters, as the sum of what each gained.

    sources : (begins, rates, ends) of intervals each, sorted, as `live.rates` gives them with the stamp at which each ends;
    step_ns : as `joined` takes it.
    Where several report, what is gained in a bin of the common cadence is added up and divided by the time that any of
    them covers: nothing is lost where the bins of the sources lie differently, and a restart leaves no dip.
    """
    sources = [s for s in sources if len(s[0])]
    if len(sources) < 2:
        return (sources[0][0], sources[0][1]) if sources else (np.empty(0, np.int64), np.empty(0))
    step = step_ns or max(_step(np.r_[a, b[-1:]]) for a, _, b in sources)
    spans = [_spans(np.unique(np.r_[a, b]), step) for a, _, b in sources]
    together = _shared(spans, step)
    times, values = _alone([(a, r) for a, r, _ in sources], together)
    if len(together):
        edges = np.unique(
            np.concatenate([np.arange(a // step, -(-b // step) + 1) * step for a, b in together.tolist()])
        )
        bins = edges[:-1][np.diff(edges) == step]
        gained, covered = np.zeros(len(bins)), np.zeros((len(sources), len(bins)))
        for i, (a, r, b) in enumerate(sources):
            total, time = _within(a, r, b, bins, step)
            gained += total
            covered[i] = time
        # What any source covers, at least as much as the best of them does, at most the whole bin.
        share = np.minimum(covered.sum(axis=0), step).clip(covered.max(axis=0))
        good = share >= LEAST_COVERED * step
        times.append(bins[good])
        values.append(gained[good] / (share[good] / SECOND_NS))
    out_t, out_v = _in_order(times, values)
    keep = np.r_[True, out_t[1:] != out_t[:-1]] if len(out_t) else np.empty(0, np.bool_)
    return out_t[keep], out_v[keep]


def _alone(sources: Sequence[Source], together: Ints) -> tuple[list[Ints], list[Floats]]:
    """(times, values) of each source outside of the spans in which several report."""
    alone = [~_inside(t, together) for t, _ in sources]
    times = [t[keep] for (t, _), keep in zip(sources, alone, strict=True)]
    return times, [v[keep] for (_, v), keep in zip(sources, alone, strict=True)]


def _in_order(times: Sequence[Ints], values: Sequence[Floats]) -> Source:
    out_t, out_v = np.concatenate(times), np.concatenate(values)
    order = np.argsort(out_t, kind="stable")
    return out_t[order], out_v[order]


def _step(times: Ints) -> int:
    return cadence.step_of(times) if len(times) > 2 else MINUTE_NS


def _spans(times: Ints, step: int) -> Ints:
    """(k, 2) closed spans in which a source reports."""
    cut = np.flatnonzero(np.diff(times) > SILENT_STEPS * step)
    return np.stack([times[np.r_[0, cut + 1]], times[np.r_[cut, len(times) - 1]]], axis=1)


def _shared(spans: Sequence[Ints], step: int) -> Ints:
    """(k, 2) half-open spans of whole bins in which two sources or more report."""
    edges = np.concatenate([np.r_[s[:, 0] // step * step, (s[:, 1] // step + 1) * step] for s in spans])
    turns = np.concatenate([np.r_[np.ones(len(s)), -np.ones(len(s))] for s in spans])
    order = np.lexsort((-turns, edges))
    level = np.cumsum(turns[order])
    at = edges[order]
    begins = np.flatnonzero((level >= 2) & (np.r_[0, level[:-1]] < 2))
    ends = np.flatnonzero((level < 2) & (np.r_[0, level[:-1]] >= 2))
    return np.stack([at[begins], at[ends]], axis=1) if len(begins) else np.empty((0, 2), np.int64)


def _inside(times: Ints, spans: Ints) -> Bools:
    if len(spans) == 0:
        return np.zeros(len(times), np.bool_)
    at = np.searchsorted(spans[:, 0], times, side="right") - 1
    return np.asarray((at >= 0) & (times < spans[np.maximum(at, 0), 1]))


def _placed(times: Ints, values: Floats, step: int) -> tuple[Ints, Ints, Floats]:
    """(bin of each sample, its stamp, its value): samples that jitter about a round time belong to it."""
    found = cadence.find(times)
    if found.cadence == steps.fixed(step) and not found.is_exact and found.is_regular:
        grid = gridding.lay_jittered(times, found)
        return grid.labels[grid.bins], times, values
    return times // step * step, times, values


def _latest(bins: Ints, labels: Ints, stamps: Ints) -> Ints:
    """(m,) the newest stamp of a source in each bin, the least possible where there is none."""
    out = np.full(len(bins), np.iinfo(np.int64).min)
    at = np.searchsorted(bins, labels)
    ok = (at < len(bins)) & (bins[np.minimum(at, len(bins) - 1)] == labels)
    np.maximum.at(out, at[ok], stamps[ok])
    return out


def _at(bins: Ints, labels: Ints, values: Floats, spans: Ints, step: int, how: str) -> Floats:
    """(m,) a source's value in each bin; NaN where it does not report."""
    seen = ~np.isnan(values)
    labels, values = labels[seen], values[seen]
    out = np.full(len(bins), np.nan)
    if len(labels) == 0:
        return out
    last = np.searchsorted(labels, bins, side="right") - 1
    has = (last >= 0) & (labels[np.maximum(last, 0)] == bins)
    out[has] = values[last[has]]
    if how == "sum":
        active = _inside(bins, np.stack([spans[:, 0] // step * step, spans[:, 1] + 1], axis=1))
        hold = active & ~has & (last >= 0)
        out[hold] = values[last[hold]]
    return out


def reduced(rows: Floats, how: str) -> Floats:
    """(m,) several rows as one: of each column what is seen, NaN where nothing is.

    rows : (k, m), NaN for missing; how : `sum`, `mean`, `min` or `max`.
    """
    seen = ~np.isnan(rows)
    count = seen.sum(axis=0)
    match how:
        case "sum":
            out = np.where(seen, rows, 0.0).sum(axis=0)
        case "mean":
            out = np.where(seen, rows, 0.0).sum(axis=0) / np.maximum(count, 1)
        case "min":
            out = np.where(seen, rows, np.inf).min(axis=0)
        case "max":
            out = np.where(seen, rows, -np.inf).max(axis=0)
        case _:
            raise ValueError(f"rows are reduced by sum, mean, min or max, got {how!r}")
    return np.where(count > 0, out, np.nan)


def _newest(rows: Floats, stamps: Ints) -> Floats:
    """(m,) of each column the value with the newest stamp; NaN where nothing is seen."""
    newest = np.where(~np.isnan(rows), stamps, np.iinfo(np.int64).min).argmax(axis=0)
    return np.asarray(rows[newest, np.arange(rows.shape[1])])


def _within(begins: Ints, rates: Floats, ends: Ints, bins: Ints, step: int) -> tuple[Floats, Floats]:
    """(m,) what intervals of constant rates gain within each bin, and how long of it they cover, in nanoseconds."""
    lengths = (ends - begins).astype(np.float64)
    edges = np.stack([begins, ends], axis=1).ravel()
    gains = np.cumsum(np.stack([np.zeros(len(begins)), rates * lengths / SECOND_NS], axis=1).ravel())
    times = np.cumsum(np.stack([np.zeros(len(begins)), lengths], axis=1).ravel())
    at = np.concatenate([bins, bins + step])
    total, time = np.interp(at, edges, gains), np.interp(at, edges, times)
    m = len(bins)
    return total[m:] - total[:m], time[m:] - time[:m]
