"""Samples in two layers: whole batches or nothing, the last received wins, folding changes no answer."""

import numpy as np
import pytest
from django.utils import timezone

from watchtide.server.streams import folding, store
from watchtide.server.streams.models import CADENCE_STATED, Batch, Block, Segment, Stream

pytestmark = pytest.mark.django_db
HOUR = 3_600 * 10**9


@pytest.fixture
def stream():
    return Stream.objects.create(metric="m", key="metric=m", key_sha="x" * 64)


def batch(stream, times, values, *, is_accepted=True):
    row = Batch.objects.create(key=f"{Batch.objects.count():064d}", source="test")
    store.write_blocks(row, [(stream.pk, np.asarray(times) * HOUR, np.asarray(values, float))])
    if is_accepted:
        Batch.objects.filter(pk=row.pk).update(accepted_at=timezone.now())
    return row


def read(stream, *span):
    times, values = store.read(stream.pk, *(s * HOUR for s in span))
    return dict(zip((times // HOUR).tolist(), values.tolist(), strict=True))


def test_a_batch_is_invisible_until_it_is_accepted(stream):
    row = batch(stream, [1, 2], [10, 20], is_accepted=False)
    assert read(stream) == {}
    Batch.objects.filter(pk=row.pk).update(accepted_at=timezone.now())
    assert read(stream) == {1: 10, 2: 20}


def test_the_last_received_wins_before_and_after_folding(stream):
    batch(stream, [1, 2, 3], [10, 20, 30])
    batch(stream, [2, 0], [21, 5])
    expected = {0: 5, 1: 10, 2: 21, 3: 30}
    assert read(stream) == expected
    assert folding.fold() == 5
    assert read(stream) == expected and not Block.objects.filter(folded_at=None).exists()
    batch(stream, [3, 9], [31, 90])
    assert read(stream) == expected | {3: 31, 9: 90}
    folding.fold()
    assert read(stream) == expected | {3: 31, 9: 90}
    stream.refresh_from_db()
    assert (stream.samples, stream.first_ns, stream.last_ns) == (5, 0, 9 * HOUR)


def test_a_cadence_stated_while_it_folds_stands(stream, monkeypatch):
    real = folding.write_segments

    def stating(changes):
        Stream.objects.filter(pk=stream.pk).update(step_ns=7, cadence_of=CADENCE_STATED)
        real(changes)

    monkeypatch.setattr(folding, "write_segments", stating)
    batch(stream, range(9), range(9))
    folding.fold()
    stream.refresh_from_db()
    assert (stream.step_ns, stream.cadence_of, stream.samples) == (7, CADENCE_STATED, 9)


def test_folding_rewrites_only_the_segments_it_touches(stream):
    n = 3 * store.SEGMENT_SAMPLES
    batch(stream, np.arange(n), np.arange(n))
    folding.fold()
    before = dict(Segment.objects.filter(stream=stream).values_list("first_ns", "pk"))
    assert len(before) == 3
    batch(stream, [store.SEGMENT_SAMPLES + 5], [-1])
    folding.fold()
    after = dict(Segment.objects.filter(stream=stream).values_list("first_ns", "pk"))
    assert [before[t] == after[t] for t in sorted(before)] == [True, False, True]
    assert read(stream, store.SEGMENT_SAMPLES + 5, store.SEGMENT_SAMPLES + 6) == {
        store.SEGMENT_SAMPLES + 5: -1, store.SEGMENT_SAMPLES + 6: store.SEGMENT_SAMPLES + 6,
    }  # fmt: skip


def test_a_large_batch_is_cut_into_blocks_and_read_whole(stream, monkeypatch):
    monkeypatch.setattr(store, "BLOCK_SAMPLES", 100)
    row = batch(stream, np.arange(950), np.arange(950))
    assert row.blocks.count() == 10
    assert len(read(stream)) == 950 and read(stream, 99, 101) == {99: 99, 100: 100, 101: 101}


def test_the_digest_is_the_same_however_the_samples_are_cut(stream):
    rng = np.random.default_rng(0)
    times, values = np.arange(500) * HOUR, rng.normal(size=500)
    values[7] = np.nan
    whole = store.digest(times, values)
    batch(stream, np.arange(250), values[:250])
    folding.fold()
    batch(stream, np.arange(250, 500), values[250:])
    assert store.digest(*store.read(stream.pk)) == whole
    other = values.copy()
    other[499] += 1e-12
    assert store.digest(times, other) != whole


def test_packed_samples_come_back_exactly():
    times = np.array([-5, 0, 7, 2**60], np.int64)
    values = np.array([0.1 + 0.2, -0.0, np.nan, 1e308])
    t, v = store.unpack(store.pack(times, values))
    assert np.array_equal(t, times) and np.array_equal(v, values, equal_nan=True)
