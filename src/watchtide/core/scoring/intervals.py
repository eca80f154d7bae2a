"""Confidence intervals: Wilson's for counts, and a circular block bootstrap for what clusters."""

import numpy as np

from watchtide.core.series import Floats, Ints

# Two-sided 95 % quantile of the standard normal.
Z95 = 1.959963984540054
DRAWS = 1000
LEAST_BLOCKS = 10


def wilson(hits: int, n: int) -> tuple[float, float] | None:
    """Wilson's (1927) 95 % score interval of hits / n; None for n = 0."""
    if n == 0:
        return None
    p = hits / n
    spread = Z95 * np.sqrt(p * (1 - p) / n + Z95**2 / (4 * n * n))
    centre = p + Z95**2 / (2 * n)
    scale = 1 + Z95**2 / n
    # Rounding must not leave the end points of 0 and n hits.
    low = 0.0 if hits == 0 else float((centre - spread) / scale)
    high = 1.0 if hits == n else float((centre + spread) / scale)
    return (low, high)


def draw_blocks(span_ns: tuple[int, int], block_ns: int, seed: int) -> Ints | None:
    """(draws, blocks) starts of a circular block bootstrap over a closed span; None under 10 blocks.

    Each draw takes as many blocks as cover the span, wrapped round its end, all streams together; of the last one only
    as much counts as makes the draw as long as the span (`last_length`): with whole blocks alone totals come out too low.
    Politis and Romano (1992).
    """
    length = span_ns[1] - span_ns[0] + 1
    block_ns = max(block_ns, 1)
    if length // block_ns < LEAST_BLOCKS:
        return None
    blocks = -(-length // block_ns)
    rng = np.random.default_rng(seed)
    return span_ns[0] + rng.integers(0, length, size=(DRAWS, blocks))


def last_length(span_ns: tuple[int, int], block_ns: int) -> int:
    """How much of the last block of a draw counts."""
    rest = (span_ns[1] - span_ns[0] + 1) % block_ns
    return rest or block_ns


def _stops(starts: Ints, span_ns: tuple[int, int], block_ns: int) -> Ints:
    """(draws, blocks) where each drawn block stops, beyond the span where it is wrapped."""
    stop = starts + block_ns
    stop[:, -1] = starts[:, -1] + last_length(span_ns, block_ns)
    return stop


def drawn_sums(starts: Ints, span_ns: tuple[int, int], block_ns: int, at: Ints, amounts: Floats) -> Floats:
    """(draws,) sum of the amounts whose times fall into each draw's blocks, as often as drawn.

    at : (k,) times within the span; amounts : (k,).
    """
    if len(at) == 0:
        return np.zeros(len(starts))
    if np.all(amounts == 1.0):
        times, total = np.sort(at), np.arange(len(at) + 1, dtype=np.float64)
    else:
        order = np.argsort(at, kind="stable")
        times, total = at[order], np.r_[0.0, np.cumsum(amounts[order])]
    stop = _stops(starts, span_ns, block_ns)
    over = np.maximum(stop - (span_ns[1] + 1), 0)

    def before(moment: Ints) -> Floats:
        return np.asarray(total[np.searchsorted(times, moment, side="left")])

    inside = before(np.minimum(stop, span_ns[1] + 1)) - before(starts) + before(span_ns[0] + over) - total[0]
    return np.asarray(inside.sum(axis=1))


def drawn_medians(
    starts: Ints, span_ns: tuple[int, int], block_ns: int, at: Ints, amounts: Floats, share: float
) -> Floats:
    """(draws,) quantile of the amounts drawn; NaN for a draw without any."""
    length = span_ns[1] - span_ns[0] + 1
    out = np.full(len(starts), np.nan)
    lengths = (_stops(starts[:1], span_ns, block_ns) - starts[:1])[0] if len(starts) else np.empty(0)
    for i, row in enumerate(starts):
        times = ((at[:, None] - row[None, :]) % length < lengths[None, :]).sum(axis=1)
        drawn = np.repeat(amounts, times)
        if len(drawn):
            out[i] = np.quantile(drawn, share)
    return out


def percentile(values: Floats) -> tuple[list[float] | None, int]:
    """The 95 % percentile interval and how many draws had no value."""
    usable = values[np.isfinite(values)]
    if len(usable) == 0:
        return None, len(values)
    low, high = np.quantile(usable, [0.025, 0.975])
    return [float(low), float(high)], int(len(values) - len(usable))


def ratio_draws(top: Floats, bottom: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(bottom > 0, top / bottom, np.nan))


def as_list(interval: tuple[float, float] | None) -> list[float] | None:
    """An interval as JSON holds it."""
    return list(interval) if interval is not None else None
