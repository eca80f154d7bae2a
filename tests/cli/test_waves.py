"""Waveforms on the command line: scanned, kept, applied, and a level chosen by units."""

import csv
import json
import zipfile

import numpy as np
import pytest

from tests.core.test_units import LENGTH, world
from watchtide.engine.keep.arrays import zipped


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    path = tmp_path_factory.mktemp("waves")
    waves, normal = world(400, 12)
    with open(path / "wide.csv", "w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["ramp", "state", *(f"s{i}" for i in range(LENGTH))])
        out.writerows(
            [f"r{i}", "normal" if n else "worn", *w.round(4)]
            for i, (w, n) in enumerate(zip(waves, normal, strict=True))
        )
    with open(path / "long.csv", "w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["ramp", "at", "speed", "state"])
        for i in range(60):
            # The order within a unit is that of its column, not of the file.
            for k in reversed(range(LENGTH)):
                out.writerow([f"r{i}", k, round(waves[i, k], 4), "" if normal[i] else "worn"])
    return path


WIDE = ("--wave", f"s0..s{LENGTH - 1}", "--id", "ramp", "--class", "state")


def rows(path):
    with open(path, newline="") as file:
        return list(csv.DictReader(file))


def test_units_are_scanned_kept_applied_and_a_level_is_chosen(command, folder):
    status, _, err = command(
        folder, "scan", "wide.csv", *WIDE, "--points", "p.csv", "--summary", "s.json", "--save", "model"
    )
    assert status == 0 and "took 400 units of 100 samples" in err
    points, report = rows(folder / "p.csv"), json.loads((folder / "s.json").read_text())
    assert list(points[0]) == ["series", "unit", "time", "class", "split", "score", "flag"]
    assert [p["unit"] for p in points] == [f"r{i}" for i in range(400)]
    counted = {name: sum(p["split"] == name for p in points) for name in ("training", "validation", "test")}
    assert {k: report["units"][k] for k in counted} == counted and counted["test"] == 80
    assert all(p["split"] in ("labelled", "test") for p in points if p["class"] == "worn")
    c = report["units"]["confusion"]
    assert c["tp"] + c["fn"] == sum(p["split"] == "test" and p["class"] == "worn" for p in points)
    assert c["tp"] + c["fp"] == sum(p["split"] == "test" and p["flag"] != "" for p in points)
    best = min(report["losses"], key=lambda x: x["validation"])
    assert report["best_epoch"] == best["epoch"] and len(report["losses"]) >= best["epoch"]

    assert command(folder, "losses", "model", "--out", "losses.csv")[0] == 0
    kept = rows(folder / "losses.csv")
    assert list(kept[0]) == ["series", "epoch", "training", "validation", "best"]
    assert [float(x["validation"]) for x in kept] == [x["validation"] for x in report["losses"]]
    assert [int(x["epoch"]) for x in kept if x["best"] == "true"] == [report["best_epoch"]]

    assert command(folder, "apply", "model", "wide.csv", *WIDE, "--points", "again.csv")[0] == 0
    again = rows(folder / "again.csv")
    assert [a["score"] for a in again] == [p["score"] for p in points], "bit for bit"
    assert {a["split"] for a in again} == {""}

    status, out, _ = command(folder, "threshold", "--points", "p.csv", "--by", "units", "--max-gap", "0.1")
    report = json.loads(out)
    assert status == 0 and report["is_met"] and report["level"] > 0
    assert report["test"]["tp"] + report["test"]["fn"] == c["tp"] + c["fn"]


def test_the_rows_of_one_name_are_a_unit_whatever_their_order(command, folder):
    wide = folder / "few.csv"
    wide.write_text("".join((folder / "wide.csv").read_text().splitlines(keepends=True)[:61]))
    plan = folder / "trees.yaml"
    plan.write_text("baseline: {kind: isolation, options: {trees: 20}}\nflag: {level: {sigmas: 3}}\n")
    long = ("--wave-id", "ramp", "--wave-at", "at", "--value", "speed", "--class", "state")
    assert (
        command(folder, "scan", "long.csv", *long, "--plan", "trees.yaml", "--points", "long-p.csv")[0] == 0
    )
    assert command(folder, "scan", "few.csv", *WIDE, "--plan", "trees.yaml", "--points", "wide-p.csv")[0] == 0
    one, two = rows(folder / "long-p.csv"), rows(folder / "wide-p.csv")
    assert [(r["unit"], r["split"], r["score"], r["flag"]) for r in one] == [
        (r["unit"], r["split"], r["score"], r["flag"]) for r in two
    ]


def test_units_with_a_time_are_findings_too(command, folder):
    lines = (folder / "wide.csv").read_text().splitlines()
    stamps = [f"2026-03-{1 + i // 24:02d}T{i % 24:02d}:00:00Z" for i in range(len(lines) - 1)]
    timed = [f"begun,{lines[0]}", *(f"{t},{line}" for t, line in zip(stamps, lines[1:], strict=True))]
    (folder / "timed.csv").write_text("\n".join(timed) + "\n")
    out = ("--time", "begun", "--level", "sigmas=9", "--findings", "f.csv", "--points", "timed-p.csv")
    assert command(folder, "scan", "timed.csv", *WIDE, *out)[0] == 0
    flagged = [p for p in rows(folder / "timed-p.csv") if p["flag"]]
    found = rows(folder / "f.csv")
    assert flagged and [(f["start"], f["end"], f["kind"], f["score"]) for f in found] == [
        (p["time"], p["time"], "discord", p["score"]) for p in flagged
    ]


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (("wide.csv", "--wave", "s0"), "write FIRST..LAST"),
        (("wide.csv", "--wave", "s9..s2"), "end before they begin"),
        (("wide.csv", "--wave", "s0..s500"), "column s500: is not there"),
        (("wide.csv", "--wave", "ramp..s5"), "line 2, column ramp: is no number"),
        (("wide.csv", "--wave-id", "ramp"), "--wave-id, --wave-at and one --value go together"),
        (("wide.csv", *WIDE, "--wave-id", "ramp"), "give one of the two"),
        (("wide.csv", *WIDE, "--mode", "replay"), "leave out --train-until, --known, --mode replay"),
        (("wide.csv", *WIDE, "--train-share", "1"), "leave nothing to train on"),
        (("wide.csv", *WIDE, "--findings", "f.csv", "--level", "sigmas=4"), "name the column of the units' times"),
        (("uneven.csv", "--wave-id", "u", "--wave-at", "at", "--value", "y"), "unit b (from line 4): has 1 samples, others have 2"),
    ],
)  # fmt: skip
def test_bad_input_names_the_place_and_the_remedy(command, folder, given, words):
    (folder / "uneven.csv").write_text("u,at,y\na,0,1\na,1,2\nb,0,1\nc,0,1\nc,1,2\n")
    status, _, err = command(folder, "scan", *given)
    assert status == 2 and words in err.replace("\n", " "), err


def test_a_model_of_units_and_one_of_streams_are_not_taken_for_one_another(command, folder):
    (folder / "tiny.yaml").write_text(
        "baseline: {kind: isolation, options: {trees: 5}}\nflag: {level: {sigmas: 4}}\n"
    )
    assert command(folder, "scan", "wide.csv", *WIDE, "--plan", "tiny.yaml", "--save", "trees")[0] == 0
    assert command(folder, "apply", "trees", "wide.csv")[2].count("say where they stand with --wave") == 1
    assert "holds no learned model" in command(folder, "losses", "trees")[2]
    assert (
        "--labels: name the labels"
        in command(folder, "threshold", "--points", "p.csv", "--min-recall", "1")[2]
    )


@pytest.mark.parametrize(
    ("kind", "break_it", "words"),
    [
        (
            "reconstruction",
            lambda head, arrays: arrays.update(weights_1=arrays["weights_1"][:, :-1]),
            "layer 2",
        ),
        ("reconstruction", lambda head, arrays: head.update(length=7), "does not fit its length"),
        ("isolation", lambda head, arrays: arrays["cuts"].__setitem__((0, 0, 0), 1e6), "lead nowhere"),
        ("isolation", lambda head, arrays: arrays["cuts"].__setitem__((0, -1, 3), 1.0), "lead nowhere"),
        ("isolation", lambda head, arrays: head.update(kind="magic"), "magic judges no units"),
    ],
)
def test_a_strangers_model_that_does_not_hold_together_is_refused(command, folder, kind, break_it, words):
    (folder / "any.yaml").write_text(f"baseline: {{kind: {kind}}}\nflag: {{level: {{sigmas: 4}}}}\n")
    assert command(folder, "scan", "wide.csv", *WIDE, "--plan", "any.yaml", "--save", "whole")[0] == 0
    with zipfile.ZipFile(folder / "whole") as file:
        head = json.loads(file.read("model.json"))
        arrays = {n: np.lib.format.read_array(file.open(f"{n}.npy")).copy() for n in head["arrays"]}
    break_it(head, arrays)
    (folder / "broken").write_bytes(zipped("model.json", head, arrays))
    status, _, err = command(folder, "apply", "broken", "wide.csv", *WIDE)
    assert status == 2 and words in err and "save the model anew" in err
