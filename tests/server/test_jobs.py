"""Jobs: lease and fence, cancel, and the take-over after a worker was killed."""

import os
import signal
import subprocess
import sys
import time
from datetime import timedelta

import pytest
from django.db import connection
from django.utils import timezone
from django_tasks_db.models import DBTaskResult

from watchtide.server import moments
from watchtide.server.jobs import running, services, tasks
from watchtide.server.jobs.models import Event, Job


@pytest.fixture
def job(db):
    return Job.objects.create(kind="fold", lane="bulk", title="a job", arguments={"streams": []})


def test_a_job_has_one_owner_at_a_time(job):
    first = services.claim(job.pk)
    assert first is not None and services.claim(job.pk) is None
    Job.objects.filter(pk=job.pk).update(lease_until=timezone.now() - timedelta(seconds=1))
    second = services.claim(job.pk)
    assert second is not None and second.fence == first.fence + 1
    with pytest.raises(services.LeaseLost), first.write():
        raise AssertionError("the first owner must not get to write")
    with pytest.raises(services.LeaseLost):
        first.progress(1, 2)
    with second.write():
        pass


def test_a_finished_job_is_not_done_again(job):
    services.run(job.pk)
    job.refresh_from_db()
    assert (job.state, job.attempt) == ("done", 1)
    services.run(job.pk)
    job.refresh_from_db()
    assert job.attempt == 1


def test_cancel_ends_a_queued_job_at_once_and_asks_a_running_one(job):
    services.cancel(job)
    job.refresh_from_db()
    assert job.state == "cancelled"
    other = Job.objects.create(kind="fold", lane="bulk", title="b", arguments={"streams": []})
    services.claim(other.pk)
    services.cancel(other)
    other.refresh_from_db()
    assert other.state == "running" and other.is_cancel_asked


def test_a_failure_is_told_in_words_and_a_defect_with_its_trace(db):
    wrong = Job.objects.create(kind="scan", lane="bulk", title="c", arguments={"scan": 0, "streams": []})
    with pytest.raises(Exception, match="does not exist"):
        services.run(wrong.pk)
    wrong.refresh_from_db()
    assert wrong.state == "failed" and "a defect" in wrong.message and "Traceback" in wrong.log


def test_the_watch_gives_up_after_three_lost_workers_and_wakes_for_fewer(job):
    past = timezone.now() - timedelta(minutes=1)
    Job.objects.filter(pk=job.pk).update(state="running", attempt=1, lease_until=past, woken_at=past)
    assert services.watch_once() == 1
    Job.objects.filter(pk=job.pk).update(attempt=3, lease_until=past, woken_at=past)
    services.watch_once()
    job.refresh_from_db()
    assert job.state == "failed" and "lost 3 times" in job.message


def test_a_job_waits_a_moment_for_the_worker_that_it_prefers(db, monkeypatch):
    monkeypatch.setattr(tasks, "LEAVE_S", 0)
    own = services.enqueue("fold", "x", {}, prefers=services.worker())
    tasks.work.func(own.pk)
    own.refresh_from_db()
    assert own.state == "done"
    other = services.enqueue("fold", "x", {}, prefers="elsewhere-1")
    woken = DBTaskResult.objects.ready().count()
    tasks.work.func(other.pk)
    other.refresh_from_db()
    assert other.state == "queued" and DBTaskResult.objects.ready().count() == woken + 1
    # The other one may be gone: what has waited is done by anybody.
    Job.objects.filter(pk=other.pk).update(created_at=moments.now() - running.PREFERRED)
    tasks.work.func(other.pk)
    other.refresh_from_db()
    assert other.state == "done"


def test_every_change_of_a_job_is_hinted(job):
    before = Event.objects.count()
    services.run(job.pk)
    assert (
        Event.objects.filter(kind="job", subject=str(job.pk)).count() >= 2 and Event.objects.count() > before
    )


def worker(tmp_path, processes=1, **more):
    environment = {
        **os.environ, "WATCHTIDE_DB_NAME": connection.settings_dict["NAME"], "WATCHTIDE_JOB_LEASE_SECONDS": "3",
        "WATCHTIDE_DATA": str(tmp_path), "WATCHTIDE_SCAN_PROCESSES": str(processes),
        **more,
    }  # fmt: skip
    command = [
        sys.executable,
        "-m",
        "watchtide.cli.main",
        "server",
        "run",
        "work",
        "bulk",
        "--interval",
        "0.1",
    ]
    return subprocess.Popen(
        command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )


def until(condition, seconds=60):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if condition():
            return
        time.sleep(0.05)
    raise AssertionError("it did not come to pass")


def test_a_killed_workers_job_is_taken_over_and_done_once(small_world, django_db_blocker, tmp_path):
    """A worker is killed in the middle of a scan; another finishes it, and every row is there once."""
    from tests.server.conftest import from_data
    from watchtide.server.scans import services as scans
    from watchtide.server.scans.models import Finding, Plan, Scan, ScanStream
    from watchtide.server.streams.models import Stream

    with django_db_blocker.unblock():
        ids = list(Stream.objects.values_list("pk", flat=True))
        version = scans.plan_version("killed", from_data({"flag": {"level": {"sigmas": 5}}}), "ann")
        scan = scans.start(version, ids, lane="bulk")
        state = lambda: Job.objects.get(pk=scan.job_id)
        first = worker(tmp_path / "first")
        try:
            until(lambda: state().state == "running" and state().done >= 1)
            os.killpg(first.pid, signal.SIGKILL)
            first.wait()
            assert (
                Scan.objects.get(pk=scan.pk).finished_at is None
                and not ScanStream.objects.filter(scan=scan).exists()
            )
            until(lambda: state().lease_until < timezone.now())
            Job.objects.filter(pk=scan.job_id).update(woken_at=None)
            services.watch_once()
            second = worker(tmp_path / "second")
            until(lambda: state().state not in ("queued", "running"))
            os.killpg(second.pid, signal.SIGTERM)
            second.wait()
            done = state()
            assert (done.state, done.attempt) == ("done", 2) and "taken over" in done.log
            assert ScanStream.objects.filter(scan=scan).count() == len(ids)
            assert Finding.objects.filter(scan=scan).count() == done.result["findings"] > 0
        finally:
            if first.poll() is None:
                os.killpg(first.pid, signal.SIGKILL)
            scan.delete()
            version.delete()
            Plan.objects.filter(name="killed").delete()


def done_by(process, pk):
    """A job once a worker has done it; the worker is ended."""
    until(lambda: Job.objects.get(pk=pk).state not in ("queued", "running"))
    os.killpg(process.pid, signal.SIGTERM)
    process.wait()
    return Job.objects.get(pk=pk)


# Another row, and when it was written, are no part of what a scan found.
APART = ("id", "scan_id", "taken_by")


def test_several_processes_and_a_cluster_find_what_one_process_does(small_world, django_db_blocker, tmp_path):
    """Each reads its streams by itself, from the database that this server uses."""
    from tests.cli.test_cluster import free_port, running
    from tests.server.conftest import from_data
    from watchtide.server.scans import services as scans
    from watchtide.server.scans.models import Finding, Plan, Scan, ScanStream
    from watchtide.server.streams.models import Stream

    def rows_of(model, scan):
        rows = list(model.objects.filter(scan=scan).order_by("stream_id", "pk").values())
        return [{k: v for k, v in row.items() if k not in APART} for row in rows]

    with django_db_blocker.unblock():
        name = {"WATCHTIDE_DB_NAME": connection.settings_dict["NAME"]}
        ids = list(Stream.objects.values_list("pk", flat=True))
        version = scans.plan_version("abreast", from_data({"flag": {"fleet": {"rate": 0.1}}}), "ann")
        made = []
        try:
            with running(free_port(), **name) as (_, url):
                for processes, more in ((1, {}), (2, {}), (1, {"WATCHTIDE_DASK": url})):
                    made.append(scans.start(version, ids, lane="bulk"))
                    done = done_by(worker(tmp_path / str(len(made)), processes, **more), made[-1].job_id)
                    assert done.state == "done", done.log
            first, *others = made
            for model in (ScanStream, Finding):
                assert rows_of(model, first)
                for other in others:
                    assert rows_of(model, other) == rows_of(model, first)
            shared = ("span_from_ns", "span_to_ns", "step_ns", "longest_season_ns", "logbook_version")
            found = [[getattr(Scan.objects.get(pk=s.pk), k) for k in shared] for s in made]
            assert found[0] == found[1] == found[2]
        finally:
            for scan in made:
                scan.delete()
            version.delete()
            Plan.objects.filter(name="abreast").delete()


def test_a_cluster_whose_workers_know_no_database_is_refused(small_world, django_db_blocker, tmp_path):
    from tests.cli.test_cluster import free_port, running
    from watchtide.server.scans import services as scans
    from watchtide.server.scans.models import Plan
    from watchtide.server.streams.models import Stream

    nowhere = {"WATCHTIDE_DB_SOCKET": "", "WATCHTIDE_DB_HOST": "", "WATCHTIDE_HOME": str(tmp_path / "home")}
    with django_db_blocker.unblock():
        ids = list(Stream.objects.values_list("pk", flat=True))
        version = scans.plan_version("apart", scans.PlanText(), "ann")
        scan = scans.start(version, ids, lane="bulk")
        try:
            with running(free_port(), **nowhere) as (_, url):
                done = done_by(worker(tmp_path / "data", WATCHTIDE_DASK=url), scan.job_id)
            assert done.state == "failed" and "cluster work --server" in done.message
        finally:
            scan.delete()
            version.delete()
            Plan.objects.filter(name="apart").delete()
