"""The script and the supervisor: nothing left behind, one owner a folder, a killed one starts again."""

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from watchtide import kernels
from watchtide.server.instance import ROOT
from watchtide.server.mariadb import MOST_SOCKET

OWNER = """
import sys, time
from pathlib import Path
from watchtide.server.mariadb import Database
database = Database(Path(sys.argv[1]), is_throwaway=True)
database.start()
print("up", database.process.pid, flush=True)
time.sleep(600)
"""


def start_owner(folder):
    owner = subprocess.Popen([sys.executable, "-c", OWNER, str(folder)], stdout=subprocess.PIPE, text=True)
    words = owner.stdout.readline().split()
    assert words[:1] == ["up"], words
    return owner, int(words[1])


def is_running(pid):
    try:
        return Path(f"/proc/{pid}/stat").read_text().split(") ")[1][0] != "Z"
    except FileNotFoundError:
        return False


def until(condition, seconds=40):
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, "it did not come to pass"
        time.sleep(0.05)


@pytest.fixture
def folder(tmp_path):
    if os.geteuid() == 0:
        # MariaDB runs as somebody else, who must be able to reach its folder.
        for part in (tmp_path, *tmp_path.parents):
            if part == Path(tempfile.gettempdir()):
                break
            part.chmod(0o755)
    return tmp_path / "instance"


def test_a_killed_owner_takes_mariadb_with_it_and_starts_again_without_repair(folder):
    owner, database = start_owner(folder)
    assert is_running(database)
    owner.send_signal(signal.SIGKILL)
    owner.wait()
    until(lambda: not is_running(database))
    again, database = start_owner(folder)
    again.kill()
    again.wait()
    until(lambda: not is_running(database))


def test_mariadb_never_runs_as_root_and_opens_no_port(folder):
    owner, database = start_owner(folder)
    try:
        status = Path(f"/proc/{database}/status").read_text()
        uid = int(next(line for line in status.splitlines() if line.startswith("Uid")).split()[1])
        assert uid != 0
        command = Path(f"/proc/{database}/cmdline").read_text().split("\0")
        assert "--skip-networking" in command and "--no-defaults" in command
        path = next(c for c in command if c.startswith("--socket=")).removeprefix("--socket=")
        # The system takes 107 characters.
        assert len(path) <= MOST_SOCKET < 107
        assert (folder / "db.password").stat().st_mode & 0o077 == 0
    finally:
        owner.kill()
        owner.wait()
    until(lambda: not is_running(database))


def run(*arguments):
    return subprocess.run([str(ROOT / "run"), *arguments], capture_output=True, text=True)


def test_the_script_lists_its_calls_and_refuses_others():
    told = run()
    assert told.returncode == 0
    for call in ("demo", "test", "serve", "setup", "bench", "shots", "watchtide"):
        assert f"./run {call}" in told.stdout
    assert run("dance").returncode == 2


def test_a_taken_port_is_said_at_once():
    import socket

    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        held.listen()
        port = held.getsockname()[1]
        command = [sys.executable, "-m", "watchtide.server.supervise", "demo", "--port", str(port)]
        done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 1 and f"port {port} is taken; take another with --port" in done.stderr


def test_kernels_are_kept_by_the_digest_of_their_source(monkeypatch, tmp_path):
    monkeypatch.setenv("WATCHTIDE_CACHE", str(tmp_path))
    one = kernels.cache_folder()
    assert one == kernels.cache_folder() and one.parent == tmp_path / "kernels"
    copy = tmp_path / "copy" / "core"
    copy.mkdir(parents=True)
    (copy / "a.py").write_text("x = 1")
    monkeypatch.setattr(kernels, "__file__", str(copy.parent / "kernels.py"))
    other = kernels.cache_folder()
    (copy / "a.py").write_text("x = 2")
    assert one != other != kernels.cache_folder()


def test_ci_runs_the_tests_and_nothing_else():
    text = (ROOT / ".ci" / "run").read_text()
    assert "./run test" in text and os.access(ROOT / ".ci" / "run", os.X_OK)


def test_the_socket_lies_where_nobody_else_can_lay_one_in_wait(tmp_path):
    from watchtide.server.mariadb import RUNTIME, Database, _make_runtime

    short = Path(tempfile.mkdtemp(prefix="wt"))
    try:
        assert Database(short).socket == short / "run" / "db.sock"
    finally:
        short.rmdir()
    long = tmp_path / ("x" * MOST_SOCKET)
    long.mkdir()
    first = _make_runtime(long)
    assert first.parent == Path(tempfile.gettempdir()) and first.stat().st_uid == os.geteuid()
    assert (long / RUNTIME).stat().st_mode & 0o077 == 0
    # Whoever looks for it later is pointed there, and a second start takes another name.
    assert Database(long).runtime == first
    second = _make_runtime(long)
    assert second != first and Database(long).runtime == second
    first.rmdir()
    second.rmdir()
