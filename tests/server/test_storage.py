"""Files of the server in an object store that several hosts see; losing any of them loses no record."""

import importlib
import shutil

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests import objects, world
from tests.server.conftest import run_jobs
from watchtide.server import storage
from watchtide.server.management.commands import web
from watchtide.server.streams import files, store
from watchtide.server.streams.models import Stream, Upload

PLAN = {"flag": {"level": {"sigmas": 6}}}


@pytest.fixture
def bucket(settings, tmp_path):
    with objects.served() as address:
        settings.DATA_FOLDER = tmp_path / "one host"
        settings.FILES = f"s3://{objects.BUCKET}/tide"
        settings.FILES_OPTIONS = objects.options(address)
        yield


def hand_in(api, text, name="level.csv"):
    answer = api.post(
        "/api/v1/uploads", {"file": SimpleUploadedFile(name, text.encode())}, format="multipart"
    )
    assert answer.status_code == 201, answer.content
    return answer.json()


def counts():
    return {s.root.rsplit("/", 1)[-1]: len(s.names()) for s in storage.every()}


def test_a_file_is_stored_scanned_and_counted_on_hosts_that_share_only_the_bucket(
    api, bucket, settings, tmp_path
):
    upload = hand_in(api, world.csv_of({"far": world.hourly(spikes=(300, 700), seed=5)}))
    assert counts() == {"uploads": 1, "stages": 0, "sheets": 0}
    settings.DATA_FOLDER = tmp_path / "another host"
    answer = api.post(f"/api/v1/uploads/{upload['id']}/store", {"metric": "far"}, format="json")
    assert answer.status_code == 202, answer.content
    run_jobs()
    far = Stream.objects.get(key="metric=far,place=far")
    assert len(store.read(far.pk)[0]) == world.hourly().size
    answer = api.post("/api/v1/scans", {"plan": PLAN, "streams": [far.pk]}, format="json")
    assert answer.status_code == 202, answer.content
    scan = answer.json()
    run_jobs()
    assert counts() == {"uploads": 1, "stages": 1, "sheets": 1}
    url = f"/api/v1/scans/{scan['id']}/streams/{far.pk}/window?points=4000"
    before, card = api.get(url).json(), api.get(f"/api/v1/scans/{scan['id']}/scorecard").json()
    # A third host has seen nothing yet; then the bucket is emptied.
    settings.DATA_FOLDER = tmp_path / "a third"
    assert api.get(url).json() == before
    for place in storage.every():
        place.clear()
    assert counts() == {"uploads": 0, "stages": 0, "sheets": 0}
    assert api.get(url).json() == before
    again = api.get(f"/api/v1/scans/{scan['id']}/scorecard").json()
    assert again["figures"] == card["figures"]
    gone = api.post(f"/api/v1/uploads/{upload['id']}/store", {"metric": "again"}, format="json")
    assert gone.status_code == 410 and "hand it in again" in str(gone.json())


def test_nothing_of_it_lies_in_the_data_folder_but_copies(api, bucket, settings):
    hand_in(api, world.csv_of({"far": world.hourly(seed=6)}))
    assert {p.name for p in settings.DATA_FOLDER.iterdir()} <= {"copies"}


def test_the_same_bytes_handed_in_twice_lie_there_once(small_world, db):
    first, second = (files.take_upload(f"{i}.csv", [b"time,value\n"], None) for i in range(2))
    uploads = storage.uploads()
    assert files.name_of(first) == files.name_of(second)
    files.forget(first)
    assert uploads.path(files.name_of(second)).read_bytes() == b"time,value\n"
    files.forget(second)
    with pytest.raises(FileNotFoundError):
        uploads.path(files.name_of(second))


def test_an_upload_that_cannot_be_kept_leaves_no_row(bucket, db, settings, monkeypatch):
    settings.FILES = "s3://no-such-bucket"
    with pytest.raises(OSError):
        files.take_upload("a.csv", [b"time,value\n"], None)
    assert not Upload.objects.filter(name="a.csv").exists()


def test_files_of_older_versions_get_the_name_of_their_content(small_world, db, settings, tmp_path):
    from django.apps import apps

    settings.DATA_FOLDER = tmp_path
    upload = Upload.objects.create(name="old.csv", size=3, sha="a" * 64)
    Upload.objects.create(name="lost.csv", size=3, sha="b" * 64)
    (tmp_path / "uploads").mkdir()
    (tmp_path / "uploads" / f"{upload.pk}.bin").write_bytes(b"old")
    importlib.import_module("watchtide.server.streams.migrations.0008_uploads_by_content").rename(apps, None)
    assert storage.uploads().path(files.name_of(upload)).read_bytes() == b"old"


def test_a_place_that_cannot_be_used_is_said_before_anything_is_served(db, bucket, settings):
    assert storage.problem() is None
    settings.FILES = "s3://no-such-bucket"
    assert "s3://no-such-bucket" in web.unfit() and "WATCHTIDE_FILES" in web.unfit()
    settings.FILES = ""
    shutil.rmtree(settings.DATA_FOLDER, ignore_errors=True)
    settings.DATA_FOLDER.parent.mkdir(exist_ok=True)
    settings.DATA_FOLDER.write_text("a file")
    assert str(settings.DATA_FOLDER) in web.unfit()
