"""Changes of what was known already: a batch taken back, or a file with samples that may lie behind the newest ones."""

from collections.abc import Mapping
from dataclasses import dataclass

from django.dispatch import Signal

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


def report(batch: Batch, why: str, spans: Mapping[int, tuple[int, int]]) -> None:
    """Say which spans of which streams a batch has touched, as `renewing.spans_of` gives them. What only goes on, or begins,
    corrects nothing, which only those know who rest on it."""
    if spans:
        corrected.send(Batch, change=Corrected(batch, why, {pk: first for pk, (first, _) in spans.items()}))
