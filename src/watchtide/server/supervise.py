"""Start, watch and stop everything: MariaDB, migrations, workers, the web server.

`python -m watchtide.server.supervise demo|serve|test …`. Children end when this process does, however it
ends; a folder has one owner at a time. What all of them import is imported here, once: they are forked, and share it in memory.
"""

import argparse
import contextlib
import errno
import gc
import importlib
import multiprocessing
import os
import runpy
import secrets
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from multiprocessing.context import ForkProcess
from pathlib import Path

import setproctitle

from watchtide import kernels
from watchtide.parent import die_with_parent
from watchtide.server import config
from watchtide.server.instance import data_of, home
from watchtide.server.mariadb import Database, DatabaseFailed, running

PYTHON = sys.executable
MANAGE = ("watchtide.cli.main", "server", "run")
WEB = "web server"
LOOPBACK = "127.0.0.1"


AS_ROOT = (
    "this runs as root: whoever gets in has the whole machine; start it as an ordinary user, or as a service with a user "
    "for it alone (deploy/README.md)"
)


class Stopped(Exception):
    """Somebody asked us to end."""


def main() -> int:
    # Where titles go is found beside the environment, as long as that is as it came.
    setproctitle.getproctitle()
    parser = argparse.ArgumentParser(prog="./run", description=__doc__)
    modes = parser.add_subparsers(dest="mode", required=True)
    demo = modes.add_parser("demo")
    demo.add_argument("--port", type=int, default=8400)
    demo.add_argument("--fresh", action="store_true", help="drop the demo database first")
    demo.add_argument("--no-live", action="store_true", help="no live streams: only the history")
    demo.add_argument("--pace", type=float, default=60.0, help="live streams: simulated seconds a second")
    serve = modes.add_parser("serve")
    serve.add_argument("--port", type=int, default=8400)
    serve.add_argument("--host", default=LOOPBACK, help="the address to listen on; put TLS in front of it")
    restore = modes.add_parser("restore")
    restore.add_argument("folder", type=Path, help="a backup, as `watchtide server backup` made it")
    restore.add_argument("--replace", action="store_true", help="lose what is in the database now")
    test = modes.add_parser("test")
    test.add_argument("command", nargs=argparse.REMAINDER)
    options = parser.parse_args()
    signal.signal(signal.SIGTERM, _stop)
    signal.signal(signal.SIGINT, _stop)
    signal.signal(signal.SIGHUP, _stop)
    kernels.use_cache()
    try:
        if options.mode == "test":
            return run_tests(options.command)
        if options.mode == "restore":
            return restore_backup(options.folder.resolve(), is_replacing=options.replace)
        is_live = options.mode == "demo" and not options.no_live
        pace = options.pace if is_live else None
        return run_server(
            options.mode,
            options.port,
            host=getattr(options, "host", LOOPBACK),
            is_fresh=getattr(options, "fresh", False),
            pace=pace,
        )
    except config.ConfigError as error:
        say(str(error))
        return 2
    except DatabaseFailed as error:
        say(str(error))
        return 1
    except Stopped:
        return 0


def _stop(number: int, frame: object) -> None:
    # Once: a second Ctrl-C while stopping must not leave anything half stopped.
    for name in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(name, signal.SIG_IGN)
    raise Stopped


def run_tests(command: list[str]) -> int:
    """Run a command with a throwaway MariaDB of its own."""
    command = command[1:] if command[:1] == ["--"] else command
    with running(home() / "test", is_throwaway=True) as database:
        environment = {
            **os.environ,
            **database.environment("watchtide"),
            "WATCHTIDE_SECRET_KEY": "for-tests-only",
            "WATCHTIDE_JOB_LEASE_SECONDS": "60",
            "WATCHTIDE_DATA": str(home() / "test" / "data"),
            "WATCHTIDE_LOG_LEVEL": "error",
        }
        try:
            return _run(command, environment)
        except Stopped:
            return 130


def restore_backup(folder: Path, *, is_replacing: bool) -> int:
    """Restore a backup into the database of `serve`, starting its MariaDB for that long where it is our own."""
    stated, own = config.load(), home() / "serve"
    environment = {**os.environ, "WATCHTIDE_DATA": str(data_of(stated, own))}
    command = [PYTHON, "-m", *MANAGE, "restore", str(folder), *(["--replace"] if is_replacing else [])]
    with contextlib.ExitStack() as stack:
        if not (stated.db_host or stated.db_socket):
            database = stack.enter_context(running(own))
            environment |= database.environment()
        return _run(command, environment)


def run_server(
    mode: str, port: int, *, host: str = LOOPBACK, is_fresh: bool, pace: float | None = None
) -> int:
    """Start everything and watch over it. host : the address to listen on; pace : of the demo's live streams, None plays none."""
    stated = config.load()
    is_demo = mode == "demo"
    folder = home() / (f"demo-{port}" if is_demo else "serve")
    data = folder / "data" if is_demo else data_of(stated, folder)
    environment = {**os.environ, "WATCHTIDE_DATA": str(data), "WATCHTIDE_PORT": str(port)}
    if (problem := _taken(host, port)) is not None:
        say(problem)
        return 1
    if is_demo:
        environment |= {"WATCHTIDE_DEMO": "1", "WATCHTIDE_SECRET_KEY": _kept_secret(folder)}
        # The terminal shows progress and what goes wrong.
        environment.setdefault("WATCHTIDE_LOG_LEVEL", "warning")
        if pace is not None:
            standins, smtp = _free_port(), 0 if stated.smtp_host else _free_port()
            allowed = [*stated.outgoing, f"127.0.0.1:{standins}"]
            environment["WATCHTIDE_OUTGOING"] = ",".join(allowed)
            if smtp:
                # What somebody has stated goes before it.
                environment = demo_mail(smtp, standins) | environment
    elif not config.is_secret_enough(stated):
        say(config.no_secret())
        return 2
    elif os.geteuid() == 0:
        say(AS_ROOT)
    own_database = is_demo or not (stated.db_host or stated.db_socket)
    database: Database | None = None
    with contextlib.ExitStack() as stack:
        if own_database:
            print("starting MariaDB", flush=True)
            database = stack.enter_context(running(folder))
            if is_fresh:
                database.drop("watchtide")
            database.create("watchtide")
            environment |= database.environment()
        print("bringing the database up to date", flush=True)
        _do(environment, "-m", *MANAGE, "migrate", "--verbosity", "0")
        os.environ |= environment
        _share()
        children: list[Child] = []
        stack.callback(_end, children)
        children += _workers(None)
        if is_demo:
            print("demo data", flush=True)
            live = [str(folder), f"http://127.0.0.1:{standins}"] if pace is not None else []
            _do(environment, "-m", "watchtide.demo.load", *live)
        elif problem := _accounts_problem(environment):
            say(problem)
            return 2
        web = _web(None, host, port)
        children.append(web)
        _wait_ready(host, port, web)
        if pace is not None:
            children.append(_standins(None, folder, standins, port, pace, smtp))
        words = "  sign in as demo / demo" if is_demo else ""
        if pace is not None:
            print(f"the harbour and its mail: http://127.0.0.1:{standins}/", flush=True)
        print(f"Watch Tide is ready: http://{_in_url(host)}:{port}/{words}", flush=True)
        return _watch(children, database)


# A process that lived this long and then ended is started again at once; one that did not, after a wait that doubles.
LIVED_S, FIRST_WAIT_S, MOST_WAIT_S = 5.0, 0.5, 30.0
# The web server does not stay up if it ends so often in a row.
MOST_FAILURES = 8


# Imported before anything is forked, beside Django's apps.
SHARED = ("watchtide.engine.many.run", "watchtide.server.urls", "uvicorn")
COMMANDS = "watchtide.server.management.commands"
FORKS = multiprocessing.get_context("fork")


def _share() -> None:
    """Import what the processes have in common, so that each of them takes memory for what it alone has."""
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    django.setup()
    for name in (*SHARED, *(f"{COMMANDS}.{name}" for name in ("keep", "web", "work"))):
        importlib.import_module(name)
    # The collector would write into each object that it looks at, and so copy it.
    gc.collect()
    gc.freeze()


def _become(name: str, module: str, arguments: tuple[str, ...]) -> None:
    """What a forked process does: run a module as if it had been started by itself."""
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    die_with_parent()
    setproctitle.setproctitle(f"watchtide: {name}")
    sys.argv = [module, *arguments]
    runpy.run_module(module, run_name="__main__", alter_sys=True)


# What a process is started with; None where it is forked from here, and so has what this process has.
Environment = dict[str, str] | None


class Child:
    """A process that is started again whenever it ends. name : as the log and a list of processes call it."""

    def __init__(self, name: str, environment: Environment, module: str, *arguments: str) -> None:
        self.name, self.failures = name, 0
        self._environment, self._module, self._arguments = environment, module, arguments
        self._due_at: float | None = None
        self.start()

    def start(self) -> None:
        self._started_at = time.monotonic()
        self.process: ForkProcess | subprocess.Popen[bytes]
        if self._environment is None:
            self.process = FORKS.Process(target=_become, args=(self.name, self._module, self._arguments))
            self.process.start()
            return
        self.process = subprocess.Popen(
            [PYTHON, "-m", self._module, *self._arguments],
            env=self._environment,
            preexec_fn=die_with_parent,
            stdin=subprocess.DEVNULL,
        )

    @property
    def status(self) -> int | None:
        """The exit status, None while it is up."""
        return self.process.poll() if isinstance(self.process, subprocess.Popen) else self.process.exitcode

    def is_up(self) -> bool:
        return self.status is None

    def wait(self, seconds: float | None = None) -> None:
        """Until it has ended, or so long."""
        if isinstance(self.process, subprocess.Popen):
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(seconds)
        else:
            self.process.join(seconds)

    def keep_up(self) -> None:
        """Start it again if it has ended and its wait is over."""
        now = time.monotonic()
        if self.is_up():
            return
        if self._due_at is None:
            has_lived = now - self._started_at >= LIVED_S
            self.failures = 1 if has_lived else self.failures + 1
            wait = 0.0 if has_lived else min(FIRST_WAIT_S * 2 ** (self.failures - 1), MOST_WAIT_S)
            self._due_at = now + wait
            say(f"the {self.name} ended with status {self.status}; it is started again in {wait:g} s")
        if now >= self._due_at:
            self._due_at = None
            self.start()


def say(words: str) -> None:
    print(f"watchtide: {words}", file=sys.stderr, flush=True)


def _workers(environment: Environment) -> list[Child]:
    return [
        Child("worker of interactive jobs", environment, *MANAGE, "work", "interactive"),
        Child("worker of bulk jobs", environment, *MANAGE, "work", "bulk"),
        Child("worker of lookouts", environment, *MANAGE, "work", "watch"),
        Child("keeper of jobs", environment, *MANAGE, "keep", "jobs"),
        Child("keeper of streams", environment, *MANAGE, "keep", "streams"),
    ]


def _web(environment: Environment, host: str, port: int) -> Child:
    return Child(WEB, environment, *MANAGE, "web", "--host", host, "--port", str(port))


def demo_mail(smtp_port: int, page_port: int) -> dict[str, str]:
    """What the environment says of the demo's own mail server, and of the page where its mail can be read."""
    return {
        "WATCHTIDE_SMTP_HOST": "127.0.0.1",
        "WATCHTIDE_SMTP_PORT": str(smtp_port),
        "WATCHTIDE_SMTP_TLS": "off",
        "WATCHTIDE_MAIL_FROM": "Watch Tide <watch@skerrymoor.example>",
        "WATCHTIDE_DEMO_PAGE": f"http://127.0.0.1:{page_port}/",
    }


def _standins(
    environment: Environment, folder: Path, own_port: int, port: int, pace: float, smtp: int
) -> Child:
    """The simulated services of the demo. own_port : of their page; smtp : of their mail server, 0 for none."""
    to = (
        "--port",
        str(own_port),
        "--to",
        f"http://127.0.0.1:{port}",
        "--token-file",
        str(folder / "relay.token"),
    )
    mail = ("--smtp-port", str(smtp)) if smtp else ()
    return Child("live streams", environment, "watchtide.demo.standins", *to, "--pace", str(pace), *mail)


def _do(environment: dict[str, str], *arguments: str) -> None:
    status = _run([PYTHON, *arguments], environment)
    if status != 0:
        raise DatabaseFailed(f"{' '.join(arguments)} ended with status {status}; see the lines above")


def _run(command: list[str], environment: dict[str, str]) -> int:
    """Exit status of a command, which is ended with us."""
    child = subprocess.Popen(command, env=environment, preexec_fn=die_with_parent)
    try:
        return child.wait()
    except Stopped:
        child.terminate()
        child.wait()
        raise


def _watch(children: list[Child], database: Database | None) -> int:
    """Until stopped: whatever ends is started again, MariaDB too. Gives up on a web server that never stays up."""
    while True:
        time.sleep(0.25)
        if database is not None and not database.is_up():
            say("MariaDB ended and is started again")
            database.revive()
        for child in children:
            child.keep_up()
            if child.name == WEB and child.failures >= MOST_FAILURES:
                say(f"the web server ended {child.failures} times in a row; see the lines above")
                return 1


def _end(children: list[Child]) -> None:
    for child in reversed(children):
        if child.is_up():
            child.process.terminate()
    deadline = time.monotonic() + 8
    for child in children:
        child.wait(max(0.1, deadline - time.monotonic()))
        if child.is_up():
            child.process.kill()
            child.wait()


def _in_url(host: str) -> str:
    return f"[{host}]" if ":" in host else host


def _wait_ready(host: str, port: int, web: Child) -> None:
    # What listens on every address is reached on loopback.
    near = LOOPBACK if host in ("0.0.0.0", "::") else _in_url(host)
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and web.is_up():
        try:
            urllib.request.urlopen(f"http://{near}:{port}/healthz", timeout=5).close()
            return
        except OSError:
            time.sleep(0.1)
    raise DatabaseFailed("the web server did not answer; see the lines above")


def _taken(host: str, port: int) -> str | None:
    """Why nothing can listen there; None where it can."""
    try:
        info = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        with socket.socket(info[0], info[1]) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            probe.bind(info[4])
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            return f"port {port} is taken; take another with --port"
        return f"cannot listen on {host}, port {port}: {error.strerror}; state an address of this host with --host"
    return None


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _kept_secret(folder: Path) -> str:
    """The demo's secret key: made once, so that a restart signs nobody out."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "secret.key"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


def _accounts_problem(environment: dict[str, str]) -> str | None:
    """Make the first account where there is none; why nobody can sign in, or should not."""
    done = subprocess.run(
        [PYTHON, "-m", *MANAGE, "first_account"],
        env=environment,
        capture_output=True,
        text=True,
    )
    if done.returncode == 0:
        return None
    return (done.stderr.strip().splitlines() or ["the first account could not be made"])[-1]


if __name__ == "__main__":
    sys.exit(main())
