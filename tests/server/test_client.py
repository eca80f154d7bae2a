"""The client against a real server: its web process and its workers, over HTTP."""

import base64
import hmac
import json
import re
import subprocess
import sys
import threading
import time
from datetime import UTC, date, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import get_type_hints

import httpx
import pytest
import yaml
from bench.watch import child, migrate

from tests import world
from tests.server.conftest import own_database
from tests.server.test_two_webs import web
from watchtide import client as face
from watchtide.client import Client, ServerError
from watchtide.server import supervise
from watchtide.server.lookouts import sending
from watchtide.tables import cloudevents

MAKE = """
import django; django.setup()
from django.contrib.auth.models import User
from watchtide.server.people.access import give_role, make_token
ann = User.objects.create_user("ann", password="correct horse battery")
give_role(ann, "analyst")
for scopes in (["push"], ["read", "write"], ["read"]):
    print(make_token(ann, " ".join(scopes), scopes)[1])
"""
EXAMPLES = Path(__file__).parents[2] / "examples"
DOCS = Path(__file__).parents[2] / "docs"
WORKERS = (("work", "bulk"), ("work", "interactive"))


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    own = {"WATCHTIDE_DATA": str(tmp_path_factory.mktemp("client")), "WATCHTIDE_HOSTS": "127.0.0.1"}
    with own_database("client") as database:
        environment = database | own
        migrate(environment)
        tokens = child(environment, MAKE)
        command = [sys.executable, "-m", "watchtide.cli.main", "server", "run"]
        workers = [subprocess.Popen([*command, *name], env=environment) for name in WORKERS]
        try:
            with web(environment) as (address, _):
                yield address, tokens
        finally:
            for worker in workers:
                worker.kill()
                worker.wait()


def rows():
    values = world.hourly(spikes=(200, 500))
    for at, value in zip(world.stamps(len(values)), values, strict=True):
        yield {"time": at, "metric": "level", "place": "quay", "value": value}


def test_from_samples_to_precision(server):
    address, (pushing, working, _) = server
    with Client(address, pushing) as sender:
        sent = sender.push(rows())
        assert sent["points"] == len(list(rows())) and not sent["refused"] and not sent["is_repeat"]
        # The same again changes nothing.
        assert sender.push(rows())["is_repeat"]
    with Client(address, working) as analyst:
        (stream,) = analyst.streams("level")
        assert stream["key"] == "metric=level,place=quay"
        scan = analyst.scan([stream["id"]], {"flag": {"level": {"sigmas": 8}}}, name="from a script")
        assert scan["state"] == "done" and scan["findings"] >= 2
        assert [s["id"] for s in analyst.scans()] == [scan["id"]]
        found = list(analyst.findings(scan["id"]))
        assert len(found) == scan["findings"] and found == sorted(found, key=lambda f: f["start"])
        assert list(analyst.findings(scan["id"], stream=stream["id"])) == found
        assert list(analyst.findings(scan["id"], stream=stream["id"] + 1)) == []
        for one, verdict in zip(found, ["incident", "false-alarm"], strict=False):
            assert analyst.judge(one["id"], verdict, note="by a script")["verdict"] == verdict
        assert [f["verdict"] for f in analyst.findings(scan["id"])][:2] == ["incident", "false-alarm"]
        assert {e["note"] for e in analyst.logbook()} == {"by a script"}
        card = analyst.scorecard(scan["id"])
        assert card["figures"]["events"]["tp_findings"] == 1
        replayed = analyst.scan(
            [stream["id"]], "baseline: {kind: slot, seasons: [24h]}", mode="replay", wait=False
        )
        assert analyst.wait_for(replayed["job"], 120)["state"] == "done"
        assert list(analyst.lookouts()) == []


def shown(page):
    """What the Python of a page defines that is for a server."""
    names = {}
    for code in re.findall(r"^```python\n(.*?)^```", (DOCS / page).read_text(), re.M | re.S):
        if "Client" in code:
            exec(code, names)
    return names


def test_what_the_guide_and_the_pipelines_show_works_on_a_server(server):
    address, (pushing, working, _) = server
    text = (DOCS / "tasks/bring-in.md").read_text()
    row = json.loads(re.search(r"A row is `(\{.*?\})`", text)[1])
    values = world.hourly(spikes=(200, 500))
    own = [row | {"time": at, "value": v} for at, v in zip(world.stamps(len(values)), values, strict=True)]
    sent = shown("tasks/bring-in.md")["push"](address, pushing, own)
    assert sent["points"] == len(own) and not sent["refused"]
    with Client(address, working) as analyst:
        (stream,) = analyst.streams("taps")
        assert stream["key"] == "metric=taps,gate=north"
        scan = analyst.scan([stream["id"]], {"flag": {"level": {"sigmas": 8}}})
        entries = shown("tasks/judge.md")["judge_all"](address, working, scan["id"], "incident")
        assert len(entries) == scan["findings"] >= 2 and {e["cause"] for e in entries} == {"rehearsal"}
        precision = shown("pipelines.md")["nightly"](address, working)
        newest = max(s["id"] for s in analyst.scans())
        assert newest > scan["id"]
        assert precision == analyst.scorecard(newest)["figures"]["events"]["precision"]


def test_samples_come_by_opentelemetry(server):
    address, (pushing, working, _) = server
    command = [sys.executable, str(EXAMPLES / "send_by_opentelemetry.py"), address, pushing, "4"]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    with Client(address, working) as analyst:
        (stream,) = analyst.streams("queue_length")
        assert "gate=north" in stream["key"] and stream["unit"] == "people"


def signed(secret, name, body):
    """Headers of a message, as Standard Webhooks describes them."""
    stamp = str(int(time.time()))
    key = base64.b64decode(secret.removeprefix("whsec_"))
    proof = base64.b64encode(hmac.digest(key, f"{name}.{stamp}.".encode() + body, "sha256")).decode()
    return {"webhook-id": name, "webhook-timestamp": stamp, "webhook-signature": f"v1,{proof}"}


def test_a_bot_gives_verdicts_on_what_is_signed(server):
    address, (_, working, _) = server
    secret = sending.new_secret()
    port = supervise._free_port()
    command = [sys.executable, str(EXAMPLES / "verdict_bot.py"), str(port), address, working, secret]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as bot:
        try:
            assert bot.stdout.readline() == "listening\n"

            def send(kind, hour, key=secret):
                finding = {
                    "series": "metric=level,place=quay",
                    "start": f"2026-08-11T{hour:02}:00:00Z",
                    "end": f"2026-08-11T{hour:02}:30:00Z",
                }
                body = json.dumps(
                    cloudevents.event(
                        f"watchtide.finding.{kind}", "/test", f"e{hour}", finding["start"], "quay", finding
                    )
                ).encode()
                headers = {"Content-Type": cloudevents.CONTENT_TYPE} | signed(key, f"e{hour}", body)
                return httpx.post(
                    f"http://127.0.0.1:{port}/", content=body, headers=headers, timeout=30
                ).status_code

            assert [send("began", 2), send("began", 12), send("ended", 2)] == [204, 204, 204]
            assert send("began", 3, sending.new_secret()) == 401
            answers = [bot.stdout.readline().strip() for _ in range(3)]
            assert answers[0].startswith("foreseen, entry") and answers[1:] == [
                "left for people",
                "nothing to judge",
            ]
        finally:
            bot.kill()
    with Client(address, working) as analyst:
        assert [e["start"] for e in analyst.logbook() if e["note"] == "the gates were closed"] == [
            "2026-08-11T02:00:00Z"
        ]


def test_pages_are_followed(server, monkeypatch):
    address, (_, working, _) = server
    monkeypatch.setattr(face, "PAGE", 1)
    with Client(address, working) as analyst:
        *_, scan = analyst.scans()
        assert len({f["id"] for f in analyst.findings(scan["id"])}) == scan["findings"]


def test_what_is_refused_names_place_and_remedy(server):
    address, (pushing, working, reading) = server
    with (
        Client(address, working) as analyst,
        Client(address, reading) as reader,
        Client(address, pushing) as sender,
    ):
        (stream,) = analyst.streams("level")
        for call, status, words in (
            (lambda: analyst.scan([stream["id"]], "baseline: {kind: nothing}"), 422, "line 1"),
            (lambda: analyst.scan([999_999]), 404, "streams"),
            (lambda: next(analyst.findings(999_999)), 404, "no such"),
            (lambda: reader.scan([stream["id"]]), 403, "scope write"),
            (lambda: next(sender.streams()), 403, "scope read"),
            (lambda: next(Client(address, "wt_none").streams()), 401, ""),
            (lambda: sender.push([{"metric": "level", "value": 1}]), 400, "time"),
        ):
            with pytest.raises(ServerError) as caught:
                call()
            assert caught.value.status == status and words in str(caught.value), str(caught.value)
    with pytest.raises(ValueError, match="no address"):
        Client("watch.example", "wt_x")


class Shaky(BaseHTTPRequestHandler):
    """Gives the answers that are set, one after another."""

    answers: list = []
    seen: list = []

    def log_message(self, *_):
        pass

    def do_POST(self):
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.do_GET()

    def do_GET(self):
        Shaky.seen.append((self.command, self.path))
        status, body = Shaky.answers.pop(0)
        if status is None:
            self.close_connection = True
            self.connection.close()
            return
        self.send_response(status)
        if status == 429:
            self.send_header("Retry-After", "0")
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


@pytest.fixture
def shaky():
    with ThreadingHTTPServer(("127.0.0.1", 0), Shaky) as listening:
        threading.Thread(target=listening.serve_forever, daemon=True).start()
        Shaky.seen = []
        yield f"http://127.0.0.1:{listening.server_port}"
        listening.shutdown()


TAKEN = b'{"points": 1, "refused": 0, "refusals": "", "is_repeat": false}'
ROW = {"time": "2026-06-01T00:00:00Z", "metric": "m", "value": 1}


def test_a_push_is_sent_again_until_it_is_taken(shaky):
    Shaky.answers = [(503, b"{}"), (None, b""), (429, b"{}"), (502, b"no json"), (200, TAKEN)]
    with Client(shaky, "wt_x") as sender:
        assert sender.push([ROW])["points"] == 1
    assert len(Shaky.seen) == 5


def test_a_scan_is_not_begun_twice(shaky):
    Shaky.answers = [(503, b"{}"), (None, b"")]
    with Client(shaky, "wt_x") as analyst, pytest.raises(ServerError, match="no answer"):
        analyst.scan([1])
    # What was refused is sent again; what may have been taken is not.
    assert len(Shaky.seen) == 2


def test_six_tries_are_all(shaky):
    Shaky.answers = [(429, b'{"title": "too many", "remedy": "wait"}')] * 9
    with Client(shaky, "wt_x") as sender, pytest.raises(ServerError, match="too many; wait"):
        sender.push([ROW])
    assert len(Shaky.seen) == face.TRIES


def test_a_board_is_made_found_and_shown_by_a_link_without_an_account(server):
    address, (_, working, reading) = server
    panes = [{"kind": "text", "title": "On call", "w": 6, "text": "Ask the harbour office."}]
    until = (datetime.now(UTC) + timedelta(days=7)).date().isoformat()
    with Client(address, working) as analyst:
        board = analyst.make_board("Quays", panes)
        assert board["id"] in [b["id"] for b in analyst.boards()]
        link = analyst.share_board(board["id"], until)
    # Of a day alone the link lasts to its end.
    assert link["expires_at"] == (date.fromisoformat(until) + timedelta(days=1)).isoformat() + "T00:00:00Z"
    secret = link["url"].rpartition("/")[2]
    shown = httpx.get(f"{address}/api/v1/shared/{secret}").json()
    assert shown["name"] == "Quays" and shown["panes"][0]["text"] == "Ask the harbour office."
    with Client(address, reading) as reader, pytest.raises(ServerError, match="scope"):
        reader.share_board(board["id"], until)


def test_rows_have_the_keys_that_the_document_names():
    schemas = yaml.safe_load((Path(__file__).parents[2] / "docs/openapi.yaml").read_text())["components"][
        "schemas"
    ]
    names = {"Stream": "CatalogueStream"}
    for name in ("Pushed", "Stream", "Scan", "Finding", "Entry", "Lookout", "Job", "Board", "Shared"):
        known = set(schemas[names.get(name, name)]["properties"])
        assert set(get_type_hints(getattr(face, name))) <= known, name


def test_a_server_that_is_not_there_is_named():
    gone = Client("http://127.0.0.1:9", "wt_x", transport=httpx.HTTPTransport(retries=0))
    face.TRIES, tries = 1, face.TRIES
    try:
        with gone, pytest.raises(ServerError, match="cannot be reached"):
            gone.push([ROW])
    finally:
        face.TRIES = tries
