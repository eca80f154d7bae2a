"""Backups while everything runs: one consistent dump of the database, the files handed in, and a manifest with digests.

A backup is a folder: `database.sql.gz`, `uploads/`, `manifest.json`. It is there whole or not at all. What is not in it, kept
stages and compiled kernels, is made again when needed.
"""

import contextlib
import gzip
import hashlib
import json
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

from django.core.management import call_command
from django.db import connection
from django.db.migrations.loader import MigrationLoader
from django.db.migrations.recorder import MigrationRecorder

from watchtide import __version__
from watchtide.server import moments, storage
from watchtide.server.jobs import beats
from watchtide.server.jobs.models import Beat, Tally
from watchtide.server.mariadb import program

FORMAT = 1
DUMP, UPLOADS, MANIFEST = "database.sql.gz", "uploads", "manifest.json"
PIECE = 1 << 20


class BackupError(RuntimeError):
    """A backup could not be made or restored; the message says why and what to do."""


@dataclass(frozen=True)
class Manifest:
    """files : path within the backup to size and SHA-256; migrations : what was applied, as `app.name`."""

    format: int
    version: str
    made_at: str
    database: str
    migrations: list[str]
    files: dict[str, dict[str, Any]]

    @property
    def size(self) -> int:
        return sum(int(file["bytes"]) for file in self.files.values())


def make(folder: Path) -> tuple[Path, Manifest]:
    """Write a backup into a new folder of this one. Nobody has to stop: the dump reads one moment of the database."""
    folder.mkdir(parents=True, exist_ok=True)
    now = moments.now()
    whole = folder / f"watchtide-{now:%Y-%m-%dT%H%M%SZ}"
    partial = folder / f".{whole.name}.partial"
    shutil.rmtree(partial, ignore_errors=True)
    partial.mkdir(mode=0o700)
    try:
        # What was applied is read first: a dump of a newer state than it says would not be refused by older code.
        migrations = [f"{app}.{name}" for app, name in MigrationRecorder(connection).applied_migrations()]
        files = {DUMP: _dump(partial / DUMP)}
        uploads = storage.uploads()
        for kept in sorted(uploads.names(), key=lambda kept: kept.name):
            # A file may be stored or forgotten meanwhile, and then nobody needs it.
            with contextlib.suppress(FileNotFoundError):
                (partial / UPLOADS).mkdir(mode=0o700, exist_ok=True)
                files[f"{UPLOADS}/{kept.name}"] = _copy(
                    uploads.path(kept.name), partial / UPLOADS / kept.name
                )
        manifest = Manifest(
            FORMAT, __version__, _stamp(now), connection.settings_dict["NAME"], sorted(migrations), files
        )
        (partial / MANIFEST).write_text(json.dumps(manifest.__dict__, indent=1) + "\n")
        partial.rename(whole)
    except BaseException:
        shutil.rmtree(partial, ignore_errors=True)
        raise
    figures = {"bytes": manifest.size, "name": whole.name}
    Tally.objects.update_or_create(name="backup", defaults={"at": now, "figures": figures})
    return whole, manifest


def read(folder: Path) -> Manifest:
    """The manifest of a backup, once every file is found to be what it says. Raises BackupError."""
    try:
        data = json.loads((folder / MANIFEST).read_text())
        manifest = Manifest(**data)
    except FileNotFoundError as error:
        raise BackupError(f"{folder} has no {MANIFEST}; name a folder that `backup` made") from error
    except (ValueError, TypeError) as error:
        raise BackupError(f"{folder / MANIFEST} cannot be read; take another backup") from error
    if manifest.format != FORMAT:
        raise BackupError(
            f"{folder} is of format {manifest.format}, this version reads {FORMAT}; use a newer version"
        )
    for name, stated in manifest.files.items():
        path = folder / name
        if not path.resolve().is_relative_to(folder.resolve()):
            raise BackupError(f"{folder / MANIFEST} names {name}, which lies outside; take another backup")
        if not path.is_file() or _digest(path) != stated["sha256"]:
            raise BackupError(f"{path} is missing or is not what was written; take another backup")
    return manifest


def restore(folder: Path, *, is_replacing: bool = False) -> Manifest:
    """Put a backup into the database of the settings, in place of nothing, or of what is there where that is allowed.

    Everything is checked before anything is changed; then the database is brought to this version. Raises BackupError.
    """
    manifest = read(folder)
    known = {f"{app}.{name}" for app, name in MigrationLoader(None).disk_migrations}
    unknown = sorted(set(manifest.migrations) - known)
    if unknown:
        raise BackupError(
            f"{folder} was made by version {manifest.version}, which is newer ({unknown[-1]}); restore it with that one"
        )
    _make_database()
    tables = connection.introspection.table_names()
    if tables and not is_replacing:
        raise BackupError(
            f"the database {connection.settings_dict['NAME']} is not empty; add --replace to lose what is in it"
        )
    if tables and "beat" in tables and (running := _running()):
        raise BackupError(f"{', '.join(running)} still running; stop everything but MariaDB first")
    _drop(tables)
    connection.close()
    with gzip.open(folder / DUMP, "rb") as dump:
        _load(dump)
    uploads = storage.uploads()
    uploads.clear()
    for name in manifest.files:
        if name.startswith(f"{UPLOADS}/"):
            with (folder / name).open("rb") as source, uploads.write(Path(name).name) as file:
                shutil.copyfileobj(source, file)
    call_command("migrate", verbosity=0)
    # Signs of life of processes that are long gone.
    Beat.objects.all().delete()
    return manifest


def _running() -> list[str]:
    return list(
        Beat.objects.filter(is_process=True).exclude(name__in=beats.lost()).values_list("name", flat=True)
    )


def _make_database() -> None:
    name = connection.settings_dict["NAME"]
    with connection._nodb_cursor() as cursor:
        cursor.execute(f"CREATE DATABASE IF NOT EXISTS {connection.ops.quote_name(name)} COLLATE utf8mb4_bin")


def _drop(tables: list[str]) -> None:
    with connection.cursor() as cursor:
        cursor.execute("SET FOREIGN_KEY_CHECKS = 0")
        for table in tables:
            cursor.execute(f"DROP TABLE {connection.ops.quote_name(table)}")
        cursor.execute("SET FOREIGN_KEY_CHECKS = 1")


@contextlib.contextmanager
def _client(name: str, *options: str) -> Iterator[list[str]]:
    """A command of MariaDB's with its password in a file that only we can read, and in no list of processes."""
    stated = connection.settings_dict
    lines = ["[client]", f"user={stated['USER']}", f"password={stated['PASSWORD']}"]
    if str(stated["HOST"]).startswith("/"):
        lines.append(f"socket={stated['HOST']}")
    else:
        lines += [f"host={stated['HOST']}", f"port={stated['PORT'] or 3306}"]
    with tempfile.NamedTemporaryFile("w", suffix=".cnf") as file:
        os.chmod(file.name, 0o600)
        file.write("\n".join(lines) + "\n")
        file.flush()
        yield [program(name), f"--defaults-file={file.name}", "--default-character-set=utf8mb4", *options]


def _dump(to: Path) -> dict[str, Any]:
    options = ("--single-transaction", "--quick", "--hex-blob", "--skip-comments", "--max-allowed-packet=64M")
    digest, size = hashlib.sha256(), 0
    with _client("mariadb-dump", *options, connection.settings_dict["NAME"]) as command, _private(to) as out:
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        assert process.stdout is not None and process.stderr is not None
        # A fast level: what is large in it is compressed already.
        with gzip.GzipFile(fileobj=out, mode="wb", compresslevel=1, mtime=0) as packed:
            shutil.copyfileobj(process.stdout, packed, PIECE)
        said = process.stderr.read().decode(errors="replace").strip()
        if process.wait() != 0:
            raise BackupError(f"mariadb-dump ended with status {process.returncode}: {said[-300:]}")
    with to.open("rb") as file:
        while piece := file.read(PIECE):
            digest.update(piece)
            size += len(piece)
    return {"bytes": size, "sha256": digest.hexdigest()}


def _load(dump: BinaryIO) -> None:
    with _client("mariadb", "--max-allowed-packet=64M", connection.settings_dict["NAME"]) as command:
        process = subprocess.Popen(command, stdin=subprocess.PIPE, stderr=subprocess.PIPE)
        assert process.stdin is not None and process.stderr is not None
        with contextlib.suppress(BrokenPipeError):
            shutil.copyfileobj(dump, process.stdin, PIECE)
            process.stdin.close()
        said = process.stderr.read().decode(errors="replace").strip()
        if process.wait() != 0:
            raise BackupError(
                f"the dump could not be loaded ({said[-300:]}); the database is incomplete, restore again"
            )


def _copy(path: Path, to: Path) -> dict[str, Any]:
    digest, size = hashlib.sha256(), 0
    with path.open("rb") as file, _private(to) as out:
        while piece := file.read(PIECE):
            digest.update(piece)
            size += len(piece)
            out.write(piece)
    return {"bytes": size, "sha256": digest.hexdigest()}


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _private(path: Path) -> BinaryIO:
    return os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb")


def _stamp(moment: datetime) -> str:
    return moment.isoformat().replace("+00:00", "Z")
