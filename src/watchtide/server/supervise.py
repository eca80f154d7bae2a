"""Start, watch and stop everything: MariaDB, migrations, workers, the web server.

`python -m watchtide.server.supervise demo|serve|test …`. Children end when this process does, however it
ends; a folder has one owner at a time.
"""

import argparse
import contextlib
import os
import secrets
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from watchtide import kernels
from watchtide.server.mariadb import Database, DatabaseFailed, die_with_parent, running

PYTHON = sys.executable
ROOT = Path(__file__).resolve().parents[3]


class Stopped(Exception):
    """Somebody asked us to end."""


def home() -> Path:
    """Where databases and caches lie: WATCHTIDE_HOME, else the user's data folder, one a checkout."""
    stated = os.environ.get("WATCHTIDE_HOME")
    if stated:
        return Path(stated)
    import hashlib

    checkout = hashlib.sha256(str(ROOT).encode()).hexdigest()[:8]
    if os.geteuid() == 0:
        # MariaDB runs as somebody else then, who cannot look into root's home.
        return Path("/var/lib/watchtide") / checkout
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share") / "watchtide" / checkout


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run", description=__doc__)
    modes = parser.add_subparsers(dest="mode", required=True)
    demo = modes.add_parser("demo")
    demo.add_argument("--port", type=int, default=8400)
    demo.add_argument("--fresh", action="store_true", help="drop the demo database first")
    demo.add_argument("--no-live", action="store_true", help="no live streams: only the history")
    demo.add_argument("--pace", type=float, default=60.0, help="live streams: simulated seconds a second")
    serve = modes.add_parser("serve")
    serve.add_argument("--port", type=int, default=8400)
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
        is_live = options.mode == "demo" and not options.no_live
        pace = options.pace if is_live else None
        return run_server(options.mode, options.port, is_fresh=getattr(options, "fresh", False), pace=pace)
    except DatabaseFailed as error:
        print(f"watchtide: {error}", file=sys.stderr)
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
        }
        child = subprocess.Popen(command, env=environment, preexec_fn=die_with_parent)
        try:
            return child.wait()
        except Stopped:
            child.terminate()
            child.wait()
            return 130


def run_server(mode: str, port: int, *, is_fresh: bool, pace: float | None = None) -> int:
    """Start everything and watch over it. pace : of the demo's live streams; None plays none."""
    is_demo = mode == "demo"
    folder = home() / (f"demo-{port}" if is_demo else "serve")
    environment = {**os.environ, "WATCHTIDE_DATA": str(folder / "data"), "WATCHTIDE_PORT": str(port)}
    if not _is_free(port):
        print(f"watchtide: port {port} is taken; take another with --port", file=sys.stderr)
        return 1
    if is_demo:
        environment |= {"WATCHTIDE_DEMO": "1", "WATCHTIDE_SECRET_KEY": _kept_secret(folder)}
        if pace is not None:
            standins = _free_port()
            environment["WATCHTIDE_OUTGOING"] = f"127.0.0.1:{standins}"
    elif problem := _unfit_to_serve(environment):
        print(f"watchtide: {problem}", file=sys.stderr)
        return 2
    own_database = is_demo or not environment.get("WATCHTIDE_DB_HOST")
    with contextlib.ExitStack() as stack:
        if own_database:
            print("starting MariaDB", flush=True)
            database: Database = stack.enter_context(running(folder))
            if is_fresh:
                database.drop("watchtide")
            database.create("watchtide")
            environment |= database.environment()
        print("bringing the database up to date", flush=True)
        _do(environment, "-m", "watchtide.cli.main", "server", "run", "migrate", "--verbosity", "0")
        children: list[subprocess.Popen[bytes]] = []
        stack.callback(_end, children)
        children += _workers(environment)
        if is_demo:
            print("demo data", flush=True)
            live = [str(folder), f"http://127.0.0.1:{standins}"] if pace is not None else []
            _do(environment, "-m", "watchtide.demo.load", *live)
        elif problem := _accounts_problem(environment):
            print(f"watchtide: {problem}", file=sys.stderr)
            return 2
        children.append(_start(environment, "-m", "uvicorn", "watchtide.server.asgi:application", "--host", "127.0.0.1",
                               "--port", str(port), "--log-level", "warning", "--no-server-header",
                               "--timeout-graceful-shutdown", "2"))  # fmt: skip
        _wait_ready(port, children[-1])
        if pace is not None:
            relay = (
                "--port",
                str(standins),
                "--to",
                f"http://127.0.0.1:{port}",
                "--token-file",
                str(folder / "relay.token"),
            )
            # In front of the web server, which stays the last: its end is ours.
            children.insert(
                0, _start(environment, "-m", "watchtide.demo.standins", *relay, "--pace", str(pace))
            )
        words = "  sign in as demo / demo" if is_demo else ""
        print(f"Watch Tide is ready: http://127.0.0.1:{port}/{words}", flush=True)
        return _watch(children, environment)


def _workers(environment: dict[str, str]) -> list[subprocess.Popen[bytes]]:
    manage = ("-m", "watchtide.cli.main", "server", "run")
    lanes = [_start(environment, *manage, "work", lane) for lane in ("interactive", "bulk")]
    return [*lanes, *(_start(environment, *manage, name) for name in ("keep_watch", "keep_streams"))]


def _start(environment: dict[str, str], *arguments: str) -> subprocess.Popen[bytes]:
    child = subprocess.Popen(
        [PYTHON, *arguments], env=environment, preexec_fn=die_with_parent, stdin=subprocess.DEVNULL
    )
    child.restart = arguments  # type: ignore[attr-defined]
    return child


def _do(environment: dict[str, str], *arguments: str) -> None:
    child = subprocess.Popen([PYTHON, *arguments], env=environment, preexec_fn=die_with_parent)
    try:
        status = child.wait()
    except Stopped:
        child.terminate()
        child.wait()
        raise
    if status != 0:
        raise DatabaseFailed(f"{' '.join(arguments)} ended with status {status}; see the lines above")


def _watch(children: list[subprocess.Popen[bytes]], environment: dict[str, str]) -> int:
    """Until stopped; a worker that dies is started again, the web server's end is ours."""
    web = children[-1]
    while True:
        time.sleep(0.5)
        if web.poll() is not None:
            print("watchtide: the web server ended", file=sys.stderr)
            return 1
        for i, child in enumerate(children[:-1]):
            if child.poll() is not None:
                print("a worker ended and is started again", file=sys.stderr)
                children[i] = _start(environment, *child.restart)  # type: ignore[attr-defined]


def _end(children: list[subprocess.Popen[bytes]]) -> None:
    for child in reversed(children):
        if child.poll() is None:
            child.terminate()
    deadline = time.monotonic() + 8
    for child in children:
        with contextlib.suppress(subprocess.TimeoutExpired):
            child.wait(max(0.1, deadline - time.monotonic()))
        if child.poll() is None:
            child.kill()
            child.wait()


def _wait_ready(port: int, web: subprocess.Popen[bytes]) -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and web.poll() is None:
        with contextlib.suppress(OSError):
            urllib.request.urlopen(f"http://127.0.0.1:{port}/readyz", timeout=5).close()
            return
        time.sleep(0.1)
    raise DatabaseFailed("the web server did not answer; see the lines above")


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


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


def _unfit_to_serve(environment: dict[str, str]) -> str | None:
    """Why real use must not start, if it must not."""
    import tomllib

    file = Path(environment.get("WATCHTIDE_CONFIG", "watchtide.toml"))
    stated = tomllib.loads(file.read_text()) if file.is_file() else {}
    secret = environment.get("WATCHTIDE_SECRET_KEY") or stated.get("secret_key") or ""
    if len(secret) < 32:
        return "no secret key; set WATCHTIDE_SECRET_KEY (or secret_key in watchtide.toml) to 32 characters or more"
    return None


ACCOUNTS = """
import os, django; django.setup()
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from watchtide.server.people.access import give_role
name, password = os.environ.get("WATCHTIDE_ADMIN_NAME"), os.environ.get("WATCHTIDE_ADMIN_PASSWORD")
if not User.objects.exists():
    if not name or not password:
        raise SystemExit(4)
    validate_password(password)
    give_role(User.objects.create_user(name, password=password), "admin")
raise SystemExit(3 if any(u.check_password("demo") for u in User.objects.all()) else 0)
"""


def _accounts_problem(environment: dict[str, str]) -> str | None:
    """Make the first account where there is none; the demo's password must not face real use."""
    settings = {"DJANGO_SETTINGS_MODULE": "watchtide.server.settings"}
    done = subprocess.run(
        [PYTHON, "-c", ACCOUNTS], env=environment | settings, capture_output=True, text=True
    )
    if done.returncode == 4:
        return (
            "there is no account yet; set WATCHTIDE_ADMIN_NAME and WATCHTIDE_ADMIN_PASSWORD for the first one"
        )
    if done.returncode not in (0, 3):
        return f"the first account could not be made: {done.stderr.strip().splitlines()[-1]}"
    if done.returncode == 3:
        return "an account has the password demo; change it before serving"
    return None


if __name__ == "__main__":
    sys.exit(main())
