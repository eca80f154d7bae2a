"""Long work is a job: answered 202, the same request twice is one job, and a worker that is lost does it once."""

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.server.conftest import run_jobs
from tests.server.test_intake_store import take
from watchtide.server.cards import counting
from watchtide.server.jobs import services
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import tasks as logbook_tasks
from watchtide.server.logbook.models import Entry
from watchtide.server.people.models import AuditEntry
from watchtide.server.scans.models import Scan
from watchtide.server.streams import looking
from watchtide.server.streams.models import Batch, KeptLook

LABELS = "series,start,end,verdict\n" + "".join(
    f"metric=level,2026-01-{1 + i % 28:02d}T{i // 28:02d}:00Z,2026-01-{1 + i % 28:02d}T{i // 28:02d}:30Z,incident\n"
    for i in range(40)
)


def post(api, path, body=None):
    return api.post(f"/api/v1/{path}", body or {}, format="json")


@pytest.fixture
def trial(api, small_world, stream_of):
    """A second scan of the same streams."""
    scan = small_world["scan"]
    streams = list(scan.streams.values_list("stream", flat=True))
    made = post(api, "scans", {"streams": streams, "plan": {"flag": {"level": {"sigmas": 7}}}}).json()
    run_jobs()
    return Scan.objects.get(pk=made["id"])


def test_the_same_request_twice_is_one_job_until_it_is_over(api):
    done = take(api, "time,v\n2026-08-01T00:00Z,1\n", {"metric": "twice"}, "t.csv")
    url = f"batches/{done['result']['batch']}/undo"
    first, again = post(api, url), post(api, url)
    assert first.status_code == again.status_code == 202 and first.json()["id"] == again.json()["id"]
    run_jobs()
    assert post(api, url).status_code == 409
    assert Job.objects.get(pk=first.json()["id"]).once is None


def test_an_undo_that_was_done_by_a_lost_worker_is_not_done_again(api):
    done = take(api, "time,v\n2026-08-01T00:00Z,1\n", {"metric": "lost"}, "t.csv")
    job = Job.objects.get(pk=post(api, f"batches/{done['result']['batch']}/undo").json()["id"])
    services.run(job.pk)
    at = Batch.objects.get(pk=done["result"]["batch"]).undone_at
    # As it stands when the worker is killed between its transaction and the end of its job.
    Job.objects.filter(pk=job.pk).update(state="queued", ended_at=None)
    services.run(job.pk)
    job.refresh_from_db()
    assert job.state == "done" and job.attempt == 2
    assert Batch.objects.get(pk=done["result"]["batch"]).undone_at == at
    assert AuditEntry.objects.filter(what="batch undone").count() == 1


def test_a_job_whose_lease_was_taken_undoes_nothing(api):
    done = take(api, "time,v\n2026-08-01T00:00Z,1\n", {"metric": "fenced"}, "t.csv")
    job = Job.objects.get(pk=post(api, f"batches/{done['result']['batch']}/undo").json()["id"])
    lease = services.claim(job.pk)
    Job.objects.filter(pk=job.pk).update(fence=99)
    from watchtide.server.streams import tasks

    with pytest.raises(services.LeaseLost):
        tasks.undo(lease)
    assert Batch.objects.get(pk=done["result"]["batch"]).undone_at is None
    assert not AuditEntry.objects.filter(what="batch undone").exists()


def test_many_labels_are_taken_in_by_a_job_with_the_same_result(api, monkeypatch):
    monkeypatch.setattr(logbook_tasks, "MOST_ROWS", 10)
    before = Entry.objects.count()
    send = lambda: api.post(
        "/api/v1/logbook/import", {"file": SimpleUploadedFile("l.csv", LABELS.encode())}, format="multipart"
    )
    first, again = send(), send()
    assert first.status_code == again.status_code == 202 and first.json() == again.json()
    run_jobs()
    job = Job.objects.get(pk=first.json()["job"])
    assert job.state == "done" and job.result["added"] == 40 and job.result["change_set"]
    assert Entry.objects.count() == before + 40 and "labels" not in job.arguments
    assert Entry.objects.latest("pk").author == "ann"
    # Now they are there: a third time adds nothing.
    third = Job.objects.get(pk=send().json()["job"])
    services.run(third.pk)
    third.refresh_from_db()
    assert third.result["added"] == 0 and third.result["skipped"] == 40


def test_a_round_from_a_large_scan_is_filled_by_a_job(api, small_world, monkeypatch):
    monkeypatch.setattr(counting, "MOST_SAMPLES", 10)
    body = {"scan": small_world["scan"].pk, "kind": "strongest", "size": 3}
    first, again = post(api, "rounds", body), post(api, "rounds", body)
    assert first.status_code == 202 and first.json() == again.json()
    run_jobs()
    job = Job.objects.get(pk=first.json()["job"])
    found = api.get(f"/api/v1/rounds/{job.result['round']}").json()
    assert found["created_by"] == "ann" and 1 <= found["total"] <= 3
    none = Job.objects.get(pk=post(api, "rounds", {**body, "metric": "no such"}).json()["job"])
    services.run(none.pk)
    none.refresh_from_db()
    assert none.state == "failed" and "nothing is left to be judged" in none.message


@pytest.mark.parametrize("what", ["comparison", "effect"])
def test_what_is_much_is_counted_by_a_job_and_is_then_the_same_as_at_once(
    api, small_world, trial, monkeypatch, what
):
    one, other = small_world["scan"].pk, trial.pk
    path = (
        f"comparison?scans={one},{other}"
        if what == "comparison"
        else f"logbook/effect?before={one}&after={other}"
    )
    ask = lambda: api.get(f"/api/v1/{path}")
    plain = ask().json()
    from watchtide.server.scans.models import Card

    Card.objects.exclude(selection="").delete()
    monkeypatch.setattr(counting, "MOST_SAMPLES", 10)
    first, again = ask(), ask()
    assert first.status_code == 202 and first.json() == again.json()
    run_jobs()
    counted = ask()
    assert counted.status_code == 200 and counted.json() == plain


class TestLookingThroughALargeFile:
    def upload(self, api, text="time,v\n2026-08-01T00:00Z,1\n2026-08-01T01:00Z,2\n"):
        file = SimpleUploadedFile("large.csv", text.encode())
        return api.post("/api/v1/uploads", {"file": file}, format="multipart").json()["id"]

    @pytest.fixture(autouse=True)
    def everything_is_large(self, monkeypatch):
        monkeypatch.setattr(looking, "MOST_AT_ONCE", 10)

    def test_a_job_does_it_and_the_next_request_has_what_a_small_one_has_at_once(self, api, monkeypatch):
        url = f"uploads/{self.upload(api)}/preview"
        first, again = post(api, url, {"metric": "m"}), post(api, url, {"metric": "m", "unit": "t"})
        assert first.status_code == again.status_code == 202
        assert first.json() == again.json(), "a unit changes nothing of what is seen"
        assert post(api, url, {"metric": "n"}).json() != first.json()
        run_jobs()
        found = post(api, url, {"metric": "m"})
        assert found.status_code == 200 and found.json()["rows"] == 2
        monkeypatch.setattr(looking, "MOST_AT_ONCE", 1 << 20)
        assert post(api, url, {"metric": "m"}).json() == found.json()

    def test_what_is_wrong_with_it_is_said_as_of_a_small_one(self, api, monkeypatch):
        url = f"uploads/{self.upload(api, 'a,b,c,d,e,f,g')}/preview"
        assert post(api, url).status_code == 202
        run_jobs()
        by_job = post(api, url)
        monkeypatch.setattr(looking, "MOST_AT_ONCE", 1 << 20)
        assert by_job.status_code == 400 and by_job.json() == post(api, url).json()

    def test_it_can_be_cancelled_and_begun_anew(self, api):
        url = f"uploads/{self.upload(api)}/preview"
        job = post(api, url).json()["job"]
        api.delete(f"/api/v1/jobs/{job}")
        run_jobs()
        assert not KeptLook.objects.exists()
        assert post(api, url).json()["job"] != job

    def test_it_is_stored_whether_or_not_somebody_looked(self, api):
        number = self.upload(api)
        job = post(api, f"uploads/{number}/store", {"metric": "unseen"}).json()["id"]
        run_jobs()
        assert Job.objects.get(pk=job).state == "done"
        broken = self.upload(api, "a,b,c,d,e,f,g")
        job = post(api, f"uploads/{broken}/store").json()["id"]
        run_jobs()
        row = Job.objects.get(pk=job)
        assert row.state == "failed" and "large.csv" in row.message
