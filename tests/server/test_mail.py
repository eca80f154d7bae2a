"""Mail: asked for before it is sent, good to read, threaded, once; and verdicts by a link that signs nobody in."""

import re
import ssl
import subprocess
from datetime import timedelta
from email import message_from_bytes, policy
from xml.etree import ElementTree

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword
from django.test import Client

from tests.server.test_lookouts import PLAN, history, judge, made, push
from tests.server.test_notices import outbox
from watchtide.server import moments, supervise
from watchtide.server.logbook.models import JUDGEMENT_CHOICES, Entry
from watchtide.server.lookouts import facts, pages, pictures, sending
from watchtide.server.lookouts.models import Delivery, Group, Link, Lookout, Route
from watchtide.server.management.commands import keep
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

DUTY = "duty@skerrymoor.example"


class Postbox:
    """What an SMTP server on loopback was handed, parsed; `refuse` and `drop` make it misbehave."""

    def __init__(self, **options):
        self.mails, self.refuse, self.drop, self.signed_in = [], "", False, []
        self.server = Controller(self, hostname="127.0.0.1", port=supervise._free_port(), **options)

    async def handle_RCPT(self, server, session, envelope, address, options):
        if self.refuse:
            return self.refuse
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        if self.drop:
            server.transport.abort()
            return "421 gone"
        self.mails.append(message_from_bytes(envelope.content, policy=policy.default))
        return "250 OK"


@pytest.fixture
def postbox(settings):
    with_server = Postbox()
    yield from serving(with_server, settings)


def serving(box, settings):
    box.server.start()
    settings.SMTP_HOST, settings.SMTP_PORT = "127.0.0.1", box.server.port
    settings.SMTP_USER, settings.SMTP_PASSWORD, settings.SMTP_TLS = "", "", "off"
    settings.MAIL_FROM, settings.ADDRESS = "Watch Tide <watch@skerrymoor.example>", "http://testserver"
    yield box
    box.server.stop()


def mail_route(api, to=DUTY, name="Duty desk"):
    answer = api.post("/api/v1/routes", {"kind": "mail", "name": name, "to": to}, format="json")
    assert answer.status_code == 201, answer.content
    return answer.json()


def link_of(mail, purpose):
    """The path of the link in a mail, as its plain text has it."""
    text = mail.get_body(("plain",)).get_content()
    return re.search(rf"http://testserver(/{purpose}/\S+)", text).group(1)


def send_all():
    """What is due, and mails that wait for what joins them."""
    Delivery.objects.filter(state="waiting").update(due_at=moments.now())
    return sending.send_due()


@pytest.fixture
def confirmed(api, postbox):
    route = mail_route(api)
    send_all()
    Client().post(link_of(postbox.mails.pop(), "confirm"), {"yes": "1"})
    return route


def spike(sender, api, route, places=("lock",), **more):
    """A lookout with a route, and a spike that began on some places; what comes after it is not sent yet."""
    times, values = history()
    at = len(times) - 101
    for place in places:
        push(sender, times[:at], values[:at], place=place)
    pk = made(api, routes=[route["id"]], **more)
    judge()
    for place in places:
        push(sender, times[at : at + 4], values[at : at + 4], place=place)
    judge()
    return pk, times, values, at


def test_an_address_is_asked_and_gets_nothing_until_it_says_yes(api, sender, postbox):
    route = mail_route(api)
    assert route["state"] == "unconfirmed"
    send_all()
    (asked,) = postbox.mails
    assert asked["To"] == f"Duty desk <{DUTY}>" and asked["Auto-Submitted"] == "auto-generated"
    spike(sender, api, route)
    api.post(f"/api/v1/routes/{route['id']}/test")
    send_all()
    assert len(postbox.mails) == 1
    assert {x["kind"]: x["state"] for x in outbox(api)} == {
        "confirm": "sent",
        "began": "held",
        "test": "held",
    }
    # Opening it is not yet saying yes: programs that look through mail open links too.
    link = link_of(asked, "confirm")
    page = Client(enforce_csrf_checks=True).get(link)
    assert page.status_code == 200 and b"<form" in page.content and b"<script" not in page.content
    assert api.get(f"/api/v1/routes/{route['id']}").json()["state"] == "unconfirmed"
    assert Client(enforce_csrf_checks=True).post(link, {"yes": "1"}).status_code == 200
    assert api.get(f"/api/v1/routes/{route['id']}").json()["state"] == "ready"
    # What still lasts is sent now.
    send_all()
    assert postbox.mails[-1]["Subject"].startswith("Began: flow")


def test_a_mail_says_what_since_when_how_far_and_has_picture_points_and_links(
    api, sender, confirmed, postbox
):
    pk, times, _, at = spike(sender, api, confirmed)
    send_all()
    (mail,) = postbox.mails
    assert mail["From"] == "Watch Tide <watch@skerrymoor.example>"
    kinds = [part.get_content_type() for part in mail.walk()]
    assert kinds == [
        "multipart/mixed", "multipart/alternative", "text/plain", "multipart/related", "text/html", "image/png",
        "text/csv",
    ]  # fmt: skip
    text, html = (mail.get_body((kind,)).get_content() for kind in ("plain", "html"))
    since = clock.parse_one(clock.format_time(int(times[at + 1])))
    assert f"{moments.EPOCH + timedelta(seconds=since // 10**9):%-d %b %Y, %H:%M}" in text
    for words in ("still going on", "Expected", "sigmas", "Say what it was", "Open the chart", "3 points"):
        assert words in text, text
    assert max(map(len, text.splitlines())) < 100
    assert "cid:picture" in html and "<script" not in html
    image = next(part for part in mail.walk() if part.get_content_type() == "image/png")
    assert image["Content-ID"] == "<picture>" and image.get_content().startswith(b"\x89PNG")
    points = next(mail.iter_attachments()).get_content().splitlines()
    assert points[0].startswith("series,time,value,expected") and len(points) == 4
    stream = Stream.objects.get(key="metric=flow,place=lock")
    assert f"http://testserver/workbench/{stream.pk}?from=" in text
    assert f"http://testserver/lookouts/{pk}" in text


def test_the_end_answers_the_beginning_and_a_retry_keeps_its_id(api, sender, confirmed, postbox):
    _, times, values, at = spike(sender, api, confirmed)
    postbox.refuse = "451 try later"
    send_all()
    assert not postbox.mails
    attempt = outbox(api, state="waiting")[0]["attempts"][0]
    assert attempt["outcome"] == "failed" and "451 try later" in attempt["detail"]
    postbox.refuse = ""
    send_all()
    push(sender, times[at + 4 :], values[at + 4 :])
    judge()
    send_all()
    began, ended = postbox.mails
    assert ended["Subject"].startswith("Over: ") and ended["In-Reply-To"] == began["Message-ID"]
    assert ended["References"] == began["Message-ID"] != ended["Message-ID"]
    assert "in all" in ended.get_body(("plain",)).get_content()
    assert began["Message-ID"].endswith("@skerrymoor.example>")
    assert sending.send_due() == 0


def test_one_mail_for_what_joins_says_how_many_streams_and_who_pushed(api, sender, confirmed, postbox):
    places = ("lock", "weir", "sluice")
    spike(sender, api, confirmed, places=places)
    assert sending.send_due() == 0, "it waits for what joins it"
    send_all()
    (mail,) = postbox.mails
    text = mail.get_body(("plain",)).get_content()
    assert "and 2 more" in text and "3 streams, one incident" in text


def test_a_verdict_by_link_is_written_once_stretched_to_the_end_and_taken_back(
    api, sender, confirmed, postbox
):
    pk, times, values, at = spike(sender, api, confirmed, places=("lock", "weir"))
    send_all()
    link = link_of(postbox.mails[0], "verdict")
    nobody = Client(enforce_csrf_checks=True)
    page = nobody.get(link)
    written = Entry.objects.filter(scope__startswith="metric=flow", deleted_at=None).order_by("scope")
    assert page.status_code == 200 and b"What was it?" in page.content and not written.exists()
    assert "session" not in "".join(nobody.cookies) and page["Referrer-Policy"] == "no-referrer"
    assert Group.objects.get().opened_at is not None
    assert nobody.post(link, {"verdict": "nonsense"}).status_code == 409
    assert nobody.post(link, {"verdict": "incident", "cause": "a lock gate"}).status_code == 200
    entries = list(written)
    assert [e.scope for e in entries] == ["metric=flow,place=lock", "metric=flow,place=weir"]
    assert {(e.verdict, e.cause, e.author) for e in entries} == {
        ("incident", "a lock gate", "Duty desk, from a notice")
    }
    before = entries[0].end_ns
    again = nobody.post(link, {"verdict": "false-alarm"})
    assert (
        again.status_code == 409 and b"gave a verdict already" in again.content and written.all().count() == 2
    )
    for place in ("lock", "weir"):
        push(sender, times[at + 4 :], values[at + 4 :], place=place)
    judge()
    assert written.all()[0].end_ns > before
    assert nobody.post(link, {"undo": "1"}).status_code == 200
    assert not written.all().exists() and Group.objects.get().verdict == ""
    nobody.post(link, {"verdict": "false-alarm"})
    Group.objects.update(judged_at=moments.now() - timedelta(hours=1))
    assert nobody.post(link, {"undo": "1"}).status_code == 409
    assert Lookout.objects.get(pk=pk).groups.get().verdict == "false-alarm"


def test_the_page_offers_every_verdict_there_is():
    assert [value for value, *_ in pages.VERDICTS] == [value for value, _ in JUDGEMENT_CHOICES]


def test_the_picture_is_drawn_once(api, sender, confirmed, postbox, monkeypatch):
    spike(sender, api, confirmed)
    send_all()
    monkeypatch.setattr(pictures, "drawn", None)
    page = Client().get(link_of(postbox.mails[0], "verdict"))
    assert page.status_code == 200 and b"data:image/png;base64,iVBOR" in page.content


def test_precision_of_what_was_sent_follows_the_verdicts(api, sender, confirmed, postbox):
    pk, *_ = spike(sender, api, confirmed, places=("lock", "weir"))
    precision = lambda: api.get(f"/api/v1/lookouts/{pk}/precision").json()
    assert precision()["sent"] == 0, "nothing has left yet"
    send_all()
    before = precision()
    assert (before["sent"], before["open"], before["precision"], before["opened"]) == (1, 1, None, 0)
    link = link_of(postbox.mails[0], "verdict")
    Client().get(link)
    Client().post(link, {"verdict": "incident"})
    after = precision()
    assert (after["real"], after["precision"], after["opened"]) == (1, 1.0, 1)
    assert 0 < after["precision_ci"][0] < after["precision_ci"][1] == pytest.approx(1.0)
    assert after["opened_after_s"] >= 0
    # A verdict that is changed in the logbook counts as it is then.
    Entry.objects.filter(scope__startswith="metric=flow").update(verdict="false-alarm")
    assert (precision()["not_real"], precision()["precision"]) == (1, 0.0)


def test_links_end_do_one_thing_and_are_kept_as_digests(api, sender, confirmed, postbox):
    spike(sender, api, confirmed)
    send_all()
    link = link_of(postbox.mails[0], "verdict")
    assert not Link.objects.filter(digest__contains=link.rsplit("/", 1)[1]).exists()
    assert Client().get(link.replace("/verdict/", "/confirm/")).status_code == 404
    assert Client().get(link + "x").status_code == 404
    Link.objects.update(expires_at=moments.now() - timedelta(seconds=1))
    gone = Client().get(link)
    assert gone.status_code == 404 and b"has ended" in gone.content
    (prune,) = (duty for duty in keep.of_jobs() if duty.name == "forget old links")
    prune.action()
    assert not Link.objects.exists()


@pytest.mark.parametrize(
    ("to", "status", "words"),
    [("nobody", 400, "no mail address"), ("a@b.example\r\nBcc: c@d.example", 400, "no mail address")],
)
def test_bad_addresses_are_refused(api, postbox, to, status, words):
    answer = api.post("/api/v1/routes", {"kind": "mail", "name": "x", "to": to}, format="json")
    assert answer.status_code == status and words in answer.content.decode()
    assert not Route.objects.exists()


def test_without_a_mail_server_no_mail_route_is_made(api, settings):
    settings.SMTP_HOST = ""
    answer = api.post("/api/v1/routes", {"kind": "mail", "name": "x", "to": DUTY}, format="json")
    assert answer.status_code == 409 and "WATCHTIDE_SMTP_HOST" in answer.json()["remedy"]


def test_a_server_that_drops_the_line_or_is_not_there_loses_nothing(api, confirmed, postbox, settings):
    api.post(f"/api/v1/routes/{confirmed['id']}/test")
    postbox.drop = True
    send_all()
    postbox.drop, port = False, settings.SMTP_PORT
    settings.SMTP_PORT = 1
    send_all()
    settings.SMTP_PORT = port
    (row,) = outbox(api, state="waiting")
    assert [a["outcome"] for a in row["attempts"]] == ["failed", "failed"]
    assert api.get(f"/api/v1/routes/{confirmed['id']}").json()["failures"] == 2
    send_all()
    assert [m["Subject"] for m in postbox.mails] == ["A test of the route Duty desk"]


@pytest.fixture(scope="module")
def certificate(tmp_path_factory):
    folder = tmp_path_factory.mktemp("tls")
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=127.0.0.1",
         "-addext", "subjectAltName=IP:127.0.0.1", "-keyout", folder / "key", "-out", folder / "cert"],
        check=True, capture_output=True,
    )  # fmt: skip
    return folder


def test_encrypted_and_signed_in_and_never_in_the_clear(api, settings, certificate, monkeypatch):
    server = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    server.load_cert_chain(certificate / "cert", certificate / "key")

    def sign_in(server, session, envelope, mechanism, data):
        right = isinstance(data, LoginPassword) and (data.login, data.password) == (b"tide", b"secret")
        return AuthResult(success=right, handled=False)

    box = Postbox(tls_context=server, require_starttls=True, authenticator=sign_in, auth_required=True)
    for _ in serving(box, settings):
        settings.SMTP_USER, settings.SMTP_PASSWORD = "tide", "secret"
        route = mail_route(api)
        # Not encrypted: the server wants it, and nothing is handed over.
        send_all()
        assert not box.mails
        settings.SMTP_TLS = "starttls"
        send_all()
        assert not box.mails and "certificate" in outbox(api)[0]["attempts"][-1]["detail"]
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate / "cert"))
        settings.SMTP_PASSWORD = "wrong"
        send_all()
        assert "535" in outbox(api)[0]["attempts"][-1]["detail"]
        settings.SMTP_PASSWORD = "secret"
        send_all()
        assert len(box.mails) == 1 and api.get(f"/api/v1/routes/{route['id']}").json()["failures"] == 0


def test_the_feed_is_atom_and_opens_with_a_read_token_in_its_address(api, sender, confirmed, postbox):
    pk, *_ = spike(sender, api, confirmed)
    address = f"/api/v1/lookouts/{pk}/feed.atom"
    assert Client().get(address).status_code == 401
    read = api.post("/api/v1/tokens", {"name": "reader", "scopes": ["read"]}, format="json").json()["text"]
    write = api.post("/api/v1/tokens", {"name": "writer", "scopes": ["push"]}, format="json").json()["text"]
    assert Client().get(address, {"token": write}).status_code == 403
    assert Client().get("/api/v1/lookouts", {"token": read}).status_code == 401
    answer = Client().get(address, {"token": read})
    assert answer.status_code == 200 and answer["Content-Type"].startswith("application/atom+xml")
    space = {"a": "http://www.w3.org/2005/Atom"}
    feed = ElementTree.fromstring(answer.content)
    (entry,) = feed.findall("a:entry", space)
    assert entry.find("a:title", space).text.startswith("flow")
    assert entry.find("a:category", space).get("term") == "began"
    assert feed.find("a:updated", space).text and entry.find("a:id", space).text.startswith("urn:watchtide:")


def test_the_same_slot_of_earlier_weeks_keeps_its_hour_through_a_clock_change():
    # Saturday 31 October 2026, 09:15 in Dublin is winter time; two weeks before, 09:15 was summer time.
    now = clock.parse_one("2026-10-31T09:15:00Z")
    assert clock.format_time(facts.weeks_before(now, "Europe/Dublin", 2)) == "2026-10-17T08:15:00Z"
    assert facts.weeks_before(now, "UTC", 1) == now - 7 * 86_400 * 10**9


def test_parts_of_a_family_are_told_against_earlier_weeks(api, sender):
    times, values = history(24 * 40)
    counts = [round(abs(v)) + 20 for v in values]
    for place, factor in (("lock", 1), ("weir", 2)):
        push(sender, times, [c * factor for c in counts], place=place)
    Stream.objects.update(is_additive=True)
    stream = Stream.objects.get(key="metric=flow,place=lock")
    last = int(times[-1])
    rows, weeks, whole = facts._pushes(stream, last, last, is_count=False)
    assert weeks == facts.WEEKS and whole == "all of flow"
    by = {r.name: r for r in rows}
    usual = sum(counts[-1 - 168 * k] for k in range(1, 5)) / 4
    assert by["lock"].seen == counts[-1] and by["lock"].usual == pytest.approx(usual)
    assert by["weir"].usual == pytest.approx(2 * usual)


def test_counts_say_who_pushed_and_how_many_in_all(api, sender, confirmed, postbox):
    times, values = history()
    counts, at = [round(v) + 30 for v in values], len(times) - 101
    for place, factor in (("lock", 1), ("weir", 3)):
        push(sender, times[:at], [c * factor for c in counts[:at]], place=place)
    made(api, routes=[confirmed["id"]], plan=f"prepare: {{as: count}}\n{PLAN}")
    judge()
    for place, factor in (("lock", 1), ("weir", 3)):
        push(sender, times[at : at + 5], [c * factor for c in counts[at : at + 5]], place=place)
    judge()
    send_all()
    (mail,) = postbox.mails
    text = mail.get_body(("plain",)).get_content()
    assert "Pushed it up" in text and "all of flow, against the same hours of 3 weeks before" in text
    weir = next(line.split() for line in text.splitlines() if line.strip().startswith("weir"))
    seen = sum(c * 3 for c in counts[at + 1 : at + 5])
    assert weir[1] == f"{seen:,.0f}" and weir[3].startswith("+")
    assert "in 3h" in text and "at its peak" not in text


def test_a_picture_of_nothing_is_none_and_of_gaps_is_drawn():
    assert pictures.drawn("", "UTC", 0, 1, "m") == b""
    head = "series,time,value,expected,lower,upper"
    rows = [f"a,2026-01-01T0{h}:00:00Z,{'' if h == 2 else h},1,0,2" for h in range(6)]
    at = clock.parse_one("2026-01-01T03:00:00Z")
    assert pictures.drawn("\n".join([head, *rows]) + "\n", "Europe/Dublin", at, at, "").startswith(b"\x89PNG")
