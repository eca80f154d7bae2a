"""The outbox emptied: each delivery claimed, tried, and its attempt written down; again after growing pauses, for a day."""

import base64
import hashlib
import hmac
import json
import secrets
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import structlog
from django.db import connection, transaction
from django.db.models import F, Q

from watchtide.server import moments, outgoing
from watchtide.server.jobs import services as jobs
from watchtide.server.lookouts import mail, notices
from watchtide.server.lookouts.models import (
    FAILED,
    HOOK,
    LIMIT,
    LOOK,
    MAIL,
    RESUMED,
    SENT,
    SILENCE,
    TEST,
    WAITING,
    Delivery,
    Notice,
    Route,
)
from watchtide.tables import clock, cloudevents

log = structlog.stdlib.get_logger("watchtide.outbox")
TIMEOUT_S = 15.0
# A delivery whose sender was lost is free again after this: longer than any try takes.
CLAIM = timedelta(seconds=60)
# Pauses between tries; the last one is repeated until a day is over.
PAUSES = [timedelta(seconds=s) for s in (10, 30, 120, 600, 1_800, 3_600)]
GIVE_UP = timedelta(days=1)
AT_ONCE, MOST_AT_ONCE = 20, 500
MOST_ATTEMPTS_KEPT = 60
# What a notice is about, where it is about no finding.
ABOUT = {TEST: "notice", SILENCE: "stream", RESUMED: "stream", LIMIT: "stream", LOOK: "period"}


class Sending:
    """Deliveries that are due, each in a thread: a slow receiver holds up neither the others nor what else is to be done."""

    def __init__(self, threads: int = AT_ONCE) -> None:
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="outbox")
        self._running: dict[int, Future[None]] = {}

    def __call__(self) -> None:
        notices.join_rest()
        self._running = {pk: f for pk, f in self._running.items() if not f.done()}
        for pk in _claim(AT_ONCE - len(self._running)):
            self._running[pk] = self._pool.submit(_in_thread, pk)


def send_due() -> int:
    """Try everything that is due, one after another. Returns how many were tried."""
    notices.join_rest()
    found = _claim(MOST_AT_ONCE)
    for pk in found:
        _attempt(pk)
    return len(found)


def _in_thread(pk: int) -> None:
    try:
        _attempt(pk)
    finally:
        connection.close()


def _claim(most: int) -> list[int]:
    """Numbers of deliveries that are due and nobody's, now ours for a while."""
    if most < 1:
        return []
    now = moments.now()
    free = Q(claimed_until=None) | Q(claimed_until__lt=now)
    with transaction.atomic():
        rows = Delivery.objects.select_for_update(skip_locked=True).filter(
            free, state=WAITING, due_at__lte=now
        )
        found = list(rows.order_by("due_at").values_list("pk", flat=True)[:most])
        Delivery.objects.filter(pk__in=found).update(claimed_until=now + CLAIM)
    return found


def _attempt(pk: int) -> None:
    try:
        row = Delivery.objects.select_related("notice", "route").get(pk=pk)
        failure = None
        try:
            deliver(row.notice, row.route)
        except (outgoing.NotAllowed, outgoing.Failed) as error:
            failure = str(error)[:300]
        _keep(row, failure)
    except Exception:
        # The claim runs out, and it is tried again.
        log.exception("a delivery could not be tried", delivery=pk)


def _keep(row: Delivery, failure: str | None) -> None:
    """Write an attempt down, and when the next one is due. failure : what went wrong, None where nothing did."""
    now = moments.now()
    attempt = {
        "at": clock.format_time(moments.ns_of(now)),
        "outcome": "sent" if failure is None else "failed",
        "detail": failure or "",
    }
    attempts = [*row.attempts, attempt][-MOST_ATTEMPTS_KEPT:]
    changes: dict[str, Any] = {"attempts": attempts, "claimed_until": None}
    if failure is None:
        changes |= {"state": SENT, "due_at": None}
    elif now - row.created_at >= GIVE_UP:
        changes |= {"state": FAILED, "due_at": None}
    else:
        changes["due_at"] = now + PAUSES[min(len(row.attempts), len(PAUSES) - 1)]
    with transaction.atomic():
        Delivery.objects.filter(pk=row.pk).update(**changes)
        if failure is None:
            Route.objects.filter(pk=row.route_id).update(failures=0, failing_since=None, last_detail="")
        else:
            Route.objects.filter(pk=row.route_id).update(failures=F("failures") + 1, last_detail=failure)
            Route.objects.filter(pk=row.route_id, failing_since=None).update(failing_since=now)
    jobs.tell("outbox", row.pk)


def deliver(notice: Notice, route: Route) -> None:
    """One message to one route. Raises outgoing.NotAllowed or outgoing.Failed."""
    if route.kind == MAIL:
        mail.send(notice, route)
        return
    if route.kind == HOOK:
        body = json.dumps(event_of(notice, route)).encode()
        headers = {"Content-Type": cloudevents.CONTENT_TYPE} | signature(route.secret, notice.uid, body)
    else:
        body = json.dumps({"text": chat_text(notice)}).encode()
        headers = {"Content-Type": "application/json"}
    outgoing.send(route.to, body, headers, timeout_s=TIMEOUT_S)


def event_of(notice: Notice, route: Route) -> dict[str, Any]:
    """A notice as CloudEvents 1.0 in structured mode; the id stays in every attempt."""
    about = ABOUT.get(notice.kind, "finding")
    data: dict[str, Any] = {"title": notice.title, "text": notice.text, **_named(notice.finding)}
    if route.has_points and notice.points:
        data["points_csv"] = notice.points
    if notice.more:
        data["more"] = notice.more
    if notice.kind in (LIMIT, LOOK):
        data |= notice.facts
    return cloudevents.event(
        f"watchtide.{about}.{notice.kind}",
        f"/api/v1/lookouts/{notice.lookout_id}" if notice.lookout_id else "/api/v1/routes",
        notice.uid,
        clock.format_time(moments.ns_of(notice.created_at)),
        notice.subject or route.name,
        data,
    )


def _named(finding: dict[str, Any]) -> dict[str, Any]:
    """A finding as answers have it: times in ISO 8601."""
    times = ("start", "end", "peak_time", "raised")
    return {k: clock.format_time(v) if k in times and v is not None else v for k, v in finding.items()}


def chat_text(notice: Notice) -> str:
    more = "".join(f" Also: {title}." for title in notice.more)
    return f"{notice.title}. {notice.text}{more}".strip()


def new_secret() -> str:
    """A key for signing, in the form that Standard Webhooks gives it."""
    return f"whsec_{base64.b64encode(secrets.token_bytes(32)).decode()}"


def signature(secret: str, uid: str, body: bytes) -> dict[str, str]:
    """The headers by which a receiver knows a hook's message for ours (Standard Webhooks, symmetric)."""
    stamp = str(moments.now_ns() // 10**9)
    key = base64.b64decode(secret.removeprefix("whsec_"))
    signed = hmac.new(key, f"{uid}.{stamp}.".encode() + body, hashlib.sha256).digest()
    proof = f"v1,{base64.b64encode(signed).decode()}"
    return {"webhook-id": uid, "webhook-timestamp": stamp, "webhook-signature": proof}


def resend(row: Delivery) -> None:
    """Try it again now, whatever became of it."""
    # Whoever is just at it keeps it: its outcome then counts.
    Delivery.objects.filter(pk=row.pk).update(state=WAITING, is_beyond=False, due_at=moments.now())
