"""Tables where a row is a waveform, taken in as a stream of bursts."""

import numpy as np
import pytest

from watchtide.tables import extract, layout, read
from watchtide.tables.problems import TableError

SAMPLES = 20


def table(rows=30, apart_s=60, *, names=None, extra="ramp", worn=()):
    """CSV of waveforms: a stamp, a name, a class, and numbered columns."""
    names = names or [f"w{i:03d}" for i in range(SAMPLES)]
    rng = np.random.default_rng(1)
    out = [",".join(["time", extra, "class", *names])]
    waves = np.round(np.sin(np.arange(SAMPLES) / 3) + rng.normal(0, 0.1, (rows, SAMPLES)), 3)
    for k in range(rows):
        stamp = np.datetime64("2026-08-03T00:00") + np.timedelta64(k * apart_s, "s")
        kind = "worn" if k in worn else "normal"
        out.append(",".join([f"{stamp}Z", "north", kind, *map(str, waves[k])]))
    return "\n".join(out) + "\n", waves


def raw_of(text):
    return read.read(text.encode(), "ramps.csv")


def test_a_row_becomes_a_burst_of_its_columns():
    text, waves = table()
    raw = raw_of(text)
    chosen = layout.guess(raw, wave_step_ns=1_000_000, metric="ramp")
    assert chosen.values == tuple(f"w{i:03d}" for i in range(SAMPLES))
    (one,) = extract.extract(raw, chosen).streams
    order = np.argsort(one.times)
    assert (chosen.label, chosen.series) == ("class", ("ramp",))
    assert one.metric == "ramp" and one.values[order].tolist() == waves.ravel().tolist()
    begin = np.datetime64("2026-08-03T00:00", "ns").astype(np.int64)
    expected = begin + np.arange(30)[:, None] * 60 * 10**9 + np.arange(SAMPLES) * 1_000_000
    assert one.times[order].tolist() == expected.ravel().tolist()


def test_rows_of_another_class_are_remembered_with_their_span_and_word():
    raw = raw_of(table(worn=(3, 7))[0])
    extractor = extract.Extractor(layout.guess(raw, wave_step_ns=1_000_000), "t")
    extractor.take(raw.chunk())
    begin = int(np.datetime64("2026-08-03T00:00", "ns").astype(np.int64))
    starts = [begin + k * 60 * 10**9 for k in (3, 7)]
    assert [(c.start, c.word) for c in extractor.classed] == [(s, "worn") for s in starts]
    assert {c.end - c.start for c in extractor.classed} == {(SAMPLES - 1) * 1_000_000}


def test_a_waveform_that_begins_in_the_one_before_is_found_across_chunks():
    extractor = extract.Extractor(layout.guess(raw_of(table()[0]), wave_step_ns=10**9), "t")
    extractor.take(raw_of(table(rows=5)[0]).chunk())
    # The fifth of them began at 00:04:00 and takes 19 s.
    late = table(rows=1)[0].replace("T00:00:00Z", "T00:04:10Z")
    with pytest.raises(TableError, match="begins before the waveform"):
        extractor.take(raw_of(late).chunk())


def test_without_a_stated_step_the_columns_are_only_said_to_be_numbered():
    raw = raw_of(table()[0])
    assert layout.guess(raw).wave_step_ns is None
    assert layout.numbered_run(list(raw.columns)) == tuple(f"w{i:03d}" for i in range(SAMPLES))


@pytest.mark.parametrize(
    ("names", "long"),
    [
        ([f"s{i}" for i in range(1, 21)], 20),
        (["a1", "a2", *[f"b{i}" for i in range(16)]], 16),
        ([f"c{i}" for i in range(15)], 0),
        ([f"c{2 * i}" for i in range(20)], 0),
        (["Northquay", "Gullhaven", "Saltmarsh"], 0),
    ],
)
def test_a_run_is_of_one_stem_and_goes_up_by_one(names, long):
    assert len(layout.numbered_run(["time", *names, "note"])) == long


def test_a_kept_layout_says_so_and_one_without_is_what_it_was():
    raw = raw_of(table()[0])
    chosen = layout.guess(raw, wave_step_ns=1_000_000)
    assert layout.from_data(layout.to_data(chosen)).wave_step_ns == 1_000_000
    assert "wave_step_ns" not in layout.to_data(layout.guess(raw))


@pytest.mark.parametrize(
    ("stated", "words"),
    [
        ({"wave_step_ns": 10**10}, "begins before the waveform before it"),
        ({"wave_step_ns": 1}, "no time from sample to sample"),
        ({"wave_step_ns": 10**6, "wide_name": "place"}, "waveforms of values alone"),
        ({"wave_step_ns": 10**6, "values": ("w000",)}, "two columns at least"),
    ],
)
def test_what_cannot_be_a_waveform_is_refused_with_its_place(stated, words):
    raw = raw_of(table()[0])
    with pytest.raises(TableError, match=words):
        extract.extract(raw, layout.guess(raw, **stated))


def test_columns_that_are_not_numbered_are_refused_with_a_remedy():
    names = [f"x{chr(97 + i)}" for i in range(SAMPLES)]
    with pytest.raises(TableError, match="numbered one after another"):
        layout.guess(raw_of(table(names=names)[0]), wave_step_ns=10**6)
