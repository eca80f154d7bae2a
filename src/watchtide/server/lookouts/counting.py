"""What became of a lookout's notices: how many were real, by the logbook, and how soon somebody looked."""

from statistics import median
from typing import Any

from django.db.models import Min

from watchtide.core.scoring import notices
from watchtide.core.scoring.rows import Finding
from watchtide.server.logbook import services as logbook
from watchtide.server.lookouts.models import BEGAN, REMINDER, SENT, Delivery, Lookout, Raised

# Of the latest so many notices.
MOST = 2_000


def as_finding(raised: Raised) -> Finding:
    """What scoring needs of a finding that was announced."""
    return Finding(raised.stream.key, raised.start_ns, raised.end_ns, raised.kind, raised.direction)


def of(lookout: Lookout) -> dict[str, Any]:
    """Precision of what was sent, with its interval and counts, and the median time until a link of it was opened."""
    sent = Delivery.objects.filter(
        state=SENT, notice__lookout=lookout, notice__kind__in=(BEGAN, REMINDER), notice__group__isnull=False
    )
    newest = sent.order_by("-notice__group").values_list("notice__group", flat=True).distinct()[:MOST]
    begun = lookout.groups.filter(pk__in=list(newest)).annotate(begun=Min("notices__created_at"))
    groups = list(begun.prefetch_related("raised__stream"))
    states = notices.states([[as_finding(r) for r in g.raised.all()] for g in groups], logbook.labels())
    waits = [(g.opened_at - g.begun).total_seconds() for g in groups if g.opened_at is not None]
    return {
        "sent": len(groups),
        **notices.counts(states),
        "opened": len(waits),
        "opened_after_s": median(waits) if waits else None,
    }
