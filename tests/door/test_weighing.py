"""Levels, comparisons and samples to judge from Python are those of the commands."""

import doctest
import json

import pytest

import watchtide as wt
from tests import world
from tests.door.conftest import commanded, rows_of
from watchtide.door import weighing


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("weighing")
    (folder / "level.csv").write_text(
        world.csv_of({"quay": world.hourly(spikes=(200, 500)), "step": world.hourly(seed=5, spikes=(300,))})
    )
    rows = [
        ("place=quay", 200, 202, "incident"),
        ("place=step", 300, 301, "incident"),
        ("", 0, 700, "reviewed"),
    ]
    (folder / "labels.csv").write_text(world.labels_csv(rows))
    for level in ("4", "6"):
        files = ("--points", f"p{level}.csv", "--findings", f"f{level}.csv")
        commanded(folder, "scan", "level.csv", "--level", f"sigmas={level}", *files)
    return folder


def scanned(folder, level):
    return wt.scan(folder / "level.csv", {"flag": {"level": {"sigmas": level}}})


def test_a_level_is_that_of_the_command_from_a_scan_a_table_or_a_file(folder):
    commanded(
        folder, "threshold", "--points", "p4.csv", "--labels", "labels.csv", "--min-recall", "1", "--json", "t.json"
    )  # fmt: skip
    theirs = json.loads((folder / "t.json").read_text())
    found = scanned(folder, 4)
    for points in (found, found.points, found.points.to_pandas(), folder / "p4.csv"):
        chosen = wt.threshold(points, folder / "labels.csv", min_recall=1.0)
        assert chosen.figures == theirs and chosen.is_met and 2 <= chosen.level <= 12
        assert str(chosen) == f"{theirs['level']:g} sigmas"


def test_a_locked_span_takes_no_part(folder):
    locked = ("2026-06-15T00:00:00Z", "2026-06-20T00:00:00Z")
    commanded(
        folder, "threshold", "--points", "p4.csv", "--labels", "labels.csv", "--max-false-per-week", "2", "--locked",
        "..".join(locked), "--json", "t.json",
    )  # fmt: skip
    chosen = wt.threshold(folder / "p4.csv", folder / "labels.csv", max_false_per_week=2, locked=locked)
    assert chosen.figures == json.loads((folder / "t.json").read_text())


def test_a_constraint_that_none_meets_gives_the_nearest(folder):
    never = {"start": ["2030-01-01T00:00:00Z"], "verdict": ["incident"]}
    chosen = wt.threshold(folder / "p4.csv", never, min_recall=1.0)
    assert not chosen.is_met and "nearest" in str(chosen)


def test_a_comparison_is_that_of_the_command(folder):
    both = ("--findings", "f4.csv", "--findings", "f6.csv", "--points", "p4.csv", "--points", "p6.csv")
    commanded(folder, "compare", *both, "--labels", "labels.csv", "--json", "c.json")
    theirs = json.loads((folder / "c.json").read_text())
    paths = [(folder / f"f{i}.csv", folder / f"p{i}.csv") for i in (4, 6)]
    compared = wt.compare(paths[0][0], paths[1][0], folder / "labels.csv", points=(paths[0][1], paths[1][1]))
    assert compared.figures == theirs
    assert wt.compare(scanned(folder, 4), scanned(folder, 6), folder / "labels.csv").figures == theirs
    assert theirs["precision"]["words"] in str(compared)


def test_a_sample_to_judge_is_that_of_the_command(folder):
    more = ("--n", "3", "--points", "p4.csv", "--spans", "4", "--seed", "7")
    commanded(folder, "sample", "--findings", "f4.csv", "--out", "judge.csv", *more)
    drawn = wt.sample(scanned(folder, 4), 3, spans=4, seed=7)
    theirs = rows_of(folder / "judge.csv")
    assert len(theirs) == len(drawn) > 4
    for row, mine in zip(theirs, drawn.to_pylist(), strict=True):
        assert row["series"] == mine["series"] and float(row["probability"]) == mine["probability"]
        assert row["start"][:19] == mine["start"].isoformat()[:19] and row["verdict"] == mine["verdict"]
    # What was drawn is judged, and goes back in; none of it is drawn again.
    again = wt.sample(scanned(folder, 4), 50, judged=drawn)
    assert not {(r["series"], r["start"]) for r in again.to_pylist()} & {
        (r["series"], r["start"]) for r in drawn.to_pylist()
    }


def test_what_cannot_be_weighed_names_the_argument(folder):
    p, known = folder / "p4.csv", folder / "labels.csv"
    for place, call in (
        ("constraint", lambda: wt.threshold(p, known)),
        ("constraint", lambda: wt.threshold(p, known, min_recall=0.9, max_gap=0.1)),
        ("constraint", lambda: wt.threshold(p, known, max_gap=0.1)),
        ("labels", lambda: wt.threshold(p, min_recall=0.9)),
        ("block", lambda: wt.compare(folder / "f4.csv", folder / "f6.csv", known, block="long")),
        ("points", lambda: wt.sample(folder / "f4.csv", spans=3)),
        ("n", lambda: wt.sample(folder / "f4.csv", 0)),
        ("length", lambda: wt.sample(folder / "f4.csv", points=p, spans=3, length="some")),
    ):
        with pytest.raises(wt.InputError) as caught:
            call()
        assert caught.value.place == place and caught.value.remedy


def test_examples():
    assert doctest.testmod(weighing).failed == 0
