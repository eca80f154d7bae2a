"""look, rollup, regrid, derive and days: on files as people have them, and what they refuse."""

import csv
import io
import json
from functools import partial

import pytest

from tests import world

LOG = "".join(
    f"2026-08-01T00:{m:02d}:00Z {verb} {ms} done\n"
    for m, verb, ms in ((0, "GET", 10), (1, "GET", 30), (2, "PUT", 8), (11, "GET", 20), (4, "GET", 50))
)
PATTERN = r"^(?P<time>\S+) (?P<verb>\w+) (?P<ms>\d+)"
TICKETS = "time,channel,errors,pages\n" + "".join(
    f"2026-08-01T{h:02d}:00Z,{c},{h},{100 * (h + 1)}\n" for h in range(4) for c in ("web", "desk")
)
ICS = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:20260815\r\n"
    "RRULE:FREQ=YEARLY\r\nSUMMARY:=Market\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
)


@pytest.fixture
def call(command, tmp_path):
    """The command in a folder with these files."""
    (tmp_path / "calls.log").write_text(LOG)
    (tmp_path / "tickets.csv").write_text(TICKETS)
    (tmp_path / "days.ics").write_text(ICS)
    (tmp_path / "level.csv").write_text(world.csv_of({"quay": world.hourly(days=14)}))

    return partial(command, tmp_path)


def table(out):
    return [(r["series"], r["time"], r["value"]) for r in csv.DictReader(io.StringIO(out))]


def test_look_tells_what_a_table_is_and_keeps_its_layout(call, tmp_path):
    status, out, _ = call("look", "level.csv", "--save-layout", "l.json", "--json", "seen.json")
    assert status == 0 and "1 streams, 336 rows fit" in out and "place: series" in out
    seen = json.loads((tmp_path / "seen.json").read_text())
    assert seen["cadence"] == "1h" and len(seen["random_rows"]) == 6 and seen["is_whole"]
    status, _, err = call("scan", "level.csv", "--layout", "l.json", "--summary", "s.json")
    assert status == 0 and "streams by place" in err
    status, _, err = call("scan", "tickets.csv", "--layout", "l.json")
    assert status == 2 and "do not fit l.json" in err


def test_a_log_is_rolled_up_by_pattern_interval_and_attribute(call):
    status, out, err = call(
        "rollup", "calls.log", "--pattern", PATTERN, "--every", "10m", "--series", "verb", "--measure", "count",
        "--measure", "mean of ms", "--metric", "calls", "--out", "-",
    )  # fmt: skip
    assert status == 0, err
    assert table(out) == [
        ("metric=calls,verb=GET", "2026-08-01T00:00:00Z", "3"), ("metric=calls,verb=GET", "2026-08-01T00:10:00Z", "1"),
        ("metric=calls,verb=PUT", "2026-08-01T00:00:00Z", "1"), ("metric=calls_ms_mean,verb=GET", "2026-08-01T00:00:00Z", "30"),
        ("metric=calls_ms_mean,verb=GET", "2026-08-01T00:10:00Z", "20"), ("metric=calls_ms_mean,verb=PUT", "2026-08-01T00:00:00Z", "8"),
    ]  # fmt: skip


def test_what_is_rolled_up_can_be_scanned(call, tmp_path):
    (tmp_path / "events.csv").write_text(
        "time,v\n"
        + "".join(
            f"2026-08-{1 + i // 240:02d}T{i // 10 % 24:02d}:{i % 10 * 6:02d}:00Z,{i % 7}\n"
            for i in range(4_000)
        )
    )
    assert call("rollup", "events.csv", "--every", "1h", "--measure", "sum v", "--out", "r.csv")[0] == 0
    status, _, err = call("scan", "r.csv", "--findings", "f.csv")
    assert status == 0 and "every 1h" in err


def test_regrid_by_local_days_and_months(call):
    status, out, _ = call(
        "regrid", "level.csv", "--every", "1d", "--combine", "count", "--tz", "Europe/Dublin", "--out", "-"
    )
    rows = table(out)
    assert status == 0 and rows[0][1] == "2026-08-02T23:00:00Z" and {v for _, _, v in rows[1:-1]} == {"24"}
    assert (
        table(call("regrid", "level.csv", "--every", "month", "--combine", "count", "--out", "-")[1])[0][2]
        == "336"
    )


def test_derive_keeps_the_denominator(call):
    status, out, _ = call(
        "derive", "tickets.csv", "--value", "errors", "--value", "pages", "--formula", "1000 * [errors] / [pages]",
        "--by", "channel", "--metric", "per_mille", "--out", "-",
    )  # fmt: skip
    rows = table(out)
    assert status == 0 and ("metric=per_mille,channel=web", "2026-08-01T03:00:00Z", "7.5") in rows
    assert ("metric=per_mille denominator,channel=web", "2026-08-01T03:00:00Z", "400") in rows


def test_days_of_a_calendar_are_written_out_safe_for_spreadsheets(call):
    status, out, _ = call(
        "days", "days.ics", "--from", "2026-01-01", "--to", "2027-12-31", "--tz", "Europe/Dublin"
    )
    rows = list(csv.DictReader(io.StringIO(out)))
    assert status == 0 and [r["start"] for r in rows] == ["2026-08-14T23:00:00Z", "2027-08-14T23:00:00Z"]
    assert rows[0]["name"] == "'=Market"


def test_rows_left_out_by_a_condition_and_words_taken_as_missing(call, tmp_path):
    (tmp_path / "w.csv").write_text("time;v;ok\n2026-08-01;1,5;yes\n2026-08-02;closed;yes\n2026-08-03;9;no\n")
    status, out, err = call("look", "w.csv", "--keep", "ok = yes", "--missing", "closed", "--value", "v")
    assert status == 0 and "2 rows fit, 0 do not, 1 left out by --keep" in out, err


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["look", "nowhere.csv"], "there is no such file"), (["look", "calls.log"], "needs a pattern"),
        (["look", "level.csv", "--keep", "place ="], "ends where a value is expected"), (["look", "level.csv", "--keep", "x = 1"], "is not in the file"),
        (["look", "level.csv", "--delimiter", "ab"], "no single character"), (["look", "level.csv", "--decimal", ";"], "no decimal mark"),
        (["look", "level.csv", "--encoding", "klingon"], "is not known"), (["look", "level.csv", "--duplicates", "best"], "is no rule"),
        (["look", "level.csv", "--tz", "Mars"], "no known time zone"), (["look", "level.csv", "--time-form", "backwards"], "is not known"),
        (["scan", "level.csv", "--layout", "days.ics"], "no JSON"), (["scan", "level.csv", "--layout", "none.json"], "cannot be read"),
        (["rollup", "calls.log", "--pattern", "(", "--every", "5m", "--measure", "count", "--out", "-"], "cannot be read"),
        (["rollup", "calls.log", "--pattern", PATTERN, "--every", "soon", "--measure", "count", "--out", "-"], "is no duration"),
        (["rollup", "calls.log", "--pattern", PATTERN, "--every", "5m", "--measure", "best ms", "--out", "-"], "is no measure"),
        (["rollup", "calls.log", "--pattern", PATTERN, "--every", "5m", "--measure", "sum", "--out", "-"], "needs a column"),
        (["rollup", "calls.log", "--pattern", PATTERN, "--every", "5m", "--measure", "sum of size", "--out", "-"], "is not in the file"),
        (["regrid", "level.csv", "--every", "10m", "--out", "-"], "nothing finer is stored"), (["regrid", "level.csv", "--every", "1d", "--combine", "best", "--out", "-"], "must be one of"),
        (["derive", "tickets.csv", "--formula", "[errors", "--out", "-"], "cannot be read"), (["derive", "tickets.csv", "--formula", "[pages]", "--out", "-"], "no stream is [pages]"),
        (["days", "level.csv", "--from", "2026-01-01", "--to", "2026-12-31"], "no iCalendar"), (["days", "days.ics", "--from", "soon", "--to", "2026-12-31"], "is no time"),
        (["days", "days.ics", "--from", "1950-01-01", "--to", "2026-12-31"], "more than 20 years"), (["days", "none.ics", "--from", "2026-01-01", "--to", "2026-12-31"], "no such file"),
    ],
)  # fmt: skip
def test_what_cannot_be_ends_with_status_2_and_one_message(call, arguments, words):
    status, out, err = call(*arguments)
    assert status == 2 and words in err and out == "", err
    assert err.startswith("watchtide: ") and err.count("\n") == 1
