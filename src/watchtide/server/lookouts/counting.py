"""What became of a lookout's notices: how many were real, by the logbook, and how soon somebody looked."""

from collections.abc import Iterable
from statistics import median
from typing import Any

from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.rows import Coverage
from watchtide.server.logbook import services as logbook
from watchtide.server.lookouts.models import BEGAN, SENT, Delivery, Lookout

REAL, NOT_REAL, LEFT_OUT, OPEN = "real", "not real", "left out", "open"
# Of the latest so many notices.
MOST = 2_000


def verdict_of(spans: Iterable[tuple[str, int, int]], coverage: Coverage) -> str:
    """The logbook's verdict on a notice, as scorecards count: an incident goes before unsure, and that before the rest. What was
    looked through in full holds nothing but what stands there; so does everything where no span is marked as looked through.

    spans : series, first and last stamp of each finding.
    """
    found = set()
    for key, start, end in spans:
        found |= {x.verdict for _, x in coverage[key].rows if x.start <= end and x.end >= start}
    if "incident" in found:
        return REAL
    if "unsure" in found:
        return LEFT_OUT
    is_looked_through = bool(coverage.labels) and all(x.verdict != "reviewed" for x in coverage.labels)
    return NOT_REAL if found or is_looked_through else OPEN


def of(lookout: Lookout) -> dict[str, Any]:
    """Precision of what was sent, with its interval and counts, and the median time until a link of it was opened."""
    sent = Delivery.objects.filter(
        state=SENT, notice__lookout=lookout, notice__kind=BEGAN, notice__group__isnull=False
    )
    newest = sent.order_by("-notice__group").values_list("notice__group", flat=True).distinct()[:MOST]
    groups = list(lookout.groups.filter(pk__in=list(newest)).prefetch_related("raised__stream", "notices"))
    coverage = Coverage(logbook.labels())
    verdicts = [
        verdict_of(((r.stream.key, r.start_ns, r.end_ns) for r in group.raised.all()), coverage)
        for group in groups
    ]
    real, wrong = verdicts.count(REAL), verdicts.count(NOT_REAL)
    waits = [
        (group.opened_at - min(n.created_at for n in group.notices.all())).total_seconds()
        for group in groups
        if group.opened_at is not None and group.notices.all()
    ]
    return {
        "sent": len(groups),
        "real": real,
        "not_real": wrong,
        "left_out": verdicts.count(LEFT_OUT),
        "open": verdicts.count(OPEN),
        "precision": real / (real + wrong) if real + wrong else None,
        "precision_ci": as_list(wilson(real, real + wrong)),
        "opened": len(waits),
        "opened_after_s": median(waits) if waits else None,
    }
