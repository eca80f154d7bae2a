"""Tables in all their dress through the command line, one scan each, against the plain one."""

import csv
import gzip
import json
import sys

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as papq
import pytest

from tests import world
from watchtide.cli.main import main

SPIKES = (200, 500)


@pytest.fixture(scope="module")
def plain(tmp_path_factory):
    folder = tmp_path_factory.mktemp("tables")
    text = world.csv_of({"quay": world.hourly(days=28, spikes=SPIKES), "pier": world.hourly(days=28, seed=1)})
    (folder / "level.csv").write_text(text)
    return folder


@pytest.fixture
def scan(monkeypatch, capsys, plain):
    def call(*arguments, expect=0):
        monkeypatch.chdir(plain)
        out = ["--findings", "f.csv", "--points", "p.csv", "--summary", "s.json"]
        monkeypatch.setattr(
            sys, "argv", ["watchtide", "scan", *map(str, arguments), "--level", "sigmas=6", *out]
        )
        with pytest.raises(SystemExit) as ended:
            main()
        told = capsys.readouterr().err
        assert (ended.value.code or 0) == expect, told
        if expect:
            return told
        with open("f.csv") as file:
            found = list(csv.DictReader(file))
        return found, json.loads((plain / "s.json").read_text()), told

    return call


def spans(found):
    return [(f["series"], f["start"], f["end"]) for f in found]


def test_parquet_jsonl_gzip_and_tabs_give_the_very_same_findings(scan, plain):
    found, summary, _ = scan("level.csv")
    table = pacsv.read_csv(plain / "level.csv")
    papq.write_table(table, plain / "level.parquet")
    (plain / "level.jsonl").write_text("".join(json.dumps(r, default=str) + "\n" for r in table.to_pylist()))
    (plain / "level.csv.gz").write_bytes(gzip.compress((plain / "level.csv").read_bytes()))
    (plain / "level.tsv").write_text((plain / "level.csv").read_text().replace(",", "\t"))
    for name in ("level.parquet", "level.csv.gz", "level.tsv"):
        other, again, _ = scan(name)
        assert found == other and again["streams"] == summary["streams"], name
    other, _, _ = scan("level.jsonl")
    assert spans(other) == spans(found)


def test_rows_in_any_order_give_the_same_points(scan, plain):
    scan("level.csv")
    points = (plain / "p.csv").read_bytes()
    lines = (plain / "level.csv").read_text().splitlines()
    rng = np.random.default_rng(0)
    body = [lines[1:][i] for i in rng.permutation(len(lines) - 1)]
    first = [next(x for x in body if ",quay," in x), next(x for x in body if ",pier," in x)]
    body = first + [x for x in body if x not in first]
    (plain / "shuffled.csv").write_text("\n".join([lines[0], *body]) + "\n")
    scan("shuffled.csv")
    assert (plain / "p.csv").read_bytes() == points


def test_a_coarser_grid_sums_or_averages(scan, plain):
    _, summary, _ = scan("level.csv", "--every", "1d", "--combine", "max", "--series", "place")
    stream = summary["streams"]["place=quay"]
    assert stream["step_s"] == 86_400 and stream["samples"] == 28
    with (plain / "p.csv").open() as file:
        first = next(csv.DictReader(file))
    assert float(first["value"]) == max(world.hourly(days=28, spikes=SPIKES)[:24])


def test_several_values_make_streams_named_by_their_metric(scan, plain):
    y, z = world.hourly(days=28, spikes=(300,)), world.hourly(days=28, seed=9)
    rows = ["time,depth,wind", *(f"{s},{a},{b}" for s, a, b in zip(world.stamps(len(y)), y, z, strict=False))]
    (plain / "two.csv").write_text("\n".join(rows) + "\n")
    found, summary, _ = scan("two.csv", "--value", "depth", "--value", "wind")
    assert sorted(summary["streams"]) == ["metric=depth", "metric=wind"]
    assert [f["series"] for f in found] == ["metric=depth"]


def test_a_label_column_is_reported_and_used_only_when_named(scan, plain):
    y = world.hourly(days=28, spikes=(300,))
    rows = [
        f"{s},{v},{'true' if 300 <= i < 303 else 'false'}"
        for i, (s, v) in enumerate(zip(world.stamps(len(y)), y, strict=False))
    ]
    (plain / "marked.csv").write_text("time,depth,is_anomaly\n" + "\n".join(rows) + "\n")
    _, summary, told = scan("marked.csv")
    assert "column is_anomaly looks like known anomalies; --label uses it" in told
    assert not any("left out" in n for n in summary["streams"][""]["notes"])
    _, summary, _ = scan("marked.csv", "--label", "is_anomaly")
    assert "3 labelled samples are left out of training" in summary["streams"][""]["notes"]


def test_local_stamps_follow_the_zone_through_a_clock_change(scan, plain):
    # Ten days around 25 October 2026 in Dublin: 241 hours, one of them written twice.
    utc = np.arange(
        np.datetime64("2026-10-19T23:00"), np.datetime64("2026-10-30T00:00"), np.timedelta64(1, "h")
    )
    offset = np.where(utc < np.datetime64("2026-10-25T01:00"), 1, 0)
    local = utc + offset.astype("timedelta64[h]")
    hour = (local - local.astype("datetime64[D]")).astype(int)
    y = 50 + 20 * (hour == 8) + np.random.default_rng(0).normal(0, 0.5, len(utc))
    (plain / "local.csv").write_text(
        "stamp,taps\n"
        + "".join(f"{str(s).replace('T', ' ')},{v:.2f}\n" for s, v in zip(local, y, strict=True))
    )
    found, summary, told = scan("local.csv", "--tz", "Europe/Dublin")
    stream = summary["streams"][""]
    assert stream["samples"] == len(utc) and stream["missing"] == 0
    assert stream["from"] == "2026-10-19T23:00:00Z" and found == []
    assert "fall in the hour that clocks repeat" in told


def test_broken_rows_stop_the_scan_unless_told_otherwise(scan, plain):
    (plain / "broken.csv").write_text(
        (plain / "level.csv").read_text() + "2026-09-01T00:00:00Z,quay,closed\nnever,quay,3\n"
    )
    told = scan("broken.csv", expect=2)
    assert "line 1346, column level: 'closed' is not a number (2 broken rows in all)" in told
    found, _, told = scan("broken.csv", "--skip-broken")
    assert len(found) == len(SPIKES) and "left out: 1 rows" in told


def test_training_shares_split_the_figures(scan, plain):
    _, summary, _ = scan("level.csv", "--train-share", "0.5")
    stream = summary["streams"]["place=quay"]
    assert stream["training"]["samples"] == pytest.approx(336, abs=2)
    assert stream["training"]["samples"] + stream["after"]["samples"] == 672
    assert stream["training"]["findings"] == 1 and stream["after"]["findings"] == 1


def test_one_side_only_flags_that_side(scan):
    found, summary, _ = scan("level.csv", "--side", "below")
    assert found == [] and summary["streams"]["place=quay"]["level"]["above"] is None


def test_points_as_parquet_hold_the_same_columns(monkeypatch, plain, capsys):
    monkeypatch.chdir(plain)
    monkeypatch.setattr(
        sys, "argv", ["watchtide", "scan", "level.csv", "--points", "p.parquet", "--findings", "f.jsonl"]
    )
    with pytest.raises(SystemExit):
        main()
    table = papq.read_table(plain / "p.parquet")
    assert table.column_names[:4] == ["series", "time", "value", "expected"] and table.num_rows == 2 * 672
    assert table.schema.field("score").type == pa.float64()
    rows = [json.loads(line) for line in (plain / "f.jsonl").read_text().splitlines()]
    assert all({"series", "start", "end", "kind"} <= set(r) for r in rows)
