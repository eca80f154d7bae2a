"""Rounds of review: filled, served to one person only, judged, split, taken back, looked at twice and settled."""

import threading
from datetime import timedelta

import pytest
from django.db import connection
from django.utils import timezone

from tests.server.conftest import signed_in
from tests.server.test_api import post
from tests.server.test_incidents import at
from watchtide.core.scoring.rows import Label
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.people.access import give_role
from watchtide.server.review import services
from watchtide.server.review.models import Item, Judgement, Round
from watchtide.server.scans.models import Finding, Scan
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

HOUR_NS = 3_600 * 10**9


def later(stamp, hours):
    return clock.format_time(clock.parse_one(stamp) + hours * HOUR_NS)


@pytest.fixture
def many(small_world, stream_of, db):
    """Thirty-three lone open findings of quay and rock, ten hours apart, scores 4 to 12."""
    made = []
    for i in range(33):
        place = ("quay", "rock")[i % 2]
        made.append(
            Finding.objects.create(
                scan=small_world["scan"], stream=stream_of(place), start_ns=at(712 + 8 * i), end_ns=at(714 + 8 * i), kind="outlier",
                direction="above", score=4 + i / 4, peak_ns=at(713 + 8 * i), points=3,
            )
        )  # fmt: skip
    return made


def begin(api, scan, kind="strongest", **more):
    answer = post(api, "/api/v1/rounds", {"scan": scan.pk, "kind": kind, "metric": "level", **more})
    assert answer.status_code == 201, answer.content
    return answer.json()


def take(api, pk, **more):
    return post(api, f"/api/v1/rounds/{pk}/next", more).json()["item"]


def say(api, pk, item, verdict="incident", **more):
    return post(api, f"/api/v1/rounds/{pk}/items/{item}/verdict", {"verdict": verdict, **more})


@pytest.fixture
def bob(small_world, db):
    from django.contrib.auth.models import User

    give_role(User.objects.create_user("bob", password="correct horse"), "analyst")
    return signed_in("bob")


def test_the_strongest_come_first_and_a_verdict_brings_the_next(api, small_world, many):
    round_ = begin(api, small_world["scan"], size=5)
    assert (round_["total"], round_["judged"], round_["left"], round_["share"]) == (5, 0, 5, None)
    seen = []
    while (item := take(api, round_["id"])) is not None:
        seen.append(item["finding"]["score"])
        assert (
            say(api, round_["id"], item["id"], "incident" if len(seen) < 5 else "false-alarm").status_code
            == 201
        )
    assert seen == sorted(seen, reverse=True) and len(seen) == 5
    told = api.get(f"/api/v1/rounds/{round_['id']}").json()
    assert (told["judged"], told["left"], told["counts"], told["share"]) == (5, 0, [4, 5], 0.8)
    assert told["share_ci"][0] < 0.8 < told["share_ci"][1] and told["half"] == pytest.approx(
        told["half_at_end"]
    )


def test_filters_narrow_a_round_and_an_empty_one_is_refused(api, small_world, many):
    scan = small_world["scan"]
    assert begin(api, scan, size=500, least=11.9, begin=clock.format_time(at(960)))["total"] == 1
    span = {"begin": clock.format_time(at(712)), "end": clock.format_time(at(730))}
    assert begin(api, scan, size=500, **span)["total"] == 3
    none = post(api, "/api/v1/rounds", {"scan": scan.pk, "kind": "strongest", "metric": "no such"})
    assert (
        none.status_code == 400
        and "nothing is left" in none.json()["title"]
        and not Round.objects.filter(filters__metric="no such").exists()
    )
    assert post(api, "/api/v1/rounds", {"scan": scan.pk, "kind": "strongest", "size": 0}).status_code == 400
    Scan.objects.filter(pk=scan.pk).update(finished_at=None)
    assert post(api, "/api/v1/rounds", {"scan": scan.pk, "kind": "sample"}).status_code == 409


def test_no_item_is_served_to_two_people_and_none_is_lost(api, bob, small_world, many):
    pk = begin(api, small_world["scan"], size=4)["id"]
    mine, theirs = take(api, pk), take(bob, pk)
    assert mine["id"] != theirs["id"] and take(api, pk)["id"] == mine["id"], "a reload brings the same one"
    stolen = say(api, pk, theirs["id"])
    assert stolen.status_code == 409 and "somebody else" in stolen.json()["title"]
    # Bob goes home: after the lease what was before him is served again.
    say(api, pk, mine["id"])
    Item.objects.filter(pk=theirs["id"]).update(
        claimed_at=timezone.now() - services.LEASE - timedelta(seconds=1)
    )
    assert take(api, pk)["id"] == theirs["id"]
    assert say(bob, pk, theirs["id"]).status_code == 409


def test_eight_threads_at_once_are_served_eight_different_items(small_world, django_db_blocker):
    scan = small_world["scan"]
    served, gate = [], threading.Barrier(8)

    def ask(name):
        gate.wait()
        item = services.serve(round_, name)
        served.append(item.pk if item else None)
        connection.close()

    # Committed, so that the threads see it, and taken away again.
    with django_db_blocker.unblock():
        quay = Stream.objects.get(key="metric=level,place=quay")
        made = [
            Finding.objects.create(
                scan=scan, stream=quay, start_ns=at(712 + 8 * i), end_ns=at(714 + 8 * i), kind="outlier",
                direction="above", score=90 + i, peak_ns=at(713 + 8 * i),
            ) for i in range(8)
        ]  # fmt: skip
        round_ = services.start(scan, "strongest", 8, {"least": 90.0}, "ann")
        try:
            threads = [threading.Thread(target=ask, args=(f"p{i}",)) for i in range(8)]
            for t in threads:
                t.start()
            for t in threads:
                t.join()
            assert None not in served and len(set(served)) == 8
        finally:
            round_.delete()
            Finding.objects.filter(pk__in=[f.pk for f in made]).delete()


def test_a_skipped_item_comes_last_and_one_judged_elsewhere_is_passed_over(api, small_world, many, stream_of):
    pk = begin(api, small_world["scan"], size=3)["id"]
    first = take(api, pk)
    second = take(api, pk, skip=first["id"])
    third = Item.objects.filter(round=pk).exclude(pk__in=(first["id"], second["id"])).get()
    logbook.take_in([Label(third.start_ns, third.end_ns, third.stream.key, "foreseen")], "ann")
    say(api, pk, second["id"])
    assert take(api, pk)["id"] == first["id"]
    assert api.get(f"/api/v1/rounds/{pk}").json()["passed_over"] == 1
    say(api, pk, first["id"])
    assert take(api, pk) is None


def test_edges_a_cut_and_everything_taken_back(api, small_world, many):
    pk = begin(api, small_world["scan"], size=2)["id"]
    before = Entry.objects.filter(deleted_at=None).count()
    item = take(api, pk)
    start, end = later(item["start"], -2), later(item["end"], 1)
    said = say(
        api, pk, item["id"], "incident", start=start, end=end, split=item["end"], cause="weed", note="seen"
    )
    entry = Entry.objects.get(pk=said.json()["entry"]["id"])
    assert (entry.start_ns, entry.end_ns) == (
        clock.parse_one(start),
        clock.parse_one(item["end"]) - HOUR_NS,
    ), "the entry ends a sample before the cut"
    assert (entry.cause, entry.note, entry.origin) == ("weed", "seen", "finding")
    rest = take(api, pk)
    assert (rest["start"], rest["end"]) == (item["end"], end)
    say(api, pk, rest["id"], "false-alarm")
    other = take(api, pk)
    assert other["finding"]["id"] != item["finding"]["id"]
    undo = lambda: post(api, f"/api/v1/rounds/{pk}/undo")
    assert undo().json()["item"]["id"] == rest["id"] and undo().json()["item"]["id"] == item["id"]
    assert (
        Entry.objects.filter(deleted_at=None).count() == before and Item.objects.filter(round=pk).count() == 2
    )
    assert undo().status_code == 409
    wrong = say(api, pk, item["id"], "incident", split=item["start"])
    assert wrong.status_code == 400 and Entry.objects.filter(deleted_at=None).count() == before
    assert say(api, pk, item["id"], "reviewed").status_code == 400


def test_the_rest_of_the_incident_takes_the_same_verdict_and_goes_back_with_it(
    api, small_world, many, stream_of
):
    twin = Finding.objects.create(
        scan=small_world["scan"], stream=stream_of("pier"), start_ns=many[-1].start_ns, end_ns=many[-1].end_ns, kind="outlier",
        direction="above", score=38.0, peak_ns=many[-1].peak_ns,
    )  # fmt: skip
    # Of weak ones so near to one another chance would bring about as many: they would not be proposed.
    Finding.objects.filter(pk=many[-1].pk).update(score=40.0)
    pk = begin(api, small_world["scan"], size=1, begin=clock.format_time(many[-1].start_ns))["id"]
    item = take(api, pk)
    assert item["finding"]["id"] == many[-1].pk and (
        item["incident"]["streams"],
        item["incident"]["open"],
    ) == (2, 1)
    said = say(api, pk, item["id"], "incident", rest=True, cause="storm")
    assert said.json()["also"] == 1
    entry = Entry.objects.get(scope="metric=level,place=pier", start_ns=twin.start_ns)
    assert (entry.verdict, entry.cause, entry.deleted_at) == ("incident", "storm", None)
    kept = api.get("/api/v1/incidents").json()["items"][0]
    assert (
        kept["state"] == "open"
        and kept["open"] == 0
        and len(api.get(f"/api/v1/incidents/{kept['id']}").json()["entries"]) == 2
    )
    post(api, f"/api/v1/rounds/{pk}/undo")
    assert api.get(f"/api/v1/incidents/{kept['id']}").json()["open"] == 2


def test_a_fair_sample_keeps_its_chances_and_more_of_it_puts_them_right(api, small_world, many):
    scan = small_world["scan"]
    first = begin(api, scan, "sample", size=9)
    again = post(api, "/api/v1/rounds", {"scan": scan.pk, "kind": "sample", "metric": "level"})
    assert again.status_code == 409 and "finish" in again.json()["remedy"]
    while (item := take(api, first["id"])) is not None:
        # What the third of the weakest says differs most.
        weak = item["stratum"].endswith("third 1")
        say(api, first["id"], item["id"], "false-alarm" if weak and item["place"] % 2 else "incident")
    told = api.get(f"/api/v1/rounds/{first['id']}").json()
    assert told["counts"][1] == 9 and told["share_ci"][0] <= told["share"] <= told["share_ci"][1]
    entries = Entry.objects.filter(origin="sampled", deleted_at=None)
    assert entries.count() == 9 and all(0 < e.probability < 1 and e.stratum for e in entries)
    chances = {e.stratum: e.probability for e in entries}
    second = begin(api, scan, "sample", size=9)
    now = {e.stratum: e.probability for e in Entry.objects.filter(origin="sampled", deleted_at=None)}
    assert all(now[name] >= chances[name] for name in now) and now != chances
    drawn = Item.objects.filter(round__in=(first["id"], second["id"]))
    assert drawn.values("finding").distinct().count() == 18, "nothing is drawn twice"
    assert {i.stratum: i.probability for i in drawn.filter(round=second["id"])}.items() <= now.items()
    population = [f for f in Finding.objects.filter(scan=scan) if f.pk in {m.pk for m in many}]
    assert len(population) == 33
    # A hand-picked verdict never enters the estimate; a finding beneath the verdict on another does.
    figures = api.get(f"/api/v1/scans/{scan.pk}/scorecard").json()["figures"]
    beneath = {
        f.pk
        for f in Finding.objects.filter(scan=scan).select_related("stream")
        for e in Entry.objects.filter(origin="sampled", deleted_at=None)
        if e.scope == f.stream.key and e.start_ns <= f.end_ns and e.end_ns >= f.start_ns
    }
    assert figures["sampled"]["n"] == len(beneath) >= 9


def test_spans_nobody_flagged_are_judged_and_what_was_missed_counts(api, small_world):
    scan = small_world["scan"]
    round_ = begin(api, scan, "unflagged", size=12)
    items = Item.objects.filter(round=round_["id"])
    spans = [(f.stream_id, f.start_ns, f.end_ns) for f in Finding.objects.filter(scan=scan)]
    assert items.count() == 12
    for i in items:
        assert i.finding is None and i.end_ns - i.start_ns + 1 == 24 * 3_600 * 10**9, "24 hourly samples"
        assert not any(s == i.stream_id and a <= i.end_ns and b >= i.start_ns for s, a, b in spans)
    assert say(api, round_["id"], take(api, round_["id"])["id"], "false-alarm").status_code == 400
    missed = take(api, round_["id"])
    say(
        api,
        round_["id"],
        missed["id"],
        "incident",
        start=later(missed["start"], 1),
        end=later(missed["start"], 2),
    )
    while (item := take(api, round_["id"])) is not None:
        say(api, round_["id"], item["id"], "reviewed")
    told = api.get(f"/api/v1/rounds/{round_['id']}").json()
    assert told["counts"] == [1, 12] and 0 < told["share"] < 1
    figures = api.get(f"/api/v1/scans/{scan.pk}/scorecard").json()["figures"]
    assert figures["sampled"]["n"] == 12


def test_every_tenth_is_seen_by_two_who_do_not_see_one_another_and_may_be_settled(
    api, bob, small_world, many
):
    pk = begin(api, small_world["scan"], size=20)["id"]
    assert api.get(f"/api/v1/rounds/{pk}").json()["second_looks"] == 2
    while (item := take(api, pk)) is not None:
        say(api, pk, item["id"], "incident")
    assert api.get(f"/api/v1/rounds/{pk}").json()["left"] == 2
    verdicts = ["incident", "false-alarm"]
    entries = Entry.objects.count()
    while (item := take(bob, pk)) is not None:
        assert item["is_second"] and item["finding"]["verdict"] is None, "the first verdict is not told"
        said = say(bob, pk, item["id"], verdicts.pop())
        assert said.json()["entry"] is None
    assert Entry.objects.count() == entries
    told = api.get(f"/api/v1/rounds/{pk}").json()
    assert told["agreement"] == {"n": 2, "same": 1, "kappa": pytest.approx(0.0)} and told["left"] == 0
    (dispute,) = told["disputed"]
    assert dispute["verdicts"] == [
        {"by": "ann", "verdict": "incident"},
        {"by": "bob", "verdict": "false-alarm"},
    ]
    late = post(api, f"/api/v1/rounds/{pk}/undo")
    assert late.status_code in (200, 409)
    settle = f"/api/v1/rounds/{pk}/items/{dispute['item']}/settle"
    assert post(api, settle, {"verdict": "unsure"}).status_code == 400
    assert post(api, settle, {"verdict": "false-alarm"}).json()["disputed"] == []
    first = Judgement.objects.filter(item=dispute["item"]).order_by("pk")[0]
    assert first.entry.verdict == "false-alarm"
    assert post(api, settle, {"verdict": "incident"}).status_code == 200, (
        "settled anew by whoever knows better"
    )


def test_viewers_read_rounds_and_judge_nothing(api, small_world, many):
    pk = begin(api, small_world["scan"], size=2)["id"]
    item = take(api, pk)
    vic = signed_in("vic")
    assert vic.get(f"/api/v1/rounds/{pk}").status_code == 200 and vic.get("/api/v1/rounds").status_code == 200
    for path, body in (
        ("", {"scan": small_world["scan"].pk, "kind": "sample"}), (f"/{pk}/next", {}), (f"/{pk}/undo", {}),
        (f"/{pk}/items/{item['id']}/verdict", {"verdict": "incident"}), (f"/{pk}/items/{item['id']}/settle", {"verdict": "incident"}),
    ):  # fmt: skip
        assert post(vic, f"/api/v1/rounds{path}", body).status_code == 403, path
    assert post(api, f"/api/v1/rounds/{pk}/items/999999/verdict", {"verdict": "incident"}).status_code == 404


def test_what_another_entry_judged_does_not_hold_up_the_next_sample(api, small_world, many):
    pk = begin(api, small_world["scan"], "sample", size=6)["id"]
    other = Item.objects.filter(round=pk).order_by("place").last()
    logbook.take_in([Label(other.start_ns, other.end_ns, other.stream.key, "foreseen")], "ann")
    while (item := take(api, pk)) is not None:
        say(api, pk, item["id"])
    assert Item.objects.filter(round=pk, done=0).count() == 1
    assert begin(api, small_world["scan"], "sample", size=3)["total"] == 3
