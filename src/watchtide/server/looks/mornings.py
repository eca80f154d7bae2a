"""The look that is sent each morning: one a period, when that has ended and the hour has come."""

from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import structlog
from django.db import transaction

from watchtide.server import moments
from watchtide.server.lookouts import models, notices
from watchtide.server.lookouts.models import Notice
from watchtide.server.lookouts.wording import figure, signed
from watchtide.server.looks import services
from watchtide.server.looks.models import Morning
from watchtide.server.looks.services import Wanted
from watchtide.server.problems import Problem
from watchtide.tables import clock

log = structlog.stdlib.get_logger("watchtide.looks")
Row = dict[str, Any]


def wanted_of(morning: Morning) -> Wanted:
    return Wanted(
        by=morning.by,  # type: ignore[arg-type]
        n=morning.n,
        stream=morning.stream_id,
        metric=morning.metric,
        attributes=morning.attributes,
    )


class Mornings:
    """Looks that are due made into notices. What is late is looked at again only when something new has come."""

    def __init__(self) -> None:
        self._tried: dict[int, int] = {}

    def __call__(self) -> int:
        """Returns how many were due and could be made."""
        now = moments.now()
        count = 0
        for morning in Morning.objects.select_related("route", "stream"):
            if not _is_due(morning, now):
                continue
            try:
                newest = services.newest_of(wanted_of(morning).streams())
                if newest > self._tried.get(morning.pk, -1):
                    self._tried[morning.pk] = newest
                    count += _send(morning)
            except Problem as error:
                # Nothing is finished yet, or its streams are gone.
                log.warning("a look could not be made", look=morning.pk, why=error.body["title"])
        return count


def _is_due(morning: Morning, now: datetime) -> bool:
    """Whether its hour has come today and the latest finished period was not sent. A week's look is sent on its first day."""
    local = now.astimezone(ZoneInfo(morning.zone))
    if local.time() < morning.at:
        return False
    midnight = local.replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None)
    back = 1 if morning.by == "day" else local.weekday() + 7
    begin = (midnight - timedelta(days=back)).replace(tzinfo=ZoneInfo(morning.zone))
    return morning.sent_for is None or morning.sent_for < moments.ns_of(begin)


def _send(morning: Morning) -> int:
    got = services.look(wanted_of(morning))
    start = moments.ns(got["start"])
    if morning.sent_for is not None and start <= morning.sent_for:
        return 0
    with transaction.atomic():
        # Whoever else is just at it finds it sent.
        fresh = Morning.objects.filter(pk=morning.pk, sent_for=morning.sent_for)
        if not fresh.update(sent_for=start):
            return 0
        notice = Notice(
            kind=models.LOOK,
            stream=morning.stream,
            title=title_of(got),
            text=words_of(got),
            facts={"look": plain(got)},
        )
        notices.put(notice, [morning.route])
    return 1


def title_of(got: Row) -> str:
    """What is looked at, and which period."""
    start = moments.local(moments.ns(got["start"]), got["zone"])
    when = f"{start:%A %-d %b}" if got["by"] == "day" else f"the week from {start:%a %-d %b}"
    return f"{got['title']}, {when}"


def words_of(got: Row) -> str:
    """How it compares, in a sentence or two."""
    unit = f" {got['unit']}" if got["unit"] else ""
    name = {"day": "the same weekday", "week": "the week"}[got["by"]]
    words = [f"{_seen(got['value'])}{unit}{'' if got['adds_up'] else ' on average'}."]
    if got["usual"] is not None:
        count = sum(not b["left_out"] for b in got["beside"])
        words.append(f"Usual is {figure(got['usual'])}, by {name} of {count} weeks before.")
    if got["lower"] is not None:
        limits = f"{figure(got['lower'])} to {figure(got['upper'])}"
        if not got["outside"]:
            words.append(f"Within its limits, {limits}.")
        else:
            side = "the bad side" if got["is_bad"] else "the good side"
            words.append(f"{got['outside'].capitalize()} its limits, {limits}: {side}.")
    for sign, name in ((got["up"], "up"), (got["down"], "down")):
        if sign:
            parts = ", ".join(f"{r['name']} ({signed(r['change'])})" for r in sign[:3])
            words.append(f"Pushed {name} most: {parts}.")
    if got["seen"] < 0.9:
        words.append(f"Only {100 * got['seen']:.0f} % of it was seen.")
    return " ".join(words)


def _seen(value: float | None) -> str:
    return "nothing" if value is None else figure(value)


def plain(got: Row) -> Row:
    """A look as a notice keeps it: without the past periods, times as text."""
    out = {k: v for k, v in got.items() if k != "periods"}
    out["beside"] = [b | {"start": _text(b["start"])} for b in got["beside"]]
    return out | {k: _text(got[k]) for k in ("start", "end")}


def _text(moment: Any) -> str:
    return clock.format_time(moments.ns(moment))
