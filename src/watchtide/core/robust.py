"""Robust location and scale, and the noise figures that the rest stands on."""

import numpy as np
from numba import njit

from watchtide.core.series import Floats

# 1 / the third quartile of the standard normal: makes the MAD estimate a standard deviation.
MAD_TO_SIGMA = 1.482602218505602
# Spacings between neighbouring floating-point numbers of the data's size: less is what arithmetic makes.
FLOAT_SPACINGS = 16.0


def mad_sigma(y: Floats, *, centre: float | None = None) -> float:
    """Standard deviation estimated by the median absolute deviation; NaN skipped, 0 if empty.

    Hampel (1974). Falls back to the mean absolute deviation times 1.2533 when over half of the
    samples are equal, so that a mostly constant series does not lose its spread.
    """
    return float(_mad_sigma(np.ascontiguousarray(y), np.nan if centre is None else float(centre)))


# Fewer values than this are put in order outright.
FEW = 16


@njit(cache=True, nogil=True, error_model="numpy")
def middle(values):  # type: ignore[no-untyped-def]
    """Median of one value or more, which are left in another order; NaN where a NaN gets in the way.

    Quickselect around the middle of three. Values are swapped whether or not they are smaller, and only the border moves
    or not: without a branch to guess wrong it takes half the time of a general median. Equal values are passed in one go.
    """
    n = len(values)
    k = n // 2
    low, high = 0, n
    while high - low > FEW:
        a, pivot, c = values[low], values[(low + high) // 2], values[high - 1]
        if a > pivot:
            a, pivot = pivot, a
        if pivot > c:
            pivot = max(a, c)
        if np.isnan(pivot):
            return np.nan
        border = low
        for i in range(low, high):
            v = values[i]
            values[i] = values[border]
            values[border] = v
            border += v < pivot
        if k < border:
            high = border
            continue
        low = border
        for i in range(border, high):
            v = values[i]
            values[i] = values[border]
            values[border] = v
            border += v <= pivot
        if k < border:
            low = high = k
        else:
            low = border
    for i in range(low + 1, high):
        v = values[i]
        j = i
        while j > low and values[j - 1] > v:
            values[j] = values[j - 1]
            j -= 1
        values[j] = v
    if n % 2:
        return values[k]
    below = values[0]
    for i in range(1, k):
        below = max(below, values[i])
    return (below + values[k]) / 2


@njit(cache=True, nogil=True)
def _mad_sigma(y, centre):  # type: ignore[no-untyped-def]
    size = np.empty(len(y))
    m = 0
    for v in y:
        if not np.isnan(v):
            size[m] = v
            m += 1
    if m == 0:
        return 0.0
    size = size[:m]
    if np.isnan(centre):
        centre = middle(size)
    size = np.abs(size - centre)
    scale = MAD_TO_SIGMA * middle(size)
    return scale if scale > 0.0 else 1.2533141373155003 * size.mean()


@njit(cache=True, nogil=True)
def median(y):  # type: ignore[no-untyped-def]
    """Median of what is not missing; NaN where nothing is."""
    seen = y[~np.isnan(y)]
    return middle(seen) if len(seen) else np.nan


@njit(cache=True, nogil=True)
def in_groups(at, values, count):  # type: ignore[no-untyped-def]
    """(n,) values group by group, in order within each; and (count + 1,) where each group begins."""
    ranked, edges = by_groups(at, values, count)
    for group in range(count):
        ranked[edges[group] : edges[group + 1]].sort()
    return ranked, edges


@njit(cache=True, nogil=True)
def by_groups(at, values, count):  # type: ignore[no-untyped-def]
    """(n,) values group by group, as they come within each; and (count + 1,) where each group begins."""
    edges = np.zeros(count + 1, np.int64)
    for group in at:
        edges[group + 1] += 1
    edges = np.cumsum(edges)
    fill = edges[:-1].copy()
    out = np.empty(len(values))
    for i in range(len(values)):
        out[fill[at[i]]] = values[i]
        fill[at[i]] += 1
    return out, edges


# From this share of equal values on, what differs is an event, and medians say nothing of it.
MOSTLY = 0.6


def is_mostly_one_value(y: Floats) -> bool:
    """Whether most of what is observed is one and the same value, such as the zeros of a rare count."""
    seen = y[~np.isnan(y)]
    return bool(len(seen) and np.mean(seen == median(seen)) >= MOSTLY)


def resolution(y: Floats) -> float:
    """Smallest step between distinct values, as far as it is one: the quantum of the data.

    Rounded and counted data repeat values; where fewer than a tenth of the samples repeat, the
    data count as continuous and the resolution is 0. A constant series has 1e-9 of its size.
    """
    seen = y[~np.isnan(y)]
    if len(seen) == 0:
        return 0.0
    steps = np.diff(np.sort(seen))
    steps = steps[steps > 0]
    if len(steps) == 0:
        return max(abs(float(seen[0])), 1.0) * 1e-9
    if len(steps) + 1 > 0.9 * len(seen):
        return 0.0
    # The 5th percentile, not the least: one value given to more decimals must not set the floor.
    return float(np.quantile(steps, 0.05))


def noise(y: Floats) -> tuple[float, float]:
    """Lag-one autocorrelation of the noise, and its variance around a slowly moving level; blind to shifts and lone outliers.

    For first-order autoregression the differences over two samples have (1 + phi) times the
    variance of those over one; the ratio is taken between MADs, phi clipped to 0 … 0.95.
    """
    phi, variance = _noise(np.ascontiguousarray(y))
    return float(phi), float(variance)


def lag_one(y: Floats) -> float:
    """Lag-one autocorrelation of the noise."""
    return noise(y)[0]


def noise_variance(y: Floats) -> float:
    """Variance of the noise around a slowly moving level, from differences of neighbours."""
    return noise(y)[1]


def long_run_variance(y: Floats) -> float:
    """Variance that the mean of many neighbours carries, times their number."""
    return variances(y)[1]


def variances(y: Floats) -> tuple[float, float]:
    """Variance of the noise, and the one that the mean of many neighbours carries, times their number.

    The latter is the larger of noise times (1 + phi) / (1 - phi), which holds for first-order autoregression, and of
    what the means of neighbouring blocks of 2, 4, 8 … samples show (half the squared MAD of their
    differences, times the block), which also sees noise of several time scales. Blocks end at n / 100 and
    at 128 samples, so that a series with many real shifts does not pass them off as noise.
    """
    phi, own = noise(y)
    blocks = _block_variance(np.ascontiguousarray(y[~np.isnan(y)]))
    return own, float(max(own * (1 + phi) / (1 - phi), blocks))


@njit(cache=True, nogil=True)
def _block_variance(seen):  # type: ignore[no-untyped-def]
    largest = 0.0
    means, block = seen, 1
    while 2 * block <= min(len(seen) // 100, 128):
        # Twice as long a block is the mean of two; one left over at the end is in none.
        half = len(means) // 2
        means, block = (means[: 2 * half : 2] + means[1 : 2 * half : 2]) / 2, 2 * block
        largest = max(largest, block * _mad_sigma(means[1:] - means[:-1], 0.0) ** 2 / 2)
    return largest


@njit(cache=True, nogil=True)
def _noise(y):  # type: ignore[no-untyped-def]
    scale = _mad_sigma(y[1:] - y[:-1], 0.0)
    if scale == 0.0:
        return 0.0, 0.0
    phi = min(max((_mad_sigma(y[2:] - y[:-2], 0.0) / scale) ** 2 - 1, 0.0), 0.95)
    return phi, scale**2 / (2 * (1 - phi))


def chance_of(mean: Floats, event: Floats) -> Floats:
    """(n,) how far chance alone moves counts of this mean, each event adding so much: small counts are skew, and one event is never
    wild."""
    return np.sqrt(np.maximum(np.maximum(mean, 0.0) * event, event**2))


# Autocorrelations are summed up to the first lag below this.
LEAST_CORRELATION = 0.1


def independent_samples(z: Floats) -> float:
    """Number of independent samples that estimate a variance as well: n / (1 + 2 Σ ρ²), up to the first lag under 0.1.

    z : (n,) scores, NaN where missing, clipped at three sigmas. Infinite under 50 of them. Priestley (1981), 5.3.3.
    """
    from scipy.fft import irfft, next_fast_len, rfft

    seen = ~np.isnan(z)
    count = int(seen.sum())
    if count < 50:
        return np.inf
    most = len(z) // 4
    size = next_fast_len(len(z) + most)

    def products(y: Floats) -> Floats:
        return np.asarray(irfft(np.abs(rfft(y, size)) ** 2, size)[: most + 1])

    pairs = np.maximum(np.round(products(seen.astype(np.float64))), 1)
    own = products(np.where(seen, np.clip(z, -3.0, 3.0), 0.0)) / pairs
    if own[0] <= 0:
        return float(count)
    correlations = own[1:] / own[0]
    gone = np.flatnonzero(correlations < LEAST_CORRELATION)
    if len(gone):
        correlations = correlations[: gone[0]]
    return count / (1 + 2 * float(np.sum(correlations**2)))
