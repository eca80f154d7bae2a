"""Who gets in, what every answer carries, and what the repository must not hold."""

import re
import subprocess
from pathlib import Path

import pytest
from django.test import Client
from rest_framework.parsers import JSONParser
from tests.server.conftest import signed_in

from watchtide.server.supervise import ROOT

pytestmark = pytest.mark.django_db
READS = (
    "tide",
    "review",
    "scans",
    "logbook",
    "jobs",
    "batches",
    "events",
    "streams/1",
    "scans/1/scorecard",
    "logbook/export",
)


@pytest.mark.parametrize("path", READS)
def test_without_signing_in_nothing_is_read(client, path):
    answer = client.get(f"/api/v1/{path}")
    assert answer.status_code == 401 and answer["Content-Type"] == "application/problem+json"


def _doors():
    """Every address of the API with a method it takes, and whether that is a person's own."""
    from watchtide.server.urls import urlpatterns

    for pattern in urlpatterns:
        route = str(pattern.pattern)
        view = getattr(pattern.callback, "cls", None)
        if view is None or not route.startswith("api/v1/"):
            continue
        for method in ("get", "post", "put", "patch", "delete"):
            if hasattr(view, method):
                address = re.sub(r"<int:\w+>", "1", re.sub(r"<str:\w+>", "csv", route))
                yield f"/{address}", method, view


# Signing in, and the description of the interface, which names no data.
OPEN_TO_ALL = {"/api/v1/session", "/api/v1/schema"}
# A person's own keys, which can do no more than they.
OWN = {"/api/v1/tokens", "/api/v1/tokens/1"}


@pytest.mark.parametrize(("url", "method"), [(u, m) for u, m, _ in _doors() if u not in OPEN_TO_ALL])
def test_no_door_opens_without_signing_in(client, url, method):
    assert getattr(client, method)(url).status_code in (401, 403)


def test_a_viewer_writes_at_no_door_but_their_own(small_world, db):
    vic = signed_in("vic")
    tried = 0
    for url, method, view in _doors():
        if method == "get" or getattr(view, "is_personal", False) or url in OPEN_TO_ALL | OWN:
            continue
        kind = "json" if JSONParser in view.parser_classes else "multipart"
        assert getattr(vic, method)(url, {}, format=kind).status_code == 403, (url, method)
        tried += 1
    assert tried > 40


def test_signing_in_needs_the_csrf_token_and_the_password(small_world):
    browser = Client(enforce_csrf_checks=True)
    body = {"name": "ann", "password": "correct horse"}
    assert browser.post("/api/v1/session", body, content_type="application/json").status_code == 403
    browser.get("/api/v1/session")
    token = {"HTTP_X_CSRFTOKEN": browser.cookies["watchtide_csrf"].value}
    wrong = browser.post(
        "/api/v1/session", body | {"password": "guess"}, content_type="application/json", **token
    )
    assert wrong.status_code == 403 and "do not match" in wrong.json()["title"]
    assert (
        browser.post("/api/v1/session", body, content_type="application/json", **token).json()["role"]
        == "analyst"
    )
    assert browser.post("/api/v1/tide/looked", content_type="application/json").status_code == 403, (
        "a session alone does not write"
    )
    token = {"HTTP_X_CSRFTOKEN": browser.cookies["watchtide_csrf"].value}
    assert browser.post("/api/v1/tide/looked", content_type="application/json", **token).status_code == 204
    assert browser.delete("/api/v1/session", **token).status_code == 204
    assert browser.get("/api/v1/tide").status_code == 401


def test_guessing_passwords_is_slowed_down(db, client, settings):
    settings.PASSWORD_HASHERS = [
        "django.contrib.auth.hashers.MD5PasswordHasher"
    ]  # quick: nobody is let in here
    from django.core.cache import cache

    cache.clear()
    client.get("/api/v1/session")
    body = {"name": "nobody", "password": "guess"}
    codes = [
        client.post("/api/v1/session", body, content_type="application/json").status_code for _ in range(22)
    ]
    assert codes[:20] == [403] * 20 and codes[-1] == 429


def test_every_page_has_a_strict_policy_with_a_fresh_nonce(client):
    answers = [client.get(path) for path in ("/", "/workbench/1", "/api/v1/schema", "/nothing/here")]
    for answer in answers:
        policy = answer["Content-Security-Policy"]
        assert (
            "default-src 'none'" in policy and "unsafe" not in policy and "frame-ancestors 'none'" in policy
        )
        assert answer["X-Content-Type-Options"] == "nosniff"
    nonces = {re.search(r"nonce-([\w-]+)", a["Content-Security-Policy"])[1] for a in answers}
    assert len(nonces) == len(answers)
    page = answers[0].content.decode()
    assert re.search(r"nonce-([\w-]+)", answers[0]["Content-Security-Policy"])[1] in page
    assert "<style" not in page and not re.search(r"<script(?![^>]*src=)", page)


def test_addresses_of_the_api_that_are_not_there_answer_in_problem_form(client):
    answer = client.get("/api/v1/none")
    assert answer.status_code == 404 and answer["Content-Type"] == "application/problem+json"


def test_the_process_says_how_it_is(client):
    assert client.get("/healthz").json() == {"status": "up"}
    assert client.get("/readyz").json()["status"] == "ready"


def test_the_kept_schema_is_current(tmp_path):
    from django.core.management import call_command

    call_command("spectacular", file=str(tmp_path / "openapi.yaml"))
    assert (tmp_path / "openapi.yaml").read_text() == (ROOT / "docs/openapi.yaml").read_text(), (
        "run: ./run api"
    )
    made = tmp_path / "schema.d.ts"
    command = [
        "node_modules/.bin/openapi-typescript",
        str(ROOT / "docs/openapi.yaml"),
        "--default-non-nullable",
        "false",
        "-o",
        str(made),
    ]
    subprocess.run(command, cwd=ROOT / "web", check=True, capture_output=True)
    assert made.read_text() == (ROOT / "web/src/api/schema.d.ts").read_text(), "run: ./run api"


def test_lock_files_name_no_registry_host():
    for name in ("requirements.lock", "requirements-test.lock", "web/package-lock.json", "web/.npmrc"):
        text = (ROOT / name).read_text()
        assert not re.search(r"https?://[^\s\"]*(pypi|npmjs|registry|files\.python)", text), name
        assert '"resolved"' not in text and "index-url" not in text


def test_the_demo_password_and_a_missing_secret_keep_serve_from_starting(monkeypatch, tmp_path):
    from watchtide.server import supervise

    monkeypatch.chdir(tmp_path)
    assert "no secret key" in (supervise._unfit_to_serve({}) or "")
    assert supervise._unfit_to_serve({"WATCHTIDE_SECRET_KEY": "x" * 40}) is None
    assert Path(ROOT / "run").exists()


@pytest.mark.parametrize(
    ("method", "path"),
    [
        ("post", "uploads"), ("post", "uploads/1/preview"), ("post", "uploads/1/store"), ("delete", "layouts/1"), ("post", "batches/1/undo"),
        ("post", "push"), ("post", "feeds"), ("patch", "feeds/1"), ("delete", "feeds/1"), ("post", "feeds/1/pull"), ("post", "formulas"),
        ("delete", "formulas/1"), ("post", "calendars"), ("delete", "calendars/1"), ("patch", "streams/1/facts"), ("delete", "streams/1/facts"),
    ],
)  # fmt: skip
def test_every_door_of_intake_is_closed_to_viewers_and_strangers(small_world, db, method, path):
    from rest_framework.test import APIClient

    kind = "multipart" if path in ("uploads", "calendars") else "json"
    assert getattr(signed_in("vic"), method)(f"/api/v1/{path}", {}, format=kind).status_code == 403
    assert getattr(APIClient(), method)(f"/api/v1/{path}", {}, format=kind).status_code == 401


@pytest.mark.parametrize(
    "path",
    [
        "catalogue",
        "batches",
        "doors",
        "feeds",
        "formulas",
        "calendars",
        "layouts",
        "tokens",
        "streams/1/facts",
    ],
)
def test_what_intake_knows_is_read_by_viewers_and_by_no_stranger(small_world, db, path):
    from rest_framework.test import APIClient

    assert signed_in("vic").get(f"/api/v1/{path}").status_code == 200
    assert APIClient().get(f"/api/v1/{path}").status_code == 401


def test_a_token_is_its_owners_to_revoke(api):
    from django.contrib.auth.models import User

    from watchtide.server.people.access import make_token

    token, _ = make_token(User.objects.get(username="vic"), "vic's", ["read"])
    assert api.delete(f"/api/v1/tokens/{token.pk}").status_code == 403
    assert token.pk not in {t["id"] for t in api.get("/api/v1/tokens").json()}
    assert signed_in("vic").delete(f"/api/v1/tokens/{token.pk}").status_code == 204
