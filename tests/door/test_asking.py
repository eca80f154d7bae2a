"""Seasons, shifts, parts and precision from Python are those of the commands."""

import doctest
import json

import pyarrow as pa
import pytest

import watchtide as wt
from tests import world
from tests.door.conftest import commanded, rows_of
from watchtide.door import asking

STEPPED = world.hourly(seed=3).copy()
STEPPED[400:] += 25


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "level.csv").write_text(
        world.csv_of({"quay": world.hourly(spikes=(200, 500)), "step": STEPPED})
    )
    rows = [
        ("place=quay", 200, 202, "incident"),
        ("place=step", 100, 105, "incident"),
        ("", 0, 700, "reviewed"),
    ]
    (tmp_path / "labels.csv").write_text(world.labels_csv(rows))
    return tmp_path


def test_seasons(folder):
    theirs = json.loads(commanded(folder, "seasons", "level.csv").stdout)["series"]
    found = wt.seasons(folder / "level.csv").to_pylist()
    assert [{k: v for k, v in row.items() if k != "series"} for row in found] == [
        s for own in theirs.values() for s in own
    ]
    assert found[0]["period_s"] == 86_400
    assert (
        len(wt.seasons({"time": [f"2026-06-01T00:{i:02}:00Z" for i in range(60)], "value": [1.0] * 60})) == 0
    )


@pytest.mark.parametrize("online", [False, True])
def test_shifts(folder, online):
    commanded(folder, "shifts", "level.csv", "--out", "s.csv", *(["--online"] if online else []))
    found = wt.shifts(folder / "level.csv", online=online).to_pylist()
    assert [(r["series"], float(r["score"])) for r in rows_of(folder / "s.csv")] == [
        (r["series"], r["score"]) for r in found
    ]
    # Of four weeks a replay judges the last one.
    assert online or any(r["series"] == "place=step" and r["direction"] == "up" for r in found)


def test_parts(folder):
    commanded(
        folder,
        "decompose",
        "level.csv",
        "--season",
        "24h",
        "--robust",
        "--out",
        "d.csv",
        "--summary",
        "d.json",
    )
    found = wt.decompose(folder / "level.csv", "24h", robust=True)
    rows = rows_of(folder / "d.csv")
    assert [float(r["trend"]) for r in rows] == found.table.arrow["trend"].to_pylist()
    assert found.table.arrow.schema.field("time").type == pa.timestamp("ns", "UTC")
    assert found.table.to_pylist()[0]["time"].isoformat()[:19] == rows[0]["time"][:19]
    theirs = json.loads((folder / "d.json").read_text())["streams"]
    assert found.form == {key: own["form"] for key, own in theirs.items()}
    for row in found.table.to_pylist()[::97]:
        assert row["observed"] == pytest.approx(row["trend"] + row["season_1"] + row["remainder"])


def test_precision_of_a_scan_of_its_files_and_of_its_tables(folder):
    files = ["--findings", "f.csv", "--points", "p.csv", "--summary", "s.json"]
    commanded(folder, "scan", "level.csv", "--level", "sigmas=6", *files)
    call = ["score", "--labels", "labels.csv", *files]
    commanded(folder, *call, "--tolerance", "1h", "--json", "o.json")
    theirs = json.loads((folder / "o.json").read_text())
    scan = wt.scan(folder / "level.csv", {"flag": {"level": {"sigmas": 6}}})
    by_scan = wt.score(scan, folder / "labels.csv", tolerance="1h")
    assert json.loads(json.dumps(by_scan.figures)) == theirs
    by_files = wt.score(folder / "f.csv", folder / "labels.csv", points=folder / "p.csv", tolerance="1h")
    by_tables = wt.score(scan.findings, folder / "labels.csv", points=scan.points, tolerance="1h")
    for other in (by_files, by_tables):
        # Intervals by blocks of time need the season, which only the summary knows.
        for name in (
            "tp_findings",
            "fp_findings",
            "tp_labels",
            "fn_labels",
            "precision",
            "precision_ci",
            "recall",
        ):
            assert other.figures["events"][name] == theirs["events"][name]
        assert [other.figures["points"][n] for n in ("tp", "fp", "fn", "tn")] == [
            theirs["points"][n] for n in ("tp", "fp", "fn", "tn")
        ]
    assert by_scan.recall == theirs["events"]["recall"] and by_scan.precision == theirs["events"]["precision"]
    by_scan.write_html(folder / "card.html")
    assert "Scorecard" in (folder / "card.html").read_text() and "precision" in by_scan._repr_html_()


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (lambda f: wt.shifts(f / "level.csv", of="mood"), "of: 'mood' is no kind of shift"),
        (lambda f: wt.shifts(f / "level.csv", of="slope", online=True), "online: shifts of slope"),
        (lambda f: wt.shifts(f / "level.csv", penalty=-1), "penalty"),
        (lambda f: wt.decompose(f / "level.csv", "24h", form="odd"), "form: 'odd'"),
        (lambda f: wt.decompose(f / "level.csv", "900d"), "season 900d, stream place=quay"),
        (lambda f: wt.decompose(f / "level.csv", "soon"), "season soon"),
        (lambda f: wt.score(f / "none.csv", f / "labels.csv"), "findings: there is no file"),
        (lambda f: wt.score({"start": ["2026-06-01"]}, f / "labels.csv", kinds=["odd"]), "kinds: 'odd'"),
        (lambda f: wt.score({"start": ["2026-06-01"]}, f / "labels.csv", tolerance="soon"), "tolerance: "),
        (
            lambda f: wt.score(
                {"start": ["2026-06-01"]}, f / "labels.csv", start="2026-06-02", stop="2026-06-01"
            ),
            "start: lies after stop",
        ),
    ],
)
def test_what_cannot_be_used_is_named(folder, call, words):
    with pytest.raises(ValueError, match=words):
        call(folder)


def test_the_examples_of_the_docstrings_run():
    done = doctest.testmod(asking)
    assert done.attempted >= 8 and done.failed == 0
