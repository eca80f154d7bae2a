"""Files as people have them: guesses, broken rows, and refusals that name place and remedy."""

import gzip
import io

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq
import pytest

from watchtide.tables import extract, layout, read
from watchtide.tables.problems import TableError

GOOD = b"stamp,place,taps\n2026-08-01 00:00,Northquay,4\n2026-08-01 00:15,Northquay,7\n2026-08-01 00:00,Gullhaven,\n"


def take(data, name="taps.csv", **stated):
    raw = read.read(data, name)
    return extract.extract(raw, layout.guess(raw, zone="Europe/Dublin", **stated))


def test_roles_are_guessed_with_reasons_and_streams_told_apart():
    raw = read.read(GOOD, "taps.csv")
    guessed = layout.guess(raw, zone="Europe/Dublin")
    assert (guessed.time, guessed.values, guessed.series) == ("stamp", ("taps",), ("place",))
    assert "iso local" in guessed.reasons["stamp"]
    got = extract.extract(raw, guessed)
    assert [s.key for s in got.streams] == ["place=Northquay", "place=Gullhaven"]
    assert got.streams[0].values.tolist() == [4, 7] and np.isnan(got.streams[1].values[0])
    assert not got.broken


@pytest.mark.parametrize("pack", ["semicolon", "tab", "gzip", "parquet", "jsonl", "bom", "utf-16"])
def test_the_same_rows_in_another_dress_are_the_same_streams(pack):
    plain = take(GOOD)
    match pack:
        case "semicolon":
            other = take(GOOD.replace(b",", b";"))
        case "tab":
            other = take(GOOD.replace(b",", b"\t"), "taps.tsv")
        case "gzip":
            other = take(gzip.compress(GOOD), "taps.csv.gz")
        case "bom":
            other = take(b"\xef\xbb\xbf" + GOOD)
        case "utf-16":
            other = take(GOOD.decode().encode("utf-16"))
        case "jsonl":
            lines = b"".join(
                f'{{"stamp": "{s}", "place": "{p}", "taps": {t or "null"}}}\n'.encode()
                for s, p, t in (row.split(",") for row in GOOD.decode().splitlines()[1:])
            )
            other = take(lines, "taps.jsonl")
        case _:
            table = pa.table(
                {
                    "stamp": ["2026-08-01 00:00", "2026-08-01 00:15", "2026-08-01 00:00"],
                    "place": ["Northquay", "Northquay", "Gullhaven"],
                    "taps": [4.0, 7, None],
                }
            )
            sink = io.BytesIO()
            papq.write_table(table, sink)
            other = take(sink.getvalue(), "taps.parquet")
    assert [(s.key, s.times.tolist()) for s in plain.streams] == [
        (s.key, s.times.tolist()) for s in other.streams
    ]
    assert all(
        np.array_equal(a.values, b.values, equal_nan=True)
        for a, b in zip(plain.streams, other.streams, strict=True)
    )


def test_several_values_make_several_streams_with_the_metric_first():
    got = take(b"t,place,a,b\n2026-08-01,x,1,2\n2026-08-02,x,3,4\n", values=("a", "b"))
    assert [s.key for s in got.streams] == ["metric=a,place=x", "metric=b,place=x"]


@pytest.mark.parametrize(
    ("data", "name", "place", "words"),
    [
        (b"", "a.csv", "", "the file is empty"),
        (b"   \n", "a.csv", "", "the file is empty"),
        (b"stamp,taps\n", "a.csv", "line 2", "a header but no rows"),
        (b"stamp,taps,taps\n1,2,3\n", "a.csv", "line 1, column 3", "twice"),
        (b"name,taps\nx,1\ny,2\n", "a.csv", "line 1", "no column holds times"),
        (b"stamp,name\n2026-08-01,x\n2026-08-02,y\n", "a.csv", "line 1", "no column holds numbers"),
        (b"stamp,caf\x81,taps\n2026-08-01,x,1\n", "a.csv", "line 1", "neither UTF-8 nor Windows"),
        (b"stamp,place,taps\n2026-08-01,\x81,1\n", "a.csv", "line 2, column place", "neither UTF-8"),
        (gzip.compress(GOOD, mtime=0)[:30], "a.csv.gz", "", "cut off"),
        (b"PAR1 nonsense", "a.parquet", "", "no Parquet file"),
        (b'{"stamp": \n{"stamp"\n', "a.jsonl", "line 1", "no JSON object"),
        (b"a" + b",b" * 3000 + b"\n1" + b",2" * 3000, "a.csv", "line 1", "at most 2,000"),
        (",".join(f"c{i}" for i in range(2500)).encode() + b"\n1\n", "a.csv", "line 1", "at most 2,000"),
    ],
)  # fmt: skip
def test_a_file_that_cannot_be_used_says_where_and_what_to_do(data, name, place, words):
    with pytest.raises(TableError) as caught:
        take(data, name)
    assert words in caught.value.message and place in caught.value.place and caught.value.remedy


@pytest.mark.parametrize(
    ("row", "column", "words"),
    [
        (b"2026-08-01 00:30,Northquay,n/a?", "taps", "'n/a?' is not a number"),
        (b"2026-08-01 00:30,Northquay,inf", "taps", "not finite"),
        (b"2026-08-01 00:30,Northquay,1e999", "taps", "not finite"),
        (b"01/08/26 0:30,Northquay,5", "stamp", "is no time"),
        (b"1785542400,Northquay,5", "stamp", "another kind of stamp"),
        (b"0001-01-01 00:00,Northquay,5", "stamp", "is no time"),
        (b"9999-01-01 00:00,Northquay,5", "stamp", "is no time"),
        (b"2026-08-01 00:30,Northquay", "", "2 columns where the header has 3: cut off"),
        (b"2026-08-01 00:30,Northquay,5,6", "", "too many columns"),
        (b"2026-08-01 00:30,Northquay,1,200", "", "too many columns"),
    ],
)
def test_a_broken_row_is_set_aside_with_line_column_and_reason(row, column, words):
    got = take(GOOD + row + b"\n2026-08-01 00:45,Northquay,9\n")
    [broken] = got.broken
    assert (broken.line, broken.column) == (5, column) and words in broken.problem
    assert got.rows == 4 and got.problems[0].count == 1 and got.problems[0].remedy


def test_lines_are_counted_past_rows_of_another_shape():
    got = take(
        GOOD + b"short\n2026-08-01 00:30,Northquay,bad\nshort too\n2026-08-01 00:45,Northquay,worse\n",
        values=("taps",),
    )
    assert [b.line for b in got.broken] == [5, 6, 7, 8]


def test_a_tenth_of_the_rows_broken_leaves_the_rest_whole():
    rows = [
        f"2026-08-01 {i // 60:02d}:{i % 60:02d},Northquay,{'x' if i % 10 == 3 else i}" for i in range(600)
    ]
    got = take(("stamp,place,taps\n" + "\n".join(rows)).encode())
    assert got.rows == 540 and len(got.broken) == 60
    assert got.broken[0].line == 5 and got.problems[0].first_line == 5


def test_quoted_names_and_line_breaks_survive():
    data = b'stamp,"ta\nps","pl,ace"\n2026-08-01 00:00,1,"North, ""quay"""\n2026-08-01 00:15,2,"North, ""quay"""\n'
    got = take(data)
    assert got.streams[0].attributes == (("pl,ace", 'North, "quay"'),)
    assert got.streams[0].metric == "ta\nps"


def test_keys_that_differ_only_in_case_or_blanks_are_different_streams():
    got = take(
        b"stamp,place,taps\n2026-08-01,quay,1\n2026-08-01,Quay,2\n2026-08-01,quay ,3\n2026-08-02,quay,4\n"
    )
    assert len(got.streams) == 3


def test_a_stated_column_that_is_not_there_is_named_with_those_that_are():
    with pytest.raises(
        TableError, match="column tops: is not in the file; its columns are stamp, place, taps"
    ):
        take(GOOD, values=("tops",))


def test_a_label_column_is_only_suggested_and_used_when_named():
    data = b"stamp,taps,is_anomaly\n2026-08-01,1,false\n2026-08-02,9,true\n2026-08-03,1,false\n"
    raw = read.read(data, "a.csv")
    guessed = layout.guess(raw)
    assert guessed.label is None and guessed.suggested_label == "is_anomaly"
    got = extract.extract(raw, layout.guess(raw, label="is_anomaly"))
    assert got.streams[0].labelled.tolist() == [False, True, False]


def test_a_column_that_differs_in_most_rows_tells_no_streams_apart():
    rows = "".join(f"2026-08-01 {i // 60:02d}:{i % 60:02d},Northquay,remark {i},{i}\n" for i in range(300))
    raw = read.read(("stamp,place,remark,taps\n" + rows).encode(), "a.csv")
    assert layout.guess(raw).series == ("place",)
