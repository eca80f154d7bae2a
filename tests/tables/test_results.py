"""Findings, points and labels out and in again; files whole or not at all."""

import os

import numpy as np
import pytest

from watchtide.core.scoring.rows import Finding, Label
from watchtide.tables import labels, results
from watchtide.tables.problems import TableError

T = 1_787_390_100 * 10**9


def test_labels_round_trip_through_csv_and_json():
    rows = [
        Label(
            T,
            T + 1,
            "place=Old Pier%2C 2,fare=adult",
            "foreseen",
            "spike",
            'said "yes", twice',
            "a\nb",
            "M",
            "sampled",
            "s1",
            0.25,
        ),
        Label(T, T, cause="=1+1", note="'quoted", kind="-dash", author="@me"),
        Label(T + 5, T + 9, verdict="reviewed"),
    ]
    assert labels.read_labels(labels.to_csv(rows).encode(), "l.csv") == rows
    assert labels.read_labels(labels.to_json(rows).encode(), "l.json") == rows


def test_exported_cells_start_no_formula():
    text = labels.to_csv([Label(T, T, cause="=HYPERLINK(0)", note="+1", author="@x", kind="-x")])
    for cell in text.splitlines()[1].split(","):
        assert cell.strip('"')[:1] not in ("=", "+", "-", "@")


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("", "", "empty"), ("begin,end\n1,2\n", "line 1", "no column start"),
        ("start\nsoon\n", "line 2, column start", "is no time"), ("start,end\n,2026-08-01\n", "line 2, column start", "is empty"),
        ("start,end\n2026-08-02,2026-08-01\n", "line 2, column end", "before the start"),
        ("start,verdict\n2026-08-01,bad\n", "line 2, column verdict", "'bad' is no verdict"),
        ("start,origin\n2026-08-01,hearsay\n", "line 2, column origin", "no origin"),
        ("start,probability\n2026-08-01,2\n", "line 2, column probability", "out of range"),
        ("start,series\n2026-08-01,quay\n", "line 2, column series", "no name=value"),
        ("start,start\n2026-08-01,2026-08-01\n", "line 1, column 2", "twice"),
        ("start,end\n2026-08-01\n", "line 2", "number of cells"), ("[{]", "line 1", "no JSON"),
    ],
)  # fmt: skip
def test_a_wrong_label_says_where_and_what_to_do(text, place, words):
    with pytest.raises(TableError) as caught:
        labels.read_labels(text.encode(), "labels.csv")
    assert place in caught.value.place and words in caught.value.message and caught.value.remedy


def test_findings_and_points_round_trip(tmp_path):
    found = [
        Finding("a=b,c=d", T, T + 60, "outlier", "above", 0.1 + 0.2, T + 60, 1e-17, 3.0, 2),
        Finding("", T, T, "shift", "up", size=-0.3, confidence=0.9),
        Finding('said "aye",\nonce', T, T),
    ]
    for name in ("f.csv", "f.jsonl"):
        path = tmp_path / name
        results.write_whole(str(path), results.findings_text(found, name))
        again = results.read_findings(path)
        assert [(f.series, f.start, f.end, f.score) for f in again][0] == ("a=b,c=d", T, T + 60, 0.1 + 0.2)
        assert again[1].size == -0.3 and again[1].peak_time is None
        assert again[2].series == 'said "aye",\nonce' and again[2].score != again[2].score
    rows = {"a=b,c=d": {
        "time": np.array([T, T + 10**9]), "value": np.array([1.5, np.nan]), "expected": np.array([1.0, 1]), "spread": np.array([0.5, 0.5]),
        "lower": np.array([0.0, 0]), "upper": np.array([2.0, 2]), "residual": np.array([0.5, np.nan]), "score": np.array([1.0, np.nan]),
        "window": np.array([1, 1]), "flag": np.array(["above", ""]), "in_finding": np.array([True, False]),
    }}  # fmt: skip
    for name in ("p.csv", "p.parquet"):
        got = results.read_points(results.table_bytes(results.points_table(rows), name), name)["a=b,c=d"]
        assert got.times.tolist() == [T, T + 10**9] and got.flagged.tolist() == [True, False]
        assert got.score[0] == 1 and np.isnan(got.score[1])


def test_no_findings_is_a_header_and_reads_as_none():
    text = results.findings_text([])
    assert text.startswith("series,start") and results.read_findings(text.encode(), "f.csv") == []


def test_a_write_that_fails_leaves_the_old_file(tmp_path, monkeypatch):
    path = tmp_path / "out.csv"
    path.write_text("old")
    monkeypatch.setattr(os, "replace", lambda a, b: (_ for _ in ()).throw(OSError("disk full")))
    with pytest.raises(OSError, match="disk full"):
        results.write_whole(str(path), "new")
    assert path.read_text() == "old" and os.listdir(tmp_path) == ["out.csv"]
    with pytest.raises(TableError, match="folder is not there"):
        results.write_whole(str(tmp_path / "no" / "out.csv"), "x")
