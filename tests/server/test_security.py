"""Who gets in, what every answer carries, and what the repository must not hold."""

import re
import subprocess

import pytest
from django.test import Client
from rest_framework.parsers import JSONParser

from tests.server.conftest import run_jobs, signed_in
from watchtide.server.instance import ROOT

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


# Signing in, the description of the interface, which names no data, and what needs a link of its own.
BY_LINK = ("/api/v1/shared/csv", "/api/v1/shared/csv/panes/1")
OPEN_TO_ALL = {"/api/v1/session", "/api/v1/schema", "/api/v1/links/look", "/api/v1/links/use", *BY_LINK}
# A person's own keys and sessions, which can do no more than they.
OWN = {
    *(f"/api/v1/{path}" for path in ("tokens", "tokens/1", "sessions", "sessions/1", "session/password")),
}
# What only an admin may, by method and address.
ADMIN_ONLY = {
    ("get", "/api/v1/people"), ("post", "/api/v1/people"), ("patch", "/api/v1/people/1"), ("post", "/api/v1/people/1/link"),
    ("delete", "/api/v1/people/1/sessions"), ("get", "/api/v1/trail"), ("get", "/api/v1/trail.jsonl"),
    ("delete", "/api/v1/streams/1/facts"), ("delete", "/api/v1/feeds/1"), ("delete", "/api/v1/calendars/1"),
    ("get", "/api/v1/storage"),
}  # fmt: skip


@pytest.mark.parametrize(("url", "method"), [(u, m) for u, m, _ in _doors() if u not in OPEN_TO_ALL])
def test_no_door_opens_without_signing_in(client, url, method):
    assert getattr(client, method)(url).status_code in (401, 403)


@pytest.mark.django_db
@pytest.mark.parametrize("url", BY_LINK)
def test_what_a_link_opens_is_shut_without_it(client, url):
    assert client.get(url).status_code == 404


@pytest.mark.parametrize(("name", "role"), [("vic", "viewer"), ("ann", "analyst"), ("ada", "admin")])
def test_every_door_is_open_to_the_roles_it_is_for_and_shut_to_the_others(small_world, db, name, role):
    """Requests for things that are not there, so that what is allowed changes nothing: 404 or 400, and never 403."""
    person = signed_in(name)
    tried = {True: 0, False: 0}
    for url, method, view in _doors():
        if url in OPEN_TO_ALL:
            continue
        is_own = url in OWN or getattr(view, "is_personal", False)
        is_open = role == "admin" or (
            (method, url) not in ADMIN_ONLY and (role == "analyst" or method == "get" or is_own)
        )
        kind = "json" if any(issubclass(p, JSONParser) for p in view.parser_classes) else "multipart"
        nowhere = url.replace("/1", "/987654") if method != "get" else url
        if (method, url) == ("delete", "/api/v1/sessions"):
            nowhere = "/api/v1/sessions/987654"
        status = getattr(person, method)(nowhere, {}, format=kind).status_code
        assert (status == 403) is not is_open, (url, method, status)
        assert status < 500, (url, method)
        tried[is_open] += 1
    assert tried[True] > 40
    assert tried[False] == 0 if role == "admin" else tried[False] > 8


def test_signing_in_needs_the_csrf_token_and_the_password(small_world):
    browser = Client(enforce_csrf_checks=True)
    body = {"name": "ann", "password": "correct horse"}
    assert browser.post("/api/v1/session", body, content_type="application/json").status_code == 403
    browser.get("/api/v1/session")
    token = {"HTTP_X_CSRFTOKEN": browser.cookies["watchtide_csrf"].value}
    wrong = browser.post(
        "/api/v1/session", body | {"password": "guess"}, content_type="application/json", **token
    )
    assert wrong.status_code == 401 and "do not match" in wrong.json()["title"]
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


def guess(client, name="nobody", **headers):
    body = {"name": name, "password": "guess"}
    return client.post("/api/v1/session", body, content_type="application/json", **headers)


def test_guessing_passwords_is_slowed_down_whatever_the_sender_says_of_its_address(small_world, db, settings):
    """A new X-Forwarded-For with each request bypassed the limit, and each process counted for itself."""
    client = Client()
    codes = [guess(client, HTTP_X_FORWARDED_FOR=f"203.0.113.{i}").status_code for i in range(12)]
    assert codes == [401] * 10 + [429] * 2
    assert guess(client, "ann").status_code == 401, "another name is not held up by it"
    answer = guess(client)
    assert answer["Retry-After"] == "900" and "wait 15 minutes" in answer.json()["remedy"]
    # Behind a proxy that we trust its word counts, and what the sender wrote before it does not.
    settings.TRUSTED_PROXIES = ["127.0.0.1/32"]
    assert guess(client, HTTP_X_FORWARDED_FOR="9.9.9.9, 203.0.113.7").status_code == 401
    from watchtide.server.people.models import AuditEntry

    assert AuditEntry.objects.filter(what="sign-in failed").latest("pk").address == "203.0.113.7"
    assert AuditEntry.objects.filter(what="sign-in refused").count() == 1


def test_the_right_password_does_not_help_within_the_wait(small_world, db):
    client = Client()
    for _ in range(10):
        guess(client, "ann")
    body = {"name": "ann", "password": "correct horse"}
    assert client.post("/api/v1/session", body, content_type="application/json").status_code == 429


def test_the_trail_is_for_admins_is_exported_and_never_changed(small_world, db, admin, stream_of):
    from watchtide.server.people.models import AuditEntry

    ann = signed_in("ann")
    token = ann.post("/api/v1/tokens", {"name": "relay", "scopes": ["push"]}, format="json").json()
    ann.delete(f"/api/v1/tokens/{token['id']}")
    guess(Client(), "ann")
    assert ann.get("/api/v1/trail").status_code == 403 and Client().get("/api/v1/trail").status_code == 401
    rows = admin.get("/api/v1/trail").json()["items"]
    assert [r["what"] for r in rows[:4]] == ["sign-in failed", "token revoked", "token made", "signed in"]
    assert rows[1]["by"] == "ann" and token["hint"] in rows[1]["subject"] and token["text"] not in str(rows)
    assert len(admin.get("/api/v1/trail?by=ann&what=token made").json()["items"]) == 1
    assert admin.get("/api/v1/trail?cursor=\u00b2").status_code == 400
    import json

    lines = [json.loads(line) for line in admin.get("/api/v1/trail.jsonl").getvalue().splitlines()]
    assert lines[-1]["what"] == "trail exported" and lines[-1]["at"].endswith("Z")
    entry = AuditEntry.objects.first()
    with pytest.raises(RuntimeError, match="never changed"):
        entry.save()
    for method in ("post", "put", "patch", "delete"):
        assert getattr(admin, method)("/api/v1/trail").status_code == 405


def test_an_admin_deletes_for_good_and_an_analyst_does_not(small_world, db, admin, stream_of):
    from watchtide.server.streams.models import Feed

    ann = signed_in("ann")
    rock = stream_of("rock")
    feed = Feed.objects.create(name="f", url="http://127.0.0.1:1/", kind="metrics")
    for url in (f"streams/{rock.pk}/facts", f"feeds/{feed.pk}", "calendars/1"):
        answer = ann.delete(f"/api/v1/{url}", {"confirm": rock.key}, format="json")
        assert answer.status_code == 403 and "admin" in answer.json()["title"], url
    assert admin.delete(f"/api/v1/feeds/{feed.pk}").status_code == 204
    gone = admin.delete(f"/api/v1/streams/{rock.pk}/facts", {"confirm": rock.key}, format="json")
    assert gone.status_code == 202
    run_jobs()
    assert [d["what"] for d in admin.get("/api/v1/trail").json()["items"][:2]] == [
        "stream deleted",
        "feed deleted",
    ]


def test_data_is_kept_by_no_cache_and_tls_is_kept_to(api, settings):
    assert api.get("/api/v1/tide")["Cache-Control"] == "no-store"
    assert "Strict-Transport-Security" not in api.get("/api/v1/tide")
    settings.IS_HTTPS = True
    assert "max-age=31536000" in api.get("/api/v1/tide")["Strict-Transport-Security"]


def test_figures_about_ourselves_are_not_for_everybody(small_world, db, api):
    from django.contrib.auth.models import User

    from watchtide.server.people.access import make_token

    far = Client(REMOTE_ADDR="203.0.113.5")
    assert Client().get("/metrics").status_code == 200 and far.get("/metrics").status_code == 403
    for scope, code in (("read", 200), ("push", 403)):
        _, text = make_token(User.objects.get(username="vic"), scope, [scope])
        assert far.get("/metrics", HTTP_AUTHORIZATION=f"Bearer {text}").status_code == code
    assert far.get("/metrics", HTTP_AUTHORIZATION="Bearer wt_none").status_code == 403


def test_a_token_ends_after_a_year_unless_it_is_asked_to_last(api):
    for body, days in (({}, 365), ({"days": 7}, 7), ({"days": None}, None)):
        made = api.post("/api/v1/tokens", {"name": "t", "scopes": ["push"], **body}, format="json").json()
        if days is None:
            assert made["expires_at"] is None
        else:
            from datetime import UTC, datetime

            left = datetime.fromisoformat(made["expires_at"]) - datetime.now(UTC)
            assert abs(left.total_seconds() / 86_400 - days) < 0.01


class TestBounds:
    """A body is refused before a byte of it is kept."""

    def ask(self, path, *, stated=None, sent=0, headers=()):
        import asyncio

        from watchtide.server.bounds import Bounded

        taken, answers = [], []

        async def app(scope, receive, send):
            while True:
                message = await receive()
                taken.append(len(message["body"]))
                if not message.get("more_body"):
                    break
            await send({"type": "http.response.start", "status": 200, "headers": []})

        left = [sent]

        async def receive():
            part = min(left[0], 1 << 20)
            left[0] -= part
            return {"type": "http.request", "body": b"x" * part, "more_body": left[0] > 0}

        async def send(message):
            answers.append(message)

        own = [*headers, *([(b"content-length", str(stated).encode())] if stated is not None else [])]
        scope = {"type": "http", "path": path, "method": "POST", "headers": own}
        asyncio.run(Bounded(app)(scope, receive, send))
        return answers[0]["status"], sum(taken)

    KNOWN = ((b"authorization", b"Bearer wt_x"),)

    def test_a_push_of_600_mb_is_refused_by_its_header(self):
        assert self.ask("/api/v1/push", stated=629 << 20, headers=self.KNOWN) == (413, 0)
        assert self.ask("/v1/metrics", stated=629 << 20, headers=self.KNOWN) == (413, 0)

    def test_what_is_not_stated_is_counted(self, settings):
        settings.MOST_PUSH_BYTES = 3 << 20
        status, taken = self.ask("/api/v1/push", sent=50 << 20, headers=self.KNOWN)
        assert status == 413 and taken <= 4 << 20

    def test_files_and_pushes_of_a_stranger_are_not_read(self):
        for path in ("/api/v1/push", "/v1/metrics", "/api/v1/uploads", "/api/v1/calendars"):
            assert self.ask(path, sent=5 << 20) == (401, 0)

    def test_every_other_door_takes_no_more_than_a_form(self):
        assert self.ask("/api/v1/session", stated=20 << 20) == (413, 0)
        assert self.ask("/api/v1/session", stated=100, sent=100) == (200, 100)
        assert (
            self.ask(
                "/api/v1/uploads",
                stated=5 << 20,
                sent=5 << 20,
                headers=((b"cookie", b"watchtide_session=1"),),
            )[0]
            == 200
        )


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
    kept = {name: (ROOT / "web/src/api" / name).read_text() for name in ("schema.d.ts", "names.ts")}
    subprocess.run(["node", "api.mjs", str(tmp_path)], cwd=ROOT / "web", check=True, capture_output=True)
    for name, text in kept.items():
        assert (tmp_path / name).read_text() == text, "run: ./run api"


def test_lock_files_name_no_registry_host():
    for name in ("requirements.lock", "requirements-test.lock", "web/package-lock.json", "web/.npmrc"):
        text = (ROOT / name).read_text()
        assert not re.search(r"https?://[^\s\"]*(pypi|npmjs|registry|files\.python)", text), name
        assert '"resolved"' not in text and "index-url" not in text


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
    assert token.pk not in {t["id"] for t in api.get("/api/v1/tokens").json()["items"]}
    assert signed_in("vic").delete(f"/api/v1/tokens/{token.pk}").status_code == 204
