"""What is new, and only that: streams that are followed and tables that grow give what one replay of all of it gives."""

import csv
import doctest
import json

import pytest

import watchtide as wt
from tests.cli.test_watch import PLAN, as_found, lines
from tests.door.conftest import commanded, rows_of
from watchtide.door import watching

ROWS = [json.loads(line) for line in lines()]
CUTS = (0, 700, 811, 1_003, 1_204, len(ROWS))


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "plan.yaml").write_text(PLAN)
    write(tmp_path / "all.csv", ROWS)
    files = ("--mode", "replay", "--findings", "f.jsonl", "--points", "p.csv")
    commanded(tmp_path, "scan", "all.csv", "--plan", "plan.yaml", *files)
    return tmp_path


def write(path, rows):
    with open(path, "w", newline="") as file:
        writer = csv.DictWriter(file, list(ROWS[0]))
        writer.writeheader()
        writer.writerows(rows)


def replayed(folder):
    return [json.loads(line) for line in (folder / "f.jsonl").read_text().splitlines()]


def test_rows_in_memory_give_the_events_of_the_command(folder):
    (folder / "all.jsonl").write_text("".join(lines()))
    out = commanded(folder, "watch", "all.jsonl", "--plan", "plan.yaml", "--once").stdout
    theirs = [json.loads(line) for line in out.splitlines()]
    for source in (ROWS, lines(), folder / "all.jsonl"):
        assert list(wt.watch(source, folder / "plan.yaml", once=True)) == theirs
    assert as_found(theirs) == replayed(folder)


def test_a_state_is_kept_once_events_are_taken_and_gone_on_from(folder):
    state, plan = folder / "s", folder / "plan.yaml"
    seen = []
    for a, b in zip(CUTS, CUTS[1:], strict=False):
        seen += list(wt.watch(ROWS[a:b], plan, state=state))
    assert as_found(seen) == replayed(folder)
    # One who stops in the midst of events gets them again.
    fresh = folder / "other"
    events = wt.watch(ROWS, plan, state=fresh)
    next(events)
    events.close()
    assert not fresh.exists()


def test_what_has_come_is_judged_where_nothing_more_waits(folder):
    """A live source gives None for that; the rows are then not kept back until the next one comes."""
    whole = list(wt.watch(ROWS, folder / "plan.yaml"))
    last = max(i for i, row in enumerate(ROWS) if row["time"] <= whole[0]["raised"]) + 1
    given = iter([*ROWS[:last], None, *ROWS[last:]])
    taken = []

    def counted():
        for row in given:
            taken.append(row)
            yield row

    first = next(iter(wt.watch(counted(), folder / "plan.yaml")))
    # How many samples it has when it is reported depends on what has come by then.
    assert first["id"] == whole[0]["id"] and taken[-1] is None and len(taken) == last + 1


def test_a_line_that_cannot_be_used_is_named_and_left_out(folder):
    notes = []
    broken = [*ROWS[:100], {"time": "soon", "place": "lock", "level": 1}, *ROWS[100:]]
    assert list(wt.watch(broken, folder / "plan.yaml", tell=notes.append)) == list(
        wt.watch(ROWS, folder / "plan.yaml")
    )
    assert len(notes) == 1 and notes[0].startswith("line 101 is left out")


@pytest.mark.parametrize("is_whole", [True, False])
def test_a_table_that_grows_is_judged_once(folder, is_whole):
    """Whether each night's table holds all rows or the new ones; from the command and from Python."""
    found, points = [], []
    for i, (a, b) in enumerate(zip(CUTS, CUTS[1:], strict=False)):
        part = ROWS[:b] if is_whole else ROWS[a:b]
        if i % 2:
            write(folder / "night.csv", part)
            files = ("--findings", "new.jsonl", "--points", "new.csv")
            commanded(folder, "scan", "night.csv", "--plan", "plan.yaml", "--state", "s", *files)
        else:
            new = wt.scan(
                {k: [r[k] for r in part] for k in part[0]}, folder / "plan.yaml", state=folder / "s"
            )
            new.write_findings(folder / "new.jsonl")
            new.write_points(folder / "new.csv")
        found += [json.loads(line) for line in (folder / "new.jsonl").read_text().splitlines()]
        points += rows_of(folder / "new.csv")
    whole = {(r["series"], r["time"]): r for r in rows_of(folder / "p.csv")}
    assert len(points) == len(whole) == len({(r["series"], r["time"]) for r in points})
    for row in points:
        expected = whole[(row["series"], row["time"])]
        assert {k: v for k, v in row.items() if k != "in_finding"} == {
            k: v for k, v in expected.items() if k != "in_finding"
        }
    # One that was open at a cut is as it was then; all begin where the replay has them begin.
    key = ("series", "start", "kind", "direction", "raised")
    assert sorted(tuple(f[k] for k in key) for f in found) == sorted(
        tuple(f[k] for k in key) for f in replayed(folder)
    )


def test_precision_of_what_is_new_counts_what_is_new(folder):
    """Not the incidents of samples that an earlier call judged."""
    labels = {
        "series": ["", ""],
        "start": [ROWS[850]["time"], ROWS[1_210]["time"]],
        "end": [ROWS[851]["time"], ROWS[1_215]["time"]],
    }
    for a, b in ((0, 1_100), (1_100, len(ROWS))):
        new = wt.scan(
            {k: [r[k] for r in ROWS[a:b]] for k in ROWS[0]}, folder / "plan.yaml", state=folder / "s"
        )
    events = wt.score(new, labels).figures["events"]
    assert events["tp_labels"] + events["fn_labels"] == 1
    assert new.judged == len(ROWS) - 1_100


def test_nothing_new_is_nothing_found(folder):
    for _ in range(2):
        new = wt.scan(folder / "all.csv", folder / "plan.yaml", state=folder / "s")
    assert len(new.findings) == len(new.points) == new.judged == 0
    assert str(new) == "0 findings in 0 judged samples of 0 streams"
    new.write_points(folder / "none.parquet")
    new.write_findings(folder / "none.csv")
    assert rows_of(folder / "none.csv") == []


def test_what_cannot_be_gone_on_from_names_the_remedy(folder):
    (folder / "no").write_text("no state")
    for place, call in (
        ("state", lambda: wt.scan(folder / "all.csv", folder / "plan.yaml", state=folder / "no")),
        ("wait", lambda: list(wt.watch(ROWS, wait="long"))),
        ("denominator", lambda: list(wt.watch(ROWS, denominator="level"))),
    ):
        with pytest.raises(wt.InputError) as caught:
            call()
        assert caught.value.place == place and caught.value.remedy
    wt.scan(folder / "all.csv", folder / "plan.yaml", state=folder / "s")
    with pytest.raises(wt.InputError, match="another plan"):
        wt.scan(folder / "all.csv", {"flag": {"level": {"sigmas": 7}}}, state=folder / "s")
    beside = {
        "time": [r["time"] for r in ROWS],
        "level": [r["level"] for r in ROWS],
        "trips": [1] * len(ROWS),
    }
    with pytest.raises(wt.InputError, match="other columns"):
        wt.scan(beside, value="level", denominator="trips", state=folder / "t")


def test_examples():
    assert doctest.testmod(watching).failed == 0
