"""A cluster's scheduler and its workers, started with Dask's own commands."""

import contextlib
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator

from watchtide import joining
from watchtide.cli import server
from watchtide.cli.exits import fail
from watchtide.engine.many import clusters
from watchtide.parent import die_with_parent

READY_SECONDS, STOP_SECONDS = 90, 10
LOOPBACK = "127.0.0.1"


def schedule(host: str, port: int) -> None:
    """Become the scheduler of a cluster."""
    _become(_scheduler(_stated(host, port)))


def work(url: str, processes: int, *, is_of_server: bool) -> None:
    """Become the workers of a cluster, one task at a time each. is_of_server : whether they read the server's database too."""
    address = _checked(url)
    if is_of_server and not server.find():
        fail(
            "--server: no database is stated and no server runs here; state WATCHTIDE_DB_HOST or WATCHTIDE_DB_SOCKET"
        )
    _become(_workers(address, processes))


def run(workers: int, port: int) -> None:
    """A scheduler and workers on this host, until Ctrl-C or TERM. They scan for the server of this checkout too, if one runs."""
    address = _stated(LOOPBACK, port)
    if not server.find():
        os.environ.pop("DJANGO_SETTINGS_MODULE", None)
    signal.signal(signal.SIGTERM, _interrupt)
    with contextlib.suppress(KeyboardInterrupt), contextlib.ExitStack() as stack:
        children = [stack.enter_context(_child(_scheduler(address)))]
        children.append(stack.enter_context(_child(_workers(address, workers))))
        try:
            clusters.wait_for(address, workers, READY_SECONDS)
        except clusters.ClusterError as error:
            fail(str(error))
        print(f"Cluster is ready: {address.url}", flush=True)
        while all(child.poll() is None for child in children):
            time.sleep(0.5)
        fail("a process of the cluster has ended; see above")


def _interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt


@contextlib.contextmanager
def _child(command: list[str]) -> Iterator["subprocess.Popen[bytes]"]:
    """A process that ends with this one."""
    child = subprocess.Popen(command, preexec_fn=die_with_parent, stdout=subprocess.DEVNULL)
    try:
        yield child
    finally:
        child.terminate()
        try:
            child.wait(STOP_SECONDS)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


def _stated(host: str, port: int) -> clusters.Address:
    """Where a scheduler listens: with certificates in the environment by tls:// only."""
    scheme = "tls" if os.environ.get(clusters.VARIABLES["ca"]) else "tcp"
    return _checked(f"{scheme}://{host}:{port}")


def _checked(url: str) -> clusters.Address:
    try:
        return clusters.stated(url)
    except clusters.ClusterError as error:
        fail(str(error))


def _scheduler(address: clusters.Address) -> list[str]:
    return _command("scheduler", "--host", address.url, *clusters.arguments_of(address))


def _workers(address: clusters.Address, processes: int) -> list[str]:
    return _command(
        "worker",
        address.url,
        *("--nworkers", str(processes), "--nthreads", "1", "--memory-limit", "0"),
        *("--preload", joining.__name__),
        *clusters.arguments_of(address),
    )


def _command(name: str, *arguments: str) -> list[str]:
    return [sys.executable, "-m", f"distributed.cli.dask_{name}", *arguments, "--no-dashboard"]


def _become(command: list[str]) -> None:
    os.execv(command[0], command)
