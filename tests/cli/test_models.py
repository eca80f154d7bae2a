"""Replay, kept models, forecasts, levels, samples and conversions, as a user calls them on files."""

import csv
import json
import zipfile
from functools import partial

import numpy as np
import pytest

from tests import world

SPIKES = (700, 800, 903)


@pytest.fixture
def call(command, folder):
    return partial(command, folder)


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("models")
    streams = {"quay": world.hourly(spikes=SPIKES), "pier": world.hourly(seed=1, spikes=(820,))}
    (folder / "level.csv").write_text(world.csv_of(streams))
    (folder / "cut.csv").write_text(world.csv_of({k: v[:850] for k, v in streams.items()}))
    rows = [("place=quay", at, at + 2, "incident") for at in SPIKES] + [("place=pier", 820, 822, "incident")]
    (folder / "labels.csv").write_text(world.labels_csv(rows))
    return folder


def rows_of(path):
    with open(path) as file:
        return list(csv.DictReader(file))


def test_replay_of_cut_data_gives_the_same_points_and_findings(call, folder):
    plan = "baseline: {seasons: [24h]}\nreplay: {window: 21d, refit: 2d}\n"
    (folder / "plan.yaml").write_text(plan)
    for name in ("level", "cut"):
        arguments = (
            "--plan",
            "plan.yaml",
            "--mode",
            "replay",
            "--points",
            f"{name}-p.csv",
            "--findings",
            f"{name}-f.csv",
        )
        assert call("scan", f"{name}.csv", *arguments)[0] == 0
    whole, cut = rows_of(folder / "level-p.csv"), rows_of(folder / "cut-p.csv")
    known = {(r["series"], r["time"]): r for r in whole}
    columns = ("expected", "spread", "lower", "upper", "score", "window", "flag")
    assert all(known[r["series"], r["time"]][c] == r[c] for r in cut for c in columns)
    assert sum(r["score"] != "" for r in cut) > 600
    end = max(r["time"] for r in cut)
    raised = lambda rows: sorted((f["series"], f["start"], f["raised"]) for f in rows if f["raised"] <= end)
    assert raised(rows_of(folder / "level-f.csv")) == raised(rows_of(folder / "cut-f.csv")) != []
    found = rows_of(folder / "level-f.csv")
    assert {f["start"] for f in found if f["series"] == "place=quay"} >= {
        world.stamps(1000)[i] for i in SPIKES[:1]
    }


def test_a_label_leaves_training_in_replay_only_once_it_has_ended(call, folder):
    long = world.labels_csv([("place=quay", 690, 900, "incident")])
    (folder / "long.csv").write_text(long)
    for name, extra in (("with", ("--known", "long.csv")), ("without", ())):
        assert call("scan", "level.csv", "--mode", "replay", "--points", f"{name}.csv", *extra)[0] == 0
    one, other = (
        [r["expected"] for r in rows_of(folder / f"{n}.csv") if r["series"] == "place=quay"]
        for n in ("with", "without")
    )
    assert one[:890] == other[:890] and one != other


def test_a_kept_model_judges_new_data_as_the_scan_would(call, folder):
    assert (
        call(
            "scan",
            "level.csv",
            "--train-until",
            "2026-09-01T00:00Z",
            "--level",
            "sigmas=6",
            "--save",
            "m.model",
            "--points",
            "a.csv",
        )[0]
        == 0
    )
    code, _, err = call(
        "apply", "m.model", "level.csv", "--points", "b.csv", "--findings", "bf.csv", "--summary", "bs.json"
    )
    assert code == 0 and "findings in" in err
    for one, other in zip(rows_of(folder / "a.csv"), rows_of(folder / "b.csv"), strict=True):
        if one["time"] >= "2026-09-01T00:00:00Z" and one["expected"]:
            assert float(one["expected"]) == pytest.approx(float(other["expected"]), rel=1e-9)
            assert float(one["spread"]) == pytest.approx(float(other["spread"]), rel=1e-9)
    assert {f["start"] for f in rows_of(folder / "bf.csv")} >= {world.stamps(1000)[i] for i in SPIKES}
    told = json.loads((folder / "bs.json").read_text())
    assert told["mode"] == "apply" and any("trained on" in n for n in told["streams"]["place=quay"]["notes"])


@pytest.mark.parametrize(
    "damage", ["no zip", "other format", "cut", "objects", "unknown kind", "loud windows"]
)
def test_a_strangers_model_file_runs_nothing_and_is_refused(call, folder, damage):
    assert call("scan", "level.csv", "--save", "good.model", "--findings", "x.csv")[0] == 0
    path = folder / "bad.model"
    if damage == "no zip":
        path.write_bytes(b"not a model")
    elif damage == "cut":
        path.write_bytes((folder / "good.model").read_bytes()[:2000])
    else:
        with zipfile.ZipFile(folder / "good.model") as good, zipfile.ZipFile(path, "w") as bad:
            for name in good.namelist():
                data = good.read(name)
                if name == "model.json":
                    header = json.loads(data)
                    if damage == "other format":
                        header["format"] = "watchtide model 9"
                    if damage == "unknown kind":
                        header["streams"][0]["choice"]["kind"] = "os"
                    if damage == "loud windows":
                        header["streams"][0]["watch"]["together"] = 0
                    data = json.dumps(header).encode()
                elif damage == "objects":
                    import io
                    import pickle

                    packed = io.BytesIO()
                    np.save(packed, np.array([print], dtype=object), allow_pickle=True)
                    assert pickle
                    data = packed.getvalue()
                bad.writestr(name, data)
    code, _, err = call("apply", "bad.model", "level.csv")
    assert code == 2 and "bad.model" in err and "Traceback" not in err
    assert call("apply", "good.model", "labels.csv")[0] == 2


def test_a_forecast_holds_the_share_it_states(call, folder):
    code, out, _ = call(
        "forecast",
        "level.csv",
        "--steps",
        "48",
        "--skip-last",
        "48",
        "--interval",
        "0.9",
        "--limit",
        "60",
        "--out",
        "fc.csv",
    )
    assert code == 0
    actual = {(r["place"], r["time"][:16]): r["level"] for r in rows_of(folder / "level.csv")}
    inside = []
    for r in rows_of(folder / "fc.csv"):
        value = float(actual[r["series"].removeprefix("place="), r["time"][:16]])
        inside.append(float(r["lower"]) <= value <= float(r["upper"]))
        assert float(r["lower"]) < float(r["expected"]) < float(r["upper"])
    assert len(inside) == 96 and 0.78 <= np.mean(inside) <= 1.0
    told = json.loads(out)["series"]["place=quay"]
    assert told["side"] == "above" and told["expected_at"] is None and told["chance_by_end"] < 0.01
    near = json.loads(call("forecast", "level.csv", "--steps", "2d", "--limit", "25", "--out", "fc.csv")[1])[
        "series"
    ]["place=quay"]
    assert near["expected_at"] and near["earliest_at"] <= near["expected_at"] and near["chance_by_end"] > 0.9
    assert near["reached_with"]["0.1"] <= near["reached_with"]["0.5"] <= near["expected_at"]


def test_a_level_is_chosen_under_a_constraint_and_cross_validated(call, folder):
    assert call("scan", "level.csv", "--points", "p.csv", "--findings", "f.csv")[0] == 0
    code, out, _ = call("threshold", "--points", "p.csv", "--labels", "labels.csv", "--min-recall", "0.9")
    told = json.loads(out)
    assert code == 0 and told["apparent"]["recall"] == 1 and told["apparent"]["precision"] == 1
    assert told["cross_validated"]["hits"] == 4 and len(told["curve"]) == 201 and 4 < told["level"] <= 12
    locked = json.loads(
        call(
            "threshold",
            "--points",
            "p.csv",
            "--labels",
            "labels.csv",
            "--max-false-per-week",
            "0.2",
            "--locked",
            "2026-09-08..2026-09-20",
        )[1]
    )
    assert locked["locked"]["hits"] + locked["locked"]["misses"] < 4 and locked["apparent"]["hits"] < 4
    gap = json.loads(
        call(
            "threshold", "--points", "p.csv", "--labels", "labels.csv", "--by", "points", "--max-gap", "0.1"
        )[1]
    )
    assert abs(gap["apparent"]["recall"] - gap["apparent"]["specificity"]) <= 0.1
    cost = json.loads(
        call(
            "threshold",
            "--points",
            "p.csv",
            "--labels",
            "labels.csv",
            "--cost-miss",
            "10",
            "--cost-false",
            "1",
        )[1]
    )
    assert cost["apparent"]["misses"] == 0
    (folder / "never.csv").write_text("start\n" + "".join(f"{x}\n" for x in world.stamps(400)[::17]))
    code, out, err = call("threshold", "--points", "p.csv", "--labels", "never.csv", "--min-recall", "1")
    assert code == 1 and "the nearest is" in err and json.loads(out)["is_met"] is False


def test_two_scans_are_compared_in_pairs(call, folder):
    assert (
        call("scan", "level.csv", "--level", "sigmas=3", "--findings", "loose.csv", "--points", "lp.csv")[0]
        == 0
    )
    code, out, _ = call(
        "compare",
        "--findings",
        "f.csv",
        "--findings",
        "loose.csv",
        "--labels",
        "labels.csv",
        "--block",
        "2d",
        "--json",
        "-",
    )
    told = json.loads(out)
    assert code == 0 and told["found_by_both"] == 4 and told["precision"]["difference"] <= 0
    low, high = told["precision"]["difference_ci"]
    assert low <= told["precision"]["difference"] <= high and told["recall"]["difference_ci"] == [0.0, 0.0]


def test_labels_travel_through_every_format_unchanged(call, folder):
    (folder / "rich.csv").write_text(
        "series,start,end,verdict,kind,cause,note,author,origin,stratum,probability\n"
        '"place=quay,fare=a%2Cb",2026-08-04T00:00:00.000000001Z,2026-08-04T01:00:00Z,incident,spike,"rope, torn","a; b\nc",Ann,finding,,\n'
        ",2026-10-25T00:30:00Z,,foreseen,,,=1+1,,sampled,top,0.125\n"
    )
    for chain in (("one.ics", "two.json", "three.csv"), ("one.json", "two.ics", "three.csv")):
        source = "rich.csv"
        for name in chain:
            assert call("convert", "labels", source, name)[0] == 0, name
            source = name
        call("convert", "labels", "rich.csv", "plain.csv")
        assert (folder / "three.csv").read_text() == (folder / "plain.csv").read_text()
    assert call("convert", "labels", "rich.csv", "x.txt")[0] == 2
    foreign = (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20260805\r\n"
        "SUMMARY:Regatta of the \r\n islands\r\nRRULE:FREQ=YEARLY;COUNT=2\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
    (folder / "foreign.ics").write_text(foreign, newline="")
    assert call("convert", "labels", "foreign.ics", "foreign.csv", "--tz", "Europe/Dublin")[0] == 0
    first, second = rows_of(folder / "foreign.csv")
    assert (
        first["start"] == "2026-08-04T23:00:00Z"
        and first["note"] == "Regatta of the islands"
        and second["start"][:4] == "2027"
    )


def test_a_sample_to_judge_carries_its_chances_and_is_scored_by_them(call, folder):
    code, _, _ = call(
        "sample",
        "--findings",
        "loose.csv",
        "--points",
        "lp.csv",
        "--n",
        "8",
        "--spans",
        "4",
        "--out",
        "draw.csv",
        "--seed",
        "3",
    )
    drawn = rows_of(folder / "draw.csv")
    assert code == 0 and sum(r["stratum"] == "unflagged" for r in drawn) == 4
    assert all(0 < float(r["probability"]) <= 1 for r in drawn)
    text = (folder / "draw.csv").read_text().replace(",unsure,", ",false-alarm,")
    (folder / "judged.csv").write_text(text)
    call("score", "--findings", "loose.csv", "--labels", "judged.csv", "--json", "s.json")
    sampled = json.loads((folder / "s.json").read_text())["sampled"]
    assert sampled["precision"] == 0 and sampled["n"] == len(drawn)
    assert call("sample", "--findings", "loose.csv", "--spans", "2", "--out", "x.csv")[0] == 2


def test_ratios_counts_days_and_covariates_come_from_columns_and_calendars(call, folder):
    rng = np.random.default_rng(0)
    n = 24 * 35
    t = np.arange(n)
    asked = rng.poisson(np.where(t % 24 < 6, 2, 200))
    holiday = (t // 24 == 20) | (t // 24 == 27)
    wind = np.round(rng.normal(8, 3, n), 1)
    share = np.where(holiday, 0.2, 0.05) + 0.004 * (wind - 8)
    errors = rng.binomial(asked, np.clip(share, 0, 1))
    ratio = np.where(asked > 0, 1000 * errors / np.maximum(asked, 1), np.nan)
    rows = [
        f"{s},{'' if np.isnan(r) else r},{a},{w}"
        for s, r, a, w in zip(world.stamps(n), ratio, asked, wind, strict=True)
    ]
    (folder / "ratio.csv").write_text("time,share,asked,wind\n" + "\n".join(rows) + "\n")
    (folder / "days.ics").write_text(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20260823\r\nSUMMARY:Fair\r\n"
        "RRULE:FREQ=WEEKLY;COUNT=2\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n", newline="",
    )  # fmt: skip
    (folder / "ratio.yaml").write_text(
        "prepare: {least: 5}\nbaseline: {seasons: [24h]}\nflag: {level: {sigmas: 5}}\nshifts: {of: none}\n"
    )
    base = ("scan", "ratio.csv", "--plan", "ratio.yaml", "--value", "share", "--denominator", "asked")
    assert call(*base, "--findings", "r0.csv", "--points", "rp.csv", "--summary", "rs.json")[0] == 0
    told = json.loads((folder / "rs.json").read_text())["streams"][""]
    assert told["resolved"]["prepare"]["as"] == "ratio" and told["resolved"]["facts"]["law"] == "ratio"
    assert any("under the least denominator" in note for note in told["notes"])
    points = rows_of(folder / "rp.csv")
    assert all(p["score"] == "" for p, a in zip(points, asked, strict=True) if a < 5)
    assert len([f for f in rows_of(folder / "r0.csv") if f["start"][:10] in ("2026-08-23", "2026-08-30")]) > 0
    assert call(*base, "--covariate", "wind", "--calendar", "days.ics", "--findings", "r1.csv")[0] == 0
    assert [f for f in rows_of(folder / "r1.csv") if f["start"][:10] in ("2026-08-23", "2026-08-30")] == []
    assert call(*base, "--covariate", "tide", "--findings", "r1.csv")[0] == 2


def test_what_cannot_be_ends_with_status_2_and_one_message(call, folder):
    for arguments, words in (
        (("forecast", "level.csv", "--steps", "0", "--out", "no.csv"), "under one sample"),
        (("forecast", "level.csv", "--steps", "5", "--interval", "2", "--out", "no.csv"), "between 0 and 1"),
        (("threshold", "--points", "p.csv", "--labels", "labels.csv"), "state one constraint"),
        (
            ("threshold", "--points", "p.csv", "--labels", "labels.csv", "--max-gap", "0.1"),
            "needs --by points",
        ),
        (("compare", "--findings", "f.csv", "--labels", "labels.csv"), "two --findings"),
        (("discords", "level.csv", "--window", "3", "--out", "no.csv"), "it needs 4 to half"),
        (("shifts", "level.csv", "--of", "slope", "--online", "--out", "no.csv"), "needs the whole series"),
        (("scan", "level.csv", "--plan", "t.yaml"), "no whole number of samples"),
    ):
        (folder / "t.yaml").write_text("prepare: {transform: difference 90m}\n")
        code, _, err = call(*arguments)
        assert code == 2 and words in err and "Traceback" not in err, (arguments, err)
    assert not (folder / "no.csv").exists()


def test_a_diagnosis_writes_the_plan_with_its_remedy(call, folder):
    (folder / "flat.yaml").write_text("baseline: {kind: rolling, seasons: [], options: {window: 3d}}\n")
    code, _out, err = call(
        "diagnose", "level.csv", "--plan", "flat.yaml", "--json", "d.json", "--remedied", "better.yaml"
    )
    assert code == 0 and "leftover season" in err
    told = json.loads((folder / "d.json").read_text())
    assert told["remedy"]["baseline.seasons"] == ["24h"]
    assert call("plan", "check", "better.yaml")[0] == 0 and "24h" in (folder / "better.yaml").read_text()
    assert told["series"]["place=quay"]["training"]["mae"] > 1


def test_a_scorecard_page_holds_every_figure_and_no_script(call, folder):
    assert (
        call(
            "score",
            "--findings",
            "f.csv",
            "--labels",
            "labels.csv",
            "--points",
            "p.csv",
            "--html",
            "card.html",
            "--json",
            "c.json",
        )[0]
        == 0
    )
    page = (folder / "card.html").read_text()
    figures = json.loads((folder / "c.json").read_text())
    assert f"{figures['events']['precision']:.3f}" in page and "of 4 incidents were found" in page
    assert "<script" not in page and "http" not in page and "place=quay" in page
    assert (
        figures["points"]["specificity"] > 0.99
        and "accuracy_ci" in figures["points"]
        and "fragmentation_ci" in figures["events"]
    )


def test_shifts_tell_their_sizes_and_the_penalty_path(call, folder):
    y = world.hourly(seed=8)
    y[500:] += 9
    (folder / "stepped.csv").write_text(world.csv_of({"quay": y}))
    status, _, _ = call("shifts", "stepped.csv", "--out", "s.csv", "--details", "d.json", "--season", "24h")
    assert status == 0
    (told,) = json.loads((folder / "d.json").read_text())["streams"].values()
    found = list(csv.DictReader((folder / "s.csv").open()))
    assert [s["time"] for s in told["shifts"]] == [f["start"] for f in found] and len(found) == 1
    (shift,) = told["shifts"]
    assert shift["size_ci"][0] < 9 < shift["size_ci"][1] and shift["size"] == float(found[0]["size"])
    assert shift["after"] - shift["before"] == pytest.approx(shift["size"])
    (elbow,) = [p for p in told["path"] if p["elbow"]]
    assert elbow["changes"] == len(elbow["times"]) == 1 and elbow["times"] == [found[0]["start"]]
    assert [p["changes"] for p in told["path"]] == sorted(p["changes"] for p in told["path"])
    status, _, err = call("shifts", "stepped.csv", "--online", "--out", "s.csv", "--details", "d.json")
    assert status == 2 and "leave out --online" in err


def test_stamps_are_written_with_as_few_decimals_as_each_needs():
    from watchtide.tables import clock

    second, milli, nano = 10**18, 10**18 + 5 * 10**6, 10**18 + 7
    texts = clock.texts_of([nano, second, milli, second])
    assert texts == {t: clock.format_time(t) for t in (second, milli, nano)}
    assert clock.texts_of([]) == {}
