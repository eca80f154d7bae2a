"""A notice as a mail: plain text and HTML, with the picture of the span, its points, and links that need no session."""

import smtplib
import ssl
from dataclasses import dataclass
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, formataddr, parseaddr
from typing import Any
from urllib.parse import urlencode

from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.template.loader import render_to_string

from watchtide.plan import durations
from watchtide.server import moments, outgoing
from watchtide.server.lookouts import links, models, pictures
from watchtide.server.lookouts.facts import Facts, Push
from watchtide.server.lookouts.models import Notice, Route
from watchtide.server.lookouts.notices import WORDS
from watchtide.server.lookouts.wording import figure, signed
from watchtide.server.problems import Problem
from watchtide.tables import clock

PICTURE = "picture"
TIMEOUT_S = 15.0


def checked(address: str, place: str) -> str:
    """A mail address as it is kept. Raises Problem for what is none, and where no mail can be sent."""
    try:
        validate_email(address)
    except ValidationError as error:
        raise Problem(
            f"{address[:80]!r} is no mail address", place=place, remedy="write name@host.example"
        ) from error
    if not settings.SMTP_HOST:
        raise Problem(
            "no mail server is set, so nothing could be sent there",
            place=place,
            remedy="an admin sets WATCHTIDE_SMTP_HOST",
            code=409,
        )
    return address


def send(notice: Notice, route: Route) -> None:
    """Hand one mail to the mail server. Raises outgoing.Failed with what went wrong in words."""
    if not settings.SMTP_HOST:
        raise outgoing.Failed("no mail server is set; an admin sets WATCHTIDE_SMTP_HOST")
    message = message_of(notice, route)
    try:
        with _server() as server:
            server.send_message(message, to_addrs=[route.to])
    except smtplib.SMTPRecipientsRefused as error:
        code, words = next(iter(error.recipients.values()))
        raise outgoing.Failed(f"the address was refused: {code} {_text(words)}"[:300]) from error
    except smtplib.SMTPResponseException as error:
        words = _text(error.smtp_error)
        raise outgoing.Failed(f"the mail server answered {error.smtp_code} {words}"[:300]) from error
    except (smtplib.SMTPException, OSError) as error:
        raise outgoing.Failed(f"the mail server did not take it: {error}"[:300]) from error


def _server() -> smtplib.SMTP:
    """A connection to the mail server, encrypted and signed in as the settings say."""
    where = (settings.SMTP_HOST, settings.SMTP_PORT)
    safe = ssl.create_default_context()
    if settings.SMTP_TLS == "tls":
        server: smtplib.SMTP = smtplib.SMTP_SSL(*where, timeout=TIMEOUT_S, context=safe)
    else:
        server = smtplib.SMTP(*where, timeout=TIMEOUT_S)
    try:
        if settings.SMTP_TLS == "starttls":
            server.starttls(context=safe)
        if settings.SMTP_USER:
            server.login(settings.SMTP_USER, settings.SMTP_PASSWORD)
    except BaseException:
        server.close()
        raise
    return server


def _text(words: bytes | str) -> str:
    return words.decode(errors="replace") if isinstance(words, bytes) else words


def message_of(notice: Notice, route: Route) -> EmailMessage:
    """The mail of a notice to a route."""
    if notice.kind == models.CONFIRM:
        context = {"link": links.make(route), "name": route.name, "by": notice.text}
        return _message(notice, route, "Shall Watch Tide write to this address?", "confirm", context)
    letter = Letter.of(notice, route)
    message = _message(notice, route, letter.subject, "notice", {"letter": letter, "picture": PICTURE})
    if letter.image:
        html = message.get_body(("html",))
        assert html is not None
        html.add_related(
            letter.image, "image", "png", cid=f"<{PICTURE}>", disposition="inline", filename="picture.png"
        )
    if notice.points:
        message.add_attachment(notice.points, subtype="csv", filename=f"points-{notice.uid}.csv")
    return message


def _message(
    notice: Notice, route: Route, subject: str, template: str, context: dict[str, object]
) -> EmailMessage:
    message = EmailMessage(policy=SMTP)
    message["From"] = settings.MAIL_FROM
    message["To"] = formataddr((route.name, route.to))
    message["Subject"] = " ".join(subject.split())
    message["Date"] = format_datetime(notice.created_at)
    message["Message-ID"] = message_id(notice, route)
    message["Auto-Submitted"] = "auto-generated"
    if (first := _first_of(notice)) is not None:
        message["In-Reply-To"] = message["References"] = message_id(first, route)
    message.set_content(render_to_string(f"mail/{template}.txt", context))
    message.add_alternative(render_to_string(f"mail/{template}.html", context), subtype="html")
    return message


def message_id(notice: Notice, route: Route) -> str:
    """The same in every attempt; another for each route."""
    host = parseaddr(settings.MAIL_FROM)[1].rpartition("@")[2] or "localhost"
    return f"<{notice.uid}.{route.pk}@{host}>"


def _first_of(notice: Notice) -> Notice | None:
    """The notice that a later one of the same incident, or of the same silence, answers."""
    if notice.kind in (models.ENDED, models.REMINDER) and notice.group_id is not None:
        return Notice.objects.filter(group=notice.group_id, kind=models.BEGAN).first()
    if notice.kind == models.RESUMED:
        before = Notice.objects.filter(
            kind=models.SILENCE, lookout=notice.lookout_id, stream=notice.stream_id, pk__lt=notice.pk
        )
        return before.order_by("-pk").first()
    return None


@dataclass(frozen=True)
class Row:
    """A part that pushed, as the mail writes it. share : of the largest push, in per cent, for its bar."""

    name: str
    seen: str
    usual: str
    more: str
    share: int
    is_up: bool


@dataclass(frozen=True)
class Letter:
    """What stands in a mail, in words and figures. lines : name and value."""

    subject: str
    heading: str
    text: str
    lines: tuple[tuple[str, str], ...]
    rows: tuple[Row, ...]
    weeks: int
    whole: str
    image: bytes
    verdict: str
    chart: str
    lookout: str
    lookout_link: str
    points: int
    more: tuple[str, ...]

    @property
    def ups(self) -> list[Row]:
        return [r for r in self.rows if r.is_up]

    @property
    def downs(self) -> list[Row]:
        return [r for r in self.rows if not r.is_up]

    @classmethod
    def of(cls, notice: Notice, route: Route) -> "Letter":
        stream, finding, group = notice.stream, notice.finding, notice.group
        lookout = notice.lookout
        facts = _facts(notice)
        zone = stream.zone if stream is not None else "UTC"
        heading, subject = notice.title, notice.title
        lines: list[tuple[str, str]] = []
        if finding:
            heading, lines = sentence(notice), lines_of(notice)
            subject = f"{WORDS[notice.kind]}: {heading.rstrip('.')}, since {_clock(finding['start'], zone)}"
        elif notice.kind in WORDS:
            subject = f"{WORDS[notice.kind]}: {notice.title}"
        most = max((abs(p.seen - p.usual) for p in facts.pushes), default=0.0) or 1.0
        return cls(
            subject=subject,
            heading=heading,
            text="" if finding else notice.text,
            lines=tuple(lines),
            rows=tuple(
                Row(
                    p.name,
                    figure(p.seen),
                    figure(p.usual),
                    signed(p.seen - p.usual),
                    max(round(100 * abs(p.seen - p.usual) / most), 1),
                    p.seen >= p.usual,
                )
                for p in facts.pushes
            ),
            weeks=facts.weeks,
            whole=facts.whole,
            image=picture_of(notice),
            verdict=links.make(route, group) if group is not None else "",
            chart=chart_of(notice),
            lookout=lookout.name if lookout is not None else "",
            lookout_link=f"{settings.ADDRESS}/lookouts/{lookout.pk}" if lookout is not None else "",
            points=max(notice.points.count("\n") - 1, 0),
            more=tuple(notice.more),
        )


def _facts(notice: Notice) -> Facts:
    """What stands in figures in a mail: of a finding, or of a period beside the same ones before it."""
    if notice.kind == models.LOOK:
        look = notice.facts["look"]
        pushes = tuple(Push(r["name"], r["value"], r["usual"]) for r in (*look["up"], *look["down"]))
        return Facts(pushes=pushes, weeks=len(look["beside"]), whole=look["title"])
    return Facts.of_data({} if notice.kind == models.LIMIT else notice.facts)


def _bars(look: dict[str, Any]) -> bytes:
    """A period beside the same ones before it, as a picture."""
    beside = [b for b in look["beside"] if b["value"] is not None]
    if look["value"] is None or not beside:
        return b""
    starts = [b["start"] for b in beside] + [look["start"]]
    names = [f"{moments.local(clock.parse_one(s), look['zone']):%-d %b}" for s in starts]
    limits = None if look["lower"] is None else (look["lower"], look["upper"])
    return pictures.bars(names, [*(b["value"] for b in beside), look["value"]], limits, look["unit"])


def picture_of(notice: Notice) -> bytes:
    """The picture of a notice's stretch, drawn once; empty where there is none."""
    if not notice.picture and notice.kind == models.LOOK:
        notice.picture = _bars(notice.facts["look"])
        notice.save(update_fields=["picture"])
    if not notice.picture and notice.around and notice.stream is not None:
        stream, finding = notice.stream, notice.finding
        notice.picture = pictures.drawn(
            notice.around, stream.zone, finding["start"], finding["end"], stream.unit
        )
        notice.save(update_fields=["picture"])
    return bytes(notice.picture)


def sentence(notice: Notice) -> str:
    """What is off, and by how much."""
    facts = Facts.of_data(notice.facts)
    name = notice.stream.name if notice.stream is not None else notice.subject
    finding, streams = notice.finding, _streams(notice)
    others = f", and {streams - 1} more" if streams > 1 else ""
    if finding["kind"] == "shift":
        return f"{name}{others}: the level stepped {finding['direction']}."
    seen, expected = facts.seen, facts.expected
    if seen is not None and expected and expected > 0 and seen >= 1.5 * expected:
        return f"{name}{others}: {seen / expected:.2g} times what was expected."
    if seen is not None and expected and expected > 0 and 0 <= seen <= expected / 1.5:
        return f"{name}{others}: {100 * seen / expected:.0f} % of what was expected."
    size = "" if finding["score"] is None else f"{finding['score']:.1f} sigmas "
    side = f"{finding['direction']} what was expected" if finding["direction"] else "off what was expected"
    return f"{name}{others}: {size}{side}."


def _streams(notice: Notice) -> int:
    """How many streams are in it by now."""
    group = notice.group
    return 1 if group is None else group.raised.values("stream").distinct().count()


def lines_of(notice: Notice) -> list[tuple[str, str]]:
    """What is known of a finding, by name: since when, what was seen and what expected, how large, and what to do."""
    facts, finding, stream = Facts.of_data(notice.facts), notice.finding, notice.stream
    zone, unit = (stream.zone, stream.unit) if stream is not None else ("UTC", "")
    goes_on = "" if notice.kind == models.ENDED else "; still going on"
    lasted = durations.format_ns(finding["end"] - finding["start"])
    of = f" {unit}" if unit else ""
    lines = [("Since", f"{moments.spoken(finding['start'], zone)}{goes_on}")]
    if notice.kind == models.ENDED:
        lines.append(("Until", f"{moments.spoken(finding['end'], zone)}, {lasted} in all"))
    over = f" in {lasted}" if facts.is_sum else ""
    if facts.seen is not None:
        lines.append(("Seen", f"{figure(facts.seen)}{of}{over}{'' if facts.is_sum else ' at its peak'}"))
    if facts.expected is not None:
        limits = (
            ""
            if facts.lower is None or facts.upper is None
            else f", {figure(facts.lower)} to {figure(facts.upper)}"
        )
        lines.append(("Expected", f"{figure(facts.expected)}{of}{limits}"))
    if finding["size"] is not None:
        lines.append(("Step", f"{signed(finding['size'])}{of}"))
    streams = _streams(notice)
    many = f"; {streams} streams, one incident" if streams > 1 else ""
    if finding["score"] is not None:
        lines.append(("Size", f"{finding['score']:.1f} sigmas{many}"))
    elif many:
        lines.append(("Streams", str(streams)))
    if stream is not None and stream.runbook:
        lines.append(("What to do", stream.runbook))
    return lines


def _clock(moment_ns: int, zone: str) -> str:
    return f"{moments.local(moment_ns, zone):%H:%M}"


def chart_of(notice: Notice) -> str:
    """The address of the stream's chart, at the finding where there is one."""
    if notice.kind == models.LOOK:
        look = notice.facts["look"]
        what = {"stream": notice.stream_id} if notice.stream_id else {"metric": look["metric"]}
        day = moments.local(clock.parse_one(look["start"]), look["zone"]).date().isoformat()
        return f"{settings.ADDRESS}/look?{urlencode(what | {'by': look['by'], 'day': day})}"
    if notice.stream_id is None:
        return ""
    link = f"{settings.ADDRESS}/workbench/{notice.stream_id}"
    if not notice.finding:
        return link
    first, last = (notice.finding[end] // 10**6 for end in ("start", "end"))
    margin = max(2 * (last - first), 36 * 3_600_000)
    return f"{link}?from={first - margin}&to={last + margin}"
