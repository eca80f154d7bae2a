"""The command line as a user runs it: as processes, on files."""

import csv
import json
import subprocess
import sys

import numpy as np
import pytest

from tests import world
from watchtide.cli.main import main

SPIKES = (200, 500, 777)


def run(*arguments, cwd=None, stdin=None):
    command = [sys.executable, "-m", "watchtide.cli.main", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, cwd=cwd, input=stdin)


@pytest.fixture
def here(monkeypatch, capsys):
    """The same command within this process, where a process of its own shows nothing more."""

    def call(*arguments, cwd):
        monkeypatch.chdir(cwd)
        monkeypatch.setattr(sys, "argv", ["watchtide", *map(str, arguments)])
        with pytest.raises(SystemExit) as ended:
            main()
        out, err = capsys.readouterr()
        return subprocess.CompletedProcess(arguments, ended.value.code or 0, out, err)

    return call


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """A folder with a scanned file: two streams, three spikes in one, four labels."""
    folder = tmp_path_factory.mktemp("cli")
    (folder / "level.csv").write_text(
        world.csv_of({"quay": world.hourly(spikes=SPIKES), "pier": world.hourly(seed=1)})
    )
    rows = [("place=quay", at, at + 2, "incident") for at in SPIKES] + [("place=pier", 300, 305, "incident")]
    (folder / "labels.csv").write_text(world.labels_csv(rows))
    done = run(
        "scan",
        "level.csv",
        "--level",
        "sigmas=6",
        "--findings",
        "f.csv",
        "--points",
        "p.csv",
        "--summary",
        "s.json",
        cwd=folder,
    )
    assert done.returncode == 0, done.stderr
    assert "time time; value level; streams by place" in done.stderr
    return folder


def rows_of(path):
    with open(path) as file:
        return list(csv.DictReader(file))


@pytest.mark.parametrize("jobs", [1, 2])
def test_findings_alone_are_those_that_come_with_points(folder, jobs, here):
    # Nothing but findings is asked for and no stream leans on another: little comes back from the workers.
    here("scan", "level.csv", "--level", "sigmas=6", "--jobs", jobs, "--findings", f"a{jobs}.csv", cwd=folder)
    assert (folder / f"a{jobs}.csv").read_text() == (folder / "f.csv").read_text()
    told = here("scan", "level.csv", "--level", "sigmas=6", "--jobs", jobs, cwd=folder)
    assert told.stdout == (folder / "f.csv").read_text() and "judged samples of 2 streams" in told.stderr


def test_scan_finds_what_was_planted_and_says_what_it_took(folder):
    found = rows_of(folder / "f.csv")
    at = world.stamps(1000)
    assert [(f["series"], f["start"], f["end"], f["direction"]) for f in found] == [
        ("place=quay", at[i][:-1] + ":00Z" if len(at[i]) == 17 else at[i], at[i + 2], "above") for i in SPIKES
    ]  # fmt: skip
    summary = json.loads((folder / "s.json").read_text())
    quay = summary["streams"]["place=quay"]
    assert quay["seasons"][0]["period_s"] == 86400 and quay["level"]["above"] == 6
    assert summary["findings"] == 3 and quay["resolved"]["baseline"]["kind"] == "harmonic"


def test_points_agree_with_one_another(folder):
    points = rows_of(folder / "p.csv")
    assert len(points) == 2 * 42 * 24
    for p in points[::37]:
        value, expected, spread = float(p["value"]), float(p["expected"]), float(p["spread"])
        assert float(p["residual"]) == value - expected
        assert float(p["score"]) >= abs(value - expected) / spread * (1 - 1e-12)
        if p["window"] == "1":
            assert float(p["score"]) == pytest.approx(abs(value - expected) / spread, rel=1e-12)
        assert float(p["upper"]) == pytest.approx(expected + 6 * spread)
        assert p["flag"] == (
            "above" if value >= float(p["upper"]) else "below" if value <= float(p["lower"]) else ""
        )


def test_score_counts_and_fails_a_build_below_a_bound(folder, here):
    arguments = (
        "score",
        "--findings",
        "f.csv",
        "--labels",
        "labels.csv",
        "--points",
        "p.csv",
        "--summary",
        "s.json",
    )
    done = here(*arguments, "--json", "o.json", "--min-precision", "0.9", "--min-recall", "0.75", cwd=folder)
    assert done.returncode == 0, done.stderr
    figures = json.loads((folder / "o.json").read_text())
    e = figures["events"]
    assert (e["tp_findings"], e["fp_findings"], e["tp_labels"], e["fn_labels"]) == (3, 0, 3, 1)
    assert e["precision_ci"] == pytest.approx([0.4385, 1.0], abs=1e-4)
    assert figures["points"]["tp"] == 9 and figures["points"]["fn"] == 6
    below = here(*arguments, "--min-precision-lower", "0.9", cwd=folder)
    assert below.returncode == 1 and "precision lower is 0.4385, below the bound 0.9" in below.stderr
    unmet = here(*arguments, "--from", "2026-09-10", "--min-precision", "0.1", cwd=folder)
    assert unmet.returncode == 1 and "cannot be computed" in unmet.stderr


def test_known_labels_stay_out_of_training_and_are_found_all_the_same(folder, here):
    done = here(
        "scan",
        "level.csv",
        "--known",
        "labels.csv",
        "--level",
        "sigmas=6",
        "--summary",
        "k.json",
        "--findings",
        "k.csv",
        cwd=folder,
    )
    assert done.returncode == 0, done.stderr
    notes = json.loads((folder / "k.json").read_text())["streams"]["place=quay"]["notes"]
    assert "9 labelled samples are left out of training" in notes
    assert len(rows_of(folder / "k.csv")) == 3


def test_training_until_a_time_never_looks_behind_it(folder, here):
    text = (folder / "level.csv").read_text().splitlines()
    wild = [line if i < 1 + 2 * 24 * 28 else line.rsplit(",", 1)[0] + ",99999" for i, line in enumerate(text)]
    (folder / "wild.csv").write_text("\n".join(wild) + "\n")
    until = ("--train-until", "2026-08-31T00:00:00Z", "--level", "per-week=0.1")
    for name in ("level", "wild"):
        done = here("scan", f"{name}.csv", *until, "--points", f"{name}-p.csv", cwd=folder)
        assert done.returncode == 0, done.stderr
    one, other = rows_of(folder / "level-p.csv"), rows_of(folder / "wild-p.csv")
    same = ("expected", "spread", "lower", "upper")
    assert all(a[k] == b[k] for a, b in zip(one, other, strict=True) for k in same)


def test_the_resolved_plan_makes_the_scan_again(folder, here):
    plan = "baseline: {kind: slot, seasons: [24h]}\nflag: {level: {sigmas: 6}, side: above}\ngroup: {need: 2, of: 3}\n"
    (folder / "plan.yaml").write_text(plan)
    assert here("plan", "check", "plan.yaml", cwd=folder).returncode == 0
    first = ("--plan", "plan.yaml", "--findings", "a.csv", "--points", "a-p.csv", "--summary", "a.json")
    assert here("scan", "level.csv", *first, cwd=folder).returncode == 0
    told = json.loads((folder / "a.json").read_text())
    (folder / "again.yaml").write_text(json.dumps(told["plan"]))
    again = ("--plan", "again.yaml", "--findings", "b.csv", "--points", "b-p.csv", "--jobs", "2")
    assert here("scan", "level.csv", *again, cwd=folder).returncode == 0
    for name in (".csv", "-p.csv"):
        assert (folder / f"a{name}").read_bytes() == (folder / f"b{name}").read_bytes()


def test_decompose_adds_up_and_shifts_find_the_step(folder, here):
    assert (
        here("decompose", "level.csv", "--season", "24h", "--robust", "--out", "d.csv", cwd=folder).returncode
        == 0
    )
    for row in rows_of(folder / "d.csv")[::101]:
        total = float(row["trend"]) + float(row["season_1"]) + float(row["remainder"])
        assert total == pytest.approx(float(row["observed"]), abs=1e-9)
    y = world.hourly()
    y[600:] += 6
    (folder / "step.csv").write_text(world.csv_of({"quay": y}))
    assert here("shifts", "step.csv", "--out", "sh.csv", cwd=folder).returncode == 0
    [shift] = rows_of(folder / "sh.csv")
    assert (
        shift["start"] == shift["end"]
        and shift["direction"] == "up"
        and float(shift["size"]) == pytest.approx(6, abs=0.5)
    )
    assert np.datetime64(shift["start"][:-1]) == world.START + np.timedelta64(600, "h")


def test_standard_input_and_output(folder):
    done = run("scan", "-", "--level", "sigmas=6", stdin=(folder / "level.csv").read_text())
    assert (
        done.returncode == 0 and done.stdout.startswith("series,start") and len(done.stdout.splitlines()) == 4
    )


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("scan", "gone.csv"), "gone.csv: there is no such file"),
        (("scan", "broken.csv"), "broken.csv, line 3, column level: 'x' is not a number (1 broken row in all)"),
        (("scan", "level.csv", "--level", "sigmas=-1"), "must be above 0"),
        (("scan", "level.csv", "--level", "four"), "write for example sigmas=4"),
        (("scan", "level.csv", "--tz", "Nowhere/Land"), "no known time zone"),
        (("scan", "level.csv", "--value", "tops"), "its columns are time, place, level"),
        (("scan", "level.csv", "--train-share", "0.5", "--train-until", "2026-09-01"), "give one of the two"),
        (("scan", "level.csv", "--every", "soon"), "no cadence"),
        (("scan", "level.csv", "--plan", "bad.yaml"), "bad.yaml, line 2, flag.levle: is not a known key; did you mean level?"),
        (("scan", "level.csv", "--mode", "replay", "--save", "m"), "a replay has many"),
        (("decompose", "level.csv", "--season", "30d", "--out", "x.csv"), "432 more samples are needed"),
        (("decompose", "level.csv", "--season", "12.42h", "--out", "x.csv"), "not a whole number"),
        (("score", "--findings", "f.csv", "--labels", "bad-labels.csv"), "bad-labels.csv, line 2, column verdict"),
        (("score", "--findings", "f.csv", "--labels", "labels.csv", "--kinds", "spike"), "must be among outlier, shift, discord"),
        (("score", "--findings", "f.csv", "--labels", "labels.csv", "--tolerance", "some"), "no duration"),
        (("scan", "level.csv", "--jobs", "0"), "--jobs"),
    ],
)  # fmt: skip
def test_bad_input_ends_with_status_2_and_names_place_and_remedy(folder, here, arguments, words):
    (folder / "broken.csv").write_text(
        "time,place,level\n2026-08-01T00:00Z,a,1\n2026-08-01T01:00Z,a,x\n2026-08-01T02:00Z,a,2\n"
    )
    (folder / "bad.yaml").write_text("flag:\n  levle: {sigmas: 4}\n")
    (folder / "bad-labels.csv").write_text("start,verdict\n2026-08-01,maybe\n")
    done = here(*arguments, cwd=folder)
    assert done.returncode == 2 and words in done.stderr, done.stderr
    assert "Traceback" not in done.stderr and not (folder / "x.csv").exists()


@pytest.mark.parametrize(
    "rows", [["3"] * 60, ["3"], [""] * 40], ids=["constant", "one sample", "all missing"]
)
def test_legal_oddities_have_no_findings_and_a_note(tmp_path, here, rows):
    text = "time,level\n" + "".join(f"{s},{v}\n" for s, v in zip(world.stamps(60), rows, strict=False))
    (tmp_path / "odd.csv").write_text(text)
    done = here(
        "scan", "odd.csv", "--value", "level", "--findings", "f.csv", "--summary", "s.json", cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    assert rows_of(tmp_path / "f.csv") == []
    assert json.loads((tmp_path / "s.json").read_text())["streams"][""]["notes"]


def test_help_imports_no_numerics():
    code = "import sys, watchtide.cli.main; print([m for m in ('numpy', 'pyarrow', 'numba', 'django') if m in sys.modules])"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip() == "[]"
