"""Live on two hosts over one database: bins judged, samples pushed and the tide table read by many, all at once.

Two of everything that `./run serve` starts, on this machine, over one MariaDB. Samples come as in bench/watch.py, whose settings
(WATCH_STREAMS, WATCH_MINUTES, WATCH_DAYS, WATCH_WINDOW) count here too. LIVE_READERS people, 50 if nothing says so, look at the tide table
every 3 to 7 seconds, the head and then a window of rows, of one host and the other; every ten seconds somebody writes an entry into the
logbook, so that the table changes. LIVE_FINDINGS open findings stand over all streams.
"""

import itertools
import json
import os
import threading
import time
import urllib.request
from collections import Counter
from dataclasses import dataclass, field
from typing import Any, Self

import numpy as np

from bench import screens, watch
from bench.faults import Served

READERS = int(os.environ.get("LIVE_READERS", "50"))
FINDINGS = int(os.environ.get("LIVE_FINDINGS", str(10 * watch.STREAMS)))
WINDOW_ROWS = 96
HEAD = "/api/v1/tide?rows=false"


class Both(Served):
    """A first host, and a second over its database; requests go to one and the other."""

    def __enter__(self) -> Self:
        super().__enter__()
        own = self.folder / "second"
        own.mkdir()
        self.second = Served(own)
        self.second.environment = self.environment | {
            "WATCHTIDE_HOME": str(own),
            "WATCHTIDE_DATA": str(self.folder / "serve" / "data"),
        }
        self.second.__enter__()
        self._turn = itertools.cycle((super().base, self.second.base))
        return self

    def __exit__(self, *more: object) -> None:
        self.second.__exit__(*more)
        super().__exit__(*more)

    @property
    def base(self) -> str:
        return next(self._turn) if hasattr(self, "_turn") else super().base


@dataclass
class Seen:
    """How long answers took, by what was asked, and how many came with which status."""

    took: dict[str, list[float]] = field(default_factory=dict)
    answers: Counter[str] = field(default_factory=Counter)

    def ask(self, hosts: Both, token: str, what: str, url: str, body: dict[str, Any] | None = None) -> None:
        headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(f"{hosts.base}{url}", data=data, headers=headers)
        begin = time.monotonic()
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                answer.read()
                status = str(answer.status)
        except OSError as error:
            status = str(getattr(error, "code", type(error).__name__))
        self.took.setdefault(what, []).append(time.monotonic() - begin)
        self.answers[status] += 1


def _read(hosts: Both, token: str, seen: Seen, seed: int, over: threading.Event) -> None:
    rng = np.random.default_rng(seed)
    while not over.wait(float(rng.uniform(3, 7))):
        seen.ask(hosts, token, "head of the tide table", HEAD)
        skip = int(rng.integers(0, max(watch.STREAMS - WINDOW_ROWS, 1)))
        seen.ask(hosts, token, "window of its rows", f"/api/v1/tide/rows?skip={skip}&count={WINDOW_ROWS}")


def _write(hosts: Both, token: str, seen: Seen, over: threading.Event) -> None:
    rng = np.random.default_rng(7)
    while not over.wait(10):
        day = f"2026-05-{int(rng.integers(1, 28)):02d}"
        scope = f"metric=load,host=h{int(rng.integers(0, watch.STREAMS)):05d}"
        entry = {
            "scope": scope,
            "start": f"{day}T00:00:00Z",
            "end": f"{day}T06:00:00Z",
            "verdict": "incident",
        }
        seen.ask(hosts, token, "entry of the logbook", "/api/v1/logbook", entry)


def measure() -> dict[str, Any]:
    """Figures of one run."""
    with watch.started(Both) as (hosts, box):
        return _run(hosts, box)


def _run(hosts: Both, box: watch.Postbox) -> dict[str, Any]:
    def stands() -> None:
        # Before anything is judged: entries say what may train a stream.
        watch.child(hosts.database_environment(), screens.STAND, str(watch.STREAMS), str(FINDINGS))

    ready = watch.prepared(hosts, stands)
    seen, over = Seen(), threading.Event()
    people = [
        threading.Thread(target=_read, args=(hosts, ready.token, seen, seed, over)) for seed in range(READERS)
    ]
    people.append(threading.Thread(target=_write, args=(hosts, ready.token, seen, over)))
    for person in people:
        person.start()
    try:
        polled, minutes = watch.followed(hosts, ready)
    finally:
        over.set()
        for person in people:
            person.join()
    out = watch.figures(ready, polled, minutes, box)
    out |= {"findings that stand": FINDINGS, "readers": READERS}
    for what, took in {"push until it was kept": ready.took, **seen.took}.items():
        for name, share in (("median", 0.5), ("95th percentile", 0.95), ("99th percentile", 0.99)):
            out[f"{what}, {name} s"] = float(np.quantile(took, share))
        out[f"{what}, how many"] = len(took)
    out["answers"] = ", ".join(f"{n} {status}" for status, n in sorted(seen.answers.items()))
    second = hosts.second.memory()
    return out | watch.memory_of(hosts) | {"memory of the second host, MB": sum(second.values()) / 2**20}
