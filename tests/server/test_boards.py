"""Boards: panes checked before they are kept, shown with one request each, and to nobody's account by a link that ends."""

from datetime import timedelta

import pytest
from django.core.cache import cache
from django.test import Client

from tests.server.conftest import signed_in
from watchtide.server import moments
from watchtide.server.boards.models import Board, BoardLink
from watchtide.server.streams.models import Stream


@pytest.fixture(autouse=True)
def nothing_kept():
    cache.clear()


@pytest.fixture
def stream(small_world):
    return Stream.objects.get(key="metric=level,place=quay").pk


def every_pane(stream):
    return [
        {"kind": "stream", "stream": stream, "hours": 24, "w": 8, "title": "the quay"},
        {"kind": "several", "streams": [stream], "y": 4},
        {"kind": "strongest", "most": 3, "x": 8, "w": 4},
        {"kind": "ribbons", "metric": "level"},
        {"kind": "forecast", "stream": stream, "hours": 12},
        {"kind": "scorecard"},
        {"kind": "incidents"},
        {"kind": "text", "text": "call Maud"},
    ]


def made(api, panes, name="wall"):
    answer = api.post("/api/v1/boards", {"name": name, "panes": panes}, format="json")
    assert answer.status_code == 201, answer.content
    return answer.json()


def test_every_kind_of_pane_shows_something(api, stream):
    board = made(api, every_pane(stream))
    assert board["panes"][0] == {
        "kind": "stream", "title": "the quay", "x": 0, "y": 0, "w": 8, "h": 4, "stream": stream, "hours": 24,
    }  # fmt: skip
    shown = [api.get(f"/api/v1/boards/{board['id']}/panes/{i}") for i in range(8)]
    assert [s.status_code for s in shown] == [200] * 8
    line, several, strongest, ribbons, ahead, card, incidents, text = (s.json() for s in shown)
    assert line["title"] == "quay" and len(line["time"]) == len(line["value"]) == 25
    assert len(line["expected"]) == len(line["lower"]) == len(line["upper"]) == 25
    assert all(lo < hi for lo, hi in zip(line["lower"], line["upper"], strict=True))
    assert several["lines"][0]["value"][-25:] == line["value"]
    assert len(strongest["findings"]) <= 3 and {r["title"] for r in ribbons["rows"]} == {
        "quay",
        "pier",
        "rock",
    }
    assert len(ahead["ahead"]["time"]) == 12 and card["precision_counts"] and incidents["rows"] is not None
    assert text["text"] == "call Maud" and text["at"].endswith("Z")
    assert api.get(f"/api/v1/boards/{board['id']}/panes/8").status_code == 404


def test_a_pane_is_read_once_however_many_look(api, stream, django_assert_max_num_queries):
    board = made(api, every_pane(stream))
    first = api.get(f"/api/v1/boards/{board['id']}/panes/2").json()
    with django_assert_max_num_queries(12):
        assert api.get(f"/api/v1/boards/{board['id']}/panes/2").json()["at"] == first["at"]


@pytest.mark.parametrize(
    ("pane", "place"),
    [
        ({"kind": "dial"}, "panes[0]"),
        ("stream", "panes[0]"),
        ({"kind": "stream", "stream": 10**9}, "panes[0].stream"),
        ({"kind": "stream"}, "panes[0].stream"),
        ({"kind": "several", "streams": []}, "panes[0].streams"),
        ({"kind": "ribbons", "metric": "nothing"}, "panes[0].metric"),
        ({"kind": "text", "text": ""}, "panes[0].text"),
        ({"kind": "incidents", "x": 12}, "panes[0].x"),
        ({"kind": "incidents", "x": 8, "w": 6}, "panes[0].w"),
        ({"kind": "incidents", "most": True}, "panes[0].most"),
    ],
)
def test_a_pane_that_cannot_be_shown_is_refused_with_its_place(api, small_world, pane, place):
    answer = api.post("/api/v1/boards", {"name": "wall", "panes": [pane]}, format="json")
    assert answer.status_code in (400, 404) and answer.json()["place"] == place
    assert not Board.objects.exists()


def test_changes_are_whole_and_guarded_against_those_of_others(api, stream):
    board = made(api, [])
    change = lambda **body: api.patch(f"/api/v1/boards/{board['id']}", body, format="json")
    assert change(panes=every_pane(stream), version=1).json()["version"] == 2
    assert change(panes=[], version=1).status_code == 412
    assert change(panes=[{"kind": "dial"}]).status_code == 400
    assert len(api.get(f"/api/v1/boards/{board['id']}").json()["panes"]) == 8
    made(api, [], name="other")
    assert change(name="other").status_code == 409 and change(name="wall").status_code == 200
    assert (
        signed_in("vic").patch(f"/api/v1/boards/{board['id']}", {"name": "x"}, format="json").status_code
        == 403
    )
    assert api.delete(f"/api/v1/boards/{board['id']}").status_code == 204


def shared(api, board, until):
    return api.post(f"/api/v1/boards/{board['id']}/share", {"until": until}, format="json")


def test_a_link_shows_one_board_alone_until_its_day(api, stream, settings):
    board, other = made(api, every_pane(stream)), made(api, [], name="other")
    today = moments.now().date()
    link = shared(api, board, str(today)).json()
    assert link["expires_at"].startswith(str(today + timedelta(days=1)))
    text = link["url"].rsplit("/", 1)[1]
    assert not BoardLink.objects.filter(digest__contains=text).exists()
    nobody = Client()
    assert nobody.get(f"/api/v1/shared/{text}").json()["name"] == "wall"
    assert nobody.get(f"/api/v1/shared/{text}/panes/0").json()["title"] == "quay"
    assert nobody.get(f"/shared/{text}").status_code == 200
    # Nothing else opens by it, and nothing can be changed.
    for path in (f"boards/{other['id']}", f"boards/{board['id']}", "tide", "boards", f"streams/{stream}"):
        assert nobody.get(f"/api/v1/{path}", {"token": text}).status_code == 401
    assert nobody.patch(f"/api/v1/shared/{text}", {}).status_code == 405
    assert nobody.get(f"/api/v1/shared/{text}x").status_code == 404
    BoardLink.objects.update(expires_at=moments.now() - timedelta(seconds=1))
    gone = nobody.get(f"/api/v1/shared/{text}/panes/0")
    assert gone.status_code == 404 and "has ended" in gone.json()["title"]


def test_links_are_listed_without_their_secrets_and_ended(api, stream):
    board = made(api, [])
    link = shared(api, board, str(moments.now().date() + timedelta(days=3))).json()
    (listed,) = api.get(f"/api/v1/boards/{board['id']}/share").json()
    assert listed["id"] == link["id"] and "url" not in listed
    assert api.delete(f"/api/v1/boards/{board['id']}/share/{link['id']}").status_code == 204
    assert Client().get(f"/api/v1/shared/{link['url'].rsplit('/', 1)[1]}").status_code == 404


@pytest.mark.parametrize("until", ["2020-01-01", "2090-01-01", "soon", None])
def test_a_day_that_cannot_be_meant_is_refused(api, small_world, until):
    assert shared(api, made(api, []), until).status_code == 400 and not BoardLink.objects.exists()
