"""Faults while it works: everything that runs is killed at random moments, and what was answered is checked against a ledger.

Senders push batches and hand in files, each again until it is answered, and write down what was. At the end every sample that was
answered must be there once, with its value, and every job must have come to its end once.
"""

import contextlib
import csv
import io
import json
import os
import random
import secrets
import signal
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any, Self

from bench import hostile
from bench.wire import Wire
from watchtide.server import supervise
from watchtide.server.mariadb import Database

START_S = 1_786_000_000
# What is killed, by what stands in its command line.
VICTIMS = {name: f"watchtide: {name}" for name in (
    "web server", "worker of interactive jobs", "worker of bulk jobs", "worker of lookouts", "keeper of jobs", "keeper of streams",
)} | {"MariaDB": "mariadbd"}  # fmt: skip
PASSWORD = "a password for faults"


@dataclass
class Ledger:
    """What was answered. pushed : value by (stream, second); files : the same of each file, by its job; verdicts : by note of an
    entry; answers : how many by status; tries : how many requests took so many; hard : those that took more than two; slowest_s : until the slowest was answered."""

    pushed: dict[tuple[str, int], float] = field(default_factory=dict)
    files: dict[int, dict[tuple[str, int], float]] = field(default_factory=dict)
    verdicts: dict[str, str] = field(default_factory=dict)
    answers: dict[str, int] = field(default_factory=dict)
    tries: dict[int, int] = field(default_factory=dict)
    hard: list[str] = field(default_factory=list)
    slowest_s: float = 0.0
    begun: float = field(default_factory=time.monotonic)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def end(self, tries: int, seconds: float, what: str) -> None:
        with self.lock:
            self.tries[tries] = self.tries.get(tries, 0) + 1
            if tries > 2:
                self.hard.append(
                    f"{what}: {tries} tries, {seconds:.1f} s, {time.monotonic() - self.begun:.0f} s in"
                )
            self.slowest_s = max(self.slowest_s, seconds)

    def count(self, answer: str) -> None:
        with self.lock:
            self.answers[answer] = self.answers.get(answer, 0) + 1


class Served:
    """`./run serve` on a temporary folder. is_wired : MariaDB is ours, behind a wire that can be cut. patience_s : how long a request
    waits for its answer."""

    patience_s = 30.0
    handlers: tuple[urllib.request.BaseHandler, ...] = ()

    def __init__(
        self,
        folder: Path,
        *,
        is_wired: bool = False,
        database_settings: dict[str, str] | None = None,
        **settings: str,
    ) -> None:
        self.folder, self.port, self.is_wired = folder, supervise._free_port(), is_wired
        self.database_settings = database_settings
        self.environment = {
            **os.environ, "WATCHTIDE_HOME": str(folder), "WATCHTIDE_SECRET_KEY": secrets.token_urlsafe(40),
            "WATCHTIDE_ADMIN_NAME": "keeper", "WATCHTIDE_ADMIN_PASSWORD": PASSWORD, "WATCHTIDE_JOB_LEASE_SECONDS": "4",
            "WATCHTIDE_PUSHES_A_MINUTE": "1000000", "WATCHTIDE_POINTS_A_MINUTE": "1000000000",
            **settings,
        }  # fmt: skip
        for name in ("WATCHTIDE_DB_SOCKET", "WATCHTIDE_DB_HOST", "WATCHTIDE_DATA"):
            self.environment.pop(name, None)

    @property
    def base(self) -> str:
        """Where requests go."""
        return f"http://127.0.0.1:{self.port}"

    def __enter__(self) -> Self:
        if self.is_wired:
            self.database = Database(self.folder / "serve", settings=self.database_settings)
            self.database.start()
            self.database.create("watchtide")
            self.wire = Wire(self.folder / "wire.sock", self.database.socket)
            self.environment |= self.database.environment() | {"WATCHTIDE_DB_SOCKET": str(self.wire.near)}
        self.log = open(self.folder / "serve.log", "wb")
        self.process = subprocess.Popen(
            [sys.executable, "-m", "watchtide.server.supervise", "serve", "--port", str(self.port)],
            env=self.environment, stdout=self.log, stderr=self.log,
        )  # fmt: skip
        deadline = time.monotonic() + 120
        while not self.is_answering():
            if self.process.poll() is not None or time.monotonic() > deadline:
                raise RuntimeError(f"it did not start: {self.last_lines()}")
            time.sleep(0.2)
        return self

    def __exit__(self, *_: object) -> None:
        self.process.terminate()
        self.process.wait(60)
        self.log.close()
        if self.is_wired:
            self.database.stop()

    def last_lines(self) -> str:
        """The end of what was logged."""
        return self.logged()[-3_000:]

    def logged(self) -> str:
        return (self.folder / "serve.log").read_text(errors="replace")

    def is_answering(self) -> bool:
        with contextlib.suppress(OSError), urllib.request.urlopen(f"{self.base}/readyz", timeout=5) as answer:
            return bool(answer.status == 200)
        return False

    def pids(self) -> dict[str, int]:
        """The processes that can be killed, by name."""
        found = {}
        for folder in Path("/proc").iterdir():
            if not folder.name.isdigit():
                continue
            with contextlib.suppress(OSError, IndexError, ValueError):
                parent = int((folder / "stat").read_text().rsplit(") ", 1)[1].split()[1])
                if parent != self.process.pid:
                    continue
                command = (folder / "cmdline").read_text()
                for name, part in VICTIMS.items():
                    if part in command:
                        found[name] = int(folder.name)
        return found

    def memory(self) -> dict[str, int]:
        """Bytes that each process has in memory, MariaDB too, by name; each takes its share of the pages it has in common."""
        # What all processes share is its supervisor's too.
        found, pids = {}, self.pids() | {"supervisor": self.process.pid}
        if self.is_wired and self.database.process is not None:
            pids["MariaDB"] = self.database.process.pid
        for name, pid in pids.items():
            with contextlib.suppress(OSError, StopIteration):
                found[name] = _bytes_of(pid, "Pss")
        return found

    def resident(self) -> int:
        """Bytes that the supervisor has in memory, shared or not."""
        return _bytes_of(self.process.pid, "Rss")

    def own_memory(self) -> dict[str, int]:
        """Bytes that each process shares with no other, by name."""
        own = ("Private_Dirty", "Private_Clean")
        return {name: sum(_bytes_of(pid, kind) for kind in own) for name, pid in self.pids().items()}

    def database_environment(self) -> dict[str, str]:
        own = Database(self.folder / "serve").environment()
        # At the end it is read past the wire.
        return {**self.environment, **own, "DJANGO_SETTINGS_MODULE": "watchtide.server.settings"}


def _bytes_of(pid: int, kind: str) -> int:
    lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    return int(next(line for line in lines if line.startswith(f"{kind}:")).split()[1]) << 10


class Client:
    """A person's session, that repeats a request until it is answered."""

    def __init__(self, served: Served, ledger: Ledger) -> None:
        self.served, self.ledger = served, ledger
        self.jar = CookieJar()
        self.opener = urllib.request.build_opener(
            urllib.request.HTTPCookieProcessor(self.jar), *served.handlers
        )

    def ask(
        self,
        method: str,
        path: str,
        body: bytes | None = None,
        kind: str = "application/json",
        **headers: str,
    ) -> Any:
        """The answer to a request that may be sent again; 4xx raises."""
        begun = time.monotonic()
        for tried in range(600):
            token = next((c.value for c in self.jar if c.name.startswith("watchtide_csrf")), "")
            request = urllib.request.Request(
                self.served.base + path, data=body, method=method,
                headers={"Content-Type": kind, "X-CSRFToken": token or "", **headers},
            )  # fmt: skip
            try:
                with self.opener.open(request, timeout=self.served.patience_s) as answer:
                    self.ledger.count(str(answer.status))
                    text = answer.read()
                    self.ledger.end(tried + 1, time.monotonic() - begun, f"{method} {path}")
                    return json.loads(text) if text[:1] in (b"{", b"[") else text
            except urllib.error.HTTPError as error:
                self.ledger.count(str(error.code))
                if error.code < 500 and error.code != 429:
                    raise RuntimeError(f"{method} {path}: {error.code} {error.read()[:300]!r}") from error
                if error.code == 500:
                    self.ledger.count(f"500 {error.read()[:120]!r}")
            except (OSError, TimeoutError):
                self.ledger.count("no answer")
            except Exception as error:
                # A connection cut in the middle of an answer.
                self.ledger.count(type(error).__name__)
            time.sleep(0.15)
        raise RuntimeError(f"{method} {path} was never answered")

    def send(self, one: hostile.Input) -> int:
        """The status of one answer, 0 where there is none."""
        token = next((c.value for c in self.jar if c.name.startswith("watchtide_csrf")), "")
        body, kind = one.body, one.kind
        if one.file:
            mark = f"--------{secrets.token_hex(8)}"
            head = f'--{mark}\r\nContent-Disposition: form-data; name="file"; filename="{one.file}"\r\n\r\n'
            body, kind = (
                head.encode() + body + f"\r\n--{mark}--\r\n".encode(),
                f"multipart/form-data; boundary={mark}",
            )
        headers = {"Content-Type": kind, "X-CSRFToken": token or ""}
        if one.encoding:
            headers["Content-Encoding"] = one.encoding
        request = urllib.request.Request(
            self.served.base + one.door, data=body, method="POST", headers=headers
        )
        try:
            with self.opener.open(request, timeout=120) as answer:
                answer.read()
                return int(answer.status)
        except urllib.error.HTTPError as error:
            return error.code
        except (OSError, TimeoutError):
            return 0

    def sign_in(self) -> None:
        self.ask("GET", "/")
        self.ask("POST", "/api/v1/session", json.dumps({"name": "keeper", "password": PASSWORD}).encode())


def push(served: Served, ledger: Ledger, who: int, token: str, stop: threading.Event, a_second: int) -> None:
    """Send batches of ten streams' samples, each until it is answered."""
    client = Client(served, ledger)
    i = 0
    while not stop.is_set():
        begun = time.monotonic()
        points = [
            (f"s{who}-{k}", START_S + 10 * i + j, float(i * 100 + k + j))
            for k in range(10)
            for j in range(10)
        ]
        lines = "\n".join(
            json.dumps({"time": at, "metric": "load", "value": v, "place": name}) for name, at, v in points
        )
        client.ask(
            "POST", "/api/v1/push", lines.encode(), "application/x-ndjson",
            **{"Authorization": f"Bearer {token}", "Idempotency-Key": f"{who}-{i}"},
        )  # fmt: skip
        with ledger.lock:
            ledger.pushed.update({(name, at): v for name, at, v in points})
        i += 1
        time.sleep(max(0.0, len(points) / a_second - (time.monotonic() - begun)))


def hand_in(served: Served, ledger: Ledger, stop: threading.Event) -> None:
    """Hand in small files one after another; each is a job."""
    client = Client(served, ledger)
    client.sign_in()
    i = 0
    while not stop.is_set():
        rows = {(f"f{i}", START_S + 3_600 * k): float(i * 1_000 + k) for k in range(50)}
        text = io.StringIO()
        csv.writer(text).writerows(
            [("time", "place", "v"), *((at, name, v) for (name, at), v in rows.items())]
        )
        boundary = f"--------{secrets.token_hex(8)}"
        body = (
            f'--{boundary}\r\nContent-Disposition: form-data; name="file"; filename="f{i}.csv"\r\n'
            f"Content-Type: text/csv\r\n\r\n{text.getvalue()}\r\n--{boundary}--\r\n"
        ).encode()
        sent = client.ask("POST", "/api/v1/uploads", body, f"multipart/form-data; boundary={boundary}")
        job = client.ask(
            "POST", f"/api/v1/uploads/{sent['id']}/store", json.dumps({"metric": "files"}).encode()
        )
        with ledger.lock:
            ledger.files[int(job["id"])] = rows
        i += 1
        stop.wait(0.4)


def judge(served: Served, ledger: Ledger, stop: threading.Event) -> None:
    """Write entries into the logbook. Each is repeated until it is answered, so that one may be there twice; none may be missing."""
    client = Client(served, ledger)
    client.sign_in()
    i = 0
    while not stop.is_set():
        verdict, note = ("incident", "foreseen", "unsure")[i % 3], f"verdict {i}"
        body = {
            "start": "2026-08-01T00:00:00Z",
            "end": "2026-08-01T01:00:00Z",
            "verdict": verdict,
            "note": note,
        }
        client.ask("POST", "/api/v1/logbook", json.dumps(body).encode())
        with ledger.lock:
            ledger.verdicts[note] = verdict
        i += 1
        stop.wait(0.3)


def strike(served: Served, rng: random.Random, kills: dict[str, int]) -> None:
    """Kill one process that runs, of those struck least so far."""
    found = served.pids()
    if not found:
        return
    least = min(kills.get(name, 0) for name in found)
    name = rng.choice(sorted(name for name in found if kills.get(name, 0) == least))
    with contextlib.suppress(ProcessLookupError):
        os.kill(found[name], signal.SIGKILL)
        kills[name] = kills.get(name, 0) + 1


CONTENT = """
import json, sys, django; django.setup()
import numpy as np
from watchtide.server.jobs.models import Job
from watchtide.server.logbook.models import Entry
from watchtide.server.streams import folding, store
from watchtide.server.streams.models import Batch, Stream
folding.fold()
out = {}
for s in Stream.objects.filter(metric__in=("load", "files")):
    times, values = store.read(s.pk)
    out[dict(s.attributes).get("place", "")] = [(times // 10**9).tolist(), values.tolist(), s.samples]
entries = [[e.note, e.verdict] for e in Entry.objects.all()]
jobs = [[j.pk, j.kind, j.state, j.attempt, j.message] for j in Job.objects.all()]
print(json.dumps({"streams": out, "jobs": jobs, "entries": entries, "quarantined": Batch.objects.filter(quarantined_at__isnull=False).count()}))
"""


class Load:
    """Senders at work while the block lasts; then everything comes to its end and `figures` compares it with the ledger."""

    def __init__(self, served: Served, a_second: int) -> None:
        self.served, self.ledger, self.stop = served, Ledger(), threading.Event()
        self.client = Client(served, self.ledger)
        self.client.sign_in()
        body = json.dumps({"name": "load", "scopes": ["push"]}).encode()
        self.token = self.client.ask("POST", "/api/v1/tokens", body)["text"]
        self.senders = [
            threading.Thread(
                target=push, args=(served, self.ledger, who, self.token, self.stop, a_second // 2)
            )
            for who in range(2)
        ]
        self.senders.append(threading.Thread(target=hand_in, args=(served, self.ledger, self.stop)))
        self.senders.append(threading.Thread(target=judge, args=(served, self.ledger, self.stop)))
        self.slowest = 0.0

    def __enter__(self) -> "Load":
        self.begun = time.monotonic()
        for sender in self.senders:
            sender.start()
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(RuntimeError):
            _until_answering(self.served)
        # A machine that is slow at starting things anew may have answered some of them not once.
        ledger, deadline = self.ledger, time.monotonic() + 60
        while not (ledger.pushed and ledger.files and ledger.verdicts) and time.monotonic() < deadline:
            time.sleep(0.2)
        self.stop.set()
        for sender in self.senders:
            sender.join(120)
        self.lasted = time.monotonic() - self.begun

    def look(self) -> None:
        """Wait until it answers again, and keep the longest wait."""
        self.slowest = max(self.slowest, _until_answering(self.served))

    def figures(self) -> dict[str, Any]:
        open_jobs = ("queued", "running")
        deadline = time.monotonic() + 120
        while time.monotonic() < deadline:
            if not any(j["state"] in open_jobs for j in self.client.ask("GET", "/api/v1/jobs")["items"]):
                break
            time.sleep(0.5)
        done = subprocess.run(
            [sys.executable, "-c", CONTENT],
            env=self.served.database_environment(), capture_output=True, text=True, check=True,
        )  # fmt: skip
        ledger = self.ledger
        return {
            "seconds": self.lasted, "samples answered": len(ledger.pushed) + sum(map(len, ledger.files.values())),
            "jobs handed in": len(ledger.files), "verdicts answered": len(ledger.verdicts), "slowest return, s": self.slowest,
            **compare(ledger, json.loads(done.stdout.splitlines()[-1])),
            **{f"answers: {k}": n for k, n in sorted(ledger.answers.items())},
        }  # fmt: skip


def measure(place: Path, *, kills: int = 200, a_second: int = 2_000, seed: int = 1) -> dict[str, Any]:
    """Processes killed at random moments. Figures of one run; lost, doubled and wrong must be 0."""
    rng, struck = random.Random(seed), dict[str, int]()
    with Served(place) as served:
        with Load(served, a_second) as load:
            for _ in range(kills):
                time.sleep(rng.uniform(0.2, 4.0))
                strike(served, rng, struck)
                if rng.random() < 0.2:
                    load.look()
        out = load.figures()
        # However much is logged after it: each start anew is a line.
        starts = "\n".join(line for line in served.logged().splitlines() if "started again" in line)
    counts = {f"kills of the {name}": n for name, n in sorted(struck.items())}
    return {**counts, "kills": sum(struck.values()), **out, "log": starts}


def cut(place: Path, *, times: int = 30, a_second: int = 1_000, seed: int = 2) -> dict[str, Any]:
    """The wire to the database cut in the middle of whatever passes, or slowed to 50 ms a piece."""
    rng, done = random.Random(seed), {"cut": 0, "slowed": 0}
    with Served(place, is_wired=True) as served:
        with Load(served, a_second) as load:
            for _ in range(times):
                time.sleep(rng.uniform(0.5, 3.0))
                if rng.random() < 0.7:
                    served.wire.cut()
                    done["cut"] += 1
                    time.sleep(rng.choice([0.0, 0.2, 1.0, 5.0]))
                else:
                    served.wire.slow()
                    done["slowed"] += 1
                    time.sleep(3.0)
                served.wire.open()
                load.look()
        out = load.figures()
    return {f"times {k}": n for k, n in done.items()} | out


# Debian's libfaketime: the clock that a program sees is what a file says.
FAKE_CLOCK = Path("/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1")


def step(place: Path, *, a_second: int = 1_000, seconds: float = 12.0) -> dict[str, Any]:
    """MariaDB's own clock an hour ahead, right again, an hour behind, and right again, under load."""
    if not FAKE_CLOCK.exists():
        return {"not tried": "Debian's package faketime is not installed"}
    clock = place / "clock"
    clock.write_text("+0")
    place.chmod(0o755)
    faked = {
        "LD_PRELOAD": str(FAKE_CLOCK), "FAKETIME_TIMESTAMP_FILE": str(clock), "FAKETIME_NO_CACHE": "1",
        "FAKETIME_DONT_FAKE_MONOTONIC": "1",
    }  # fmt: skip
    seen = {}
    with Served(place, is_wired=True, database_settings=faked) as served:
        with Load(served, a_second) as load:
            for words, offset in (
                ("ahead", "+3600"),
                ("right", "+0"),
                ("behind", "-3600"),
                ("right again", "+0"),
            ):
                before = len(load.ledger.pushed)
                # Replaced and not written anew: MariaDB reads it at every look at the clock.
                (place / "clock.new").write_text(offset)
                (place / "clock.new").replace(clock)
                time.sleep(seconds)
                load.look()
                seen[f"hours of MariaDB's clock, {words}"] = round(_ahead(served.database) / 3_600, 1)
                seen[f"samples answered, {words}"] = len(load.ledger.pushed) - before
        out = load.figures()
    return seen | out


def _ahead(database: Database) -> float:
    """Seconds that MariaDB's clock is ahead of ours."""
    with contextlib.closing(database.connect()) as connection:
        cursor = connection.cursor()
        cursor.execute("SELECT UNIX_TIMESTAMP(NOW(6))")
        return float(cursor.fetchone()[0]) - time.time()


DISK_MB = 420


def full(place: Path, *, a_second: int = 1_000, seconds: float = 30.0) -> dict[str, Any]:
    """A small disk that fills up to its last block, under MariaDB and everything else, and has room again later.

    The check that stops intake in time is switched off: what is measured is what happens without it.
    """
    disk = place / "serve"
    disk.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m,mode=755", "tmpfs", str(disk)], capture_output=True
    )
    if mounted.returncode != 0:
        return {"not tried": "a small disk could not be mounted; it takes the rights of root"}
    ballast = disk / "ballast"
    try:
        with Served(place, is_wired=True, WATCHTIDE_LEAST_FREE_MB="0") as served:
            with Load(served, a_second) as load:
                time.sleep(8)
                before, answers = len(load.ledger.pushed), dict(load.ledger.answers)
                deadline = time.monotonic() + seconds
                while time.monotonic() < deadline:
                    _fill(ballast)
                    time.sleep(0.2)
                was_up, during = served.database.is_up(), len(load.ledger.pushed) - before
                seen = {
                    k: n - answers.get(k, 0) for k, n in load.ledger.answers.items() if n > answers.get(k, 0)
                }
                ballast.unlink()
                if not served.database.is_up():
                    served.database.revive()
                load.look()
                time.sleep(10)
            out = load.figures()
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=False)
    return {
        "MariaDB stayed up while full": was_up, "samples answered while full": during,
        **{f"while full: {k}": n for k, n in sorted(seen.items())}, **out,
    }  # fmt: skip


def _fill(path: Path) -> None:
    """Take what room there is."""
    with contextlib.suppress(OSError), path.open("ab", buffering=0) as file:
        while True:
            file.write(b"\0" * (64 << 10))


def harmful(place: Path, *, count: int = 300, seed: int = 3) -> dict[str, Any]:
    """Hostile inputs at every door: answers by status, the slowest, and how much the web process and the workers grew."""
    made = list(hostile.handmade())
    more = hostile.mutated(seed)
    inputs = [*made, *(next(more) for _ in range(max(0, count - len(made))))]
    answers: dict[str, int] = {}
    slowest, bad = (0.0, ""), []
    with Served(place) as served:
        ledger = Ledger()
        client = Client(served, ledger)
        client.sign_in()
        before = served.memory()
        peak = dict(before)
        for one in inputs:
            begun = time.monotonic()
            status = client.send(one)
            took = time.monotonic() - begun
            slowest = max(slowest, (took, one.name))
            answers[str(status)] = answers.get(str(status), 0) + 1
            if status >= 500 or status == 0:
                bad.append(f"{one.name}: {status}")
            peak = {name: max(peak.get(name, 0), size) for name, size in served.memory().items()}
        still = served.is_answering()
    return {
        "hostile inputs": len(inputs), "made by hand": len(made), **{f"answers: {k}": n for k, n in sorted(answers.items())},
        "5xx or none": ", ".join(bad) or "none", "slowest, s": slowest[0], "slowest input": slowest[1], "answers afterwards": still,
        **{f"memory of {k}, MB, at most": v / 2**20 for k, v in sorted(peak.items())},
        **{f"memory of {k}, MB, before": v / 2**20 for k, v in sorted(before.items())},
    }  # fmt: skip


def _until_answering(served: Served) -> float:
    begun = time.monotonic()
    while time.monotonic() - begun < 90:
        if served.is_answering():
            return time.monotonic() - begun
        time.sleep(0.1)
    raise RuntimeError(f"it does not come back: {served.last_lines()}")


def compare(ledger: Ledger, found: dict[str, Any]) -> dict[str, Any]:
    """What the ledger and the database do not have in common."""
    there: dict[tuple[str, int], float] = {}
    doubled = 0
    for name, (times, values, count) in found["streams"].items():
        doubled += len(times) - len(set(times)) + abs(count - len(times))
        there.update({(name, at): v for at, v in zip(times, values, strict=True)})
    wanted = dict(ledger.pushed)
    jobs = {row[0]: row for row in found["jobs"]}
    entries: dict[str, list[str]] = {}
    for note, verdict in found["entries"]:
        entries.setdefault(note, []).append(verdict)
    for rows in ledger.files.values():
        wanted.update(rows)
    return {
        "samples lost": sum(key not in there for key in wanted),
        "samples wrong": sum(key in there and there[key] != value for key, value in wanted.items()),
        "samples doubled": doubled,
        "jobs lost": sum(jobs.get(job, [0, "", "missing"])[2] != "done" for job in ledger.files),
        "jobs not ended": sum(row[2] not in ("done",) for row in jobs.values()),
        "of these": "; ".join(str(row) for row in jobs.values() if row[2] != "done") or "none",
        "verdicts lost": sum(
            verdict not in entries.get(note, ()) for note, verdict in ledger.verdicts.items()
        ),
        "batches quarantined": found["quarantined"],
    }


@contextlib.contextmanager
def folder() -> Iterator[Path]:
    """A folder that MariaDB's own user can reach, gone afterwards."""
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o755)
        yield Path(name)
