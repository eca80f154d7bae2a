"""The whole of `./run serve` under load while each of its processes is killed: nothing answered is lost or doubled."""

from pathlib import Path

import pytest
from bench import faults

from watchtide.engine.many import run


@pytest.mark.whole
def test_what_all_processes_import_is_in_memory_once():
    with faults.folder() as place, faults.Served(place) as served:
        resident = served.resident()
        threads = [t.read_text().strip() for t in Path(f"/proc/{served.process.pid}/task").glob("*/comm")]
        own = {name: size for name, size in served.own_memory().items() if name != "MariaDB"}
    assert len(own) == len(faults.VICTIMS) - 1
    assert len([t for t in threads if t != run.ALLOCATOR_THREAD]) == 1, (
        "a lock held by another stays held in what is forked"
    )
    # Of 170 MB that each has in memory some 35 are its own.
    assert max(own.values()) < resident / 3, (own, resident)


@pytest.mark.whole
def test_nothing_that_was_answered_is_lost_or_doubled_when_anything_is_killed():
    with faults.folder() as place:
        got = faults.measure(place, kills=9, a_second=500)
    assert got["kills"] == 9 and got["samples answered"] > 500 and got["jobs handed in"] >= 1, got
    for name in (
        "samples lost",
        "samples wrong",
        "samples doubled",
        "jobs lost",
        "jobs not ended",
        "batches quarantined",
    ):
        assert got[name] == 0, got
    assert not any("answers: 500" in name for name in got), got
    # Each of them was killed, and said so; the whole went on.
    for name in faults.VICTIMS:
        assert got[f"kills of the {name}"] >= 1, got
    assert "MariaDB ended and is started again" in got["log"]
