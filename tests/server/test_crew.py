"""Whole histories judged by several processes: the same rows as by one, in whichever order they end, and whoever is lost."""

import os
import signal

import pytest

from tests.server.conftest import run_jobs
from tests.server.test_lookouts import history, judge, made, push
from watchtide.plan import load
from watchtide.server.lookouts import crew, judging, services, tasks
from watchtide.server.lookouts.crew import Crew
from watchtide.server.lookouts.models import Lookout, Watched

FIELDS = (
    "stream__key",
    "state",
    "needs",
    "why",
    "judged_through_ns",
    "next_ns",
    "judged",
    "late",
    "findings",
)
FIELDS += ("upkeep",)


@pytest.fixture
def watched(api, sender, settings, monkeypatch):
    """A lookout on streams with a history, and one with too little of it."""
    for i in range(5):
        times, values = history(24 * (20 + i), seed=i)
        push(sender, times, values, place=f"weir {i}")
    push(sender, times[:3], values[:3], place="young")
    settings.SCAN_PROCESSES = 2
    monkeypatch.setattr(tasks, "FEWEST", 2)
    return made(api)


def rows_of(pk):
    return list(Watched.objects.filter(lookout=pk).order_by("stream").values(*FIELDS))


def test_many_processes_say_what_one_says(watched, monkeypatch):
    used = []
    monkeypatch.setattr(
        Crew, "judge", lambda self, rows, rules, real=Crew.judge: used.append(1) or real(self, rows, rules)
    )
    judge()
    together = rows_of(watched)
    assert used and tasks.crew._pool is None, "the processes end when nothing is left"
    assert any(row["findings"] for row in together)
    monkeypatch.setattr(tasks, "FEWEST", 1_000)
    lookout = Lookout.objects.get(pk=watched)
    services.begin_anew(lookout)
    tasks.glances.clear()
    services.request(lookout)
    run_jobs()
    assert len(used) == 1 and rows_of(watched) == together


def test_a_lost_process_loses_no_stream(watched, monkeypatch):
    monkeypatch.setattr(crew, "AHEAD", 1)
    lookout = Lookout.objects.get(pk=watched)
    rules = judging.Rules.now(load(lookout.plan_version.text))
    rows = list(Watched.objects.select_related("stream", "lookout").filter(lookout=lookout).order_by("pk"))
    alone = [judging.judge(row, rules).changes for row in rows]
    own = Crew()
    found = []
    for row, judged in own.judge(rows, rules):
        if not found:
            for process in list(own._pool._processes):
                os.kill(process, signal.SIGKILL)
        found.append((row.pk, judged.changes))
    own.dismiss()
    assert [pk for pk, _ in found] == [row.pk for row in rows]
    timeless = {"newest_at", "since"}
    assert [{k: v for k, v in c.items() if k not in timeless} for _, c in found] == [
        {k: v for k, v in c.items() if k not in timeless} for c in alone
    ]
