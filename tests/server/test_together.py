"""Several processes at once, and one that is killed: nothing is lost, nothing is half there."""

import os
import signal
import subprocess
import sys
import time

import numpy as np
import pytest
from django.db import OperationalError, connection

from watchtide.server.streams import catalogue, folding, store
from watchtide.server.streams.models import Batch, Displaced, Stream

HEAD = """
import sys, time, django; django.setup()
import numpy as np
from django.db import connection
from django.utils import timezone
from watchtide.server.streams import folding, live, renewing, store
from watchtide.server.streams.models import Batch, Stream
from watchtide.tables.points import Points, Series
HOUR = 3_600 * 10**9
"""
WRITER = (
    HEAD
    + """
who = int(sys.argv[1])
for i in range(40):
    points = Points()
    for k in range(5):
        n = i * 5 + k
        points.add(Series("together", (("who", "all"),)), 10**18 + (n * 4 + who) * HOUR, float(n * 4 + who))
    live.take(points, key=f"together {who} {i}", source=f"writer {who}", door="push")
    if i % 7 == who:
        folding.fold()
"""
)
TORN = (
    HEAD
    + """
batch = Batch.objects.create(key="torn-process", source="torn")
stream = Stream.objects.create(metric="killed", key="metric=killed", key_sha="k" * 64, made_by=batch)
writer = store.BlockWriter(batch, "last", block_samples=100)
at = np.arange(1_000) * HOUR
writer.add(np.full(500, stream.pk), at[:500], np.ones(500))
print("half", flush=True)
time.sleep(60)
writer.add(np.full(500, stream.pk), at[500:], np.ones(500))
writer.finish()
Batch.objects.filter(pk=batch.pk).update(accepted_at=timezone.now())
"""
)
FOLDER = (
    HEAD
    + """
write = folding.write_segments
def slowly(changes):
    write(changes)
    print("written", flush=True)
    time.sleep(60)
folding.write_segments = slowly
folding.fold()
"""
)


@pytest.fixture
def committed(small_world, django_db_blocker):
    """What is written here stays for other processes to see, and is removed in the end."""
    with django_db_blocker.unblock():
        before = set(Batch.objects.values_list("pk", flat=True))
        streams = set(Stream.objects.values_list("pk", flat=True))
        yield
        Batch.objects.exclude(pk__in=before).delete()
        Stream.objects.exclude(pk__in=streams).delete()


def start(code, *arguments):
    from django.conf import settings

    env = {
        **os.environ, "WATCHTIDE_DB_NAME": settings.DATABASES["default"]["NAME"],
        "DJANGO_SETTINGS_MODULE": "watchtide.server.settings",
    }  # fmt: skip
    return subprocess.Popen(
        [sys.executable, "-c", code, *arguments], env=env, stdout=subprocess.PIPE, text=True
    )


def read(key):
    return store.read(Stream.objects.get(key=key).pk)


def test_four_processes_that_write_and_fold_one_stream_lose_nothing(committed):
    writers = [start(WRITER, str(who)) for who in range(4)]
    seen = 0
    while any(w.poll() is None for w in writers):
        stream = Stream.objects.filter(key="metric=together,who=all").first()
        if stream is not None:
            # Reading while others fold: a sample once seen never goes away.
            times, values = store.read(stream.pk)
            assert len(times) >= seen and np.array_equal(values, (times - 10**18) / 3_600e9)
            seen = len(times)
        # Often enough to read between two folds, and not what the writers wait for.
        time.sleep(0.2)
    assert [w.returncode for w in writers] == [0, 0, 0, 0]
    times, values = read("metric=together,who=all")
    assert values.tolist() == list(range(800))
    folding.fold()
    assert read("metric=together,who=all")[1].tolist() == list(range(800))
    assert Stream.objects.get(key="metric=together,who=all").samples == 800


def test_a_process_killed_in_the_middle_of_a_batch_leaves_nothing_of_it(committed):
    torn = start(TORN)
    assert torn.stdout.readline().strip() == "half"
    torn.send_signal(signal.SIGKILL)
    torn.wait()
    batch = Batch.objects.get(key="torn-process")
    assert batch.accepted_at is None and batch.blocks.exists()
    assert len(read("metric=killed")[0]) == 0
    assert folding.fold() == 0 and len(read("metric=killed")[0]) == 0


def test_a_process_killed_in_the_middle_of_a_fold_leaves_the_samples_as_they_were(committed):
    from watchtide.server.streams import live
    from watchtide.tables.points import Points, Series

    points = Points()
    for i in range(50):
        points.add(Series("folded", ()), 10**18 + i * 3_600 * 10**9, float(i))
    live.numbers.forget()
    live.take(points, key="folded", source="t", door="push")
    torn = start(FOLDER)
    assert torn.stdout.readline().strip() == "written"
    torn.send_signal(signal.SIGKILL)
    torn.wait()
    assert read("metric=folded")[1].tolist() == list(range(50))
    # The lock went with the process: somebody else folds on.
    assert folding.fold() >= 50 and read("metric=folded")[1].tolist() == list(range(50))


def test_who_writes_about_a_stream_does_not_wait_for_a_fold(committed):
    """A finding that was raised waited for its stream until the samples of all were folded, and all others behind it."""
    from watchtide.server.streams import live
    from watchtide.tables.points import Points, Series

    points = Points()
    points.add(Series("written_about", ()), 10**18, 1.0)
    live.numbers.forget()
    live.take(points, key="written about", source="t", door="push")
    batch, stream = (
        Batch.objects.get(key=catalogue.sha("written about")),
        Stream.objects.get(key="metric=written_about"),
    )
    fold = start(FOLDER)
    assert fold.stdout.readline().strip() == "written"
    with connection.cursor() as cursor:
        cursor.execute("SET innodb_lock_wait_timeout = 1")
    try:
        Displaced.objects.create(batch=batch, stream=stream, payload=b"")
        with pytest.raises(OperationalError, match="Lock wait timeout"):
            stream.delete()
    finally:
        fold.kill()
        fold.wait()
        connection.close()
    assert read("metric=written_about")[1].tolist() == [1.0]


def pushed_counts(seconds, key):
    """Take in a counter that has risen by one a minute; the rate of its first twenty."""
    from watchtide.server.streams import live
    from watchtide.tables.points import Points, Series

    points = Points()
    for i in seconds:
        points.add(Series("gates", (), kind="counter"), 10**18 + i * 60 * 10**9, float(i))
    live.numbers.forget()
    live.take(points, key=key, source="t", door="push")


def test_a_fold_in_the_middle_of_renewing_hides_no_samples(committed, monkeypatch):
    """Twenty counts gave nine rates: renewing read segments before the fold and blocks after it."""
    pushed_counts(range(10), "counts 1")
    pushed_counts(range(10, 20), "counts 2")
    pending, folds = store.pending, []

    def meanwhile():
        folds.append(start(HEAD + "folding.fold()").wait())

    def slowly():
        if not folds:
            meanwhile()
        return pending()

    monkeypatch.setattr(store, "pending", slowly)
    from watchtide.server.streams import renewing

    renewing.renew()
    assert folds == [0]
    monkeypatch.undo()
    rates = Stream.objects.get(metric="gates", kind="samples")
    assert len(store.read(rates.pk)[0]) == 19


def test_a_snapshot_refuses_to_begin_inside_another_transaction(committed):
    from django.db import transaction

    with store.snapshot(), store.snapshot():
        assert Stream.objects.exists()
    with transaction.atomic(), pytest.raises(RuntimeError, match="begin that transaction with snapshot"):
        store.read(1)
    assert len(store.read(1)[0]) >= 0
