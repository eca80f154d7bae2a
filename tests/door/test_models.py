"""Kept models, forecasts and diagnoses from Python are those of the commands."""

import json

import pyarrow as pa
import pytest

import watchtide as wt
from tests import world
from tests.door.conftest import commanded, rows_of

PLAN = {"flag": {"level": {"sigmas": 6}}}


@pytest.fixture
def folder(tmp_path):
    early, late = world.hourly(spikes=(200,)), world.hourly(spikes=(100,), seed=9)
    (tmp_path / "level.csv").write_text(world.csv_of({"quay": early, "pier": world.hourly(seed=1)}))
    (tmp_path / "late.csv").write_text(world.csv_of({"quay": late}))
    (tmp_path / "plan.yaml").write_text("flag: {level: {sigmas: 6}}\n")
    return tmp_path


def test_a_model_kept_by_either_is_applied_by_either(folder):
    wt.scan(folder / "level.csv", PLAN).save(folder / "ours")
    commanded(folder, "scan", "level.csv", "--plan", "plan.yaml", "--save", "theirs", "--findings", "f.csv")
    assert (folder / "ours").read_bytes() == (folder / "theirs").read_bytes()
    commanded(
        folder, "apply", "ours", "late.csv", "--points", "p.csv", "--findings", "a.csv", "--summary", "s.json"
    )
    models = wt.load(folder / "theirs")
    assert models.series == ("place=pier", "place=quay")
    found = models.apply(folder / "late.csv")
    found.write_points(folder / "p2.csv")
    found.write_findings(folder / "a2.csv")
    found.write_summary(folder / "s2.json")
    for name in ("p.csv", "a.csv", "s.json"):
        assert (folder / name.replace(".", "2.")).read_bytes() == (folder / name).read_bytes(), name
    assert len(found.findings) >= 1
    with pytest.raises(wt.InputError, match="scan with mode='fit'"):
        found.save(folder / "again")


def test_a_forecast_is_that_of_the_command(folder):
    printed = commanded(
        folder, "forecast", "level.csv", "--steps", "2d", "--limit", "500", "--out", "ahead.csv"
    )
    found = wt.forecast(folder / "level.csv", "2d", limit=500)
    rows = rows_of(folder / "ahead.csv")
    assert [float(r["expected"]) for r in rows] == found.table.arrow["expected"].to_pylist()
    assert [float(r["upper"]) for r in rows] == found.table.arrow["upper"].to_pylist()
    assert found.table.arrow.schema.field("time").type == pa.timestamp("ns", "UTC")
    assert json.loads(json.dumps(found.limits)) == json.loads(printed.stdout)["series"]
    assert wt.forecast(folder / "level.csv", 48).table.arrow.equals(found.table.arrow)


def test_a_diagnosis_is_that_of_the_command_and_brings_a_plan(folder):
    commanded(folder, "diagnose", "level.csv", "--json", "d.json")
    found = wt.diagnose(folder / "level.csv", {})
    theirs = json.loads((folder / "d.json").read_text())
    assert json.loads(json.dumps(found.figures)) == theirs["series"] and found.remedy == theirs["remedy"]
    assert isinstance(found.plan, wt.Plan)
    # A rolling mean that knows no season gets a remedy, and the plan with the remedy takes it in.
    poor = wt.diagnose(folder / "level.csv", {"baseline": {"kind": "rolling", "seasons": []}})
    assert poor.remedy and wt.diagnose(folder / "level.csv", poor.plan).figures != poor.figures


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (lambda f: wt.load(f / "none"), "path: there is no file"),
        (lambda f: wt.load(f / "level.csv"), "level.csv"),
        (
            lambda f: wt.forecast(f / "level.csv", "1s"),
            "stream place=quay: steps 1s is under one sample of 1h",
        ),
        (lambda f: wt.forecast(f / "level.csv", "soon"), "stream place=quay"),
        (lambda f: wt.forecast(f / "level.csv", 3, interval=2), "interval: 2 is no share"),
        (lambda f: wt.diagnose(f / "level.csv", {"baseline": {"seasons": ["900d"]}}), "a season of 900 d"),
    ],
)
def test_what_cannot_be_used_is_named(folder, call, words):
    with pytest.raises(ValueError, match=words):
        call(folder)


def test_a_stream_without_a_model_is_named(folder):
    wt.scan(folder / "late.csv", PLAN).save(folder / "one")
    with pytest.raises(
        wt.InputError, match=r"stream place=pier: has no model in .*one; it holds 1: place=quay"
    ):
        wt.load(folder / "one").apply(folder / "level.csv")
