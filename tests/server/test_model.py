"""The store against a plain model: whatever is written, folded and read, in whatever pieces."""

import numpy as np
import pytest
from django.utils import timezone
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.server.streams import folding, store, undoing
from watchtide.server.streams.models import Batch, Block, Segment, Stream
from watchtide.tables.extract import without_doubles

pytestmark = pytest.mark.django_db
MINUTE = 60 * 10**9
ENTRIES = st.lists(
    st.tuples(st.integers(0, 3), st.integers(0, 30), st.one_of(st.none(), st.integers(-9, 9))),
    min_size=1,
    max_size=60,
)


def new_stream(n):
    key = f"metric=model,n={n}"
    return Stream.objects.get_or_create(key_sha=f"{n:064d}", defaults={"metric": "model", "key": key})[0].pk


def batch_of(entries, streams, rule, block):
    row = Batch.objects.create(
        key=f"model-{Batch.objects.count()}-{np.random.default_rng().integers(1 << 60)}", source="m"
    )
    writer = store.BlockWriter(row, rule, block_samples=block)
    for s, t, v in entries:
        value = np.nan if v is None else float(v)
        writer.add(np.array([streams[s]]), np.array([t * MINUTE]), np.array([value]))
    writer.finish()
    Batch.objects.filter(pk=row.pk).update(accepted_at=timezone.now())


def plain(entries, rule):
    """{stream: {minute: value}} of one batch by its rule, row by row."""
    rows = {}
    for s, t, v in entries:
        rows.setdefault((s, t), []).append(np.nan if v is None else float(v))
    seen = {k: [x for x in v if not np.isnan(x)] for k, v in rows.items()}
    mean = {k: float(np.mean(v)) if v else np.nan for k, v in seen.items()}
    return {
        "first": {k: v[0] for k, v in rows.items()},
        "last": {k: v[-1] for k, v in rows.items()},
        "mean": mean,
    }[rule]


@given(
    st.lists(ENTRIES, min_size=1, max_size=4),
    st.sampled_from(["mean", "first", "last"]),
    st.integers(1, 40),
    st.data(),
)
@settings(max_examples=40, deadline=None)
def test_any_batches_in_any_pieces_read_as_the_model_says(small_world, batches, rule, block, data):
    Stream.objects.filter(metric="model").delete()
    Batch.objects.filter(source="m").delete()
    streams = [new_stream(n) for n in range(4)]
    model = {}
    for entries in batches:
        batch_of(entries, streams, rule, block)
        model |= plain(entries, rule)
        if data.draw(st.booleans()):
            folding.fold(group_samples=data.draw(st.integers(1, 100)))
    for n, pk in enumerate(streams):
        expected = dict(sorted((t, v) for (s, t), v in model.items() if s == n))
        times, values = store.read(pk)
        assert (times // MINUTE).tolist() == list(expected)
        assert np.allclose(values, list(expected.values()), equal_nan=True)
        a, b = sorted((data.draw(st.integers(-1, 31)), data.draw(st.integers(-1, 31))))
        inside, _ = store.read(pk, a * MINUTE, b * MINUTE)
        assert (inside // MINUTE).tolist() == [t for t in expected if a <= t <= b]


def test_a_batch_folded_in_pieces_keeps_all_that_it_wrote_over(small_world):
    stream = new_stream(1)
    streams = [stream]
    batch_of([(0, t, 1) for t in range(6)], streams, "last", 40)
    folding.fold()
    # Blocks of two samples, each folded by itself, and each writing over something.
    batch_of([(0, t, 2) for t in range(6)], streams, "last", 2)
    folding.fold(group_samples=2)
    newest = Batch.objects.filter(source="m").latest("pk")
    assert newest.displaced.count() == 1 and store.read(stream)[1].tolist() == [2.0] * 6
    undoing.undo(newest, None)
    assert store.read(stream)[1].tolist() == [1.0] * 6


def test_an_index_finds_every_stream_and_no_other():
    rng = np.random.default_rng(0)
    streams = np.sort(rng.choice(1_000, 300)).astype(np.int64) * 7
    times = np.arange(300) * MINUTE
    payload, index = store.make_block(streams, times, rng.normal(size=300))
    again = store.Index.from_bytes(index.to_bytes())
    assert np.array_equal(again.entries, index.entries) and np.array_equal(again.frames, index.frames)
    for s in np.unique(streams):
        entry = again.find(int(s))
        assert entry is not None and entry["count"] == (streams == s).sum() and again.find(int(s) + 1) is None
    assert np.array_equal(store.read_frames(payload, again)[0], times)


def test_one_streams_samples_are_fetched_without_the_rest_of_a_large_block(
    small_world, django_assert_max_num_queries
):
    stream, other = new_stream(1), new_stream(2)
    row = Batch.objects.create(key="large-block", source="m")
    n = 5 * store.SEGMENT_SAMPLES
    store.write_blocks(
        row,
        [(stream, np.arange(n) * MINUTE, np.arange(n * 1.0)), (other, np.arange(10) * MINUTE, np.ones(10))],
    )
    Batch.objects.filter(pk=row.pk).update(accepted_at=timezone.now())
    block = Block.objects.get(batch=row)
    index = store.Index.from_bytes(bytes(block.index))
    entry = index.find(other)
    first, stop, _ = index.bytes_of(entry, len(block.payload))
    assert stop - first < len(block.payload) / 4
    with django_assert_max_num_queries(8):
        assert len(store.read(other)[0]) == 10


def test_a_fold_of_a_stream_deleted_meanwhile_drops_it_and_goes_on(small_world):
    gone, stays = new_stream(1), new_stream(2)
    row = Batch.objects.create(key="gone-stream", source="m", accepted_at=timezone.now())
    store.write_blocks(row, [(s, np.arange(5) * MINUTE, np.ones(5)) for s in (gone, stays)])
    Stream.objects.filter(pk=gone).delete()
    assert folding.fold() == 10
    assert len(store.read(stays)[0]) == 5 and not Segment.objects.filter(stream_id=gone).exists()


def test_live_samples_are_folded_when_many_or_old_and_files_by_their_job(small_world):
    from datetime import timedelta

    from watchtide.server.streams import keeping

    stream = new_stream(1)
    row = Batch.objects.create(key="fold-due", source="m", door="push", streams=1, accepted_at=timezone.now())
    store.write_blocks(row, [(stream, np.arange(5) * MINUTE, np.ones(5))])
    assert not keeping.is_fold_due()
    Batch.objects.filter(pk=row.pk).update(accepted_at=timezone.now() - timedelta(seconds=30))
    assert keeping.is_fold_due()
    Batch.objects.filter(pk=row.pk).update(streams=10_000)
    assert not keeping.is_fold_due()
    Batch.objects.filter(pk=row.pk).update(door="file", accepted_at=timezone.now() - timedelta(days=1))
    assert not keeping.is_fold_due()


@given(st.lists(st.tuples(st.integers(0, 6), st.floats(-5, 5)), min_size=1, max_size=30))
def test_equal_stamps_combine_the_same_in_any_order_but_for_first_and_last(rows):
    times, values = (np.array(x) for x in zip(*rows, strict=True))
    mixed = np.random.default_rng(0).permutation(len(rows))
    t1, v1, n1 = without_doubles(times, values, "mean")
    t2, v2, n2 = without_doubles(times[mixed], values[mixed], "mean")
    assert np.array_equal(t1, t2) and np.allclose(v1, v2) and np.array_equal(n1, n2) and n1.sum() == len(rows)
    _, first, _ = without_doubles(times, values, "first")
    _, last, _ = without_doubles(times[::-1], values[::-1], "last")
    assert np.array_equal(first, last)
