"""Who gets what and when: families, size, side, hours, a calendar of watches, so many an hour; and a limit foreseen."""

from datetime import datetime, time, timedelta
from types import SimpleNamespace

import numpy as np
import pytest

from tests.server.conftest import signed_in
from tests.server.test_lookouts import START, STEP, history, judge, made, push, streams
from tests.server.test_notices import before_the_spike, outbox, receiver, route  # noqa: F401
from watchtide.server import moments
from watchtide.server.lookouts import notices, sending
from watchtide.server.lookouts.models import Delivery, Lookout, Route
from watchtide.server.lookouts.taking import Hours, Takes
from watchtide.server.streams import calendars

NIGHT = Hours(frozenset({5}), time(22), time(6))


def kinds(receiver):  # noqa: F811
    return [e["type"].rsplit(".", 1)[1] for e in receiver.events()]


def takes(**given):
    return Takes.of(SimpleNamespace(takes=given))


class TestHours:
    @pytest.mark.parametrize(
        ("moment", "holds"),
        [
            ("2026-11-27T21:59", False),
            ("2026-11-27T22:00", True),
            ("2026-11-28T05:59", True),
            ("2026-11-28T06:00", False),
            ("2026-11-28T22:30", False),
            ("2026-11-27T03:00", False),
        ],
    )
    def test_a_friday_night_goes_on_into_saturday(self, moment, holds):
        assert NIGHT.holds(datetime.fromisoformat(moment)) == holds

    def test_the_clock_is_that_of_the_zone_through_a_change(self):
        night = {"days": [6], "opens": "23:00", "closes": "07:00"}
        one = takes(hours=[night], zone="Europe/Dublin")
        # Clocks go back on 25 October 2026: 06:30 is an hour later in UTC than the day before.
        at = lambda text: moments.ns_of(datetime.fromisoformat(text))
        assert one.is_on_watch(at("2026-10-25T06:30+00:00")) and not one.is_on_watch(
            at("2026-10-25T07:00+00:00")
        )
        assert one.is_on_watch(at("2026-10-24T22:00+00:00"))

    def test_every_minute_of_a_week_belongs_to_one_of_two_watches(self):
        week = [1, 2, 3, 4, 5, 6, 7]
        day = Hours(frozenset(week), time(8), time(20))
        night = Hours(frozenset(week), time(20), time(8))
        first = datetime(2026, 11, 23)
        for minute in range(0, 7 * 1440, 7):
            now = first + timedelta(minutes=minute)
            assert day.holds(now) != night.holds(now)


class TestWhatIsTaken:
    @pytest.mark.parametrize(
        ("given", "taken"),
        [
            ({}, True),
            ({"metrics": ["flow"]}, True),
            ({"metrics": ["wind", "rain"]}, False),
            ({"attributes": {"place": "lock"}}, True),
            ({"attributes": {"place": "lock", "kind": "x"}}, False),
            ({"sides": "below"}, False),
            ({"sides": "above"}, True),
            ({"sides": "bad"}, True),
            ({"least": 8}, True),
            ({"least": 9.1}, False),
        ],
    )
    def test_by_family_attribute_side_and_size(self, given, taken):
        stream = SimpleNamespace(metric="flow", attributes=[["place", "lock"]], bad_side="above")
        one = takes(**given)
        finding = {"direction": "above", "score": 9.0}
        assert (one.takes_stream(stream) and one.takes_finding(finding, stream)) == taken
        stream.bad_side = "below"
        assert not takes(sides="bad").takes_finding(finding, stream)
        assert takes(sides="bad", least=50).takes_finding({"direction": "down", "score": None}, stream)


def test_a_route_gets_its_own_findings_and_their_end(api, sender, receiver):  # noqa: F811
    pk, hook, (times, values, at) = before_the_spike(sender, api, receiver)
    small = route(api, receiver, name="all of it", takes={"metrics": ["wind"]})
    large = route(api, receiver, name="large", takes={"least": 500, "sides": "above"})
    api.patch(f"/api/v1/lookouts/{pk}", {"routes": [hook["id"], small["id"], large["id"]]}, format="json")
    push(sender, times[at:], values[at:])
    judge()
    sending.send_due()
    rows = outbox(api, lookout=pk)
    assert {r["route_name"] for r in rows} == {"pager"} and len(rows) == 1


def test_what_grows_reaches_who_wants_large_ones_once(api, sender, receiver):  # noqa: F811
    pk, hook, (times, values, at) = before_the_spike(sender, api, receiver)
    large = route(api, receiver, name="large", takes={"least": 30})
    api.patch(f"/api/v1/lookouts/{pk}", {"routes": [hook["id"], large["id"]]}, format="json")
    values[at + 1 : at + 3] -= 25
    values[at + 3 : at + 5] += 90
    for stop in (at + 3, at + 4, at + 5, len(times)):
        push(sender, times[at:stop], values[at:stop])
        judge()
        sending.send_due()
    by_route = {}
    for row in reversed(outbox(api, lookout=pk)):
        by_route.setdefault(row["route_name"], []).append(row["kind"])
    assert by_route == {"pager": ["began", "ended"], "large": ["reminder", "ended"]}


def test_a_watch_that_begins_takes_over_what_lasts(api, sender, receiver):  # noqa: F811
    """The second watch has a calendar; its event begins while the incident is on."""
    pk, hook, (times, values, at) = before_the_spike(sender, api, receiver)
    now = moments.now()

    def rota(begin):
        stamp = begin.strftime("%Y%m%dT%H%M%SZ")
        end = (begin + timedelta(hours=8)).strftime("%Y%m%dT%H%M%SZ")
        return (
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:t\r\nBEGIN:VEVENT\r\nUID:1\r\n"
            f"DTSTART:{stamp}\r\nDTEND:{end}\r\nSUMMARY:Watch of Orla\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        ).encode()

    calendars.keep("rota", rota(now + timedelta(hours=5)), "UTC", None)
    orla = route(api, receiver, name="orla", takes={"calendar": "rota", "who": "orla"})
    finn = route(api, receiver, name="finn", takes={"calendar": "rota", "who": "finn"})
    ids = [hook["id"], orla["id"], finn["id"]]
    api.patch(f"/api/v1/lookouts/{pk}", {"routes": ids}, format="json")
    push(sender, times[at : at + 3], values[at : at + 3])
    judge()
    assert [r["route_name"] for r in outbox(api, lookout=pk)] == ["pager"]
    calendars.keep("rota", rota(now - timedelta(hours=1)), "UTC", None)
    push(sender, times[at + 3 : at + 4], values[at + 3 : at + 4])
    judge()
    push(sender, times[at + 4 : at + 5], values[at + 4 : at + 5])
    judge()
    rows = [(r["route_name"], r["kind"]) for r in outbox(api, lookout=pk)]
    assert sorted(rows) == [("orla", "reminder"), ("pager", "began")]


def test_so_many_an_hour_and_the_rest_as_one(api, sender, receiver):  # noqa: F811
    times, values = history()
    at = len(times) - 101
    places = ("lock", "weir", "sluice", "basin")
    for place in places:
        push(sender, times[:at], values[:at], place=place)
    hook = route(api, receiver, most_an_hour=2)
    pk = made(api, routes=[hook["id"]], notify={"together": False})
    judge()
    for i, place in enumerate(places):
        more = values.copy()
        more[at:] += 30 * i
        push(sender, times[at : at + 4], more[at : at + 4], place=place)
    judge()
    sending.send_due()
    assert kinds(receiver) == ["began", "began"]
    assert sorted(r["state"] for r in outbox(api, lookout=pk)) == ["held", "held", "sent", "sent"]
    assert notices.room_of(Route.objects.get(pk=hook["id"])) == 0
    # An hour later there is room: one notice for the two, that of the larger one.
    Delivery.objects.update(created_at=moments.now() - timedelta(minutes=61))
    sending.send_due()
    assert kinds(receiver) == ["began"] * 3
    last = receiver.events()[-1]["data"]
    assert last["title"].endswith(", and 1 more") and len(last["more"]) == 1
    assert last["score"] == max(e["data"]["score"] for e in receiver.events())
    joined = [r for r in outbox(api, lookout=pk) if any(a["outcome"] == "joined" for a in r["attempts"])]
    assert len(joined) == 2 and all(r["state"] == "sent" for r in joined)
    sending.send_due()
    assert len(receiver.got) == 3


def test_one_alone_that_was_held_goes_as_it_is(api, receiver):  # noqa: F811
    hook = Route.objects.get(pk=route(api, receiver, most_an_hour=1)["id"])
    for name in ("one", "two"):
        notices.put(notices.Notice(kind="silent", title=name), [hook])
    sending.send_due()
    assert [e["data"]["title"] for e in receiver.events()] == ["one"]
    Delivery.objects.update(created_at=moments.now() - timedelta(hours=2))
    sending.send_due()
    assert [e["data"]["title"] for e in receiver.events()] == ["one", "two"]


@pytest.mark.parametrize(
    ("given", "status", "place"),
    [
        ({"hours": [{"days": [], "opens": "08:00", "closes": "09:00"}]}, 400, "days"),
        ({"hours": [{"days": [8], "opens": "08:00", "closes": "09:00"}]}, 400, "days"),
        ({"hours": [{"days": [1], "opens": "25:00", "closes": "09:00"}]}, 400, "opens"),
        ({"hours": [{"days": [1], "opens": "09:00", "closes": "09:00"}]}, 400, "takes.hours.0"),
        ({"zone": "Mars/Base"}, 400, "takes.zone"),
        ({"calendar": "none such"}, 404, "takes.calendar"),
        ({"sides": "left"}, 400, "sides"),
        ({"least": -1}, 400, "least"),
    ],
)
def test_what_no_route_can_take_is_refused_at_its_place(api, receiver, given, status, place):  # noqa: F811
    body = {"kind": "hook", "name": "x", "to": receiver.url, "takes": given}
    answer = api.post("/api/v1/routes", body, format="json")
    assert answer.status_code == status and place in answer.content.decode()
    made_one = route(api, receiver)
    changed = api.patch(f"/api/v1/routes/{made_one['id']}", {"takes": given}, format="json")
    assert changed.status_code == status
    assert Route.objects.get().takes == {}


def test_a_route_is_changed_but_not_where_it_goes(api, receiver):  # noqa: F811
    hook = route(api, receiver)
    path = f"/api/v1/routes/{hook['id']}"
    wanted = {"least": 6, "hours": [{"days": [6, 7], "opens": "08:00", "closes": "20:00"}], "zone": "UTC"}
    answer = api.patch(path, {"takes": wanted, "most_an_hour": 5, "name": "weekend"}, format="json").json()
    assert answer["takes"] == wanted and answer["most_an_hour"] == 5 and answer["name"] == "weekend"
    assert api.patch(path, {"to": "http://127.0.0.1:1/"}, format="json").status_code == 409
    assert signed_in("vic").patch(path, {"name": "x"}, format="json").status_code == 403


class TestALimit:
    PLAN = "baseline: {kind: harmonic, seasons: [24h]}\nreplay: {refit: 1d, window: 14d}\nflag: {level: {sigmas: 9}}\nshifts: {of: none}\n"

    def rising(self):
        k = np.arange(24 * 20)
        rng = np.random.default_rng(3)
        return START + k * STEP, np.round(
            10 + 0.1 * k + 3 * np.sin(2 * np.pi * k / 24) + rng.normal(0, 0.3, len(k)), 3
        )

    def test_it_is_announced_before_it_is_reached_and_once(self, api, sender, receiver):  # noqa: F811
        times, values = self.rising()
        at = 24 * 16
        push(sender, times[:at], values[:at])
        hook = route(api, receiver)
        limit = {"above": 55.0, "within": "2d"}
        pk = made(
            api, plan=self.PLAN, routes=[hook["id"]], limit=limit, notify={"began": False, "ended": False}
        )
        assert api.get(f"/api/v1/lookouts/{pk}").json()["limit"] == limit
        judge()
        sending.send_due()
        assert receiver.events() == [] and streams(api, pk)["metric=flow,place=lock"]["foreseen"] is None
        reached = int(np.argmax(values >= 55.0))
        for stop in (at + 24, at + 48, at + 60, at + 80):
            push(sender, times[at:stop], values[at:stop])
            judge()
            sending.send_due()
        (event,) = receiver.events()
        assert event["type"] == "watchtide.stream.limit" and event["subject"] == "metric=flow,place=lock"
        fact = event["data"]["forecast"]
        assert fact["limit"] == 55.0 and fact["side"] == "above" and fact["chance_by_end"] >= 0.5
        half = moments.ns_of(datetime.fromisoformat(fact["reached_with"]["0.5"]))
        assert abs(half - times[reached]) < 30 * STEP
        assert "Half of the futures have reached it by" in event["data"]["text"]
        assert streams(api, pk)["metric=flow,place=lock"]["foreseen"] is not None

    def test_it_is_announced_again_only_after_it_was_taken_back(self, api, sender, receiver):  # noqa: F811
        times, values = self.rising()
        push(sender, times, values)
        hook = route(api, receiver)
        pk = made(api, plan=self.PLAN, routes=[hook["id"]], limit={"below": -500.0})
        judge()
        limits = lambda: [r["kind"] for r in outbox(api) if r["kind"] == "limit"]
        assert limits() == []
        api.patch(f"/api/v1/lookouts/{pk}", {"limit": {"above": 63.0, "within": "3d"}}, format="json")
        judge()
        assert limits() == ["limit"]
        push(sender, times[-1:] + STEP, values[-1:])
        judge()
        assert limits() == ["limit"]
        # Out of reach, it is taken back, and may be announced anew: three days settle a new level, and this is the fourth.
        low = np.full(96, 20.0)
        push(sender, times[-1] + STEP * np.arange(2, 98), low)
        judge()
        assert Lookout.objects.get(pk=pk).watched.get().foreseen_ns is None
        cleared = api.patch(f"/api/v1/lookouts/{pk}", {"limit": {}}, format="json").json()
        assert cleared["limit"] == {} and Lookout.objects.get(pk=pk).limit == {}

    @pytest.mark.parametrize(
        ("limit", "plan", "status"),
        [
            ({"above": 1, "below": 0}, "{}", 400),
            ({"above": 1, "within": "soon"}, "{}", 400),
            ({"above": 1}, "baseline: {kind: rolling}", 422),
        ],
    )
    def test_what_cannot_be_foreseen_is_refused(self, api, limit, plan, status):
        body = {"name": "x", "plan": plan, "scope": {"metric": "flow"}, "limit": limit}
        assert api.post("/api/v1/lookouts", body, format="json").status_code == status
        assert not Lookout.objects.exists()
