"""What comes for streams, out of the blocks it came in: a worker sees each sample once, without reading a stream's history."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from itertools import pairwise

from django.db.models import Max

from watchtide.core.series import Floats, Ints
from watchtide.server import moments
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Block

# A batch is seen this long after it was accepted at the latest: its transaction ends with that.
LONGEST_COMMIT = timedelta(minutes=2)
# Larger blocks are of histories; what they change is for the whole.
MOST_SAMPLES = 100_000

Samples = tuple[Ints, Floats]


@dataclass
class Arrivals:
    """Blocks that were accepted since the last look. known : those of the newest minutes that were seen; undone : when a batch
    was last taken back or put into quarantine."""

    looked_at: datetime | None = None
    known: frozenset[int] = frozenset()
    undone: tuple[datetime | None, datetime | None] = (None, None)
    is_broken: bool = field(default=True, init=False)

    def look(self) -> Iterator[tuple[int, Samples]]:
        """(stream, samples) that have come since the last look, in the order in which they count. Then `is_broken` says whether
        there may be others too: at the first look, after a large block, and where a batch was taken back."""
        now = moments.now()
        since = now - LONGEST_COMMIT if self.looked_at is None else self.looked_at - LONGEST_COMMIT
        undone = Batch.objects.aggregate(undone=Max("undone_at"), aside=Max("quarantined_at"))
        marks = undone["undone"], undone["aside"]
        found = Block.objects.filter(batch__accepted_at__gte=since, batch__quarantined_at__isnull=True)
        rows = list(
            found.order_by("batch__accepted_at", "batch_id", "pk").values_list(
                "pk", "samples", "batch__accepted_at"
            )
        )
        fresh = [(pk, samples) for pk, samples, _ in rows if pk not in self.known]
        self.is_broken = (
            self.looked_at is None
            or now - self.looked_at > LONGEST_COMMIT
            or marks != self.undone
            or any(samples > MOST_SAMPLES for _, samples in fresh)
        )
        self.looked_at, self.undone = now, marks
        self.known = frozenset(pk for pk, _, at in rows if at >= now - 2 * LONGEST_COMMIT)
        if not self.is_broken:
            for pk, _ in fresh:
                yield from _samples_of(pk)


def _samples_of(pk: int) -> Iterator[tuple[int, Samples]]:
    """The samples of a block, stream by stream."""
    row = Block.objects.filter(pk=pk).values_list("payload", "index").first()
    if row is None:
        return
    index = store.Index.from_bytes(bytes(row[1]))
    times, values = store.read_frames(bytes(row[0]), index)
    entries = index.entries
    edges = [*entries["start"].tolist(), len(times)]
    for stream, (a, b) in zip(entries["stream"].tolist(), pairwise(edges), strict=True):
        yield stream, (times[a:b], values[a:b])
