"""Which entry's verdict a finding takes, against the rule said in words and tried pair by pair."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.scoring import verdicts

span = st.tuples(st.integers(0, 30), st.integers(0, 12)).map(lambda x: (x[0], x[0] + x[1]))


def plainly(finding, peak, entries):
    best = None
    for i, ((a, b), rank) in enumerate(entries):
        at_peak = a <= peak <= b
        shared = min(b, finding[1]) - max(a, finding[0])
        half = finding[1] > finding[0] and 2 * shared >= finding[1] - finding[0]
        if at_peak or half:
            key = (not at_peak, rank)
            if best is None or key < best[0]:
                best = key, i
    return -1 if best is None else best[1]


@settings(max_examples=300, deadline=None)
@given(
    st.lists(st.tuples(span, st.floats(0, 1)), min_size=1, max_size=8),
    st.lists(st.tuples(span, st.integers(0, 3)), max_size=8),
)
def test_every_finding_takes_what_the_rule_gives(findings, entries):
    start, end = (np.array([f[0][i] for f in findings]) for i in (0, 1))
    peak = np.array([round(a + share * (b - a)) for (a, b), share in findings])
    got = verdicts.taken(
        start, end, peak, np.array([e[0][0] for e in entries], np.int64), np.array([e[0][1] for e in entries], np.int64),
        np.array([e[1] for e in entries], np.int64),
    )  # fmt: skip
    assert got.tolist() == [plainly(f[0], int(p), entries) for f, p in zip(findings, peak, strict=True)]


def test_a_table_held_in_pieces_gives_the_same(monkeypatch):
    rng = np.random.default_rng(3)
    start = rng.integers(0, 10_000, 500)
    own = np.sort(rng.integers(0, 10_000, 80))
    ask = lambda: verdicts.taken(start, start + 40, start + 7, own, own + 60, rng_rank)
    rng_rank = rng.integers(0, 4, 80)
    whole = ask()
    monkeypatch.setattr(verdicts, "_CELLS", 700)
    assert (ask() == whole).all() and (whole >= 0).any() and (whole < 0).any()
