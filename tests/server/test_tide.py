"""The tide table for many who look: put together once, anew when anything of it changes, and ribbons by themselves."""

import base64
import struct

import pytest
from rest_framework.test import APIClient

from tests.server.conftest import run_jobs, signed_in
from watchtide.server.scans import arranged, standing, tide
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
    standing.forget()
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


def test_windows_of_the_rows_in_turn_are_all_of_them(api):
    whole = {r["id"]: r | {"ribbon": ""} for r in api.get(URL).json()["rows"]}
    for sort in arranged.SORTS:
        head = api.get(URL, {"rows": "false", "sort": sort}).json()
        assert head["rows"] == [] and head["streams"] == len(whole)
        got = []
        for skip in range(len(whole) + 1):
            window = api.get(f"{URL}/rows", {"sort": sort, "skip": skip, "count": 1}).json()
            assert window["total"] == len(whole)
            got += window["rows"]
        assert {r["id"]: r for r in got} == whole and len(got) == len(whole)
        # Family by family, in the order that the head says.
        assert [f["metric"] for f in head["families"]] == list(dict.fromkeys(r["metric"] for r in got))
        for family in head["families"]:
            own = [r for r in got if r["metric"] == family["metric"]]
            assert family["streams"] == len(own)
            assert family["adrift"] == sum(r["state"] == "adrift" for r in own)
            if sort == "name":
                assert [r["title"].casefold() for r in own] == sorted(r["title"].casefold() for r in own)
            else:
                weights = [r[sort] or "" if sort == "newest" else r[sort] for r in own]
                assert weights == sorted(weights, reverse=True)


def test_words_choose_rows_and_numbers_name_them(api, stream_of):
    quay, pier = stream_of("quay"), stream_of("pier")
    change_name(api, quay)

    def titles(**given):
        return {r["title"] for r in api.get(f"{URL}/rows", given).json()["rows"]}

    assert titles(filter="QUAY owner=vic") == {"The quay"}
    assert titles(filter="place=pier") == {pier.title} and titles(filter="pier nothing") == set()
    head = api.get(URL, {"rows": "false", "filter": "owner=vic"}).json()
    assert [f["streams"] for f in head["families"]] == [1] and head["streams"] == 3
    wanted = f"{pier.pk},999999,{quay.pk}"
    assert [r["id"] for r in api.get(f"{URL}/rows", {"streams": wanted}).json()["rows"]] == [pier.pk, quay.pk]


@pytest.mark.parametrize(
    ("given", "place"),
    [({"sort": "size"}, "sort"), ({"skip": -1}, "skip"), ({"count": 5_000}, "count"), ({"filter": "x" * 300}, "filter"),
     ({"streams": "a"}, "streams")],
)  # fmt: skip
def test_a_bad_window_is_refused(api, given, place):
    answer = api.get(f"{URL}/rows", given)
    assert answer.status_code == 400 and answer.json()["place"].startswith(place)


def test_one_verdict_makes_one_row_anew(api, stream_of, monkeypatch):
    tide._kept.clear()
    api.get(f"{URL}/rows")
    made, read, rated = [], [], []
    for module, name, into in (
        (tide, "_row", made), (standing, "_rows_of", rated), (standing, "_of_rows", read),
    ):  # fmt: skip
        real = getattr(module, name)
        monkeypatch.setattr(module, name, lambda *a, real=real, into=into: into.append(1) or real(*a))
    judge(api, stream_of("quay"))
    api.get(f"{URL}/rows")
    assert len(made) == 1 and len(rated) == 1 and not read


def test_a_finding_that_grows_is_read_anew(api, stream_of):
    before = {f["id"]: f for f in standing.rows()}
    found = Finding.objects.filter(stream=stream_of("quay"), scan__standing__stream=stream_of("quay")).first()
    Finding.objects.filter(pk=found.pk).update(end_ns=found.end_ns + 10**9)
    after = {f["id"]: f for f in standing.rows()}
    assert after.pop(found.pk)["end"] > before.pop(found.pk)["end"] and after == before


@pytest.mark.parametrize(
    ("values", "digits"),
    [([], None), ([5.0, 5.0], None), ([100.0, 200.0, 300.0], 0), ([100.5, 200.0, 300.0], 1), ([3.1, 3.2, 3.35], 3),
     ([float("nan"), 1e-12, 2e-12, 3e-12], 8)],
)  # fmt: skip
def test_decimal_places_tell_last_values_apart(values, digits):
    assert arranged.digits(values) == digits


def a_row(metric, title, strongest, opened=1):
    return {
        "metric": metric, "title": title, "state": "steady", "attributes": "", "owner": "", "unit": "", "last_value": 1.0,
        "strongest": strongest, "open": opened, "newest": None,
    }  # fmt: skip


def test_families_stand_by_their_first_row():
    rows = [
        a_row("a", "one", 3, 9),
        a_row("b", "two", 8, 2),
        a_row("a", "three", 5, 1),
        a_row("b", "four", 1, 1),
    ]
    words = [arranged.words_of(r) for r in rows]

    def told(sort, text="", **more):
        found = arranged.arrange(rows, words, sort, text, **more)
        return [f["metric"] for f in found.families], [rows[i]["title"] for i in found.places]

    assert told("strongest") == (["b", "a"], ["two", "four", "three", "one"])
    assert told("open") == (["a", "b"], ["one", "three", "two", "four"])
    assert told("name") == (["a", "b"], ["one", "three", "four", "two"])
    assert told("strongest", by_family=False)[1] == ["two", "three", "one", "four"]
    assert told("name", "b FO") == (["b"], ["four"]) and told("name", "nothing") == ([], [])
