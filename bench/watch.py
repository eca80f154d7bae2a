"""Live streams judged as they come: how long after a bin's end it was judged, and after its push a mail was handed over.

The real processes on a separate database; streams of one-minute bins with some days of history that began at different
hours, so that refits come about all the time. WATCH_STREAMS and WATCH_MINUTES state how many and how long, WATCH_DAYS how
much history, WATCH_WINDOW the window that each fit rests on, without which choices are made anew at several ages.
"""

import contextlib
import json
import os
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from typing import Any, TypeVar

import numpy as np
from aiosmtpd.controller import Controller

from bench.faults import Served
from bench.faults import folder as temporary_folder
from watchtide.server import supervise

STREAMS, MINUTES = int(os.environ.get("WATCH_STREAMS", "1000")), int(os.environ.get("WATCH_MINUTES", "6"))
DAYS, WINDOW = int(os.environ.get("WATCH_DAYS", "4")), os.environ.get("WATCH_WINDOW", "")
LINES = 2_000

MAKE = """
import django; django.setup()
import sys, numpy as np
from watchtide.server import moments
from watchtide.server.streams import catalogue, folding, store
from watchtide.server.streams.models import Batch, Stream
n, days, minute = map(int, sys.argv[1:])
rng = np.random.default_rng(1)
batch = Batch.objects.create(key="b" * 64, source="bench")
rows = []
for i in range(n):
    count = days * 1440 + int(rng.integers(0, 1440))
    times = (minute - count + np.arange(count, dtype=np.int64)) * 60 * 10**9
    hour = times / 3.6e12 % 24
    values = np.round(100 + 40 * np.cos(2 * np.pi * (hour - i % 24) / 24) + rng.normal(0, 3, count), 2)
    key = f"metric=load,host=h{i:05d}"
    s = Stream.objects.create(metric="load", attributes=[["host", f"h{i:05d}"]], key=key, key_sha=catalogue.sha(key), is_sent=True)
    rows.append((s.pk, times, values))
    if len(rows) == 500:
        store.write_blocks(batch, rows); rows = []
if rows:
    store.write_blocks(batch, rows)
catalogue.retitle(["load"])
Batch.objects.update(accepted_at=moments.now())
folding.fold()
"""
LOOKOUT = """
import django; django.setup()
import sys
from django.contrib.auth.models import User
from watchtide.plan import load
from watchtide.server import moments
from watchtide.server.lookouts import services
from watchtide.server.lookouts.models import Route
from watchtide.server.people import access
from watchtide.server.scans import services as scans
token_file, window = sys.argv[1:]
user = User.objects.get(username="keeper")
open(token_file, "w").write(access.make_token(user, "bench", ["push", "read", "write"])[1])
route = Route.objects.create(kind="mail", name="duty", to="duty@bench.example", confirmed_at=moments.now())
text = "baseline: {kind: harmonic, seasons: [24h]}\\nflag: {level: {sigmas: 12}}\\n"
plan = load(text + (f"replay: {{refit: 1d, window: {window}}}\\n" if window else ""))
version = scans.plan_version("bench", plan, "keeper")
made = services.make("bench", version, "keeper", [route.pk], scope={"metric": "load", "attributes": {}}, wait="0s", notify={"together": False})
services.request(made)
"""

JUDGED = "SELECT judged_through_ns DIV 60000000000, COUNT(*) FROM lookout_stream GROUP BY 1"

# When it was looked, and how many streams were judged through which minute.
Polled = tuple[float, list[tuple[int | None, int]]]


@contextlib.contextmanager
def connected(environment: dict[str, str]) -> Iterator[Any]:
    """A cursor on a database by a connection of our own: to look must cost nothing that the judging is short of."""
    import MySQLdb

    connection = MySQLdb.connect(
        unix_socket=environment["WATCHTIDE_DB_SOCKET"],
        user=environment["WATCHTIDE_DB_USER"],
        passwd=environment["WATCHTIDE_DB_PASSWORD"],
        db=environment["WATCHTIDE_DB_NAME"],
        autocommit=True,
    )
    with contextlib.closing(connection), contextlib.closing(connection.cursor()) as cursor:
        yield cursor


def look(served: Served) -> Iterator[Polled]:
    with connected(served.database.environment()) as cursor:
        while True:
            cursor.execute(JUDGED)
            yield time.time(), list(cursor.fetchall())


Host = TypeVar("Host", bound=Served)


class Postbox:
    """When mails came, by subject."""

    def __init__(self) -> None:
        self.came: list[tuple[float, str]] = []
        self.server = Controller(self, hostname="127.0.0.1", port=supervise._free_port())

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        mail = message_from_bytes(envelope.content, policy=policy.default)
        self.came.append((time.time(), str(mail["Subject"])))
        return "250 OK"


@contextlib.contextmanager
def started(kind: type[Host]) -> Iterator[tuple[Host, Postbox]]:
    """A server on a temporary folder whose mail comes into a box."""
    box = Postbox()
    box.server.start()
    mail = {
        "WATCHTIDE_SMTP_HOST": "127.0.0.1", "WATCHTIDE_SMTP_PORT": str(box.server.port), "WATCHTIDE_SMTP_TLS": "off",
        "WATCHTIDE_MAIL_FROM": "w@bench.example",
    }  # fmt: skip
    try:
        with temporary_folder() as folder, kind(folder, is_wired=True, **mail) as served:
            yield served, box
    finally:
        box.server.stop()


def measure() -> dict[str, Any]:
    """Figures of one run."""
    with started(Served) as (served, box):
        ready = prepared(served)
        polled, minutes = followed(served, ready)
        return {**figures(ready, polled, minutes, box), **memory_of(served)}


def environment_of(own: dict[str, str]) -> dict[str, str]:
    """Settings of the processes of a bench over a database. own : where it is, and what else is its."""
    return {
        **os.environ, "DJANGO_SETTINGS_MODULE": "watchtide.server.settings", "WATCHTIDE_LOG_LEVEL": "error",
        "WATCHTIDE_SECRET_KEY": "for-a-bench-only-for-a-bench-only", **own,
    }  # fmt: skip


def migrate(environment: dict[str, str]) -> None:
    """Make the tables of an empty database."""
    supervise._do(environment, "-m", *supervise.MANAGE, "migrate", "--verbosity", "0")


def child(environment: dict[str, str], code: str, *arguments: str) -> list[str]:
    """What a piece of code in a separate process prints, line by line."""
    done = subprocess.run(
        [sys.executable, "-c", code, *arguments], env=environment, capture_output=True, text=True
    )
    if done.returncode:
        raise RuntimeError(done.stderr[-3_000:])
    return done.stdout.splitlines()


@dataclass
class Ready:
    """A server whose streams have been judged so far. pushed : when each minute was; spiked : when each stream that had a spike."""

    token: str
    pushed: dict[int, float]
    spiked: dict[str, float]
    rng: np.random.Generator
    made_s: float
    first_s: float
    # How long pushes took until they were answered, and so kept.
    took: list[float] = field(default_factory=list)


def prepared(served: Served, then: Callable[[], None] = lambda: None) -> Ready:
    """Write the history of the streams, and wait until all that has come by then is judged. then : what is done before a lookout
    begins to judge them."""
    minute = int(time.time() // 60)
    begun = time.monotonic()
    token_file = served.folder / "token"
    child(served.database_environment(), MAKE, str(STREAMS), str(DAYS), str(minute))
    made_s = time.monotonic() - begun
    then()
    child(served.database_environment(), LOOKOUT, str(token_file), WINDOW)
    token = token_file.read_text()
    # What has come by now is judged first; the time that this takes is a separate figure.
    begun = time.monotonic()
    pushed: dict[int, float] = {}
    spiked: dict[str, float] = {}
    rng = np.random.default_rng(2)
    push(served, token, range(minute, int(time.time() // 60)), rng, pushed, spiked, is_spiked=False)
    for _, rows in look(served):
        behind = STREAMS - sum(c for m, c in rows if m is not None and m >= minute)
        now = int(time.time() // 60)
        done = max(pushed, default=minute - 1)
        push(served, token, range(done + 1, now), rng, pushed, spiked, is_spiked=False)
        if behind <= 0:
            break
        if time.monotonic() - begun > 3_600:
            raise RuntimeError(f"{behind} streams were not judged within an hour: {served.last_lines()}")
        time.sleep(2)
    return Ready(token, pushed, spiked, rng, made_s, time.monotonic() - begun)


def followed(served: Served, ready: Ready) -> tuple[list[Polled], range]:
    """Push minute by minute as they end; what was judged when, and which minutes."""
    pushed = ready.pushed
    polled: list[Polled] = []
    first = max(max(pushed, default=0) + 1, int(time.time() // 60))
    until = (first + MINUTES + 1) * 60 + 45.0

    def follow() -> None:
        for seen in look(served):
            polled.append(seen)
            if seen[0] > until:
                return
            time.sleep(0.5)

    watcher = threading.Thread(target=follow)
    watcher.start()
    for m in range(first, first + MINUTES):
        time.sleep(max((m + 1) * 60 + 0.2 - time.time(), 0))
        ready.took += push(
            served, ready.token, range(m, m + 1), ready.rng, pushed, ready.spiked, is_spiked=True
        )
    watcher.join()
    return polled, range(first, first + MINUTES)


def figures(ready: Ready, polled: list[Polled], minutes: range, box: Postbox) -> dict[str, Any]:
    """How long bins and mails took."""
    delays = delays_of(polled, minutes)
    mails = _mails(box, ready.spiked)
    return {
        "streams": STREAMS,
        "history written, s": ready.made_s,
        "first judging of the history, s": ready.first_s,
        "bins judged, of those that came": f"{len(delays)} of {STREAMS * MINUTES}",
        "from a bin's end until it was judged, median s": float(np.median(delays)) if delays else None,
        "99th percentile s": float(np.quantile(delays, 0.99)) if delays else None,
        "from a push until its mail was handed over, median s": float(np.median(mails)) if mails else None,
        "longest s": max(mails, default=None),
        "mails of spikes": f"{len(mails)} of {len(ready.spiked)}",
    }


def memory_of(served: Served) -> dict[str, Any]:
    memory = served.memory()
    return {
        "memory of all processes with MariaDB, MB": sum(memory.values()) / 2**20,
        **{f"of that {name}, MB": size / 2**20 for name, size in sorted(memory.items())},
    }


def push(
    served: Served, token: str, minutes: range, rng: np.random.Generator, pushed: dict[int, float],
    spiked: dict[str, float], *, is_spiked: bool,
) -> list[float]:  # fmt: skip
    """One sample a stream and minute; with spikes on a few streams that had none. Returns how long each push took."""
    took = []
    for m in minutes:
        hour = m / 60 % 24
        odd = set(rng.choice(STREAMS, 3, replace=False).tolist()) if is_spiked else set()
        pushed[m] = time.time()
        for a in range(0, STREAMS, LINES):
            lines = []
            for i in range(a, min(a + LINES, STREAMS)):
                name = f"h{i:05d}"
                value = 100 + 40 * np.cos(2 * np.pi * (hour - i % 24) / 24) + rng.normal(0, 3)
                if i in odd and name not in spiked:
                    # Large also beside a spread that a window of one day was rehearsed to.
                    value += 2_000
                    spiked[name] = time.time()
                lines.append(
                    json.dumps(
                        {
                            "metric": "load",
                            "host": name,
                            "time": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(m * 60)),
                            "value": round(float(value), 2),
                        }
                    )
                )
            request = urllib.request.Request(
                f"{served.base}/api/v1/push",
                data="\n".join(lines).encode(),
                headers={"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"},
            )
            begin = time.monotonic()
            with urllib.request.urlopen(request, timeout=60) as answer:
                answer.read()
            took.append(time.monotonic() - begin)
    return took


def delays_of(polled: list[Polled], minutes: range) -> list[float]:
    """Of each stream and minute how long after its end it was seen judged; what never was is left out."""
    out: list[float] = []
    for m in minutes:
        end, known = (m + 1) * 60.0, 0
        for at, rows in polled:
            through = sum(c for minute, c in rows if minute is not None and minute >= m + 1)
            if through > known:
                out += [max(at - end, 0.0)] * (through - known)
                known = through
    return out


def _mails(box: Postbox, spiked: dict[str, float]) -> list[float]:
    """From the push of a spike until the mail that names its stream."""
    out = []
    for name, at in spiked.items():
        came = [t for t, subject in box.came if name in subject and t >= at]
        if came:
            out.append(min(came) - at)
    return out
