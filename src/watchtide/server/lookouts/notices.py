"""What is to be announced: one notice for findings that begin together, one when they are over, and of silence. A notice is a row
before it is a message, written in the transaction that writes what was judged."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from typing import Any

from django.db import transaction

from watchtide.core.explain import incidents
from watchtide.core.explain.incidents import Piece
from watchtide.engine.live.watching import Identity
from watchtide.plan import durations
from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.lookouts import facts, models, services
from watchtide.server.lookouts.judging import Judged, Rules
from watchtide.server.lookouts.models import Delivery, Group, Lookout, Notice, Raised, Route, Watched
from watchtide.server.lookouts.services import NOTIFY
from watchtide.server.lookouts.taking import Takes, taking
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

Row = dict[str, Any]
# Titles named in a notice that stands for several.
MOST_MORE = 50
# A mail about something that has begun waits so long for other streams that are part of it.
JOIN = timedelta(seconds=2)


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
        remind = None if given["remind"] is None else durations.parse_timedelta(given["remind"])
        return cls(given["began"], given["ended"], given["silent"], given["together"], remind)


@dataclass(frozen=True)
class Beside:
    """What goes along with a finding: the points of its span, those around it too, and its facts."""

    points: str = ""
    around: str = ""
    facts: Row = field(default_factory=dict)


@dataclass(frozen=True)
class Case:
    """A judged stream of a lookout, by which rules and wishes its notices are written, and what goes along with them."""

    watched: Watched
    judged: Judged
    rules: Rules
    wishes: Wishes
    beside: Mapping[Identity, Beside]
    routes: Sequence[Route]

    @property
    def choosy(self) -> list[Route]:
        """Routes that take some findings only, or at some hours."""
        return [r for r in self.routes if not Takes.of(r).is_all]


def prepare(watched: Watched, judged: Judged, rules: Rules) -> Case:
    """What may be announced of a judged stream, with what that needs of samples: those are read outside of any transaction."""
    routes = list(watched.lookout.routes.all())
    case = Case(watched, judged, rules, Wishes.of(watched.lookout), {}, routes)
    return replace(case, beside=_gathered(case))


def _gathered(case: Case) -> dict[Identity, Beside]:
    watched, judged, rules = case.watched, case.judged, case.rules
    scanned, reach = judged.scanned, judged.reach
    has_mail = any(r.kind == models.MAIL for r in case.routes)
    if scanned is None or reach is None or not (has_mail or any(r.has_points for r in case.routes)):
        return {}
    out = {}
    # One that only goes on is announced where reminders are wanted, and to whom it has become large enough or whose watch begins.
    has_reminders = case.wishes.remind is not None or bool(case.choosy)
    for f in judged.findings:
        may_be_due = _identity(f) in judged.touched or (has_reminders and rules.is_open(f, reach))
        if not may_be_due or _is_known(watched, f):
            continue
        points = judged.points_csv(watched.stream.key, f["start"], f["end"])
        if not has_mail:
            out[_identity(f)] = Beside(points)
            continue
        around = judged.points_csv(watched.stream.key, *facts.beside(scanned, f))
        out[_identity(f)] = Beside(points, around, facts.of(watched.stream, scanned, f).as_data())
    return out


def _identity(finding: Row) -> Identity:
    return (finding["start"], finding["kind"], finding["direction"])


def _is_known(watched: Watched, finding: Row) -> bool:
    """Whether a finding was there when its stream joined."""
    return watched.known_ns is not None and (finding["raised"] or finding["end"]) <= watched.known_ns


def note(case: Case) -> None:
    """Write notices of what was judged of a stream. Within the transaction that writes the rest of it."""
    watched, judged, rules = case.watched, case.judged, case.rules
    if judged.reach is not None and judged.findings:
        raised = {(r.start_ns, r.kind, r.direction): r for r in _raised(watched)}
        for finding in judged.findings:
            known = raised.get(_identity(finding))
            is_open = rules.is_open(finding, judged.reach)
            if known is not None:
                _go_on(case, finding, known, is_open=is_open)
            elif not _is_known(watched, finding):
                _begin(case, finding, is_open=is_open)
    before, now = watched.state, judged.changes["state"]
    if before != now and case.wishes.silent and watched.judged_through_ns is not None:
        if now == models.SILENT:
            announce(watched, models.SILENCE, "is silent", judged.changes["why"])
        elif before == models.SILENT:
            announce(watched, models.RESUMED, "sends again", judged.changes["why"])


def _raised(watched: Watched) -> Sequence[Raised]:
    found = Raised.objects.filter(lookout=watched.lookout, stream=watched.stream)
    return list(found.select_related("group"))


def _begin(case: Case, finding: Row, *, is_open: bool) -> None:
    """A finding that is new: it joins a group, or is announced. One that began and ended within a tick is announced once."""
    watched = case.watched
    group = _group_of(watched, finding) if case.wishes.together else None
    if group is None:
        is_quiet = case.rules.is_quiet(watched.stream.key, finding)
        group = Group.objects.create(lookout=watched.lookout, start_ns=finding["start"], is_quiet=is_quiet)
        if case.wishes.began:
            _announce_finding(case, models.BEGAN, finding, group)
    else:
        if is_open:
            # The end of what it joins is announced when this one is over too.
            Group.objects.filter(pk=group.pk).update(ended_at=None)
        _reach_out(case, finding, group)
    Raised.objects.create(
        group=group,
        lookout=watched.lookout,
        stream=watched.stream,
        start_ns=finding["start"],
        end_ns=finding["end"],
        kind=finding["kind"],
        direction=finding["direction"],
        is_open=is_open,
    )
    if not is_open:
        _end(group)


def _go_on(case: Case, finding: Row, raised: Raised, *, is_open: bool) -> None:
    """A finding that was announced: over now, or lasting, with a reminder when one is due."""
    group, remind = raised.group, case.wishes.remind
    if not raised.is_open:
        return
    if raised.end_ns != finding["end"]:
        Raised.objects.filter(pk=raised.pk).update(end_ns=finding["end"])
    if not is_open:
        Raised.objects.filter(pk=raised.pk).update(is_open=False)
        if _end(group) and case.wishes.ended:
            _announce_finding(case, models.ENDED, finding, group)
    elif remind is not None and moments.now() - group.reminded_at >= remind:
        Group.objects.filter(pk=group.pk).update(reminded_at=moments.now())
        _announce_finding(case, models.REMINDER, finding, group)
    else:
        _reach_out(case, finding, group)


def _reach_out(case: Case, finding: Row, group: Group) -> None:
    """What lasts, to those who have nothing of it yet and take it now: it has grown, or their watch begins."""
    choosy = case.choosy
    if not choosy or not case.wishes.began or group.is_quiet:
        return
    have = _informed(group)
    late = [r for r in taking(choosy, case.watched.stream, finding) if r.pk not in have]
    if late:
        _announce_finding(case, models.REMINDER, finding, group, late)


def _informed(group: Group) -> set[int]:
    """Numbers of the routes that something of an incident went to."""
    return set(Delivery.objects.filter(notice__group=group).values_list("route_id", flat=True))


def _end(group: Group) -> bool:
    """End a group whose findings are all over; whether that was so now."""
    if group.raised.filter(is_open=True).exists():
        return False
    is_over = Group.objects.filter(pk=group.pk, ended_at=None).update(ended_at=moments.now())
    if is_over and group.entries:
        _stretch(group)
    return bool(is_over)


def _stretch(group: Group) -> None:
    """A verdict that was given while it lasted holds until its end."""
    ends = {(r.stream.key, r.start_ns): r.end_ns for r in group.raised.select_related("stream")}
    for entry in Entry.objects.filter(pk__in=group.entries, deleted_at=None):
        end = ends.get((entry.scope, entry.start_ns), entry.end_ns)
        if end > entry.end_ns:
            logbook.change(entry, {"end_ns": end}, group.judged_by)


def _group_of(watched: Watched, finding: Row) -> Group | None:
    """The group that a finding joins: one that began near it, on a stream that goes with its own."""
    reach = (finding["start"] - incidents.LAG_NS, finding["start"] + incidents.LAG_NS)
    near = watched.lookout.groups.filter(start_ns__range=reach).prefetch_related("raised__stream")
    mine = _piece(watched.stream, finding["start"], finding["end"])
    groups = list(near.order_by("start_ns"))
    others = [[_piece(r.stream, r.start_ns, r.end_ns) for r in group.raised.all()] for group in groups]
    links = services.links_of({mine.stream, *(p.stream for pieces in others for p in pieces)})
    joined = (g for g, pieces in zip(groups, others, strict=True) if incidents.joins(mine, pieces, links))
    return next(joined, None)


def _piece(stream: Stream, start: int, end: int) -> Piece:
    return Piece(start, end, stream.pk, stream.key, stream.step_ns)


# What a notice begins with, by its kind.
WORDS = {
    models.BEGAN: "Began", models.ENDED: "Over", models.REMINDER: "Still", models.SILENCE: "Silent",
    models.RESUMED: "Sends again", models.LIMIT: "Foreseen",
}  # fmt: skip


def _announce_finding(
    case: Case, kind: str, finding: Row, group: Group, routes: Sequence[Route] | None = None
) -> None:
    """A notice of a finding to the routes that take it, or to those named; its end to those who had its begin."""
    stream, lookout = case.watched.stream, case.watched.lookout
    beside = case.beside.get(_identity(finding), Beside())
    notice = Notice(
        kind=kind,
        lookout=lookout,
        group=group,
        stream=stream,
        title=f"{'' if kind == models.BEGAN else f'{WORDS[kind]}: '}{stream.name} {_what(finding)}",
        text=_text(stream, finding),
        finding=finding,
        points=beside.points,
        around=beside.around,
        facts=beside.facts,
    )
    if routes is None:
        have = _informed(group) if kind == models.ENDED else set()
        routes = [r for r in case.routes if r.pk in have] if have else taking(case.routes, stream, finding)
    # Planned work wakes nobody; what was not sent is there to be counted.
    put(notice, routes, models.HELD if group.is_quiet else models.WAITING)


def announce(watched: Watched, kind: str, words: str, why: str, **facts: Row) -> None:
    """A notice of a stream as a whole."""
    title = f"{watched.stream.name} {words}"
    notice = Notice(
        kind=kind, lookout=watched.lookout, stream=watched.stream, title=title, text=why, facts=facts
    )
    put(notice, taking(list(watched.lookout.routes.all()), watched.stream))


def _what(finding: Row) -> str:
    """What is off, in a few words: side and size."""
    if finding["kind"] == "shift":
        return f"stepped {finding['direction']}"
    size = "" if finding["score"] is None else f", {finding['score']:.1f} sigmas"
    return f"{finding['direction'] or 'odd'}{size}"


def _text(stream: Stream, finding: Row) -> str:
    """Since when, and how far from what was expected."""
    unit = f" {stream.unit}" if stream.unit else ""
    words = [f"Since {clock.format_time(finding['start'])}, until now {clock.format_time(finding['end'])}."]
    if finding["peak_value"] is not None and finding["expected"] is not None:
        words.append(f"{finding['peak_value']:g}{unit} at its peak, {finding['expected']:g}{unit} expected.")
    if finding["size"] is not None:
        words.append(f"By {finding['size']:g}{unit}.")
    return " ".join(words)


def put(notice: Notice, routes: Sequence[Route], state: str = models.WAITING) -> None:
    """Write a notice, and that it is to go to each of these routes."""
    save(notice)
    for route in routes:
        _deliver(notice, route, state)


def _deliver(notice: Notice, route: Route, state: str = models.WAITING) -> Delivery:
    """A notice on its way to a route. It is held where an address is not confirmed, and where the route has had its most for
    the hour; a mail waits for what joins it."""
    is_own = notice.kind in (models.TEST, models.CONFIRM)
    if not route.is_open and notice.kind != models.CONFIRM:
        state = models.HELD
    is_beyond = state == models.WAITING and not is_own and room_of(route) == 0
    row = Delivery(notice=notice, route=route, state=models.HELD if is_beyond else state, is_beyond=is_beyond)
    may_be_joined = notice.lookout is None or Wishes.of(notice.lookout).together
    if route.kind == models.MAIL and notice.kind == models.BEGAN and may_be_joined:
        row.due_at = moments.now() + JOIN
    row.save()
    return row


def room_of(route: Route) -> int | None:
    """How many more notices a route takes within this hour; None where there is no bound."""
    if route.most_an_hour is None:
        return None
    since = moments.now() - timedelta(hours=1)
    mine = Delivery.objects.filter(route=route, created_at__gt=since, is_beyond=False)
    had = mine.exclude(state=models.HELD).exclude(notice__kind__in=(models.TEST, models.CONFIRM))
    return max(route.most_an_hour - had.count(), 0)


def join_rest() -> int:
    """What was beyond a route's most for an hour, as one notice when there is room again. Returns how many were joined."""
    count = 0
    waiting = Delivery.objects.filter(state=models.HELD, is_beyond=True)
    for route in Route.objects.filter(pk__in=waiting.values("route")):
        with transaction.atomic():
            Route.objects.select_for_update().get(pk=route.pk)
            if room_of(route) == 0:
                continue
            rows = list(route.deliveries.filter(is_beyond=True).select_related("notice").order_by("pk"))
            count += len(rows)
            _join(route, rows)
    return count


def _join(route: Route, rows: Sequence[Delivery]) -> None:
    """Deliveries that wait, as one: that of the largest finding, which names the rest."""
    if not rows:
        return
    if len(rows) == 1:
        Delivery.objects.filter(pk=rows[0].pk).update(
            state=models.WAITING, is_beyond=False, created_at=moments.now(), due_at=moments.now()
        )
        return
    largest = max((r.notice for r in rows), key=lambda n: n.finding.get("score") or 0.0)
    more = [r.notice.title for r in rows if r.notice_id != largest.pk]
    joined = save(
        Notice(
            kind=largest.kind,
            lookout=largest.lookout,
            group=largest.group,
            stream=largest.stream,
            title=f"{largest.title}, and {len(more)} more",
            text=largest.text,
            finding=largest.finding,
            points=largest.points,
            around=largest.around,
            facts=largest.facts,
            more=more[:MOST_MORE],
        )
    )
    Delivery.objects.create(notice=joined, route=route)
    at = clock.format_time(moments.now_ns())
    for row in rows:
        row.attempts = [*row.attempts, {"at": at, "outcome": "joined", "detail": f"sent within {joined.uid}"}]
        row.state, row.is_beyond, row.due_at = models.SENT, False, None
    Delivery.objects.bulk_update(rows, ["attempts", "state", "is_beyond", "due_at"])


def save(notice: Notice) -> Notice:
    """Write a notice under a new name."""
    notice.uid = f"msg_{secrets.token_hex(12)}"
    notice.title = notice.title[:300]
    notice.subject = notice.stream.key if notice.stream is not None else ""
    notice.save()
    return notice


def test_of(route: Route, by: str) -> Delivery:
    """A notice that is none, on its way to a route."""
    text = f"Sent by {by} from Watch Tide. Nothing is wrong."
    notice = save(Notice(kind=models.TEST, title=f"A test of the route {route.name}", text=text))
    return _deliver(notice, route)


def ask(route: Route, by: str) -> Delivery:
    """The mail that asks an address whether it wants notices."""
    return _deliver(save(Notice(kind=models.CONFIRM, title="Asks for the address", text=by)), route)


def confirm(route: Route) -> None:
    """Notices may go to an address; those go now that waited for it, of incidents that still last."""
    Route.objects.filter(pk=route.pk, confirmed_at=None).update(confirmed_at=moments.now())
    kept_back = Delivery.objects.filter(route=route, state=models.HELD, notice__group__ended_at=None)
    kept_back.filter(notice__group__is_quiet=False, is_beyond=False).update(
        state=models.WAITING, due_at=moments.now()
    )
