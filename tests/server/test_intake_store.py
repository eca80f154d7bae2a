"""From rows to stored streams: names, units, zones, keys, and what a batch remembers."""

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.server.conftest import run_jobs
from watchtide.server import storage
from watchtide.server.streams import files, store
from watchtide.server.streams.models import Batch, Stream, Upload


def take(api, text, choices=None, name="file.csv"):
    sent = api.post(
        "/api/v1/uploads", {"file": SimpleUploadedFile(name, text.encode())}, format="multipart"
    ).json()
    job = api.post(f"/api/v1/uploads/{sent['id']}/store", choices or {}, format="json").json()
    run_jobs()
    return api.get(f"/api/v1/jobs/{job['id']}").json()


def samples(key):
    times, values = store.read(Stream.objects.get(key=key).pk)
    return dict(zip((times // 10**9).tolist(), values.tolist(), strict=True))


def test_local_stamps_are_stored_in_utc_by_the_zone_chosen(api):
    done = take(
        api,
        "stamp,v\n2026-07-01 00:00,1\n2026-07-01 01:00,2\n2026-07-01 02:00,3\n",
        {"zone": "Europe/Dublin", "metric": "local"},
    )
    assert done["state"] == "done", done
    assert list(samples("metric=local")) == [1_782_860_400 + 3_600 * i for i in range(3)]
    assert Stream.objects.get(key="metric=local").zone == "Europe/Dublin"


def test_keys_are_kept_byte_by_byte(api):
    rows = [("quay", 1), ("Quay", 2), ("quay ", 3), ("qúay", 4), ("a=b,c%", 5)]
    text = "time,place,v\n" + "".join(f'2026-08-0{d}T00:00Z,"{p}",{v}\n' for d in (1, 2) for p, v in rows)
    assert take(api, text, {"metric": "bytes"})["result"]["streams"] == 5
    assert samples("metric=bytes,place=a%3Db%2Cc%25") == {1_785_542_400: 5.0, 1_785_628_800: 5.0}
    titles = {s.title for s in Stream.objects.filter(metric="bytes")}
    assert titles == {"quay", "Quay", "quay ", "qúay", "a=b,c%"}


def test_a_later_file_adds_to_the_same_stream_and_corrects_it(api):
    take(api, "time,v\n2026-08-01T00:00Z,1\n2026-08-01T01:00Z,2\n", {"metric": "grow"})
    take(api, "time,v\n2026-08-01T01:00Z,20\n2026-08-01T02:00Z,30\n", {"metric": "grow"}, "later.csv")
    assert list(samples("metric=grow").values()) == [1, 20, 30]
    stream = Stream.objects.get(key="metric=grow")
    assert stream.samples == 3 and stream.last_ns == 1_785_549_600 * 10**9


def test_equal_stamps_of_one_file_combine_to_their_mean(api):
    take(
        api,
        "time,v\n2026-08-01T00:00Z,1\n2026-08-01T00:00Z,3\n2026-08-01T01:00Z,\n2026-08-01T01:00Z,7\n",
        {"metric": "twin"},
    )
    assert list(samples("metric=twin").values()) == [2, 7]


def test_missing_samples_are_kept_as_missing(api):
    text = (
        "time,v\n2026-08-01T00:00Z,1\n2026-08-01T01:00Z,NA\n2026-08-01T02:00Z,closed\n2026-08-01T03:00Z,4\n"
    )
    take(api, text, {"metric": "holes", "missing_words": ["closed"]})
    values = list(samples("metric=holes").values())
    assert (values[0], values[3]) == (1, 4) and np.isnan(values[1:3]).all()


def test_two_value_columns_make_two_families(api):
    choices = {"roles": {"time": "time", "depth": "value", "wind": "value"}, "metric": "ignored"}
    take(api, "time,depth,wind\n2026-08-01T00:00Z,1,5\n2026-08-01T01:00Z,2,6\n", choices)
    assert list(samples("metric=depth").values()) == [1, 2] and list(samples("metric=wind").values()) == [
        5,
        6,
    ]


def test_a_batch_remembers_what_it_took_and_set_aside(api):
    take(api, "time,v\n2026-08-01T00:00Z,1\nsoon,2\n2026-08-01T02:00Z,3\n", {"metric": "book"}, "book.csv")
    batch = Batch.objects.get(source="book.csv")
    assert (batch.rows_taken, batch.rows_aside, batch.streams, batch.created_by.username) == (2, 1, 1, "ann")
    listed = next(b for b in api.get("/api/v1/batches").json()["items"] if b["id"] == batch.pk)
    assert listed["created_by"] == "ann" and listed["rows_aside"] == 1


def test_the_same_bytes_read_another_way_are_another_batch(api):
    text = "time,v\n2026-08-01 00:00,1\n2026-08-01 01:00,2\n"
    take(api, text, {"metric": "ways", "zone": "UTC"})
    take(api, text, {"metric": "ways", "zone": "Asia/Kathmandu"})
    assert Batch.objects.filter(source="file.csv").count() == 2
    assert len(samples("metric=ways")) == 4


def test_a_lost_upload_is_said_and_nothing_queued(api, settings):
    sent = api.post(
        "/api/v1/uploads",
        {"file": SimpleUploadedFile("x.csv", b"time,v\n2026-08-01,1\n")},
        format="multipart",
    ).json()
    storage.uploads().remove(files.name_of(Upload.objects.get(pk=sent["id"])))
    answer = api.post(f"/api/v1/uploads/{sent['id']}/store", {}, format="json")
    assert answer.status_code == 410 and "hand it in again" in answer.json()["remedy"]


def test_a_file_without_one_usable_row_is_refused_before_anything_is_queued(api):
    from watchtide.server.jobs.models import Job

    before = Job.objects.count()
    sent = api.post(
        "/api/v1/uploads",
        {"file": SimpleUploadedFile("x.csv", b"time,v\n2026-08-01T00:00Z,x\n2026-08-01T01:00Z,y\n")},
        format="multipart",
    ).json()
    answer = api.post(f"/api/v1/uploads/{sent['id']}/store", {}, format="json")
    assert answer.status_code == 400 and "no column holds numbers" in answer.json()["title"]
    assert Job.objects.count() == before and not Stream.objects.filter(metric="v").exists()
