"""A MariaDB of our own: its folder, its socket, never the system's instance and never as root."""

import contextlib
import fcntl
import os
import pwd
import secrets
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from watchtide.parent import die_with_parent

USER = "watchtide"
# Unix sockets have short paths: 107 characters, some of which MariaDB takes for names beside it.
MOST_SOCKET = 95
RUNTIME = "runtime"


class DatabaseFailed(RuntimeError):
    """MariaDB could not be made or started; the message says what to look at."""


def _unprivileged() -> pwd.struct_passwd | None:
    """Who MariaDB runs as when we are root; None when we are somebody already."""
    if os.geteuid() != 0:
        return None
    for name in ("mysql", "nobody"):
        with contextlib.suppress(KeyError):
            return pwd.getpwnam(name)
    raise DatabaseFailed("no user to run MariaDB as: neither mysql nor nobody exists")


class Database:
    """One MariaDB instance under `folder`; `socket` stays short, as the system wants it."""

    def __init__(
        self, folder: Path, *, is_throwaway: bool = False, settings: dict[str, str] | None = None
    ) -> None:
        """settings : of the server's environment, beside our own."""
        self.folder = folder
        self._settings = settings or {}
        self.is_throwaway = is_throwaway
        self.data = folder / "db"
        self.runtime = _runtime_of(folder)
        self.socket = self.runtime / "db.sock"
        self.process: subprocess.Popen[bytes] | None = None
        self._lock: Any = None

    @property
    def password(self) -> str:
        return (self.folder / "db.password").read_text().strip()

    def start(self) -> None:
        """Make the instance if there is none, start it, and wait until it answers."""
        self.folder.mkdir(parents=True, exist_ok=True)
        self._claim()
        who = _unprivileged()
        self.runtime = _make_runtime(self.folder)
        self.socket = self.runtime / "db.sock"
        with contextlib.suppress(FileNotFoundError):
            self.socket.unlink()
        if who is not None:
            os.chown(self.runtime, who.pw_uid, who.pw_gid)
        if not (self.data / "mysql").is_dir() or not (self.folder / "db.password").exists():
            self._create(who)
        self._launch(who)

    def _launch(self, who: pwd.struct_passwd | None) -> None:
        """Start the server and wait until it answers."""
        command = [
            program("mariadbd"),
            "--no-defaults",
            f"--datadir={self.data}",
            f"--socket={self.socket}",
            f"--pid-file={self.runtime}/db.pid",
            "--skip-networking",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_bin",
            "--default-time-zone=+00:00",
            "--sql-mode=STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,ERROR_FOR_DIVISION_BY_ZERO",
            "--max-allowed-packet=64M",
            "--innodb-buffer-pool-size=256M",
            "--innodb-log-file-size=128M",
            "--transaction-isolation=READ-COMMITTED",
            "--skip-log-bin",
            "--performance-schema=OFF",
        ]
        if self.is_throwaway:
            command += ["--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--sync-frm=0"]
        log = open(self.folder / "db.log", "ab")  # noqa: SIM115 - the child keeps it
        self.process = subprocess.Popen(
            command,
            env={**os.environ, **self._settings},
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            preexec_fn=die_with_parent,
            **_as_user(who),
        )
        self._wait()

    def is_up(self) -> bool:
        return self.process is not None and self.process.poll() is None

    def revive(self) -> None:
        """Start MariaDB again on its data after it ended by itself, and wait until it answers."""
        with contextlib.suppress(FileNotFoundError):
            self.socket.unlink()
        self._launch(_unprivileged())

    def stop(self) -> None:
        """Ask it to finish and wait; what was committed is on disk."""
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            try:
                self.process.wait(30)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        shutil.rmtree(self.runtime, ignore_errors=True)
        (self.folder / RUNTIME).unlink(missing_ok=True)
        if self._lock is not None:
            self._lock.close()

    def environment(self, name: str = "watchtide") -> dict[str, str]:
        return {
            "WATCHTIDE_DB_SOCKET": str(self.socket),
            "WATCHTIDE_DB_USER": USER,
            "WATCHTIDE_DB_PASSWORD": self.password,
            "WATCHTIDE_DB_NAME": name,
        }

    def connect(self) -> Any:
        import MySQLdb

        return MySQLdb.connect(unix_socket=str(self.socket), user=USER, passwd=self.password)

    def drop(self, name: str) -> None:
        connection = self.connect()
        connection.cursor().execute(f"DROP DATABASE IF EXISTS `{name}`")
        connection.close()

    def create(self, name: str) -> None:
        connection = self.connect()
        connection.cursor().execute(f"CREATE DATABASE IF NOT EXISTS `{name}` COLLATE utf8mb4_bin")
        connection.close()

    def _claim(self) -> None:
        """One owner a folder. A killed owner's MariaDB ends by itself; its lock is waited for."""
        lock = open(self.folder / "owner.lock", "w")  # noqa: SIM115 - held for the process's life
        for _ in range(100):
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                self._lock = lock
                return
            except BlockingIOError:
                time.sleep(0.1)
        raise DatabaseFailed(
            f"another Watch Tide is running on {self.folder}; stop it, or take another --port"
        )

    def _create(self, who: pwd.struct_passwd | None) -> None:
        shutil.rmtree(self.data, ignore_errors=True)
        self.data.mkdir(parents=True)
        if who is not None:
            os.chown(self.data, who.pw_uid, who.pw_gid)
        made = subprocess.run(
            [
                program("mariadb-install-db"),
                "--no-defaults",
                f"--datadir={self.data}",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                "--skip-name-resolve",
                *([f"--user={who.pw_name}"] if who is not None else []),
            ],
            capture_output=True,
            text=True,
        )
        if made.returncode != 0:
            raise DatabaseFailed(
                f"MariaDB's folder could not be made: {made.stderr.strip() or made.stdout.strip()}"
            )
        password = secrets.token_urlsafe(24)
        # The bootstrap mode runs statements without a server that anybody could reach.
        statements = (
            "FLUSH PRIVILEGES;\n"
            "DROP USER IF EXISTS 'root'@'localhost';\n"
            f"CREATE USER '{USER}'@'localhost' IDENTIFIED BY '{password}';\n"
            f"GRANT ALL ON *.* TO '{USER}'@'localhost' WITH GRANT OPTION;\n"
        )
        run = subprocess.run(
            [
                program("mariadbd"),
                "--no-defaults",
                "--bootstrap",
                f"--datadir={self.data}",
                "--skip-log-bin",
            ],
            input=statements,
            capture_output=True,
            text=True,
            **_as_user(who),
        )
        if run.returncode != 0:
            raise DatabaseFailed(f"MariaDB's user could not be made: {run.stderr.strip()[-500:]}")
        secret = self.folder / "db.password"
        secret.touch(mode=0o600)
        secret.write_text(password)

    def _wait(self) -> None:
        assert self.process is not None
        deadline = time.monotonic() + 90
        while time.monotonic() < deadline:
            if self.process.poll() is not None:
                tail = (self.folder / "db.log").read_text(errors="replace")[-800:]
                raise DatabaseFailed(f"MariaDB ended at once; the end of {self.folder / 'db.log'}:\n{tail}")
            with contextlib.suppress(Exception):
                self.connect().close()
                return
            time.sleep(0.1)
        raise DatabaseFailed(f"MariaDB did not answer in 90 s; see {self.folder / 'db.log'}")


def _runtime_of(folder: Path) -> Path:
    """Where the socket lies: in the folder itself, or where its name is too long for a socket, where `runtime` says."""
    own = folder / "run"
    if len(str(own / "db.sock")) <= MOST_SOCKET:
        return own
    noted = folder / RUNTIME
    return Path(noted.read_text()) if noted.is_file() else own


def _make_runtime(folder: Path) -> Path:
    """Make that folder. In a shared place its name cannot be foreseen, so that nobody can lay one in wait."""
    own = folder / "run"
    if len(str(own / "db.sock")) <= MOST_SOCKET:
        own.mkdir(mode=0o755, exist_ok=True)
        return own
    made = Path(tempfile.mkdtemp(prefix="watchtide-"))
    made.chmod(0o755)
    noted = folder / RUNTIME
    noted.unlink(missing_ok=True)
    noted.touch(mode=0o600)
    noted.write_text(str(made))
    return made


def program(name: str) -> str:
    found = shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/sbin:/usr/local/sbin")
    if found is None:
        raise DatabaseFailed(
            f"{name} is not installed; install Debian's mariadb-server-core, as ./run setup does, or state another "
            "MariaDB by WATCHTIDE_DB_HOST or WATCHTIDE_DB_SOCKET"
        )
    return found


def _as_user(who: pwd.struct_passwd | None) -> dict[str, Any]:
    if who is None:
        return {}
    return {"user": who.pw_uid, "group": who.pw_gid, "extra_groups": []}


@contextlib.contextmanager
def running(folder: Path, *, is_throwaway: bool = False) -> Iterator[Database]:
    database = Database(folder, is_throwaway=is_throwaway)
    database.start()
    try:
        yield database
    finally:
        database.stop()
