"""Files by name in a folder, and in an object store of another program: alike for those who use them."""

import os
import pickle
import time

import numpy as np
import pytest

from tests import objects, world
from watchtide.engine.keep import cache
from watchtide.engine.keep.files import Store
from watchtide.engine.scan import stages
from watchtide.plan import Plan


@pytest.fixture(scope="module")
def address():
    with objects.served() as at:
        yield at


@pytest.fixture(params=["folder", "objects"])
def store(request, tmp_path):
    if request.param == "folder":
        return Store(str(tmp_path / "files"))
    at = request.getfixturevalue("address")
    root = f"s3://{objects.BUCKET}/{tmp_path.name}"
    return Store(root, objects.options(at), str(tmp_path / "copies")).within("stages")


def put(store, name, body):
    with store.write(name) as file:
        file.write(body)


def test_a_file_comes_back_and_goes(store):
    assert store.names() == []
    put(store, "a.bin", b"one")
    put(store, "a.bin", b"another")
    assert store.path("a.bin").read_bytes() == b"another"
    assert [(k.name, k.size) for k in store.names()] == [("a.bin", 7)]
    store.remove("a.bin")
    store.remove("a.bin")
    with pytest.raises(FileNotFoundError):
        store.path("a.bin")


def test_what_fails_on_the_way_is_not_there(store):
    put(store, "a.bin", b"whole")
    with pytest.raises(RuntimeError), store.write("a.bin") as file:
        file.write(b"half")
        raise RuntimeError("broken off")
    assert store.path("a.bin").read_bytes() == b"whole" and len(store.names()) == 1


def test_a_name_may_be_known_only_at_the_end(store):
    with store.begin() as begun:
        begun.file.write(b"body")
        begun.keep("by-content.bin")
    with store.begin() as begun:
        begun.file.write(b"nobody wants it")
    assert store.path("by-content.bin").read_bytes() == b"body"
    assert [k.name for k in store.names()] == ["by-content.bin"]


def test_another_process_reads_what_one_wrote(store):
    again = pickle.loads(pickle.dumps(store))
    put(store, "a.bin", b"one")
    assert again.path("a.bin").read_bytes() == b"one"
    # A copy of what was there before is not taken for what is there now.
    put(again, "a.bin", b"two")
    assert store.path("a.bin").read_bytes() == b"two"


def test_the_oldest_go_and_the_newest_stay(store):
    for i in range(5):
        put(store, f"{i}", bytes(100))
        if store.is_folder:
            os.utime(store.path(f"{i}"), (1_000 + i, 1_000 + i))
        else:
            # An object store tells when a file was written to the second.
            time.sleep(1.05 if i in (1, 2) else 0)
    store.trim(250)
    assert {k.name for k in store.names()} <= {"2", "3", "4"} and len(store.names()) == 2
    store.trim(0, spared=1)
    assert len(store.names()) == 1
    store.clear()
    assert store.names() == []


def test_use_makes_a_file_of_a_folder_younger(tmp_path):
    store = Store(str(tmp_path))
    for name in "ab":
        put(store, name, bytes(100))
        os.utime(tmp_path / name, (1_000, 1_000))
    store.use("a")
    store.use("not there")
    store.trim(100)
    assert [k.name for k in store.names()] == ["a"]


def test_what_was_left_is_swept(store):
    put(store, "a.bin", b"body")
    store.path("a.bin")
    folder = store.path("a.bin").parent
    (folder / "left.part").write_bytes(b"half")
    store.sweep(parts_before=time.time() - 3_600, copies_before=time.time() - 3_600)
    assert (folder / "left.part").exists()
    store.sweep(parts_before=time.time() + 1, copies_before=time.time() + 1)
    assert not (folder / "left.part").exists()
    assert store.path("a.bin").read_bytes() == b"body"


def test_a_place_is_checked_before_it_is_used(store, tmp_path, address, monkeypatch):
    for name in ("AWS_ACCESS_KEY_ID", "AWS_PROFILE", "AWS_SHARED_CREDENTIALS_FILE"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("AWS_EC2_METADATA_DISABLED", "true")
    store.check()
    assert store.names() == []
    (tmp_path / "file").write_text("")
    with pytest.raises(OSError):
        Store(str(tmp_path / "file")).check()
    lost = Store("s3://no-such-bucket", objects.options(address), str(tmp_path / "copies"))
    with pytest.raises(OSError):
        lost.check()
    unknown = Store(f"s3://{objects.BUCKET}", objects.options(address)[:1], str(tmp_path))
    with pytest.raises(OSError, match="s3://harbour: .*credentials"):
        unknown.check()
    with pytest.raises(OSError, match="needs a folder on this host"):
        Store(f"s3://{objects.BUCKET}", objects.options(address)).check()
    with pytest.raises(OSError, match="such://"):
        Store("such://place", copies=str(tmp_path)).path("a")


def test_a_stage_is_kept_and_a_place_that_is_gone_is_as_an_empty_one(store, tmp_path, address):
    y = world.hourly()
    base = stages.fit(stages.Input("s", np.arange(len(y)) * 3_600 * 10**9, y), Plan())
    cache.keep(store, "k", base, most_bytes=1 << 30)
    again = cache.load(store, "k")
    assert np.array_equal(again.z, base.z) and again.resolved == base.resolved
    assert cache.load(store, "none") is None
    gone = Store("s3://no-such-bucket", objects.options(address), str(tmp_path / "copies"))
    assert cache.load(gone, "k") is None
