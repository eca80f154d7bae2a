"""Two web processes over one database: they are one application, whichever answers."""

import contextlib
import json
import subprocess
import sys
import threading
import time

import httpx
import pytest
from bench.watch import child, migrate

from tests.server.conftest import own_database
from watchtide.server import supervise

MAKE = """
import django; django.setup()
from django.contrib.auth.models import User
from watchtide.server.people.access import give_role, make_token
ann = User.objects.create_user("ann", password="correct horse battery")
give_role(ann, "analyst")
print(make_token(ann, "gate relay", ["push"])[1])
"""
MOST = 6


@contextlib.contextmanager
def web(environment):
    port = supervise._free_port()
    command = [sys.executable, "-m", "watchtide.cli.main", "server", "run", "web", "--port", str(port)]
    process = subprocess.Popen(command, env=environment)
    address = f"http://127.0.0.1:{port}"
    try:
        deadline = time.monotonic() + 60
        while True:
            with contextlib.suppress(httpx.TransportError):
                if httpx.get(f"{address}/healthz").status_code == 200:
                    break
            assert process.poll() is None and time.monotonic() < deadline
            time.sleep(0.1)
        yield address, process
    finally:
        process.kill()
        process.wait()


@pytest.fixture(scope="module")
def two(tmp_path_factory):
    own = {
        "WATCHTIDE_DATA": str(tmp_path_factory.mktemp("two")),
        "WATCHTIDE_PUSHES_A_MINUTE": str(MOST),
        "WATCHTIDE_HOSTS": "127.0.0.1",
    }
    with own_database("two") as database:
        environment = database | own
        migrate(environment)
        (token,) = child(environment, MAKE)
        with web(environment) as (one, first), web(environment) as (other, _):
            yield one, other, token, first


@contextlib.contextmanager
def signed_in(address):
    with httpx.Client(base_url=address, timeout=30) as client:
        client.get("/api/v1/session")
        client.headers["X-CSRFToken"] = client.cookies["watchtide_csrf"]
        answer = client.post("/api/v1/session", json={"name": "ann", "password": "correct horse battery"})
        assert answer.status_code == 200, answer.text
        client.headers["X-CSRFToken"] = client.cookies["watchtide_csrf"]
        yield client


def test_a_session_is_one_at_both_and_ends_at_both(two):
    one, other, *_ = two
    with (
        signed_in(one) as here,
        httpx.Client(base_url=other, cookies=here.cookies, headers=here.headers) as there,
    ):
        assert there.get("/api/v1/tide").status_code == 200
        entry = {
            "scope": "metric=a",
            "start": "2026-09-01T00:00:00Z",
            "end": "2026-09-01T01:00:00Z",
            "verdict": "incident",
        }
        made = there.post("/api/v1/logbook", json=entry)
        assert made.status_code == 201, made.text
        assert [e["id"] for e in here.get("/api/v1/logbook").json()["items"]] == [made.json()["id"]]
        assert there.delete("/api/v1/session").status_code == 204
        assert here.get("/api/v1/tide").status_code == 401


def test_what_changes_at_one_is_a_hint_at_the_other(two):
    one, other, *_ = two
    with signed_in(one) as here, signed_in(other) as there:
        hints, is_open = [], threading.Event()

        def listen():
            with there.stream("GET", "/api/v1/events") as answer:
                is_open.set()
                for line in answer.iter_lines():
                    if line.startswith("data:") and "logbook" in line:
                        hints.append(json.loads(line.removeprefix("data:")))
                        return

        thread = threading.Thread(target=listen, daemon=True)
        thread.start()
        assert is_open.wait(20)
        entry = {
            "scope": "metric=b",
            "start": "2026-09-01T00:00:00Z",
            "end": "2026-09-01T01:00:00Z",
            "verdict": "incident",
        }
        assert here.post("/api/v1/logbook", json=entry).status_code == 201
        thread.join(20)
        assert hints and hints[0]["kind"] == "logbook"


def test_a_sender_has_one_allowance_whichever_it_meets(two):
    one, other, token, _ = two
    statuses = []
    for i in range(2 * MOST):
        line = json.dumps({"time": f"2026-09-01T00:00:{i:02}Z", "metric": "taps", "value": i})
        answer = httpx.post(
            f"{(one, other)[i % 2]}/api/v1/push", content=line, timeout=30,
            headers={"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"},
        )  # fmt: skip
        statuses.append(answer.status_code)
    # One more may have come back meanwhile: what a minute allows comes back evenly.
    assert set(statuses) == {200, 429} and MOST <= statuses.count(200) <= MOST + 2


def test_one_goes_on_when_the_other_is_killed(two):
    one, other, _, first = two
    with signed_in(one) as here:
        cookies, headers = here.cookies, here.headers
        first.kill()
        first.wait()
        with pytest.raises(httpx.TransportError):
            here.get("/api/v1/tide")
        assert httpx.get(f"{other}/api/v1/tide", cookies=cookies, headers=headers).status_code == 200
