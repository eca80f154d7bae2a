"""Notices: one for what begins together, sent once, signed, tried again, given up; nothing while planned work is on."""

import base64
import contextlib
import hashlib
import hmac
import json
import threading
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from tests.server.conftest import run_jobs, signed_in
from tests.server.test_lookouts import history, judge, made, push
from watchtide.server import moments
from watchtide.server.logbook.models import Quiet
from watchtide.server.lookouts import sending, services
from watchtide.server.lookouts.models import Delivery, Lookout, Notice, Route, Watched
from watchtide.server.streams.models import Stream
from watchtide.tables import clock


class Receiver:
    """A web server on loopback that keeps what it gets, and answers as it is set to."""

    def __init__(self):
        self.got, self.status, self.location, self.body = [], 204, None, b""
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                outer.got.append((dict(self.headers), body))
                self.send_response(outer.status)
                if outer.location:
                    self.send_header("Location", outer.location)
                self.send_header("Content-Length", str(len(outer.body)))
                self.end_headers()
                # Whoever posts need not read on.
                with contextlib.suppress(OSError):
                    self.wfile.write(outer.body)

            def log_message(self, *_):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}/in"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def events(self):
        return [json.loads(body) for _, body in self.got]


@pytest.fixture
def receiver(settings):
    one = Receiver()
    settings.OUTGOING = [f"127.0.0.1:{one.server.server_address[1]}"]
    yield one
    one.server.shutdown()
    one.server.server_close()


def route(api, receiver, **more):
    body = {"kind": "hook", "name": "pager", "to": receiver.url, **more}
    answer = api.post("/api/v1/routes", body, format="json")
    assert answer.status_code == 201, answer.content
    return answer.json()


def outbox(api, **query):
    return api.get("/api/v1/outbox", query).json()["items"]


def before_the_spike(sender, api, receiver, places=("lock",), **more):
    """History up to the spike, judged; and the spike's samples, not yet sent."""
    times, values = history()
    at = len(times) - 101
    for place in places:
        push(sender, times[:at], values[:at], place=place)
    hook = route(api, receiver, points=True)
    pk = made(api, routes=[hook["id"]], **more)
    judge()
    assert sending.send_due() == 0
    return pk, hook, (times, values, at)


def test_began_and_ended_are_sent_once_each_and_signed(api, sender, receiver):
    pk, hook, (times, values, at) = before_the_spike(sender, api, receiver)
    for stop in (at + 4, at + 6, at + 6, len(times)):
        push(sender, times[at:stop], values[at:stop])
        judge()
        services.request(Lookout.objects.get(pk=pk))
        run_jobs()
        sending.send_due()
    began, ended = receiver.events()
    assert (began["type"], ended["type"]) == ("watchtide.finding.began", "watchtide.finding.ended")
    assert began["source"] == f"/api/v1/lookouts/{pk}" and began["specversion"] == "1.0"
    assert began["subject"] == "metric=flow,place=lock"
    assert (
        began["data"]["start"] == clock.format_time(int(times[at + 1]))
        and began["data"]["direction"] == "above"
    )
    points = began["data"]["points_csv"].splitlines()
    assert points[0].startswith("series,time,value,expected")
    assert len(points) == 1 + 3 and clock.format_time(int(times[at + 1])) in points[1]
    assert ended["data"]["end"] == clock.format_time(int(times[at + 6]))
    # As the receiver of Standard Webhooks checks it.
    headers, body = receiver.got[0]
    headers = {k.lower(): v for k, v in headers.items()}
    key = base64.b64decode(hook["secret"].removeprefix("whsec_"))
    signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.".encode() + body
    proof = base64.b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()
    assert headers["webhook-signature"] == f"v1,{proof}" and headers["webhook-id"] == began["id"]
    assert headers["content-type"] == "application/cloudevents+json"
    assert [x["state"] for x in outbox(api, lookout=pk)] == ["sent", "sent"]
    assert "secret" not in api.get(f"/api/v1/routes/{hook['id']}").json()


def test_what_was_there_before_the_lookout_wakes_nobody(api, sender, receiver):
    times, values = history()
    push(sender, times, values)
    from watchtide.server.streams import folding

    folding.fold()
    pk = made(api, routes=[route(api, receiver)["id"]])
    judge()
    assert Watched.objects.get(lookout=pk).findings
    assert not Notice.objects.exists()


def test_findings_that_begin_together_make_one_notice(api, sender, receiver):
    pk, _, (times, values, at) = before_the_spike(sender, api, receiver, places=("lock", "weir", "sluice"))
    for place in ("lock", "weir", "sluice"):
        push(sender, times[at : at + 5], values[at : at + 5], place=place)
    judge()
    sending.send_due()
    assert [e["type"] for e in receiver.events()] == ["watchtide.finding.began"]
    for place in ("lock", "weir", "sluice"):
        push(sender, times[at + 5 :], values[at + 5 :], place=place)
        judge()
        sending.send_due()
    # Over when the last of them is.
    assert [e["type"].rsplit(".", 1)[1] for e in receiver.events()] == ["began", "ended"]
    group = Lookout.objects.get(pk=pk).groups.get()
    assert group.raised.count() == 3 and group.ended_at is not None


def test_what_goes_with_nothing_is_announced_by_itself(api, sender, receiver):
    """Two places of one family begin together; a stream that shares nothing with them is no part of that."""
    times, values = history()
    at = len(times) - 101
    for place in ("lock", "weir"):
        push(sender, times[:at], values[:at], place=place)
    push(sender, times[:at], values[:at], place="far", metric="wind")
    found = Stream.objects.filter(metric__in=("flow", "wind")).values_list("pk", flat=True)
    pk = made(api, routes=[route(api, receiver)["id"]], scope={"streams": list(found)})
    judge()
    for place, metric in (("lock", "flow"), ("weir", "flow"), ("far", "wind")):
        push(sender, times[at : at + 5], values[at : at + 5], place=place, metric=metric)
    judge()
    sending.send_due()
    assert sorted(e["subject"] for e in receiver.events())[-1] == "metric=wind,place=far"
    assert len(receiver.events()) == 2 and Lookout.objects.get(pk=pk).groups.count() == 2


def test_what_joins_late_is_over_before_the_end_is_announced(api, sender, receiver):
    _, _, (times, values, at) = before_the_spike(sender, api, receiver, places=("lock", "weir"))
    push(sender, times[at:], values[at:], place="lock")
    judge()
    sending.send_due()
    # The first is over in one go, and so is its group; another that began with it reopens it.
    push(sender, times[at : at + 5], values[at : at + 5], place="weir")
    judge()
    sending.send_due()
    assert [e["type"].rsplit(".", 1)[1] for e in receiver.events()] == ["began"]
    push(sender, times[at + 5 :], values[at + 5 :], place="weir")
    judge()
    sending.send_due()
    assert [e["type"].rsplit(".", 1)[1] for e in receiver.events()] == ["began", "ended"]


def test_apart_each_finding_has_its_own(api, sender, receiver):
    _, _, (times, values, at) = before_the_spike(
        sender, api, receiver, places=("lock", "weir"), notify={"together": False, "ended": False}
    )
    for place in ("lock", "weir"):
        push(sender, times[at:], values[at:], place=place)
    judge()
    sending.send_due()
    assert [e["type"].rsplit(".", 1)[1] for e in receiver.events()] == ["began", "began"]
    assert len({e["subject"] for e in receiver.events()}) == 2


def test_planned_work_holds_what_would_be_sent_and_counts_it(api, sender, receiver):
    _, _, (times, values, at) = before_the_spike(sender, api, receiver)
    Quiet.objects.create(
        scope="metric=flow", start_ns=int(times[at]), end_ns=int(times[-1]), reason="crane", by="ann"
    )
    push(sender, times[at : at + 4], values[at : at + 4])
    judge()
    assert sending.send_due() == 0 and not receiver.got
    kept_back = outbox(api, state="held")
    assert [x["kind"] for x in kept_back] == ["began"]
    assert api.post(f"/api/v1/outbox/{kept_back[0]['id']}/resend").status_code == 202
    sending.send_due()
    assert len(receiver.got) == 1


def test_a_failing_receiver_is_tried_again_with_growing_pauses_and_given_up(api, receiver):
    hook = route(api, receiver)
    receiver.status = 503
    made_one = api.post(f"/api/v1/routes/{hook['id']}/test").json()
    pauses, row = [], Delivery.objects.get(pk=made_one["id"])
    for _ in range(8):
        assert sending.send_due() == 1 and sending.send_due() == 0
        row.refresh_from_db()
        pauses.append(round((row.due_at - moments.now()).total_seconds()))
        Delivery.objects.update(due_at=moments.now())
    assert 5 < pauses[0] < 300 and pauses == sorted(pauses) and pauses[-1] > 3_000
    attempts = outbox(api)[0]["attempts"]
    assert len(attempts) == 8 and {a["outcome"] for a in attempts} == {"failed"}
    assert attempts[0]["detail"] == "answered 503 Service Unavailable"
    failing = api.get(f"/api/v1/routes/{hook['id']}").json()
    assert failing["failures"] == 8 and failing["failing_since"]
    # Every try has the same id.
    assert len({headers["webhook-id"] for headers, _ in receiver.got}) == 1
    Delivery.objects.update(created_at=moments.now() - timedelta(days=2))
    sending.send_due()
    assert outbox(api)[0]["state"] == "failed" and sending.send_due() == 0
    # By hand once more, and it works.
    receiver.status = 200
    api.post(f"/api/v1/outbox/{made_one['id']}/resend")
    sending.send_due()
    assert outbox(api)[0]["state"] == "sent"
    assert api.get(f"/api/v1/routes/{hook['id']}").json()["failing_since"] is None


def test_a_redirect_is_not_followed_and_ten_megabytes_are_not_read(api, receiver):
    hook = route(api, receiver)
    receiver.status, receiver.location = 302, receiver.url + "/elsewhere"
    api.post(f"/api/v1/routes/{hook['id']}/test")
    sending.send_due()
    assert outbox(api)[0]["attempts"][0]["detail"] == "answered 302 Found" and len(receiver.got) == 1
    receiver.status, receiver.location, receiver.body = 200, None, b"x" * 10_000_000
    Delivery.objects.update(due_at=moments.now())
    sending.send_due()
    assert outbox(api)[0]["state"] == "sent"


def test_a_sender_that_was_lost_leaves_its_delivery_to_another(api, receiver):
    hook = route(api, receiver)
    api.post(f"/api/v1/routes/{hook['id']}/test")
    assert len(sending._claim(10)) == 1 and sending._claim(10) == []
    Delivery.objects.update(claimed_until=moments.now() - timedelta(seconds=1))
    assert sending.send_due() == 1 and len(receiver.got) == 1


def test_silence_and_its_end_are_announced_once(api, sender, receiver):
    pk, _, (times, values, at) = before_the_spike(sender, api, receiver)
    Watched.objects.update(newest_at=moments.now() - timedelta(hours=5))
    for _ in range(2):
        services.request(Lookout.objects.get(pk=pk))
        run_jobs()
    push(sender, times[at : at + 1], values[at - 24 : at - 23])
    judge()
    sending.send_due()
    assert [e["type"] for e in receiver.events()] == ["watchtide.stream.silent", "watchtide.stream.resumed"]


def test_chat_is_one_line_of_text(api, receiver):
    chat = route(api, receiver, kind="chat", name="harbour")
    assert chat["secret"] == ""
    api.post(f"/api/v1/routes/{chat['id']}/test")
    sending.send_due()
    assert receiver.events() == [
        {"text": "A test of the route harbour. Sent by ann from Watch Tide. Nothing is wrong."}
    ]


def test_reminders_come_while_it_lasts(api, sender, receiver):
    pk, _, (times, values, at) = before_the_spike(sender, api, receiver, notify={"remind": "1h"})
    push(sender, times[at : at + 3], values[at : at + 3])
    judge()
    group = Lookout.objects.get(pk=pk).groups.get()
    group.reminded_at = moments.now() - timedelta(hours=2)
    group.save()
    push(sender, times[at + 3 : at + 4], values[at + 3 : at + 4])
    judge()
    sending.send_due()
    assert [e["type"].rsplit(".", 1)[1] for e in receiver.events()] == ["began", "reminder"]


@pytest.mark.parametrize(
    ("changes", "status", "words"),
    [
        ({"to": "http://10.1.2.3/hook"}, 400, "not allowed"),
        ({"to": "ftp://127.0.0.1/"}, 400, "no web address"),
        ({"kind": "pigeon"}, 400, "kind"),
        ({"name": "pager"}, 409, "there is a route"),
    ],
)
def test_bad_routes_are_refused(api, receiver, changes, status, words):
    route(api, receiver)
    body = {"kind": "hook", "name": "other", "to": receiver.url} | changes
    answer = api.post("/api/v1/routes", body, format="json")
    assert answer.status_code == status and words in answer.content.decode()
    assert Route.objects.count() == 1
    assert signed_in("vic").post("/api/v1/routes", body, format="json").status_code == 403


def test_a_lookout_is_given_routes_and_loses_one_that_is_taken_away(api, sender, receiver):
    times, values = history(24 * 20)
    push(sender, times, values)
    hook = route(api, receiver)
    pk = made(api, routes=[hook["id"]])
    assert api.get(f"/api/v1/lookouts/{pk}").json()["routes"] == [hook["id"]]
    assert api.patch(f"/api/v1/lookouts/{pk}", {"routes": []}, format="json").json()["routes"] == []
    api.patch(f"/api/v1/lookouts/{pk}", {"routes": [hook["id"]]}, format="json")
    assert api.delete(f"/api/v1/routes/{hook['id']}").status_code == 204
    assert api.get(f"/api/v1/lookouts/{pk}").json()["routes"] == []
