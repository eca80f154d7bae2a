"""The REST interface end to end: intake, scans, review, logbook, scorecards; and the page against the command."""

import json
import subprocess
import sys

import numpy as np
import pytest
from asgiref.sync import async_to_sync
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test.utils import CaptureQueriesContext

from tests import world
from tests.server.conftest import SPIKES, run_jobs, signed_in
from watchtide.server.scans import standing, tide
from watchtide.server.scans.models import Scan, Standing
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Block, Stream


def whole(answer):
    """The body of an answer that is sent in parts."""

    async def gather():
        return b"".join([part async for part in answer.streaming_content])

    return async_to_sync(gather)()


def upload(api, text, name="new.csv"):
    data = text if isinstance(text, bytes) else text.encode()
    return api.post("/api/v1/uploads", {"file": SimpleUploadedFile(name, data)}, format="multipart")


def post(api, url, body=None):
    return api.post(url, body or {}, format="json")


def test_a_file_is_previewed_stored_scanned_and_looked_at(api):
    text = world.csv_of({"a": world.hourly(spikes=(300,)), "b": world.hourly(seed=3)}, metric="depth")
    text += "2026-09-14T00:00Z,a,oops\n2026-09-14T01:00Z\n"
    number = upload(api, text).json()["id"]
    seen = post(api, f"/api/v1/uploads/{number}/preview", {"unit": "m"}).json()
    assert (seen["streams"], seen["rows_fit"], seen["rows_aside"], seen["cadence"]) == (2, 2016, 2, "1h")
    assert {c["name"]: c["role"] for c in seen["columns"]} == {
        "time": "time",
        "place": "series",
        "depth": "value",
    }
    assert any("'oops' is not a number" in p["message"] and p["first_line"] == 2018 for p in seen["problems"])
    assert not Stream.objects.filter(metric="depth").exists(), "nothing is stored by looking"
    job = post(api, f"/api/v1/uploads/{number}/store", {"unit": "m", "then_scan": True})
    assert job.status_code == 202
    run_jobs()
    done = api.get(f"/api/v1/jobs/{job.json()['id']}").json()
    assert done["state"] == "done" and done["result"]["streams"] == 2
    rows = {r["title"]: r for r in api.get("/api/v1/tide").json()["rows"] if r["metric"] == "depth"}
    assert rows["a"]["open"] >= 1 and rows["a"]["unit"] == "m" and rows["b"]["last_value"] is not None
    batch = api.get("/api/v1/batches").json()["items"][0]
    aside = api.get(f"/api/v1/batches/{batch['id']}/aside.csv").content.decode()
    assert "2018,depth,'oops' is not a number" in aside and "2019," in aside
    stream = Stream.objects.get(key="metric=depth,place=a")
    view = api.get(f"/api/v1/scans/{done['result']['scan']}/streams/{stream.pk}/window").json()
    assert view["total"] == 42 * 24 and view["findings"][0]["direction"] == "above"


def test_the_same_file_twice_changes_nothing(api):
    text = world.csv_of({"a": world.hourly(days=10)}, metric="twice")
    for expected in (240, 0):
        number = upload(api, text).json()["id"]
        job = post(api, f"/api/v1/uploads/{number}/store").json()
        run_jobs()
        assert api.get(f"/api/v1/jobs/{job['id']}").json()["result"]["rows"] == expected
    assert Batch.objects.filter(source="new.csv").count() == 1
    assert post(api, f"/api/v1/uploads/{number}/preview").json()["is_stored"] is True


def test_an_intake_that_breaks_in_the_middle_leaves_nothing_to_see(api, monkeypatch):
    text = world.csv_of({"a": world.hourly(days=10), "b": world.hourly(days=10)}, metric="torn")
    number = upload(api, text).json()["id"]
    monkeypatch.setattr(store, "BLOCK_SAMPLES", 100)
    written = store.BlockWriter._write
    calls = []

    def fails_late(*a):
        calls.append(1)
        if len(calls) == 3:
            raise ValueError("the disk is full")
        return written(*a)

    monkeypatch.setattr(store.BlockWriter, "_write", fails_late)
    post(api, f"/api/v1/uploads/{number}/store")
    run_jobs()
    assert not Stream.objects.filter(metric="torn").exists()
    monkeypatch.setattr(store.BlockWriter, "_write", written)
    post(api, f"/api/v1/uploads/{number}/store")
    run_jobs()
    assert [len(store.read(s.pk)[0]) for s in Stream.objects.filter(metric="torn")] == [240, 240]
    assert not Block.objects.filter(batch__accepted_at__isnull=True).exists()


@pytest.mark.parametrize(
    ("content", "name", "status", "words"),
    [
        (b"", "e.csv", 400, "empty"), (b"a,b\nx,y\n", "e.csv", 400, "no column holds times"),
        (b"time,v\n2026-08-01,\x81\n", "e.csv", 400, "neither UTF-8 nor Windows"), (b"time,v,v\n1,2,3\n", "e.csv", 400, "twice"),
        (b"PAR1junk", "e.parquet", 400, "no Parquet"), (b"\x1f\x8bjunk", "e.csv.gz", 400, "cut off or damaged"),
    ],
)  # fmt: skip
def test_a_bad_file_is_a_problem_with_place_and_remedy(api, content, name, status, words):
    sent = upload(api, content, name)
    if sent.status_code != 201:  # an empty body never becomes a file
        assert sent.status_code == 400 and sent["Content-Type"] == "application/problem+json"
        return
    answer = post(api, f"/api/v1/uploads/{sent.json()['id']}/preview")
    body = answer.json()
    assert answer.status_code == status and answer["Content-Type"] == "application/problem+json"
    assert words in body["title"] and name in body["place"] and body["remedy"]


def test_an_upload_over_the_limit_is_413_and_leaves_no_file(api, settings):
    settings.MOST_UPLOAD_BYTES = 1000
    answer = upload(api, "x" * 5000)
    assert answer.status_code == 413 and "split it" in answer.json()["remedy"]
    assert not [p for p in (settings.DATA_FOLDER / "uploads").iterdir() if p.name.startswith(".")]


def test_page_and_command_give_the_same_figures(api, small_world, tmp_path):
    """The samples exported, scanned and scored by the command, against the page's scorecard."""
    scan = small_world["scan"]
    (tmp_path / "level.csv").write_bytes(whole(api.get("/api/v1/streams/samples.csv?metric=level")))
    (tmp_path / "labels.csv").write_bytes(api.get("/api/v1/logbook/export").content)
    (tmp_path / "plan.yaml").write_text(scan.plan_version.text)
    command = [sys.executable, "-m", "watchtide.cli.main"]
    options = ["--series", "metric", "--series", "place", "--known", "labels.csv", "--plan", "plan.yaml"]
    files = ["--points", "p.csv", "--findings", "f.csv", "--summary", "s.json"]
    subprocess.run(
        [*command, "scan", "level.csv", *options, *files], cwd=tmp_path, check=True, capture_output=True
    )
    tail = ["--points", "p.csv", "--summary", "s.json", "--json", "o.json"]
    subprocess.run(
        [*command, "score", "--findings", "f.csv", "--labels", "labels.csv", *tail],
        cwd=tmp_path,
        check=True,
        capture_output=True,
    )
    theirs = json.loads((tmp_path / "o.json").read_text())
    mine = json.loads(json.dumps(api.get(f"/api/v1/scans/{scan.pk}/scorecard").json()["figures"]))
    for part in (
        "events",
        "points",
        "ranges",
        "delay",
        "false_per_week",
        "flagged_share",
        "by_kind",
        "by_series",
        "excluded",
    ):
        assert mine[part] == theirs[part], part
    assert mine["events"]["tp_labels"] == 2 and mine["events"]["fn_labels"] == 1


def test_the_curve_passes_through_the_plans_own_level(api, small_world, stream_of):
    answer = api.get(f"/api/v1/scans/{small_world['scan'].pk}/streams/{stream_of('quay').pk}/curve").json()
    i = answer["curve"]["levels"].index(6.0)
    force = answer["in_force"]
    assert answer["curve"]["findings"][i] == force["findings"] == len(SPIKES)
    for name in ("tp_findings", "fp_findings", "tp_labels", "fn_labels", "precision", "recall"):
        assert answer["curve"][name][i] == force["events"][name], name
    counts = answer["curve"]["findings"]
    assert len(counts) == 201 and counts[0] > counts[-1]


def test_a_trial_stays_a_trial_until_it_is_adopted(api, stream_of):
    quay = stream_of("quay")
    before = Standing.objects.get(stream=quay).scan_id
    trial = post(api, "/api/v1/scans", {"plan": {"flag": {"level": {"sigmas": 4}}}, "streams": [quay.pk]})
    assert trial.status_code == 202
    run_jobs()
    number = trial.json()["id"]
    assert Standing.objects.get(stream=quay).scan_id == before
    assert api.get(f"/api/v1/scans/{number}").json()["state"] == "done"
    other = stream_of("pier").pk
    assert post(api, f"/api/v1/scans/{number}/adopt", {"streams": [quay.pk, other]}).status_code == 409
    assert post(api, f"/api/v1/scans/{number}/adopt", {"streams": [quay.pk]}).status_code == 204
    assert Standing.objects.get(stream=quay).scan_id == number
    assert api.get(f"/api/v1/streams/{quay.pk}").json()["standing_scan"] == number


@pytest.mark.parametrize(
    ("plan", "place", "words"),
    [
        ({"flag": {"levle": {}}}, "flag.levle", "did you mean level"),
        ({"flag": {"level": {"sigmas": -2}}}, "flag.level", "above 0"),
        ({"baseline": {"seasons": ["soon"]}}, "baseline.seasons", "no duration"),
    ],
)
def test_a_wrong_plan_is_refused_at_its_place(api, stream_of, plan, place, words):
    answer = post(api, "/api/v1/scans", {"plan": plan, "streams": [stream_of("quay").pk]})
    assert (
        answer.status_code == 422
        and answer.json()["place"].startswith(place)
        and words in answer.json()["title"]
    )
    assert not Scan.objects.filter(finished_at=None).exists()


def test_a_season_longer_than_half_the_data_fails_with_how_much_is_missing(api, stream_of):
    plan = {"baseline": {"seasons": ["30d"], "kind": "loess"}}
    answer = post(api, "/api/v1/scans", {"plan": plan, "streams": [stream_of("quay").pk]}).json()
    run_jobs()
    job = api.get(f"/api/v1/jobs/{answer['job']}").json()
    assert job["state"] == "failed" and "432 more samples are needed" in job["message"]


def test_verdicts_become_entries_move_the_figures_and_can_be_undone(api, small_world, stream_of):
    queue = api.get("/api/v1/review").json()
    [finding] = [f for f in queue["queue"] if f["stream"] == stream_of("quay").pk]
    assert queue["judged"] == 2 and finding["verdict"] is None
    context = api.get(f"/api/v1/findings/{finding['id']}").json()
    assert len(context["before"]) >= 4 and context["finding"]["id"] == finding["id"]
    card = f"/api/v1/scans/{small_world['scan'].pk}/scorecard"
    before = api.get(card).json()["figures"]["events"]
    entry = post(
        api, f"/api/v1/findings/{finding['id']}/verdict", {"verdict": "incident", "cause": "debris"}
    ).json()
    assert (
        entry["origin"] == "finding"
        and entry["author"] == "ann"
        and entry["scope"] == "metric=level,place=quay"
    )
    after = api.get(card).json()["figures"]["events"]
    assert after["tp_findings"] == before["tp_findings"] + 1
    assert after["tp_labels"] == before["tp_labels"], "recall is of independent incidents"
    assert api.get("/api/v1/review").json()["judged"] == 3
    assert api.delete(f"/api/v1/logbook/{entry['id']}").status_code == 204
    assert api.get("/api/v1/review").json()["judged"] == 2
    assert api.get(card).json()["figures"]["events"]["tp_findings"] == before["tp_findings"]


def test_changed_samples_and_a_lost_cache_are_said_not_papered_over(
    api, small_world, stream_of, settings, tmp_path
):
    quay = stream_of("quay")
    url = f"/api/v1/scans/{small_world['scan'].pk}/streams/{quay.pk}/window"
    good = api.get(url).json()
    settings.DATA_FOLDER = tmp_path
    assert api.get(url).json()["score"] == good["score"], "a lost cache is made again"

    def come_in(key, at_ns):
        batch = Batch.objects.create(key=key * 64, source="late")
        store.write_blocks(batch, [(quay.pk, np.array([at_ns]), np.array([1.0]))])
        Batch.objects.filter(pk=batch.pk).update(accepted_at="2026-11-01T00:00Z")

    come_in("y", quay.last_ns + 7_200 * 10**9)
    settings.DATA_FOLDER = tmp_path / "live"
    assert api.get(url).json()["score"] == good["score"], "what has come since the scan is not its samples"
    settings.DATA_FOLDER = tmp_path / "other"
    come_in("z", quay.first_ns)
    answer = api.get(url)
    assert answer.status_code == 409 and answer.json()["remedy"] == "scan again"


def test_lists_cost_the_same_number_of_queries_however_long(api, small_world):
    def queries(url):
        # As a process does that has not looked before.
        tide._kept.clear()
        standing.forget()
        with CaptureQueriesContext(
            connection,
        ) as seen:
            assert api.get(url).status_code == 200
        return len(seen)

    few = {
        url: queries(url) for url in ("/api/v1/tide", "/api/v1/review", "/api/v1/scans", "/api/v1/logbook")
    }
    template = Stream.objects.first()
    for i in range(15):
        copy = Stream.objects.create(
            metric="more", key=f"metric=more,n={i}", key_sha=f"{i:064d}", attributes=[["n", str(i)]]
        )
        Standing.objects.create(
            stream=copy, plan_version=small_world["scan"].plan_version, scan=small_world["scan"]
        )
        row = small_world["scan"].streams.get(stream=template)
        row.pk, row.stream = None, copy
        row.save()
    for url, count in few.items():
        assert queries(url) == count, url


def test_the_logbook_is_imported_whole_or_not_at_all_and_exported_the_same(api):
    good = world.labels_csv([("metric=level,place=rock", 10, 12, "foreseen"), ("", 20, 30, "unsure")])
    send = lambda text: api.post(
        "/api/v1/logbook/import", {"file": SimpleUploadedFile("l.csv", text.encode())}, format="multipart"
    )
    count = api.get("/api/v1/logbook").json()["total"]
    bad = send(good + '"",2026-08-03,2026-08-01,incident\n')
    assert bad.status_code == 400 and "line 4, column end" in bad.json()["place"]
    assert api.get("/api/v1/logbook").json()["total"] == count
    counts = lambda text: {k: v for k, v in send(text).json().items() if k in ("added", "skipped")}
    assert counts(good) == {"added": 2, "skipped": 0}
    assert counts(good) == {"added": 0, "skipped": 2}
    exported = api.get("/api/v1/logbook/export").content.decode()
    assert counts(exported) == {"added": 0, "skipped": count + 2}
    assert exported.count("\n") == count + 3


def test_entries_are_written_changed_taken_out_and_put_back_with_their_history(api):
    from watchtide.server.logbook.models import Revision

    entry = post(
        api,
        "/api/v1/logbook",
        {
            "scope": "metric=level",
            "start": "2026-08-05T00:00Z",
            "end": "2026-08-05T02:00Z",
            "verdict": "incident",
        },
    ).json()
    url = f"/api/v1/logbook/{entry['id']}"
    assert api.patch(url, {"cause": "fog"}, format="json").json()["cause"] == "fog"
    assert api.patch(url, {"end": "2026-08-01T00:00Z"}, format="json").status_code == 400
    assert api.delete(url).status_code == 204 and api.delete(url).status_code == 404
    assert post(api, f"{url}/restore").json()["cause"] == "fog"
    actions = list(Revision.objects.filter(entry_id=entry["id"]).values_list("action", "by"))
    assert actions == [("add", "ann"), ("change", "ann"), ("remove", "ann"), ("restore", "ann")]


def test_a_viewer_reads_and_writes_nothing(small_world, db):
    vic = signed_in("vic")
    assert vic.get("/api/v1/tide").status_code == 200
    for url, form in (
        ("/api/v1/logbook", "json"),
        ("/api/v1/scans", "json"),
        ("/api/v1/uploads", "multipart"),
    ):
        answer = vic.post(url, {}, format=form)
        assert answer.status_code == 403 and "analyst role" in answer.json()["title"]


def test_an_entry_keeps_every_revision_and_goes_back_to_any(api):
    made = post(
        api,
        "/api/v1/logbook",
        {
            "scope": "metric=level",
            "start": "2026-08-04T10:00Z",
            "end": "2026-08-04T12:00Z",
            "verdict": "incident",
        },
    ).json()
    url = f"/api/v1/logbook/{made['id']}"
    api.patch(url, {"verdict": "foreseen", "cause": "regatta"}, format="json")
    api.patch(url, {"end": "2026-08-04T14:00Z"}, format="json")
    api.delete(url)
    told = api.get(f"{url}/revisions").json()["items"]
    assert [r["action"] for r in told] == ["remove", "change", "change", "add"] and {
        r["by"] for r in told
    } == {"ann"}
    assert told[1]["changed"] == [
        {"name": "end", "before": "2026-08-04T12:00:00Z", "after": "2026-08-04T14:00:00Z"}
    ]
    assert [c["name"] for c in told[2]["changed"]] == ["verdict", "cause"] and told[3]["changed"] == []
    back = post(api, f"{url}/revisions/{told[3]['id']}/return").json()
    assert (back["verdict"], back["cause"], back["end"]) == ("incident", "", "2026-08-04T12:00:00Z")
    assert [r["action"] for r in api.get(f"{url}/revisions").json()["items"]][:2] == ["change", "restore"]
    other = post(
        api,
        "/api/v1/logbook",
        {"start": "2026-08-05T10:00Z", "end": "2026-08-05T10:00Z", "verdict": "unsure"},
    ).json()
    assert post(api, f"/api/v1/logbook/{other['id']}/revisions/{told[0]['id']}/return").status_code == 400


def test_no_door_rewrites_what_was_written_down(api, small_world):
    made = post(
        api,
        "/api/v1/logbook",
        {"start": "2026-08-05T10:00Z", "end": "2026-08-05T10:00Z", "verdict": "unsure"},
    ).json()
    url = f"/api/v1/logbook/{made['id']}/revisions"
    before = api.get(url).json()["items"]
    for call in (api.put, api.patch, api.delete, api.post):
        assert call(url, {"by": "nobody", "content": {}}, format="json").status_code == 405
        assert call(f"{url}/{before[0]['id']}", {"by": "nobody"}, format="json").status_code in (404, 405)
    assert api.get(url).json()["items"] == before
    assert post(signed_in("vic"), f"{url}/{before[0]['id']}/return").status_code == 403
