"""Pages fetched on a schedule: OpenMetrics text and calendars, with back-off and the last status."""

from datetime import timedelta
from typing import Any

from django.db import transaction

from watchtide.core.series import SECOND_NS
from watchtide.server import moments, outgoing
from watchtide.server.jobs import services as jobs
from watchtide.server.problems import Problem
from watchtide.server.streams import calendars, live
from watchtide.server.streams.models import Feed
from watchtide.tables import clock, openmetrics
from watchtide.tables.problems import TableError

MOST_BYTES = 32 << 20
ACCEPT = "application/openmetrics-text; version=1.0.0, text/plain; version=0.0.4; q=0.5"
LEAST_EVERY_S, MOST_EVERY_S = 5, 7 * 86_400
MOST_BACK_OFF_S = 3_600


def check(data: dict[str, Any]) -> None:
    """Refuse a feed that could never work: its schedule, zone and address. Raises Problem."""
    if not LEAST_EVERY_S <= data["every_s"] <= MOST_EVERY_S:
        raise Problem(
            f"every {data['every_s']} s", place="every_s", remedy=f"take {LEAST_EVERY_S} s to 7 days"
        )
    if not 1 <= data["timeout_s"] <= 60:
        raise Problem(f"a timeout of {data['timeout_s']} s", place="timeout_s", remedy="take 1 to 60 s")
    clock.zone(data.get("zone") or "UTC")
    outgoing.checked(data["url"], "url")


def due() -> list[Feed]:
    return list(Feed.objects.filter(is_on=True).filter(next_at__lte=moments.now()).order_by("next_at")[:50])


def pull(feed: Feed) -> bool:
    """Fetch a feed once and take in what it holds. Whatever happens, its row says so and when it is due again; True when all
    went well."""
    started = moments.now()
    count, words, is_fine = 0, "failed for a reason that is in the log", False
    try:
        count, words = _take_metrics(feed) if feed.kind == "metrics" else _take_calendar(feed)
        is_fine = True
    except (outgoing.NotAllowed, outgoing.Failed, Problem) as error:
        words = str(error)
    except TableError as error:
        words = f"{error.place}: {error.message}".strip(": ")
    finally:
        _keep_outcome(feed, started, count, words, is_fine=is_fine)
    return is_fine


def _keep_outcome(feed: Feed, started: Any, count: int, words: str, *, is_fine: bool) -> None:
    failures = 0 if is_fine else feed.failures + 1
    # Each failure doubles the wait, up to an hour beyond the usual one.
    wait = (
        feed.every_s
        if is_fine
        else min(feed.every_s * 2 ** min(failures, 12), feed.every_s + MOST_BACK_OFF_S)
    )
    Feed.objects.filter(pk=feed.pk).update(
        last_at=started, last_status=words[:300], last_samples=count, is_fine=is_fine, failures=failures,
        next_at=started + timedelta(seconds=wait),
    )  # fmt: skip
    if is_fine != feed.is_fine:
        jobs.tell("feed", feed.pk)


def _take_metrics(feed: Feed) -> tuple[int, str]:
    answer = outgoing.fetch(feed.url, timeout_s=feed.timeout_s, most_bytes=MOST_BYTES, accept=ACCEPT)
    now_ns = moments.now_ns()
    # Stamps fall on the feed's own grid, so that a stream keeps its cadence however the fetches jitter.
    now_ns -= now_ns % (feed.every_s * SECOND_NS)
    try:
        text = answer.body.decode()
    except UnicodeDecodeError as error:
        raise TableError("page", "", "not UTF-8 text", "report it to its owner") from error
    is_open = openmetrics.OPEN in answer.content_type or text.rstrip().endswith("# EOF")
    extra = [(str(k), str(v)) for k, v in feed.attributes.items()]
    points = openmetrics.parse(text, now_ns=now_ns, is_open=is_open, extra=extra)
    taken = live.take(
        points, key=f"pull {feed.pk} {now_ns}", source=f"feed {feed.name}", door="pull", user=feed.created_by, zone=feed.zone
    )  # fmt: skip
    if taken.is_repeat:
        # Two fetches on one step of the feed's grid would put two values under one stamp.
        return 0, f"fetched already within these {feed.every_s} s; nothing new is stored"
    words = f"{taken.points:,} samples" + (f"; refused {points.refusals}" if points.refused else "")
    return taken.points, words


def _take_calendar(feed: Feed) -> tuple[int, str]:
    answer = outgoing.fetch(feed.url, timeout_s=feed.timeout_s, most_bytes=MOST_BYTES, accept="text/calendar")
    calendar, is_new = calendars.keep(feed.name, answer.body, feed.zone, feed.created_by)
    return calendar.events, f"{calendar.events:,} events" + ("" if is_new else ", unchanged")


@transaction.atomic
def pull_now(feed: Feed) -> None:
    """Have a feed fetched with the next round."""
    Feed.objects.filter(pk=feed.pk).update(next_at=moments.now())
