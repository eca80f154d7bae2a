"""Ordinary mistakes at every door: a 4xx in problem form that names the place, never a 5xx."""

import json
import re

import pytest
import yaml

from tests.server.conftest import signed_in
from watchtide.server.instance import ROOT

ODD = ["abc", "nan", "inf", "-5", "\u00b2", "1e400", "9" * 25, "\x00'"]
BODIES = [
    {}, [1], "text", None, {"name": ["a"]}, {"name": "a" * 5_000},
    {"streams": "x", "findings": "x", "scan": -1, "verdict": "x", "title": "", "kind": "k" * 500, "cause": 5, "start": "soon",
     "end": "later", "formula": "[", "text": "[[[", "plan": "[", "url": "http://[::1/", "days": -3, "rules": 7, "columns": [7],
     "ids": ["x"], "scopes": ["all"], "metric": "", "attributes": 3, "every": "never", "level": "high", "zone": "Mars",
     "entries": [{}], "roles": 3, "choices": []},
    {"streams": [10**30], "findings": [10**30], "scan": 10**30, "start": -(10**30), "end": 10**30, "level": 1e308, "ids": [10**30]},
]  # fmt: skip
# Numbers joined by commas.
LISTS = ("streams", "scans")
# These go on without an end, or begin long work.
LEFT_OUT = {"/api/v1/events", "/v1/metrics"}


def doors():
    document = yaml.safe_load((ROOT / "docs/openapi.yaml").read_text())
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            if path not in LEFT_OUT and method in ("get", "post", "put", "patch"):
                yield path, method, operation


def fill(path, value="1"):
    return re.sub(r"{\w+}", value, path)


def wrong(answer, what):
    """What is wrong with an answer, if anything is."""
    if answer.status_code < 400:
        return []
    if answer.status_code >= 500 or answer["Content-Type"] != "application/problem+json":
        return [(what, answer.status_code, answer["Content-Type"])]
    body = json.loads(answer.content)
    return [] if body["status"] == answer.status_code and body["title"] else [(what, body)]


@pytest.fixture
def client(small_world, db, settings):
    settings.OUTGOING = []
    api = signed_in("ada")
    api.raise_request_exception = False
    return api


def test_odd_parameters_of_every_question(client):
    tried, found = 0, []
    for path, method, operation in doors():
        if method != "get":
            continue
        for parameter in operation.get("parameters", []):
            if parameter["in"] != "query":
                continue
            name, kind = parameter["name"], parameter["schema"].get("type")
            # Words may be anything: most of the odd ones are good ones, and answering them takes time.
            for odd in ODD if kind in ("integer", "number") or name in LISTS else (ODD[0], ODD[-1]):
                found += wrong(client.get(fill(path), {name: odd}), (path, name, odd))
                tried += 1
        if "{" in path:
            found += wrong(client.get(fill(path, "9" * 25)), (path, "a number too large"))
    assert not found and tried > 150, found


def test_odd_bodies_at_every_door(client):
    tried, found = 0, []
    for path, method, _ in doors():
        if method == "get" or path == "/api/v1/session":
            continue
        for body in BODIES:
            found += wrong(
                getattr(client, method)(fill(path), body, format="json"), (path, method, str(body)[:120])
            )
            tried += 1
        for text, kind in (
            (b"{", "application/json"),
            (b"\xff\xfe", "application/json"),
            (b"NaN", "application/json"),
            (b"", "text/x"),
        ):
            found += wrong(getattr(client, method)(fill(path), text, content_type=kind), (path, method, text))
    assert not found and tried > 250, found


def test_a_csv_answers_whatever_is_accepted_and_no_address_that_is_none_answers_200(client, small_world):
    for accept in ("text/csv", "application/xml", "image/png"):
        assert client.get("/api/v1/streams/samples.csv?metric=level", HTTP_ACCEPT=accept).status_code == 200
        assert client.get("/api/v1/tide", HTTP_ACCEPT=accept).status_code == 200
    for path in ("/nope", "/healthz/", "/readyz/x", "/workbench/x", "/metrics/"):
        assert client.get(path).status_code == 404, path


def test_the_pages_routes_are_the_servers(client):
    app = (ROOT / "web/src/app.tsx").read_text()
    routes = [r for r in re.findall(r'<Route path="([^"]+)"', app) if r != "*"]
    assert len(routes) > 15
    for route in routes:
        assert client.get(re.sub(r":\w+", "1", route.replace(":part", "you"))).status_code == 200, route


def test_a_missing_csrf_token_is_told_in_problem_form(small_world, db):
    from django.test import Client

    browser = Client(enforce_csrf_checks=True)
    answer = browser.post(
        "/api/v1/session", {"name": "ann", "password": "x"}, content_type="application/json"
    )
    assert answer.status_code == 403 and answer["Content-Type"] == "application/problem+json"
    assert answer.json()["place"] == "X-CSRFToken"
