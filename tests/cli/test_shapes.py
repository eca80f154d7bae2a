"""Tables as engineers have them, by command: what is printed and written of their cadence, keys that go on, and plain refusals."""

import csv
import json
from datetime import date, timedelta
from functools import partial

import numpy as np
import pytest


@pytest.fixture
def call(command, tmp_path):
    """(status, standard output, standard error) of a command run in an empty folder."""
    run = partial(command, tmp_path)
    run.folder = tmp_path
    return run


def write(call, name, header, rows):
    (call.folder / name).write_text("\n".join([header, *rows]) + "\n")


def summary_of(call, name, *more):
    status, _, err = call("scan", name, "--summary", "s.json", "--findings", "f.csv", *more)
    assert status == 0, err
    return json.loads((call.folder / "s.json").read_text()), err


NOISE = np.random.default_rng(4).normal(0, 1, 1_000)


def test_months_are_months_in_the_summary_and_a_year_is_their_season(call):
    stamps = [f"{2004 + i // 12}-{i % 12 + 1:02d}" for i in range(240)]
    values = [100 + 20 * np.sin(i / 12 * 2 * np.pi) + NOISE[i] for i in range(240)]
    write(call, "m.csv", "month,sales", [f"{s},{v:.3f}" for s, v in zip(stamps, values, strict=True)])
    summary, err = summary_of(call, "m.csv")
    [stream] = summary["streams"].values()
    assert "every 1mo (100.0% of the steps)" in err
    assert (stream["samples"], stream["missing"], stream["cadence"], stream["step_s"]) == (
        240,
        0,
        "1mo",
        None,
    )
    assert [s["samples"] for s in stream["seasons"]] == [12.0] and summary["cadence"] == "1mo"
    status, out, _ = call("seasons", "m.csv")
    assert status == 0 and json.loads(out)["series"][""][0]["period_s"] == 31_556_952
    for season in ("12mo", "1y"):
        assert call("decompose", "m.csv", "--season", season, "--out", "d.csv")[0] == 0
    assert call("forecast", "m.csv", "--steps", "1y", "--out", "ahead.csv")[0] == 0
    with open(call.folder / "ahead.csv") as file:
        ahead = [row["time"][:10] for row in csv.DictReader(file)]
    assert ahead == [f"2024-{m:02d}-01" for m in range(1, 13)]


def test_years_since_1871_say_why_they_are_years(call):
    write(call, "nile.csv", "year,volume", [f"{1871 + i},{1000 + 100 * NOISE[i]:.0f}" for i in range(100)])
    summary, err = summary_of(call, "nile.csv")
    assert "years, and no counts: the column is named year" in err
    [stream] = summary["streams"].values()
    assert (stream["samples"], stream["cadence"], stream["from"]) == (100, "1y", "1871-01-01T00:00:00Z")


def test_working_days_have_no_weekends_to_miss(call):
    days = [d for i in range(400) if (d := date(2024, 1, 1) + timedelta(i)).weekday() < 5 and i != 100]
    write(call, "p.csv", "Date,Close", [f"{d},{50 + NOISE[i]:.2f}" for i, d in enumerate(days)])
    summary, _ = summary_of(call, "p.csv", "--points", "points.csv")
    [stream] = summary["streams"].values()
    assert (stream["cadence"], stream["samples"], stream["missing"]) == ("workday", len(days) + 1, 1)
    with open(call.folder / "points.csv") as file:
        assert len(list(csv.DictReader(file))) == len(days) + 1
    write(call, "twice.csv", "Date,Close", [f"{d}T{h:02d}:00,1" for d in days[:30] for h in (9, 17)])
    status, _, err = call("scan", "twice.csv", "--every", "workday")
    assert status == 2 and "2024-01-01 holds 2 samples" in err and "--combine" in err


def test_late_minutes_are_minutes_and_a_coarser_cadence_is_reported(call):
    rng = np.random.default_rng(1)
    at = 1_772_323_200 + np.arange(6_000) * 60 + rng.uniform(0, 1.5, 6_000)
    write(call, "j.csv", "ts,value", [f"{t:.3f},{NOISE[i % 1000]:.3f}" for i, t in enumerate(at)])
    summary, err = summary_of(call, "j.csv")
    [stream] = summary["streams"].values()
    assert (stream["step_s"], stream["missing"], stream["samples"]) == (60.0, 0, 6_000) and "every 1m" in err
    later = np.r_[np.arange(3_000) * 60, 2_999 * 60 + 300 * np.arange(1, 1_000)] + 1_772_323_200
    write(call, "c.csv", "ts,value", [f"{t},{NOISE[i % 1000]:.3f}" for i, t in enumerate(later)])
    summary, err = summary_of(call, "c.csv")
    assert "the cadence changes from 1m to 5m" in err and summary["step_s"] == 300.0
    summary, _ = summary_of(call, "c.csv", "--every", "1m")
    assert summary["step_s"] == 60.0


def test_events_in_order_are_rows(call):
    at = np.cumsum(np.random.default_rng(2).integers(1, 2_000, 300)) + 1_772_323_200
    write(call, "e.csv", "ts,value", [f"{t},{NOISE[i]:.3f}" for i, t in enumerate(at)])
    assert "no even cadence" in call("scan", "e.csv")[2]
    summary, _ = summary_of(call, "e.csv", "--every", "rows")
    [stream] = summary["streams"].values()
    assert (stream["samples"], stream["missing"], stream["cadence"]) == (300, 0, "rows")


def test_keys_of_a_roll_up_go_on_through_scan_and_score(call):
    rows = []
    for hour in range(24 * 40):
        for origin in ("EWR", "JFK"):
            extra = 25 if origin == "EWR" and 700 <= hour < 704 else 0
            rows += [f"{1_767_225_600 + 3_600 * hour + 60 * k},{origin}" for k in range(8 + hour % 5 + extra)]
    write(call, "flights.csv", "time,origin", rows)
    write(
        call,
        "labels.csv",
        "series,start,end,verdict",
        ["origin=EWR,2026-01-30T04:00Z,2026-01-30T07:00Z,incident"],
    )
    assert call("rollup", "flights.csv", "--every", "1h", "--measure", "count", "--out", "r.csv")[0] == 0
    status, _, err = call(
        "scan",
        "r.csv",
        "--known",
        "labels.csv",
        "--findings",
        "f.csv",
        "--points",
        "p.csv",
        "--level",
        "sigmas=5",
    )
    assert status == 0 and "2 streams" in err
    with open(call.folder / "f.csv") as file:
        assert {row["series"] for row in csv.DictReader(file)} == {"origin=EWR"}
    status, out, err = call(
        "score", "--findings", "f.csv", "--labels", "labels.csv", "--points", "p.csv", "--json", "-"
    )
    assert json.loads(out)["events"]["recall"] == 1.0
    write(call, "mixed.csv", "series,time,value", ["a=1,2026-01-01T00:00Z,1", "b,2026-01-01T00:00Z,2"])
    assert "streams by series" in call("scan", "mixed.csv")[2]


def test_streams_are_counted_without_what_stands_beside_them(call):
    rows = [
        f"{1_767_225_600 + 3_600 * i},{p},{NOISE[i]:.2f},{i % 7},{1 + i % 3}"
        for i in range(60)
        for p in "abcd"
    ]
    write(call, "w.csv", "time,place,value,wind,pages", rows)
    err = call("scan", "w.csv", "--covariate", "wind", "--denominator", "pages")[2]
    assert "; 4 streams" in err and "of 4 streams" in err


@pytest.mark.parametrize(
    ("rows", "more", "words"),
    [
        (["2026-01-01,1e300", "2026-01-02,2"], [], "line 2, column value: '1e300' is not finite, or beyond 1e+100"),
        (["2026-01-01,1", "2026-01-02,2"], ["--train-share", "1.7"], "--train-share 1.7: must be above 0 and at most 1"),
        (["2026-01-01,1", "2026-01-02,2"], ["--train-share", "nan"], "--train-share nan"),
        (["2026-01-01,1", "2026-01-02,2"], ["--every", "fortnightly"], "no cadence"),
    ],
)  # fmt: skip
def test_what_cannot_be_used_names_place_and_remedy(call, rows, more, words):
    write(call, "x.csv", "time,value", rows)
    status, _, err = call("scan", "x.csv", *more)
    assert status == 2 and words in err and "Traceback" not in err
