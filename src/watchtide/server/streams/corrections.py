"""Changes of what was known already: a batch taken back, or a file with samples that may lie behind the newest ones."""

from collections.abc import Mapping
from dataclasses import dataclass

from django.dispatch import Signal

from watchtide.server.streams import store
from watchtide.server.streams.models import Batch

IMPORTED, UNDONE = "imported", "undone"


@dataclass(frozen=True)
class Corrected:
    """why : IMPORTED or UNDONE; first_ns : by stream, the first stamp that may have changed."""

    batch: Batch
    why: str
    first_ns: Mapping[int, int]


# Sent as `change` within the transaction that makes the change.
corrected = Signal()


def firsts_of(batch: Batch) -> dict[int, int]:
    """The first stamp of each stream in a batch, out of its blocks."""
    out: dict[int, int] = {}
    for data in batch.blocks.values_list("index", flat=True):
        entries = store.Index.from_bytes(bytes(data)).entries
        for stream, first in zip(entries["stream"].tolist(), entries["first"].tolist(), strict=True):
            out[stream] = min(out.get(stream, first), first)
    return out


def report(batch: Batch, why: str, firsts: Mapping[int, int]) -> None:
    """Tell whoever rests on these streams. firsts : the first stamp of each stream in the batch; what only goes on, or begins,
    corrects nothing, which only they know."""
    if firsts:
        corrected.send(Batch, change=Corrected(batch, why, firsts))
