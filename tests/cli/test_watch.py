"""`watch`: in whichever pieces the lines come, and wherever it is killed, it finds what a replay finds."""

import contextlib
import json
import os
import signal
import subprocess
import sys
import threading
import time
import zipfile
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import numpy as np
import pytest

from watchtide.tables import clock

START = clock.parse_one("2026-05-01T00:00:00Z")
HOUR = 3_600 * 10**9
PLAN = (
    "baseline: {kind: slot, seasons: [24h]}\nreplay: {refit: 1d, window: 14d}\nflag: {level: {sigmas: 5}}\n"
    "group: {merge: 3h}\n"
)
SPIKES = ((400, 406, 40), (520, 521, -35), (600, 610, 30))


def lines(n=680, places=("lock", "weir")):
    rng = np.random.default_rng(5)
    out = []
    values = {p: 50 + 20 * np.sin(2 * np.pi * np.arange(n) / 24) + rng.normal(0, 2, n) for p in places}
    for first, last, size in SPIKES:
        values[places[0]][first : last + 1] += size
    for k in range(n):
        for place in places:
            row = {
                "time": clock.format_time(START + k * HOUR),
                "place": place,
                "level": round(values[place][k], 3),
            }
            out.append(json.dumps(row) + "\n")
    return out


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "plan.yaml").write_text(PLAN)
    (tmp_path / "all.jsonl").write_text("".join(lines()))
    return tmp_path


def replayed(command, folder):
    status, _, err = command(
        folder, "scan", "all.jsonl", "--plan", "plan.yaml", "--mode", "replay", "--findings", "f.jsonl"
    )
    assert status == 0, err
    return [json.loads(line) for line in (folder / "f.jsonl").read_text().splitlines()]


def events(out):
    return [json.loads(line) for line in out.splitlines()]


def as_found(said):
    """What events say in the end: each finding as its last event has it."""
    last = {}
    for one in said:
        last[(one["series"], one["start"], one["kind"])] = {
            k: v for k, v in one.items() if k not in ("event", "id")
        }
    return sorted(last.values(), key=lambda f: (f["start"], f["series"]))


def test_a_whole_file_gives_what_a_replay_finds(command, folder):
    found = replayed(command, folder)
    assert len(found) >= 3
    status, out, err = command(folder, "watch", "all.jsonl", "--plan", "plan.yaml", "--once")
    assert status == 0, err
    assert as_found(events(out)) == found
    assert [e["event"] for e in events(out)].count("began") == len(found)
    begun = set()
    for e in events(out):
        name = (e["series"], e["start"], e["kind"])
        assert e["event"] == "began" or name in begun, "ended before it began"
        begun.add(name)


def test_pieces_and_restarts_change_nothing(command, folder):
    found = replayed(command, folder)
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    rng, said, at = np.random.default_rng(1), [], 0
    for cut in [*sorted(rng.integers(0, len(every), 7).tolist()), len(every)]:
        with open(folder / "grows.jsonl", "a") as file:
            file.writelines(every[at:cut])
        at = cut
        # What stands at the end of a piece is judged as over, so the last line waits for the next one.
        status, out, err = command(
            folder, "watch", "grows.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once"
        )
        assert status == 0, err
        said += events(out)
    assert as_found(said) == found
    assert len({e["id"] for e in said}) == len(said)
    # Nothing new: nothing is said, and the state is the same to the byte.
    before = (folder / "s.zip").read_bytes()
    status, out, _ = command(
        folder, "watch", "grows.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once"
    )
    assert (status, out) == (0, "") and (folder / "s.zip").read_bytes() == before


def follow(folder, *more):
    command = [
        sys.executable,
        "-m",
        "watchtide.cli.main",
        "watch",
        *more,
        "--plan",
        "plan.yaml",
        "--state",
        "s.zip",
    ]
    return subprocess.Popen(command, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)


def wait_for(condition, seconds=60):
    until = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < until
        time.sleep(0.05)


def test_a_growing_file_is_followed_and_a_kill_loses_nothing(command, folder):
    found = replayed(command, folder)
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    grows, state, said = folder / "grows.jsonl", folder / "s.zip", []
    grows.write_text("")
    for a, b in ((0, 700), (700, 1_000), (1_000, len(every))):
        running = follow(folder, "grows.jsonl")
        with open(grows, "a") as file:
            file.write("".join(every[a:b])[:-5])
            file.flush()
            # A line that is not whole yet is waited for.
            time.sleep(0.5)
            file.write("".join(every[a:b])[-5:])
        size = grows.stat().st_size

        def is_taken(size=size):
            with contextlib.suppress(OSError, KeyError):
                return json.loads(zipfile.ZipFile(state).read("state.json"))["offset"] == size

        wait_for(is_taken)
        os.kill(running.pid, signal.SIGKILL)
        said += events(running.communicate()[0])
    # The last bin waits for a later sample.
    status, out, _ = command(
        folder, "watch", "grows.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once"
    )
    assert status == 0
    assert as_found(said + events(out)) == found


def test_standard_input_in_one_go(folder, command):
    found = replayed(command, folder)
    running = follow(folder, "-")
    out, _ = running.communicate((folder / "all.jsonl").read_text())
    assert running.returncode == 0 and as_found(events(out)) == found


class Hook(BaseHTTPRequestHandler):
    status, got = 204, []

    def do_POST(self):
        body = self.rfile.read(int(self.headers["Content-Length"]))
        type(self).got.append((self.headers["Content-Type"], json.loads(body)))
        self.send_response(type(self).status)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_):
        pass


def test_a_hook_that_fails_gets_what_it_missed_later_under_the_same_ids(command, folder):
    server = ThreadingHTTPServer(("127.0.0.1", 0), Hook)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    Hook.got, Hook.status = [], 503
    call = ("watch", "all.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once")
    hook = ("--hook", f"http://127.0.0.1:{server.server_port}/in")
    try:
        status, out, err = command(folder, *call, *hook)
        assert status == 0 and "it answered 503" in err
        Hook.got, Hook.status = [], 204
        status, _, _ = command(folder, *call, *hook)
    finally:
        server.shutdown()
        server.server_close()
    said = events(out)
    assert status == 0 and [body["id"] for _, body in Hook.got] == [e["id"] for e in said]
    kind, first = Hook.got[0]
    assert kind == "application/cloudevents+json" and first["specversion"] == "1.0"
    assert first["type"] == "watchtide.finding.began" and first["subject"] == said[0]["series"]


def test_late_lines_are_judged_once_and_change_nothing_that_was_raised(command, folder):
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    (folder / "grows.jsonl").write_text("".join(every[:700] + every[704:-2]))
    call = ("watch", "grows.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once")
    _, out, _ = command(folder, *call)
    with open(folder / "grows.jsonl", "a") as file:
        # The next bin judges what came late, too.
        file.writelines(every[700:704] + every[-2:])
    _, again, _ = command(folder, *call)
    assert events(out) and events(again) == []
    kept = json.loads(zipfile.ZipFile(folder / "s.zip").read("state.json"))
    assert [(s["key"], s["late"]) for s in kept["streams"]] == [("place=lock", 2), ("place=weir", 2)]


@pytest.mark.parametrize(
    ("text", "more", "words"),
    [
        ("time,level\n2026-01-01,4\n", (), "is no JSON"),
        ('{"time": "2026-01-01", "level": "high"}\n', (), "level"),
        (None, ("--wait", "soon"), "soon"),
    ],
)
def test_bad_input_is_refused_with_its_place(command, folder, text, more, words):
    if text is not None:
        (folder / "all.jsonl").write_text(text)
    status, _, err = command(folder, "watch", "all.jsonl", "--plan", "plan.yaml", "--once", *more)
    assert status == 2 and words in err, err


def test_a_file_that_is_not_there_ends_it(command, folder):
    status, _, err = command(folder, "watch", "none.jsonl", "--plan", "plan.yaml")
    assert status == 2 and "none.jsonl" in err


def test_a_state_of_another_plan_or_none_at_all_is_refused(command, folder):
    call = ("watch", "all.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once")
    assert command(folder, *call)[0] == 0
    (folder / "plan.yaml").write_text(PLAN.replace("sigmas: 5", "sigmas: 6"))
    status, _, err = command(folder, *call)
    assert status == 2 and "another plan" in err
    (folder / "s.zip").write_bytes(b"no state")
    status, _, err = command(folder, *call)
    assert status == 2 and "is no state" in err


def test_a_line_that_cannot_be_read_is_named_and_the_rest_is_judged(command, folder):
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    (folder / "all.jsonl").write_text("".join([*every[:50], "{broken\n", *every[50:]]))
    status, out, err = command(folder, "watch", "all.jsonl", "--plan", "plan.yaml", "--once")
    assert status == 0 and "line 51 is left out" in err and events(out)


def test_lines_without_what_the_others_have_take_no_other_with_them(command, folder):
    found = replayed(command, folder)
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    (folder / "all.jsonl").write_text("".join(every[:700]))
    call = ("watch", "all.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once")
    status, first, _ = command(folder, *call)
    assert status == 0
    with open(folder / "all.jsonl", "a") as file:
        file.writelines(['{"note": "harbour closed"}\n', *every[700:]])
    status, more, err = command(folder, *call)
    assert status == 0 and "line 701 is left out" in err
    assert as_found(events(first) + events(more)) == found


def test_a_file_that_was_begun_anew_is_read_from_its_start_once(command, folder):
    every = (folder / "all.jsonl").read_text().splitlines(keepends=True)
    call = ("watch", "all.jsonl", "--plan", "plan.yaml", "--state", "s.zip", "--once")
    (folder / "all.jsonl").write_text("".join(every[:900]))
    _, first, _ = command(folder, *call)
    # As a log is rotated: what follows stands in a new file.
    (folder / "all.jsonl").write_text("".join(every[900:1_000]))
    _, second, err = command(folder, *call)
    assert "read from its start" in err
    with open(folder / "all.jsonl", "a") as file:
        file.writelines(every[1_000:])
    _, third, err = command(folder, *call)
    assert "read from its start" not in err
    (folder / "all.jsonl").write_text("".join(every))
    assert as_found(events(first) + events(second) + events(third)) == replayed(command, folder)
