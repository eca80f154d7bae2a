"""The last finished day or week beside the same ones before: counted by hand, by the zone's clock, and sent each morning."""

from datetime import datetime, time, timedelta

import numpy as np
import pytest

from tests.server.conftest import signed_in
from tests.server.test_lookouts import push
from tests.server.test_mail import confirmed, postbox  # noqa: F401
from tests.server.test_notices import receiver, route  # noqa: F401
from watchtide.core.series import SECOND_NS
from watchtide.server import moments
from watchtide.server.lookouts import sending
from watchtide.server.looks import mornings
from watchtide.server.looks.models import Morning
from watchtide.server.streams import folding
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

HOUR = 3_600 * SECOND_NS
# A Monday; nine whole weeks of hours, and half a day more.
START = clock.parse_one("2026-08-03T00:00:00Z")
N = 9 * 168 + 12


@pytest.fixture
def world(sender):
    """Counts at three gates: 10 an hour, 20 on Saturdays; on the last Sunday one gate counts three times as much."""
    k = np.arange(N)
    times = START + k * HOUR
    saturday = (k // 24) % 7 == 5
    for i, place in enumerate(("lock", "weir", "sluice")):
        values = np.where(saturday, 20.0, 10.0) + (k % 3 == i) + (k // 168 % 3 == i)
        values[8 * 168 + 144 : 9 * 168] *= 3 if place == "weir" else 1
        push(sender, times, values, place=place, metric="taps")
    folding.fold()
    Stream.objects.update(is_additive=True, bad_side="above")
    return {s.title: s for s in Stream.objects.all()}, times


def look(api, **query):
    return api.get("/api/v1/look", query)


def test_a_day_is_set_beside_its_own_weekday(api, world):
    got = look(api, metric="taps").json()
    # The last finished day is the ninth Sunday: by hand from what was pushed.
    assert got["start"] == "2026-10-04T00:00:00Z" and got["end"] == "2026-10-05T00:00:00Z"
    usual = 3 * 240 + 3 * 8 + 24
    assert got["usual"] == usual and got["value"] == usual + 2 * (240 + 8)
    assert (got["outside"], got["is_bad"], got["seen"], got["n"]) == ("above", True, 1.0, 8)
    assert len(got["beside"]) == 8 and got["beside"][-1]["start"] == "2026-09-27T00:00:00Z"
    assert got["pushed_by"] == "place" and [r["name"] for r in got["up"]][0] == "weir"
    assert got["value"] - got["usual"] == pytest.approx(sum(r["change"] for r in got["up"] + got["down"]))


def test_any_past_one_is_looked_at_with_what_was_known_then(api, world):
    got = look(api, metric="taps", day="2026-09-05", n=3).json()
    assert got["start"] == "2026-09-05T00:00:00Z" and got["outside"] == ""
    assert [b["start"][:10] for b in got["beside"]] == ["2026-08-15", "2026-08-22", "2026-08-29"]
    at = got["periods"]["start"].index("2026-09-05T00:00:00Z")
    assert got["periods"]["value"][at] == got["value"] and got["periods"]["usual"][at] == got["usual"]


def test_a_week_and_one_stream_of_a_family(api, world):
    streams, _ = world
    got = look(api, stream=streams["weir"].pk, by="week").json()
    assert got["start"] == "2026-09-28T00:00:00Z" and got["by"] == "week" and got["streams"] == 1
    assert got["value"] == pytest.approx(6 * 240 + 480 + 56 + 2 * 248)
    assert len(got["beside"]) == 8


def test_days_are_those_of_the_zone_through_a_clock_change(api, sender):
    """Clocks go forward on 29 March 2026: that day has 23 hours, and all of it is seen."""
    first = clock.parse_one("2026-02-01T00:00:00Z")
    times = first + np.arange(24 * 60) * HOUR
    push(sender, times, np.ones(len(times)), metric="ones")
    folding.fold()
    Stream.objects.update(zone="Europe/Dublin", is_additive=True)
    got = look(api, stream=Stream.objects.get(metric="ones").pk, day="2026-03-29").json()
    assert got["value"] == 23 and got["seen"] == 1.0 and got["usual"] == 24
    assert (got["start"], got["end"]) == ("2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z")
    assert got["adds_up"] and got["pushed_by"] == ""


def test_gauges_are_means_and_have_no_parts(api, sender):
    times = START + np.arange(24 * 30) * HOUR
    rng = np.random.default_rng(2)
    for place in ("a", "b"):
        push(sender, times, np.round(15 + rng.normal(0, 1, len(times)), 2), place=place, metric="temp")
    folding.fold()
    got = look(api, metric="temp").json()
    assert not got["adds_up"] and 14 < got["value"] < 16 and got["up"] == got["down"] == []


@pytest.mark.parametrize(
    ("query", "status", "place"),
    [
        ({}, 400, "stream"),
        ({"metric": "none such"}, 404, "metric"),
        ({"metric": "taps", "stream": 1}, 400, "stream"),
        ({"metric": "taps", "by": "month"}, 400, "by"),
        ({"metric": "taps", "n": 0}, 400, "n"),
        ({"metric": "taps", "day": "Sunday"}, 400, "day"),
        ({"metric": "taps", "day": "2031-01-01"}, 404, "day"),
        ({"metric": "taps", "attribute": "place"}, 400, "attribute"),
        ({"stream": 99_999}, 404, ""),
    ],
)
def test_what_cannot_be_looked_at_is_said(api, world, query, status, place):
    answer = look(api, **query)
    assert answer.status_code == status, answer.content
    assert place in answer.content.decode()


def test_what_is_not_over_is_neither_high_nor_low(api, world):
    """Half a Monday has come: far below any Monday, and no mark of it."""
    got = look(api, metric="taps").json()["periods"]
    assert got["start"][-1] == "2026-10-05T00:00:00Z" and got["value"][-1] < 0.6 * got["usual"][-1]
    assert got["outside"][-1] == "" and got["outside"][-2] == "above"


def test_streams_that_are_too_young_or_too_coarse_say_so(api, sender):
    push(sender, START + np.arange(5) * HOUR, np.arange(5.0), metric="young")
    push(sender, START + np.arange(9) * 14 * 24 * HOUR, np.arange(9.0), metric="coarse")
    folding.fold()
    assert look(api, metric="young").status_code == 409
    assert look(api, metric="coarse", by="week").status_code == 400


class TestEachMorning:
    BODY = {"metric": "taps", "by": "day", "clock": "00:00", "zone": "UTC"}

    def make(self, api, receiver, **more):  # noqa: F811
        hook = route(api, receiver, kind="chat")
        answer = api.post("/api/v1/mornings", self.BODY | {"route": hook["id"]} | more, format="json")
        assert answer.status_code == 201, answer.content
        return answer.json()["id"]

    def test_the_next_period_is_sent_once(self, api, world, receiver):  # noqa: F811
        pk = self.make(api, receiver)
        # What was there when it was made is on the page already.
        send = mornings.Mornings()
        assert send() == 0
        Morning.objects.filter(pk=pk).update(sent_for=START)
        # What was looked at is not looked at again until something comes.
        assert send() == 0
        assert [mornings.Mornings()() for _ in range(3)] == [1, 0, 0]
        sending.send_due()
        (text,) = [e["text"] for e in receiver.events()]
        assert text.startswith("taps (3 streams), Sunday 4 Oct.") and "the bad side" in text
        assert "weir (+487)" in text

    def test_as_a_mail_it_has_a_picture_and_what_pushed(self, api, world, confirmed, postbox):  # noqa: F811
        streams, _ = world
        body = self.BODY | {"metric": "", "stream": streams["weir"].pk, "route": confirmed["id"]}
        pk = api.post("/api/v1/mornings", body, format="json").json()["id"]
        Morning.objects.filter(pk=pk).update(sent_for=START)
        mornings.Mornings()()
        sending.send_due()
        mail = postbox.mails[-1]
        assert mail["Subject"].endswith("weir, Sunday 4 Oct")
        text = mail.get_body(("plain",)).get_content()
        assert "744" in text and "Usual is 257" in text and "Say what it was" not in text
        assert "/look?stream=" in text and "day=2026-10-04" in text
        (picture,) = [p for p in mail.walk() if p.get_content_type() == "image/png"]
        assert picture.get_content().startswith(b"\x89PNG")

    def test_not_before_its_hour_and_a_week_on_its_first_day(self):
        now = datetime.fromisoformat("2026-11-24T06:59:00+00:00")
        week = moments.ns_of(datetime.fromisoformat("2026-11-16T00:00:00+00:00"))
        one = Morning(at=time(7), zone="UTC", by="day", sent_for=None)
        assert not mornings._is_due(one, now) and mornings._is_due(one, now + timedelta(minutes=1))
        one = Morning(at=time(6), zone="UTC", by="week", sent_for=week)
        assert not mornings._is_due(one, now)
        assert mornings._is_due(one, now + timedelta(days=6))

    def test_it_is_listed_and_ended_and_a_viewer_makes_none(self, api, world, receiver):  # noqa: F811
        pk = self.make(api, receiver)
        (row,) = api.get("/api/v1/mornings").json()["items"]
        assert row["title"] == "taps" and row["clock"] == "00:00" and row["route_name"] == "pager"
        body = self.BODY | {"route": row["route"]}
        assert signed_in("vic").post("/api/v1/mornings", body, format="json").status_code == 403
        for change, status in (
            ({"route": 9_999}, 404),
            ({"zone": "Mars"}, 400),
            ({"metric": ""}, 400),
            ({"stream": 9_999, "metric": ""}, 404),
            ({"clock": "noon"}, 400),
        ):
            assert api.post("/api/v1/mornings", body | change, format="json").status_code == status
        assert api.delete(f"/api/v1/mornings/{pk}").status_code == 204
        assert not Morning.objects.exists()


def test_a_board_shows_a_look(api, world):
    streams, _ = world
    pane = {"kind": "look", "stream": streams["lock"].pk, "by": "week", "n": 4}
    made = api.post("/api/v1/boards", {"name": "wall", "panes": [pane]}, format="json").json()
    got = api.get(f"/api/v1/boards/{made['id']}/panes/0").json()
    assert got["by"] == "week" and got["n"] == 4 and got["value"] is not None
    assert api.post(
        "/api/v1/boards", {"name": "bad", "panes": [pane | {"by": "year"}]}, format="json"
    ).status_code == 400  # fmt: skip
