"""What comes for streams, out of the blocks it came in: a worker sees each sample once, without reading a stream's history."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Max

from watchtide.core.series import Floats, Ints
from watchtide.server import moments
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Block

# A batch is seen this long after it was accepted at the latest: its transaction ends with that.
LONGEST_COMMIT = timedelta(minutes=2)
# A worker that another one relieved for longer has too much to catch up with.
LONGEST_ABSENCE = timedelta(minutes=30)
# Larger blocks are of histories; what they change is for the whole.
MOST_SAMPLES = 100_000

Arrived = tuple[int, Ints, Floats]


@dataclass
class Arrivals:
    """Blocks that were accepted since the last look. known : those of the newest minutes that were seen; gone : when a batch
    was last taken back, and last put into quarantine."""

    looked_at: datetime | None = None
    known: frozenset[int] = frozenset()
    gone: tuple[datetime | None, datetime | None] = (None, None)

    def look(self) -> list[Arrived] | None:
        """(stream, times, values) that have come since the last look, in the order in which they count. None where other samples
        may have changed too: at the first look, after a large block or a long absence, and where a batch was taken back."""
        before, now = self.looked_at, moments.now()
        found = Block.objects.filter(
            batch__accepted_at__gte=(before or now) - LONGEST_COMMIT, batch__quarantined_at__isnull=True
        )
        ordered = found.order_by("batch__accepted_at", "batch_id", "pk")
        rows = list(ordered.values_list("pk", "samples", "batch__accepted_at"))
        fresh = [(pk, samples) for pk, samples, _ in rows if pk not in self.known]
        gone = Batch.objects.aggregate(undone=Max("undone_at"), aside=Max("quarantined_at"))
        is_broken = (
            before is None
            or now - before > LONGEST_ABSENCE
            or self.gone != (gone["undone"], gone["aside"])
            or any(samples > MOST_SAMPLES for _, samples in fresh)
        )
        self.looked_at, self.gone = now, (gone["undone"], gone["aside"])
        self.known = frozenset(pk for pk, _, at in rows if at >= now - 2 * LONGEST_COMMIT)
        return None if is_broken else _samples_of([pk for pk, _ in fresh])


def _samples_of(blocks: Sequence[int]) -> list[Arrived]:
    """The samples of blocks, in their order, stream by stream."""
    found = Block.objects.in_bulk(blocks)
    return [
        arrived
        for pk in blocks
        if pk in found
        for arrived in store.of_streams(
            bytes(found[pk].payload), store.Index.from_bytes(bytes(found[pk].index))
        )
    ]
