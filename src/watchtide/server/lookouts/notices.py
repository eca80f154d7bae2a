"""What is to be announced: one notice for findings that begin together, one when they are over, and of silence. A notice is a row
before it is a message, written in the transaction that writes what was judged."""

import secrets
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from watchtide.core import incidents, keys
from watchtide.core.incidents import Piece
from watchtide.plan import Plan, durations
from watchtide.server import moments
from watchtide.server.logbook.models import Quiet
from watchtide.server.lookouts.models import (
    BEGAN,
    ENDED,
    HELD,
    REMINDER,
    RESUMED,
    SILENCE,
    SILENT,
    WAITING,
    Delivery,
    Group,
    Lookout,
    Notice,
    Raised,
    Route,
    Watched,
)  # fmt: skip
from watchtide.server.lookouts.services import NOTIFY
from watchtide.tables import clock

Row = dict[str, Any]


@dataclass(frozen=True)
class Wishes:
    """What a lookout announces. remind : how often while something lasts, None for never."""

    began: bool
    ended: bool
    silent: bool
    together: bool
    remind: timedelta | None

    @classmethod
    def of(cls, lookout: Lookout) -> "Wishes":
        given = NOTIFY | lookout.notify
        text = given["remind"]
        remind = timedelta(microseconds=durations.parse_ns(text) // 1_000) if text else None
        return cls(given["began"], given["ended"], given["silent"], given["together"], remind)


def note(watched: Watched, changes: Row, plan: Plan) -> None:
    """Put down what of a judged stream's changes is to be announced. Within the transaction that writes them."""
    wishes = Wishes.of(watched.lookout)
    if "findings" in changes:
        through = changes["judged_through_ns"]
        step = max((changes.get("next_ns") or through) - through, 1)
        merge = durations.parse_ns(plan.group.merge, step_ns=step) + step
        known = watched.known_ns
        for finding in changes["findings"]:
            if known is None or (finding["raised"] or finding["end"]) > known:
                _one(watched, finding, wishes, is_over=finding["end"] + merge < through)
    before, now = watched.state, changes.get("state", watched.state)
    if before != now and wishes.silent and watched.judged_through_ns is not None:
        if now == SILENT:
            _announce(watched, SILENCE, f"{watched.stream.name} is silent", changes["why"])
        elif before == SILENT:
            _announce(watched, RESUMED, f"{watched.stream.name} sends again", changes.get("why", ""))


def _one(watched: Watched, finding: Row, wishes: Wishes, *, is_over: bool) -> None:
    lookout, stream = watched.lookout, watched.stream
    place = {
        "lookout": lookout, "stream": stream, "start_ns": finding["start"], "kind": finding["kind"],
        "direction": finding["direction"],
    }  # fmt: skip
    raised = Raised.objects.select_related("group").filter(**place).first()
    if raised is None:
        group, is_new = _group(watched, finding, wishes)
        # What lasts no longer, as a change point, is not open; what began and ended within a tick is announced once.
        raised = Raised.objects.create(
            group=group, is_open=finding["kind"] == "outlier" and not is_over, **place
        )
        if is_new and wishes.began:
            _announce(watched, BEGAN, title_of(watched, finding), text_of(watched, finding), finding, group)
        if not raised.is_open:
            _over(group)
        return
    if not raised.is_open:
        return
    group = raised.group
    if is_over:
        raised.is_open = False
        raised.save(update_fields=["is_open"])
        if _over(group) and wishes.ended:
            _announce(
                watched,
                ENDED,
                f"Over: {title_of(watched, finding)}",
                text_of(watched, finding),
                finding,
                group,
            )
    elif wishes.remind is not None and moments.now() - group.reminded_at >= wishes.remind:
        Group.objects.filter(pk=group.pk).update(reminded_at=moments.now())
        _announce(
            watched,
            REMINDER,
            f"Still: {title_of(watched, finding)}",
            text_of(watched, finding),
            finding,
            group,
        )


def _over(group: Group) -> bool:
    """Whether the last finding of a group is over; it is then ended."""
    if group.raised.filter(is_open=True).exists():
        return False
    return bool(Group.objects.filter(pk=group.pk, ended_at=None).update(ended_at=moments.now()))


def _group(watched: Watched, finding: Row, wishes: Wishes) -> tuple[Group, bool]:
    """The group that a finding joins, or a new one: of those that began near it, on a stream that goes with its own."""
    if wishes.together:
        near = watched.lookout.groups.filter(
            start_ns__gte=finding["start"] - incidents.LAG_NS,
            start_ns__lte=finding["start"] + incidents.LAG_NS,
        )
        mine = _piece(watched.stream, finding["start"], finding["end"])
        for group in near.order_by("start_ns"):
            others = [_piece(r.stream, r.start_ns, r.start_ns) for r in group.raised.select_related("stream")]
            if incidents.propose([mine, *others], _fed_by([watched.stream_id, *(p.stream for p in others)])):
                return group, False
    return (
        Group.objects.create(
            lookout=watched.lookout, start_ns=finding["start"], is_quiet=_is_quiet(watched, finding)
        ),
        True,
    )


def _piece(stream: Any, start: int, end: int) -> Piece:
    return Piece(start, end, stream.pk, stream.key, stream.step_ns)


def _fed_by(ids: Iterable[int]) -> set[tuple[int, int]]:
    from watchtide.server.streams.models import Stream

    some = list(ids)
    rows = Stream.fed_by.through.objects.filter(from_stream_id__in=some, to_stream_id__in=some)
    return set(rows.values_list("from_stream_id", "to_stream_id"))


def _is_quiet(watched: Watched, finding: Row) -> bool:
    quiet = Quiet.objects.filter(start_ns__lte=finding["end"], end_ns__gte=finding["start"])
    return any(keys.covers(q.scope, watched.stream.key) for q in quiet)


def title_of(watched: Watched, finding: Row) -> str:
    """What is off, in a line: stream, side and size."""
    if finding["kind"] == "shift":
        return f"{watched.stream.name} stepped {finding['direction']}"
    side = finding["direction"] or "odd"
    size = "" if finding["score"] is None else f", {finding['score']:.1f} sigmas"
    return f"{watched.stream.name} {side}{size}"


def text_of(watched: Watched, finding: Row) -> str:
    """Since when, and how far from what was expected."""
    unit = watched.stream.unit
    words = [f"Since {clock.format_time(finding['start'])}, until now {clock.format_time(finding['end'])}."]
    if finding["peak_value"] is not None and finding["expected"] is not None:
        words.append(
            f"{finding['peak_value']:g} {unit} at its peak, {finding['expected']:g} {unit} expected.".replace(
                "  ", " "
            )
        )
    if finding["size"] is not None:
        words.append(f"By {finding['size']:g} {unit}.".replace(" .", "."))
    return " ".join(words)


def _announce(
    watched: Watched, kind: str, title: str, text: str, finding: Row | None = None, group: Group | None = None
) -> None:
    notice = Notice.objects.create(
        uid=f"msg_{secrets.token_hex(12)}", kind=kind, lookout=watched.lookout, group=group, stream=watched.stream,
        subject=watched.stream.key[:700], title=title[:300], text=text, finding=finding or {},
    )  # fmt: skip
    # Planned work wakes nobody; what was not sent is there to be counted.
    state = HELD if group is not None and group.is_quiet else WAITING
    post(notice, list(watched.lookout.routes.all()), state)


def post(notice: Notice, routes: Sequence[Route], state: str = WAITING) -> list[Delivery]:
    """The notice to each of these routes, once."""
    for route in routes:
        Delivery.objects.get_or_create(notice=notice, route=route, defaults={"state": state})
    return list(notice.deliveries.all())
