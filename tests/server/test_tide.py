"""The tide table for many who look: put together once, anew when anything of it changes, and ribbons by themselves."""

import base64
import struct

import pytest
from rest_framework.test import APIClient

from tests.server.conftest import run_jobs, signed_in
from watchtide.server.scans import tide
from watchtide.server.scans.models import Finding, Standing
from watchtide.server.streams.models import Stream

URL = "/api/v1/tide"


@pytest.fixture
def counted(monkeypatch):
    made = []
    real = tide.tide_table
    monkeypatch.setattr(tide, "tide_table", lambda *a, **k: made.append(1) or real(*a, **k))
    tide._kept.clear()
    yield made
    tide._kept.clear()


def parsed(body):
    out, at = {}, 0
    while at < len(body):
        stream, length = struct.unpack_from("<IH", body, at)
        out[stream] = body[at + 6 : at + 6 + length]
        at += 6 + length
    return out


def test_all_who_look_get_the_same_table_made_once(api, counted):
    first = api.get(URL).json()
    other = signed_in("vic").get(URL).json()
    assert len(counted) == 1
    assert first["rows"] == other["rows"] and len(first["rows"]) == 3
    assert api.get(URL, {"most": 1}).json()["strongest"] == first["strongest"][:1]
    # What is on top is chosen from the same table; the fleet's rule makes another.
    assert len(counted) == 1
    assert api.get(URL, {"fleet": 0.2}).json()["fleet_promise"] and len(counted) == 2
    assert api.get(URL).json() == first and len(counted) == 2


def change_name(api, quay):
    answer = api.patch(
        f"/api/v1/streams/{quay.pk}/facts", {"title_given": "The quay", "owner": "vic"}, format="json"
    )
    assert answer.status_code in (200, 201), answer.content


def judge(api, quay):
    found = Finding.objects.filter(stream=quay, scan__standing__stream=quay).order_by("-start_ns").first()
    answer = api.post(f"/api/v1/findings/{found.pk}/verdict", {"verdict": "false-alarm"}, format="json")
    assert answer.status_code in (200, 201), answer.content


def take(api, quay):
    found = Finding.objects.filter(stream=quay, scan__standing__stream=quay).order_by("-start_ns").first()
    assert api.post(f"/api/v1/findings/{found.pk}/take", {}, format="json").status_code == 200


def plan_work(api, quay):
    given = {
        "scope": quay.key,
        "start": "2026-01-01T00:00:00Z",
        "end": "2027-01-01T00:00:00Z",
        "reason": "works",
    }
    answer = api.post("/api/v1/logbook/quiet", given, format="json")
    assert answer.status_code == 201, answer.content


def scan_again(api, quay):
    plan = {"flag": {"level": {"sigmas": 3}}}
    scan = api.post("/api/v1/scans", {"plan": plan, "streams": [quay.pk]}, format="json").json()
    run_jobs()
    answer = api.post(f"/api/v1/scans/{scan['id']}/adopt", {}, format="json")
    assert answer.status_code in (200, 202, 204), answer.content
    run_jobs()


def lose(api, quay):
    Standing.objects.filter(stream=quay).update(scan=None)


def divide_by(api, quay):
    Stream.objects.filter(key="metric=level,place=pier").update(denominator=quay)


@pytest.mark.parametrize("change", [change_name, judge, take, plan_work, scan_again, lose, divide_by])
def test_whatever_changes_shows_at_once(api, stream_of, counted, change):
    before = api.get(URL).json()
    change(api, stream_of("quay"))
    after = api.get(URL).json()
    assert len(counted) == 2
    assert after != before
    tide._kept.clear()
    assert api.get(URL).json() == after


def test_an_unchanged_table_is_not_sent_again(api, counted):
    answer = api.get(URL)
    again = api.get(URL, HTTP_IF_NONE_MATCH=answer["ETag"])
    assert again.status_code == 304 and not again.content and len(counted) == 1


def test_what_is_new_is_each_persons_own(api, counted):
    assert api.get(URL).json()["new"] == api.get(URL).json()["open"] > 0
    assert api.post("/api/v1/tide/looked").status_code == 204
    seen = api.get(URL).json()
    assert seen["new"] == 0 and seen["last_looked"]
    other = signed_in("vic").get(URL).json()
    assert other["new"] == other["open"] and other["last_looked"] is None
    assert len(counted) == 1


def test_ribbons_come_by_themselves(api, stream_of):
    with_them = {r["id"]: base64.b64decode(r["ribbon"]) for r in api.get(URL).json()["rows"]}
    bare = api.get(URL, {"ribbons": "false"}).json()["rows"]
    assert all(r["ribbon"] == "" and r["ribbon_from"] is not None for r in bare)
    order = sorted(with_them, reverse=True)
    answer = api.get(f"{URL}/ribbons", {"streams": ",".join(map(str, [*order, 999_999]))})
    assert answer["Content-Type"] == "application/octet-stream"
    found = parsed(answer.content)
    assert found == with_them and list(found) == order and all(found.values())
    assert api.get(f"{URL}/ribbons").content == b""


@pytest.mark.parametrize("streams", ["a", "-1", ",".join(["1"] * 1_001)])
def test_bad_numbers_of_ribbons_are_refused(api, streams):
    answer = api.get(f"{URL}/ribbons", {"streams": streams})
    assert answer.status_code == 400 and answer.json()["place"] == "streams"


def test_ribbons_are_for_those_who_are_signed_in(small_world, db):
    assert APIClient().get(f"{URL}/ribbons", {"streams": "1"}).status_code == 401
