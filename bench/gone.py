"""Two hosts of one application, each taken away once while it works: what was answered must be there, and nobody tries more than twice.

Hosts are network namespaces 20 ms from each other and from the database, each with its web server, workers and keepers. A host goes as by
a power cut: its net ends, then everything on it. Senders, people and readers take the hosts in turn, as behind a balancer that knows
nothing of them, and wait five seconds for an answer.
"""

import contextlib
import http.client
import itertools
import os
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench import faults
from bench.hosts import Host, crash, hosts
from bench.watch import environment_of, migrate
from watchtide.server.mariadb import Database, running

DELAY_MS, READY_SECONDS = 20.0, 120.0
WORKING_S, GONE_S = 20.0, 40.0
NAME, PORT, READERS = "watchtide.bench", 8400, 4


class InTurn(urllib.request.HTTPHandler):
    """Leads each connection of a sender to the next of several hosts, whatever its name."""

    def __init__(self, places: list[Host]) -> None:
        super().__init__()
        self._places, self._of_thread = places, threading.local()

    def _next(self) -> str:
        if not hasattr(self._of_thread, "turn"):
            self._of_thread.turn = itertools.cycle(self._places)
        place: Host = next(self._of_thread.turn)
        return place.address

    def http_open(self, request: urllib.request.Request) -> Any:
        def connection(host: str, **more: Any) -> http.client.HTTPConnection:
            own = http.client.HTTPConnection(host, **more)
            own._create_connection = lambda _, *rest: socket.create_connection((self._next(), PORT), *rest)  # type: ignore[attr-defined]
            return own

        return self.do_open(connection, request)  # type: ignore[arg-type]


class Both:
    """What `faults.Load` takes for a server: two hosts in turn."""

    patience_s = 5.0
    base = f"http://{NAME}:{PORT}"

    def __init__(
        self, places: list[Host], environment: dict[str, str], database: Database, folder: Path
    ) -> None:
        self._environment, self._database, self.folder = environment, database, folder
        self.places = places
        self.running: dict[Host, subprocess.Popen[str]] = {}
        self.handlers = (InTurn(places),)

    def start(self, place: Host) -> None:
        """Start everything on a host and wait until it answers."""
        own = self._environment | {"WATCHTIDE_HOME": str(self.folder / place.address)}
        command = [sys.executable, "-m", "watchtide.server.supervise", "serve", "--host", place.address, "--port", str(PORT)]  # fmt: skip
        place.connect()
        with open(self.folder / f"{place.address}.log", "ab") as log:
            self.running[place] = place.start(command, own, stdout=log, stderr=log)
        deadline = time.monotonic() + READY_SECONDS
        while not _answers(place):
            if self.running[place].poll() is not None or time.monotonic() > deadline:
                raise RuntimeError(f"{place.address} did not start: {self.last_lines()}")
            time.sleep(0.2)

    def lose(self, place: Host) -> None:
        place.connect(is_up=False)
        crash(self.running.pop(place))

    def stop(self) -> None:
        for process in self.running.values():
            process.terminate()
        for process in self.running.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(30)
            crash(process)

    def is_answering(self) -> bool:
        return all(_answers(place) for place in self.running)

    def last_lines(self) -> str:
        return "\n".join(p.read_text(errors="replace")[-1_500:] for p in sorted(self.folder.glob("*.log")))

    def database_environment(self) -> dict[str, str]:
        return {
            k: v for k, v in self._environment.items() if "WATCHTIDE_DB_" not in k
        } | self._database.environment()


def _answers(place: Host) -> bool:
    with (
        contextlib.suppress(OSError),
        urllib.request.urlopen(f"http://{place.address}:{PORT}/readyz", timeout=5) as answer,
    ):
        return bool(answer.status == 200)
    return False


def measure() -> dict[str, Any]:
    """Figures of one run; lost, doubled and wrong must be 0, and no request take more than two tries."""
    with (
        faults.folder() as folder,
        running(folder / "gone", is_throwaway=True) as database,
        hosts(2, DELAY_MS, database.socket) as (near, *far),
    ):
        database.create("watchtide")
        own = {
            **database.environment(), "WATCHTIDE_DATA": str(folder / "shared"), "WATCHTIDE_JOB_LEASE_SECONDS": "10",
            "WATCHTIDE_ADMIN_NAME": "keeper", "WATCHTIDE_ADMIN_PASSWORD": faults.PASSWORD,
            "WATCHTIDE_PUSHES_A_MINUTE": "1000000", "WATCHTIDE_POINTS_A_MINUTE": "1000000000",
            "WATCHTIDE_HOSTS": ",".join([NAME, *(place.address for place in far)]), "WATCHTIDE_LOG_LEVEL": "warning",
        }  # fmt: skip
        migrate(environment_of(own))
        own |= {"WATCHTIDE_DB_HOST": near.address, "WATCHTIDE_DB_PORT": "3306"}
        del own["WATCHTIDE_DB_SOCKET"]
        both = Both(far, environment_of(own), database, folder)
        try:
            for place in far:
                both.start(place)
            return _run(both)
        finally:
            both.stop()
            if os.environ.get("GONE_SHOWS_LOG"):
                print(both.last_lines(), file=sys.stderr)


def _run(both: Both) -> dict[str, Any]:
    # Two hosts begin at once on the cores of one.
    time.sleep(WORKING_S)
    load = faults.Load(both, 1_000)  # type: ignore[arg-type]
    with _readers(both, load), load:
        for place in both.places:
            time.sleep(WORKING_S)
            both.lose(place)
            time.sleep(GONE_S)
            both.start(place)
        time.sleep(WORKING_S)
    out = load.figures()
    tries = load.ledger.tries
    return {
        **out, "requests answered": sum(tries.values()), "of them at the second try": tries.get(2, 0),
        "after more": "; ".join(load.ledger.hard) or "none", "slowest request, s": load.ledger.slowest_s,
    }  # fmt: skip


@contextlib.contextmanager
def _readers(both: Both, load: faults.Load) -> Iterator[None]:
    """People who read the tide table and the list of streams, one after another."""

    clients = [faults.Client(both, load.ledger) for _ in range(READERS)]  # type: ignore[arg-type]
    for client in clients:
        client.sign_in()

    def read(client: faults.Client) -> None:
        while not load.stop.is_set():
            for path in ("/api/v1/tide", "/api/v1/catalogue"):
                client.ask("GET", path)
            load.stop.wait(0.5)

    threads = [threading.Thread(target=read, args=(client,)) for client in clients]
    for thread in threads:
        thread.start()
    yield
    load.stop.set()
    for thread in threads:
        thread.join(120)
