"""Which entry's verdict a finding takes: one that covers its peak, else one that covers half of it."""

import numpy as np

from watchtide.core.series import Bools, Ints

# Of several that cover the peak, or several that cover half, the first of these counts.
PRECEDENCE = {"incident": 0, "unsure": 1, "foreseen": 2, "false-alarm": 3}
_NONE = 2 * len(PRECEDENCE)
# Cells of a table of findings by entries that is held at once.
_CELLS = 2_000_000


def taken(start: Ints, end: Ints, peak: Ints, entry_start: Ints, entry_end: Ints, precedence: Ints) -> Ints:
    """(k,) place of the entry whose verdict each finding takes, -1 where none; of equal ones the first.

    start, end, peak : (k,) findings of one stream, closed spans; entry_start, entry_end, precedence : (m,) entries that
    cover the stream.
    """
    out = np.full(len(start), -1, np.int64)
    if not len(entry_start):
        return out
    rows = max(1, _CELLS // len(entry_start))
    for a in range(0, len(start), rows):
        part = slice(a, a + rows)
        s, e, p = (x[part, None] for x in (start, end, peak))
        at_peak: Bools = (entry_start <= p) & (p <= entry_end)
        shared = np.minimum(entry_end, e) - np.maximum(entry_start, s)
        half: Bools = (e > s) & (shared * 2 >= e - s)
        rank = np.where(at_peak, precedence, np.where(half, len(PRECEDENCE) + precedence, _NONE))
        best = np.argmin(rank, axis=1)
        found = rank[np.arange(len(best)), best] < _NONE
        out[part] = np.where(found, best, -1)
    return out
