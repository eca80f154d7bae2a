"""What runs on its own outlives a database that is away, bad input and its own defects, and says so."""

import threading
import time
from datetime import timedelta
from types import SimpleNamespace

import MySQLdb
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import InterfaceError, OperationalError, ProgrammingError, connection
from django.db.models.functions import Now
from django_tasks_db.models import DBTaskResult
from rest_framework.test import APIClient

from tests.server.conftest import run_jobs
from tests.server.test_live import lines, push, samples
from watchtide.server import ourselves, patience, problems
from watchtide.server.jobs import beats, duties, running, services
from watchtide.server.jobs.models import Beat, Job
from watchtide.server.people.access import make_token
from watchtide.server.streams import feeds, folding, keeping, store
from watchtide.server.streams.models import Batch, Block, Feed, Stream


@pytest.fixture
def job(small_world, db):
    DBTaskResult.objects.all().delete()
    return Job.objects.create(kind="fold", lane="bulk", title="a job", arguments={})


@pytest.fixture
def sender(small_world, db):
    from django.contrib.auth.models import User

    from watchtide.server.streams import limits, live

    limits.clear()
    live.numbers.forget()
    _, text = make_token(User.objects.get(username="ann"), "sender", ["push"])
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
    return client


def gone(code=2006):
    return OperationalError(code, "Server has gone away")


class TestPatience:
    def test_errors_are_told_apart_by_number_wherever_it_stands(self):
        assert (
            patience.is_away(gone())
            and patience.is_away(InterfaceError("closed"))
            and patience.is_away(gone(2002))
        )
        assert patience.is_locked(gone(1213)) and patience.is_locked(gone(1205))
        assert not patience.is_passing(OperationalError(1045, "access denied")) and not patience.is_passing(
            ValueError(2006)
        )

    def test_a_transaction_that_met_a_deadlock_is_made_again_and_another_error_is_not(self, monkeypatch):
        monkeypatch.setattr(patience, "connection", SimpleNamespace(in_atomic_block=False))
        met = iter([gone(1213), gone(1205)])
        tried = []

        @patience.retried
        def work():
            tried.append(1)
            error = next(met, None)
            if error is not None:
                raise error
            return "done"

        assert work() == "done" and len(tried) == 3

        @patience.retried
        def fails():
            tried.append(1)
            raise gone()

        with pytest.raises(OperationalError):
            fails()
        assert len(tried) == 4

    @pytest.mark.parametrize(("code", "wait"), [(2006, "5"), (2002, "5"), (1213, "1"), (1205, "1")])
    def test_a_caller_is_told_when_to_send_again(self, api, monkeypatch, code, wait):
        def away(*_, **__):
            raise gone(code)

        monkeypatch.setattr("watchtide.server.streams.undoing.check", away)
        got = api.post(f"/api/v1/batches/{Batch.objects.first().pk}/undo")
        assert got.status_code == 503 and got["Retry-After"] == wait
        assert got["Content-Type"] == problems.TYPE and "send the same again" in got.json()["remedy"]

    def test_a_push_is_told_so_too_and_stored_when_it_comes_again(self, sender, monkeypatch):
        body = lines({"time": "2026-08-01T00:00Z", "metric": "again", "value": 1})
        writes = store.BlockWriter.finish

        def away(self):
            raise gone()

        monkeypatch.setattr(store.BlockWriter, "finish", away)
        got = push(sender, body)
        assert got.status_code == 503 and got["Retry-After"] == "5"
        monkeypatch.setattr(store.BlockWriter, "finish", writes)
        assert push(sender, body).json() == {"points": 1, "refused": 0, "refusals": "", "is_repeat": False}

    def test_outside_the_api_too(self, rf):
        try:
            raise gone()
        except OperationalError:
            got = problems.plain(rf.get("/"))
        assert got.status_code == 503 and got["Retry-After"] == "5"
        try:
            raise ValueError("a defect")
        except ValueError:
            assert problems.plain(rf.get("/")).status_code == 500


class TestJobs:
    def test_a_job_that_was_never_woken_is_woken(self, job):
        Job.objects.filter(pk=job.pk).update(woken_at=None, created_at=Now() - timedelta(seconds=10))
        assert services.watch_once() == 1
        assert DBTaskResult.objects.ready().count() == 1

    def test_a_job_that_waits_long_is_woken_once(self, job):
        for _ in range(4):
            Job.objects.filter(pk=job.pk).update(woken_at=Now() - timedelta(minutes=5))
            services.watch_once()
        assert DBTaskResult.objects.ready().count() == 1

    def test_wake_ups_that_were_heard_are_forgotten(self, job):
        services.wake(job)
        DBTaskResult.objects.update(finished_at=Now() - timedelta(hours=2))
        services.wake(job)
        assert services.prune() == 1 and DBTaskResult.objects.count() == 1

    def test_a_job_whose_database_was_away_waits_again_and_no_attempt_is_counted(self, job, monkeypatch):
        def away(lease):
            raise gone()

        monkeypatch.setitem(running._handlers, "fold", ("bulk", away))
        services.run(job.pk)
        job.refresh_from_db()
        assert (job.state, job.attempt) == ("queued", 0) and "did not answer" in job.log
        assert services.held == []

    def test_a_worker_that_ends_hands_its_job_back(self, job, monkeypatch):
        def work(lease):
            services.ending.set()
            lease.is_cancelled()

        monkeypatch.setitem(running._handlers, "fold", ("bulk", work))
        try:
            services.run(job.pk)
        finally:
            services.ending.clear()
        before = job.fence
        job.refresh_from_db()
        assert (job.state, job.attempt) == ("queued", 0) and job.fence == before + 2
        assert "its worker was stopped" in job.log

    def test_the_fence_is_read_locked_and_before_it_is_raised(self, job, django_assert_max_num_queries):
        """It was read after the update: a claim in between gave two workers the same number."""
        with django_assert_max_num_queries(10) as captured:
            lease = services.claim(job.pk)
        said = [q["sql"] for q in captured.captured_queries if " `job`" in q["sql"]]
        assert said[0].startswith("SELECT") and said[0].endswith("FOR UPDATE")
        assert all(sql.startswith("UPDATE") for sql in said[1:]) and len(said) >= 2
        assert lease.fence == Job.objects.get(pk=job.pk).fence == 1

    def test_the_lease_thread_outlives_errors_and_gives_up_when_the_lease_has_run_out(self, job, monkeypatch):
        monkeypatch.setattr(running, "RENEW_SECONDS", 0.02)
        monkeypatch.setattr(running, "LEASE", timedelta(seconds=0.3))
        lease = services.claim(job.pk)
        answers = [gone()] * 3

        class Rows:
            def update(self, **_):
                if answers:
                    raise answers.pop()
                return 1

            def values_list(self, *_, **__):
                return SimpleNamespace(first=lambda: False)

        monkeypatch.setattr(lease, "mine", Rows)
        with lease:
            time.sleep(0.2)
            assert not lease.is_cancelled() and lease._thread.is_alive()
            answers += [gone()] * 1_000
            time.sleep(0.6)
            with pytest.raises(services.LeaseLost):
                lease.is_cancelled()


class TestDuties:
    def test_one_that_fails_holds_up_no_other_waits_and_is_shown(self, api, monkeypatch):
        done, clock = [], [1_000.0]
        monkeypatch.setattr(duties.time, "monotonic", lambda: clock[0])

        def breaks():
            done.append("bad")
            raise ValueError("a page that is none")

        bad, good = duties.Duty("fetch", breaks), duties.Duty("fold", lambda: done.append("good"))
        for _ in range(8):
            for duty in (bad, good):
                duty.attempt()
            clock[0] += 1
        # At once, after 2 s and after 4 s more; the other each time.
        assert done.count("bad") == 3 and done.count("good") == 8
        [shown] = api.get("/readyz").json()["failing"]
        assert shown == {"name": "fetch", "message": "ValueError: a page that is none", "failures": 3}
        bad.action = lambda: None
        clock[0] += 600
        bad.attempt()
        assert api.get("/readyz").json()["failing"] == []

    def test_a_database_that_is_away_is_no_failure(self, db):
        def away():
            raise gone()

        duty = duties.Duty("fold", away)
        duty.attempt()
        assert duty.failures == 0 and not Beat.objects.exists()

    def test_the_keepers_duties_do_what_is_due(self, sender):
        push(sender, lines({"time": "2026-08-01T00:00Z", "metric": "kept", "value": 1}))
        Batch.objects.filter(samples=1).update(accepted_at=Now() - timedelta(minutes=10))
        for duty in keeping.duties():
            duty.due_at = 0.0
            duty.attempt()
        assert not store.waiting_blocks().exists() and samples("metric=kept")


class TestBeats:
    def test_a_dead_worker_is_told(self, client, db):
        assert client.get("/readyz").status_code == 200
        beats.beat("worker bulk")
        assert client.get("/readyz").json()["lost"] == []
        Beat.objects.update(beat_at=Now() - timedelta(minutes=1))
        got = client.get("/readyz")
        assert got.status_code == 503 and got.json()["lost"] == ["worker bulk"]


class TestQuarantine:
    def test_a_batch_that_cannot_be_folded_holds_up_no_other_and_is_shown(self, sender, api):
        for i in range(5):
            push(sender, lines({"time": f"2026-08-01T0{i}:00Z", "metric": "held", "value": i}))
        broken = Block.objects.filter(batch__door="push").order_by("pk")[2]
        Block.objects.filter(pk=broken.pk).update(payload=b"no Parquet at all")
        assert folding.fold() == 4
        assert sorted(samples("metric=held").values()) == [0, 1, 3, 4]
        batch = Batch.objects.get(pk=broken.batch_id)
        assert batch.quarantined_at and f"block {broken.pk}" in batch.quarantine_reason
        assert Block.objects.get(pk=broken.pk).folded_at is None and folding.fold() == 0
        [row] = [b for b in api.get("/api/v1/batches").json()["items"] if b["quarantined_at"]]
        assert row["id"] == batch.pk and row["quarantine_reason"] and row["can_undo"]
        ourselves.tally()
        assert b"watchtide_batches_quarantined 1.0" in api.get("/metrics").content
        assert api.post(f"/api/v1/batches/{batch.pk}/undo").status_code == 202
        run_jobs()
        assert sorted(samples("metric=held").values()) == [0, 1, 3, 4]

    def test_a_database_that_is_away_puts_nothing_into_quarantine(self, sender, monkeypatch):
        push(sender, lines({"time": "2026-08-01T00:00Z", "metric": "held", "value": 1}))

        def away(group):
            raise gone()

        monkeypatch.setattr(folding, "_fold_group", away)
        with pytest.raises(OperationalError):
            folding.fold()
        assert not Batch.objects.filter(quarantined_at__isnull=False).exists()


class TestFeeds:
    @pytest.mark.parametrize(
        "body",
        [b"a 1 NaN", b"a 1 1e400", b"a 1e400", b"\xff\xfe", b"", b"# EOF", b"a{b=\"" + b"c" * 5_000 + b'"} 1', b"a{} {} 1"],
    )  # fmt: skip
    def test_whatever_a_page_says_the_next_time_is_written(self, small_world, db, monkeypatch, body):
        feed = Feed.objects.create(
            name="odd", url="http://127.0.0.1:1/metrics", kind="metrics", every_s=3_600
        )
        monkeypatch.setattr(
            feeds.outgoing, "fetch", lambda *_, **__: SimpleNamespace(body=body, content_type="text/plain")
        )
        before = feed.next_at
        is_fine = feeds.pull(feed)
        feed.refresh_from_db()
        assert feed.next_at != before and feed not in feeds.due()
        assert feed.failures == (0 if is_fine else 1) and feed.last_status


class TestKeys:
    def test_a_key_that_comes_with_another_body_is_refused_and_stores_nothing(self, sender):
        one = lines({"time": "2026-08-01T00:00Z", "metric": "keyed", "value": 1})
        other = lines({"time": "2026-08-01T01:00Z", "metric": "keyed", "value": 2})
        assert push(sender, one, HTTP_IDEMPOTENCY_KEY="k").json()["points"] == 1
        assert push(sender, one, HTTP_IDEMPOTENCY_KEY="k").json()["is_repeat"]
        got = push(sender, other, HTTP_IDEMPOTENCY_KEY="k")
        assert got.status_code == 422 and got.json()["place"] == "Idempotency-Key"
        assert list(samples("metric=keyed").values()) == [1]
        assert push(sender, other, HTTP_IDEMPOTENCY_KEY="k2").json()["points"] == 1

    def test_a_series_that_cannot_be_named_holds_up_no_neighbour(self, sender):
        from tests.server.test_live import otlp_of, send

        request = otlp_of("sum", [(0, 1, {}), (60, 2, {})], name="n" * 199)
        request.resource_metrics.extend(otlp_of("gauge", [(0, 7, {})], name="neighbour").resource_metrics)
        got = send(sender, request)
        assert got.status_code == 200, got.content
        assert list(samples("metric=neighbour").values()) == [7]


def test_beats_come_from_a_thread_until_it_is_stopped(committed_beats):
    with beats.Beating("worker of a test"):
        deadline = time.monotonic() + 10
        while not Beat.objects.filter(name="worker of a test").exists():
            assert time.monotonic() < deadline
            time.sleep(0.05)
    assert not Beat.objects.filter(name="worker of a test").exists()


@pytest.fixture
def committed_beats(small_world, django_db_blocker):
    with django_db_blocker.unblock():
        yield
        Beat.objects.all().delete()


class TestEdits:
    def test_an_edit_writes_back_nothing_that_was_counted_meanwhile(self, api, stream_of, monkeypatch):
        """The whole row was written back: a fold in between lost its count of samples."""
        from watchtide.server.streams import catalogue

        quay = stream_of("quay")
        before = quay.samples
        check = catalogue.clock.zone

        def meanwhile(zone):
            Stream.objects.filter(pk=quay.pk).update(samples=before + 7)
            return check(zone)

        monkeypatch.setattr(catalogue.clock, "zone", meanwhile)
        answer = api.patch(
            f"/api/v1/streams/{quay.pk}/facts", {"zone": "Europe/Dublin", "owner": "ann"}, format="json"
        )
        assert answer.status_code == 200, answer.content
        quay.refresh_from_db()
        assert (quay.samples, quay.zone, quay.owner) == (before + 7, "Europe/Dublin", "ann")

    def things(self, api, stream_of):
        from watchtide.server.logbook.models import Entry

        quay = stream_of("quay")
        feed = Feed.objects.create(name="f", url="http://127.0.0.1:1/m", kind="metrics", created_by=None)
        entry = Entry.objects.filter(deleted_at=None).first()
        return {
            f"/api/v1/streams/{quay.pk}/facts": ({"owner": "ann"}, {"owner": "bob"}),
            f"/api/v1/logbook/{entry.pk}": ({"note": "one"}, {"note": "two"}),
            f"/api/v1/feeds/{feed.pk}": ({"name": "one"}, {"name": "two"}),
        }

    def test_of_two_who_edit_the_same_version_the_second_is_told(self, api, stream_of, settings):
        settings.OUTGOING = ["127.0.0.1:1"]
        for url, (one, two) in self.things(api, stream_of).items():
            first = api.patch(url, {}, format="json")
            assert first.status_code == 200, (url, first.content)
            tag = first["ETag"]
            assert api.patch(url, one, format="json", HTTP_IF_MATCH=tag).status_code == 200, url
            late = api.patch(url, two, format="json", HTTP_IF_MATCH=tag)
            assert late.status_code == 412 and late.json()["place"] == "If-Match", (url, late.content)
            [(name, value)] = one.items()
            now = api.patch(url, {}, format="json")
            assert now.json()[name] == value and now["ETag"] != tag
            assert api.patch(url, two, format="json", HTTP_IF_MATCH=now["ETag"]).status_code == 200
            assert api.patch(url, one, format="json").status_code == 200, "without If-Match the last one wins"

    def test_samples_that_arrive_are_no_other_version(self, api, stream_of):
        quay = stream_of("quay")
        url = f"/api/v1/streams/{quay.pk}/facts"
        tag = api.get(url)["ETag"]
        Stream.objects.filter(pk=quay.pk).update(samples=quay.samples + 1, last_ns=quay.last_ns + 1)
        assert api.patch(url, {"owner": "ann"}, format="json", HTTP_IF_MATCH=tag).status_code == 200


class TestRoom:
    @pytest.fixture
    def full(self, monkeypatch):
        from watchtide.server import disk

        monkeypatch.setattr(disk, "free_bytes", lambda: 100 << 20)

    def test_a_full_disk_stops_what_comes_in_and_nothing_else(self, sender, api, full):
        body = lines({"time": "2026-08-01T00:00Z", "metric": "full", "value": 1})
        got = push(sender, body)
        assert got.status_code == 507 and got["Retry-After"] == "60" and "100 MB left" in got.json()["title"]
        file = SimpleUploadedFile("x.csv", b"time,v\n2026-08-01,1\n")
        assert api.post("/api/v1/uploads", {"file": file}, format="multipart").status_code == 507
        assert api.get("/api/v1/tide").status_code == 200 and folding.fold() == 0
        assert api.get("/readyz").json()["disk"] == "full"

    def test_it_is_told_before_it_is_full(self, client, db, monkeypatch, settings):
        from watchtide.server import disk

        for free, word in ((9 << 30, "fine"), (settings.LEAST_FREE_BYTES + 1, "nearly full")):
            monkeypatch.setattr(disk, "free_bytes", lambda free=free: free)
            assert client.get("/readyz").json()["disk"] == word

    def test_the_databases_disk_too(self, sender, monkeypatch):
        def full(self):
            raise OperationalError(1021, "Disk full")

        monkeypatch.setattr(store.BlockWriter, "finish", full)
        assert (
            push(sender, lines({"time": "2026-08-01T00:00Z", "metric": "full", "value": 1})).status_code
            == 507
        )

    def test_files_handed_in_go_by_age_and_by_what_they_take_and_a_job_keeps_its_own(
        self, small_world, db, settings
    ):
        from django.contrib.auth.models import User

        from watchtide.server.streams import files
        from watchtide.server.streams.models import Upload

        ann = User.objects.get(username="ann")
        made = [files.take_upload(f"{i}.csv", [b"x" * 999 + str(i).encode()], ann) for i in range(6)]
        paths = [settings.DATA_FOLDER / "uploads" / files.name_of(u) for u in made]
        assert all(p.is_file() for p in paths)
        Upload.objects.filter(pk=made[0].pk).update(created_at=Now() - timedelta(days=8))
        Upload.objects.filter(pk=made[1].pk).update(created_at=Now() - timedelta(days=9))
        Job.objects.create(
            kind="intake", lane="bulk", title="busy", arguments={"upload": made[1].pk}, state="running"
        )
        files.sweep_uploads()
        assert [p.is_file() for p in paths] == [False, True, True, True, True, True]
        files.make_room(3_000)
        assert [p.is_file() for p in paths] == [False, True, False, True, True, True]
        assert oct(settings.DATA_FOLDER.stat().st_mode & 0o777) == "0o700"


def test_a_batch_that_comes_to_nothing_takes_no_stream_that_another_uses(small_world, db):
    """The stream was deleted under the second batch, and its samples with it."""
    from watchtide.server.streams import catalogue, undoing

    first = Batch.objects.create(key="first", source="f")
    [stream] = catalogue.find_or_make([("shared", ())], batch=first)
    second = Batch.objects.create(key="second", source="s")
    assert catalogue.find_or_make([("shared", ())], batch=second)[0].pk == stream.pk
    undoing.discard(first)
    assert Stream.objects.filter(pk=stream.pk).exists()
    undoing.discard(second)
    assert not Stream.objects.filter(pk=stream.pk).exists()


def test_a_connection_that_another_thread_has_for_a_moment_is_tried_again(small_world, django_db_blocker):
    """As when the collector of garbage frees a result in a thread that is not the connection's."""
    with django_db_blocker.unblock():
        expected = Stream.objects.count()
        is_taken = threading.Event()

        def hold(raw):
            is_taken.set()
            raw.query("SELECT SLEEP(1)")
            raw.store_result()

        holder = threading.Thread(target=hold, args=(connection.connection,))
        holder.start()
        is_taken.wait()
        time.sleep(0.2)
        tries = []

        def count():
            tries.append(1)
            return Stream.objects.count()

        try:
            with pytest.raises((ProgrammingError, MySQLdb.ProgrammingError)) as caught:
                Stream.objects.count()
            assert patience.is_passing(caught.value) and patience.is_locked(caught.value)
            assert patience.outlasting(count, "a test") == expected and len(tries) > 1
        finally:
            holder.join()
            connection.close()


@pytest.mark.parametrize("hours", [-1, 1])
def test_a_host_whose_clock_is_an_hour_off_writes_the_times_of_the_database(sender, api, monkeypatch, hours):
    from django.utils import timezone

    from watchtide.server import moments

    true = timezone.now
    monkeypatch.setattr(timezone, "now", lambda: true() + timedelta(hours=hours))
    push(sender, lines({"time": "2026-08-01T00:00Z", "metric": "clocked", "value": 1}))
    batch = Batch.objects.filter(door="push").latest("pk")
    job = services.enqueue("derive", "a test", {})
    job.refresh_from_db()
    for at in (batch.accepted_at, batch.created_at, job.created_at):
        assert abs(at - moments.now()) < timedelta(minutes=5)


@pytest.mark.parametrize(
    "error",
    [
        OperationalError(1114, "The table 'intake_block' is full"), OperationalError(1021, "Disk full"),
        OperationalError(1030, "Got error 28 \"No space left on device\" from storage engine InnoDB"),
        OperationalError(3, "Error writing file '/tmp/x' (errno: 28)"), OSError(28, "No space left on device"),
    ],
)  # fmt: skip
def test_a_full_disk_is_507_wherever_it_is_found(api, monkeypatch, error):
    def fails(*_, **__):
        raise error

    monkeypatch.setattr("watchtide.server.streams.undoing.check", fails)
    got = api.post(f"/api/v1/batches/{Batch.objects.first().pk}/undo")
    assert got.status_code == 507 and got["Retry-After"] == "60"
    assert not patience.is_full(OperationalError(1030, "Got error 128 from storage engine"))
