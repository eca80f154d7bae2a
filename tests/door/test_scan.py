"""From Python: the same findings, points and summary as the command writes, whatever kind of table is handed in."""

import contextlib
import doctest
import json
import os
import pty
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas
import polars
import pyarrow as pa
import pyarrow.parquet as papq
import pytest

import watchtide as wt
from tests import world
from tests.door.conftest import commanded
from watchtide.plan import model

PLAN = {"flag": {"level": {"sigmas": 6}}}


@pytest.fixture(scope="module")
def text():
    return world.csv_of({"quay": world.hourly(spikes=(200, 500)), "pier": world.hourly(seed=1)})


@pytest.fixture
def folder(tmp_path, text):
    (tmp_path / "level.csv").write_text(text)
    (tmp_path / "plan.yaml").write_text("flag: {level: {sigmas: 6}}\n")
    return tmp_path


@pytest.mark.parametrize("mode", ["fit", "replay"])
def test_the_files_are_those_of_the_command_to_the_last_byte(folder, mode):
    outputs = ("--points", "p.csv", "--findings", "f.csv", "--summary", "s.json")
    printed = commanded(folder, "scan", "level.csv", "--plan", "plan.yaml", "--mode", mode, *outputs).stderr
    found = wt.scan(folder / "level.csv", folder / "plan.yaml", mode=mode)
    found.write_findings(folder / "f2.csv")
    found.write_points(folder / "p2.csv")
    found.write_summary(folder / "s2.json")
    for name in ("f", "p"):
        assert (folder / f"{name}2.csv").read_bytes() == (folder / f"{name}.csv").read_bytes()
    assert (folder / "s2.json").read_bytes() == (folder / "s.json").read_bytes()
    assert str(found) in printed and len(found.findings) >= 2


def tables(folder):
    """The same rows by whoever makes tables."""
    from pyarrow import csv

    arrow = csv.read_csv(
        folder / "level.csv", convert_options=csv.ConvertOptions(timestamp_parsers=[csv.ISO8601])
    )
    papq.write_table(arrow, folder / "level.parquet")
    yield "arrow", arrow
    yield "batches", pa.RecordBatchReader.from_batches(arrow.schema, arrow.to_batches(max_chunksize=100))
    yield "parquet", str(folder / "level.parquet")
    yield "columns", {name: arrow[name].to_pylist() for name in arrow.column_names}
    yield "bytes", (folder / "level.csv").read_bytes()


def test_every_kind_of_table_gives_the_same(folder):
    whole = wt.scan(folder / "level.csv", PLAN).findings.to_pylist()
    assert len(whole) == 2
    for name, table in tables(folder):
        assert wt.scan(table, PLAN).findings.to_pylist() == whole, name


def test_frames_of_other_libraries_go_in_and_come_out(folder):
    whole = wt.scan(folder / "level.csv", PLAN)
    frame = pandas.read_csv(folder / "level.csv", parse_dates=["time"])
    odd = frame[frame["place"] == "quay"]
    assert (
        len(wt.scan(frame, PLAN).findings)
        == 2
        == len(wt.scan(polars.read_csv(folder / "level.csv"), PLAN).findings)
    )
    # Rows that were chosen bring their old numbers along as an index, which is no column of the table.
    assert wt.scan(odd, PLAN).series == ("place=quay",)
    assert list(whole.findings.to_pandas()["score"]) == list(whole.findings.to_polars()["score"])
    assert pandas.api.types.is_datetime64_any_dtype(whole.findings.to_pandas()["start"])


def test_results_are_typed_and_missing_figures_are_null(folder):
    found = wt.scan(folder / "level.csv", PLAN)
    points = found.points
    assert points.arrow.schema.field("time").type == pa.timestamp("ns", "UTC")
    assert points.arrow.schema.field("in_finding").type == pa.bool_()
    assert len(points) == 2 * world.hourly().size
    assert found.findings.arrow["raised"].null_count == len(found.findings)
    assert pa.table(found.findings).equals(found.findings.arrow)
    none = wt.scan(folder / "level.csv", {"flag": {"level": {"sigmas": 60}}, "shifts": {"of": "none"}})
    assert len(none.findings) == 0 and none.findings.columns == found.findings.columns
    assert "<table>" in found._repr_html_() and f"and {len(points) - 20:,} more rows" in points._repr_html_()


def test_markup_in_a_key_is_no_markup_on_the_page():
    y = world.hourly(spikes=(300,))
    rows = {
        "time": [f"{t}" for t in np.datetime64("2026-06-01T00:00:00") + 3600 * np.arange(len(y))],
        "value": y,
        "place": ["<script>"] * len(y),
    }
    found = wt.scan(rows, PLAN, series="place")
    assert len(found.findings) == 1 and "<script>" not in found._repr_html_()


def test_known_spans_leave_training_from_a_file_or_a_table(folder):
    labels = {
        "series": ["place=quay"],
        "start": ["2026-08-09T00:00:00Z"],
        "end": ["2026-08-10T00:00:00Z"],
        "verdict": ["incident"],
    }
    (folder / "labels.csv").write_text(
        "series,start,end,verdict\nplace=quay,2026-08-09T00:00:00Z,2026-08-10T00:00:00Z,incident\n"
    )
    by_table = wt.scan(folder / "level.csv", PLAN, labels).summary
    by_file = wt.scan(folder / "level.csv", PLAN, folder / "labels.csv").summary
    assert by_table == by_file != wt.scan(folder / "level.csv", PLAN).summary


def test_several_processes_and_progress_change_nothing(folder):
    steps = []
    one = wt.scan(folder / "level.csv", PLAN)
    two = wt.scan(
        folder / "level.csv", PLAN, jobs=2, progress=lambda done, total: steps.append((done, total))
    )
    assert steps[-1] == (2, 2)
    assert one.points.arrow.equals(two.points.arrow)


def test_models_are_kept_and_judge_later_data_by_the_command(folder):
    wt.scan(folder / "level.csv", PLAN).save(folder / "m.zip")
    commanded(folder, "apply", "m.zip", "level.csv", "--findings", "a.csv")
    assert (folder / "a.csv").read_text().count("\n") == 3
    with pytest.raises(wt.InputError, match="scan with mode='fit'"):
        wt.scan(folder / "level.csv", PLAN, mode="replay").save(folder / "n.zip")


@pytest.mark.parametrize(
    ("change", "kind", "words"),
    [
        ({"table": 3}, wt.InputError, "table: int is no table"),
        ({"table": "none.csv"}, wt.InputError, "there is no file none.csv"),
        (
            {"table": {"time": ["2026-06-01"], "value": [object()]}},
            wt.InputError,
            "cannot be read as a table",
        ),
        ({"table": {"time": ["soon"], "value": [1.0]}}, wt.TableError, "time"),
        ({"plan": {"flag": {"level": {"sigmas": -1}}}}, wt.PlanError, "flag.level"),
        ({"plan": "none.yaml"}, wt.InputError, "plan: none.yaml cannot be read"),
        ({"mode": "live"}, wt.InputError, "take 'fit' or 'replay'"),
        ({"jobs": 0}, wt.InputError, "take 1 or more"),
        ({"tz": "Nowhere"}, ValueError, "Nowhere"),
        ({"value": "depth"}, wt.TableError, "depth"),
        ({"labels": {"start": ["soon"]}}, wt.TableError, "labels.csv"),
    ],
)
def test_what_cannot_be_used_is_named_with_its_remedy(folder, change, kind, words):
    given = {"table": folder / "level.csv", "plan": PLAN} | change
    with pytest.raises(kind, match=words.replace("(", r"\(")) as raised:
        wt.scan(given.pop("table"), **given)
    assert isinstance(raised.value, ValueError)
    # A plan's mistakes state what the value must be.
    assert kind is wt.PlanError or ";" in str(raised.value)


def test_the_examples_of_the_docstrings_run():
    from watchtide.door import scanning

    assert doctest.testmod(scanning).attempted >= 4 and doctest.testmod(scanning).failed == 0


def test_importing_it_is_quick_and_says_what_there_is():
    code = "import time; a = time.perf_counter(); import watchtide as wt; print(time.perf_counter() - a, sorted(wt.__all__) == sorted(n for n in dir(wt) if n in wt.__all__))"
    took, is_whole = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout.split()
    assert float(took) < 0.6 and is_whole == "True"
    with pytest.raises(AttributeError):
        wt.nothing  # noqa: B018


def test_a_plan_is_typed_and_goes_to_yaml_and_back():
    plan = wt.Plan()
    from watchtide.plan import dump, load

    assert load(dump(plan)) == plan
    assert json.loads(json.dumps(plan.as_data())) == plan.as_data()


BARS = """
import watchtide as wt
wt.scan("level.csv", {plan!r}, progress=True)
"""


def test_a_bar_is_drawn_where_it_is_wanted(folder):
    """In a real terminal: it goes from the first stream to the last, and the cursor is there again afterwards."""
    for code, is_drawn in ((BARS, True), (BARS.replace(", progress=True", ""), False)):
        ours, theirs = pty.openpty()
        done = subprocess.Popen(
            [sys.executable, "-c", code.format(plan=PLAN)],
            cwd=folder,
            stderr=theirs,
            env={**os.environ, "TERM": "xterm", "COLUMNS": "100"},
        )
        os.close(theirs)
        drawn = b""
        with contextlib.suppress(OSError):
            while piece := os.read(ours, 65_536):
                drawn += piece
        assert done.wait() == 0
        os.close(ours)
        assert (b"scanned" in drawn and b"2/2" in drawn) == is_drawn, drawn
        assert drawn.count(b"\x1b[?25l") == drawn.count(b"\x1b[?25h") == int(is_drawn)


LONG = """
import sys
import numpy as np
import pandas as pd
import watchtide as wt
n = 24 * 120
at = pd.date_range("2026-01-01", periods=n, freq="h", tz="UTC")
rng = np.random.default_rng(1)
rows = [pd.DataFrame({"time": at, "place": f"p{k}", "level": rng.normal(10, 1, n)}) for k in range(60)]
def tell(done, total):
    print("at", done, file=sys.stderr, flush=True)
wt.scan(pd.concat(rows), {"baseline": {"kind": "harmonic", "seasons": ["24h"]}}, jobs=2, progress=tell)
"""


def test_an_interrupted_scan_leaves_nothing_behind(folder):
    own = subprocess.Popen(
        [sys.executable, "-c", LONG], cwd=folder, stderr=subprocess.PIPE, text=True, start_new_session=True
    )
    before = sorted(p.name for p in folder.iterdir())
    for line in own.stderr:
        if line.startswith("at") and int(line.split()[1]) >= 3:
            break
    children = subprocess.run(["pgrep", "-P", str(own.pid)], capture_output=True, text=True).stdout.split()
    assert len(children) >= 2
    # As a notebook interrupts: the process itself alone.
    own.send_signal(signal.SIGINT)
    assert own.wait(timeout=30) != 0 and "KeyboardInterrupt" in own.stderr.read()
    deadline = time.monotonic() + 20
    while alive := [c for c in children if Path(f"/proc/{c}").exists()]:
        assert time.monotonic() < deadline, alive
        time.sleep(0.1)
    assert sorted(p.name for p in folder.iterdir()) == before


def test_a_plan_comes_from_yaml_and_goes_to_it(folder):
    assert doctest.testmod(model).attempted >= 5 and doctest.testmod(model).failed == 0
    plan = wt.Plan.from_yaml((folder / "plan.yaml").read_text())
    assert plan.flag.level == {"sigmas": 6} and wt.Plan.from_yaml(plan.to_yaml()) == plan
    assert wt.Plan.from_data(plan.as_data()) == plan
    by_file, by_plan = (
        wt.scan(folder / "level.csv", folder / "plan.yaml"),
        wt.scan(folder / "level.csv", plan),
    )
    assert by_file.findings.to_pylist() == by_plan.findings.to_pylist()
    with pytest.raises(wt.PlanError, match="line 2, flag.level: level sigmas must be above 0"):
        wt.Plan.from_yaml("flag:\n  level: {sigmas: -1}\n")
