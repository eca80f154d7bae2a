"""Backup while it is written to, restore into another database, and what a drill must find there."""

import json
import os
import shutil
import subprocess
import sys

import pytest
from django.core.management import call_command
from django.db import connection

from watchtide.server import backup
from watchtide.server.jobs.models import Tally
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream

OTHER, THIRD = "watchtide_restored", "watchtide_third"
UPLOAD = b"time,v\n2026-01-01T00:00Z,1\n"


@pytest.fixture
def world(small_world, db, tmp_path, settings):
    """The committed small world, which a dump sees, and a file handed in that waits."""
    settings.DATA_FOLDER = tmp_path / "data"
    (tmp_path / "data" / "uploads").mkdir(parents=True)
    (tmp_path / "data" / "uploads" / "7").write_bytes(UPLOAD)


def environment(name, tmp_path):
    return {**os.environ, "WATCHTIDE_DB_NAME": name, "WATCHTIDE_DATA": str(tmp_path / name)}


@pytest.fixture
def elsewhere(tmp_path, db):
    """Commands of the server on another database and data folder."""

    def run(*arguments, on=OTHER):
        command = [sys.executable, "-m", "watchtide.cli.main", "server", *map(str, arguments)]
        return subprocess.run(command, env=environment(on, tmp_path), capture_output=True, text=True)

    yield run
    with connection.cursor() as cursor:
        for name in (OTHER, THIRD):
            cursor.execute(f"DROP DATABASE IF EXISTS {name}")


def counts(name):
    with connection.cursor() as cursor:
        cursor.execute(f"SHOW TABLES IN `{name}`")
        tables = [row[0] for row in cursor.fetchall()]
        out = {}
        for table in tables:
            cursor.execute(f"CHECKSUM TABLE `{name}`.`{table}`")
            out[table] = cursor.fetchone()[1]
    return out


@pytest.mark.whole
def test_a_drill_restores_every_table_and_file_and_the_server_runs_on_it(world, elsewhere, tmp_path):
    made, manifest = backup.make(tmp_path / "backups")
    assert {p.name for p in made.iterdir()} == {"database.sql.gz", "manifest.json", "uploads"}
    assert made.stat().st_mode & 0o077 == 0 and (made / "database.sql.gz").stat().st_mode & 0o077 == 0
    assert Tally.objects.get(name="backup").figures["bytes"] == manifest.size
    done = elsewhere("restore", made)
    assert done.returncode == 0, done.stderr
    assert "is restored" in done.stdout
    before, after = counts(connection.settings_dict["NAME"]), counts(OTHER)
    # Beats are dropped on purpose; the tally of the backup was written after its dump.
    assert {t for t in before if before[t] != after.get(t)} <= {"beat", "tally"}
    assert set(before) == set(after)
    [upload] = (tmp_path / OTHER / "uploads").iterdir()
    assert upload.read_bytes() == UPLOAD
    assert elsewhere("run", "check").returncode == 0
    samples = elsewhere(
        "run", "shell", "-c",
        "from watchtide.server.streams.models import Stream; from watchtide.server.streams import store;"
        "print(sum(len(store.read(pk)[0]) for pk in Stream.objects.values_list('pk', flat=True)))",
    )  # fmt: skip
    assert samples.stdout.split()[-1] == str(sum(len(store.read(s.pk)[0]) for s in Stream.objects.all()))


@pytest.mark.whole
def test_nothing_is_overwritten_unless_that_is_said(world, elsewhere, tmp_path):
    made, _ = backup.make(tmp_path / "backups")
    assert elsewhere("restore", made).returncode == 0
    again = elsewhere("restore", made)
    assert again.returncode == 2 and "is not empty; add --replace" in again.stderr
    assert elsewhere("restore", made, "--replace").returncode == 0


@pytest.mark.parametrize(
    "harm", ["truncated", "changed", "gone", "newer", "outside", "no manifest", "other format"]
)
def test_a_backup_that_is_not_whole_is_refused_before_anything_changes(world, tmp_path, monkeypatch, harm):
    monkeypatch.setattr(backup, "_make_database", lambda: pytest.fail("it goes on"))
    made, _ = backup.make(tmp_path / "backups")
    dump, file = made / "database.sql.gz", made / "manifest.json"
    manifest = json.loads(file.read_text())
    if harm == "truncated":
        dump.write_bytes(dump.read_bytes()[:-1])
    elif harm == "changed":
        data = bytearray(dump.read_bytes())
        data[len(data) // 2] ^= 1
        dump.write_bytes(data)
    elif harm == "gone":
        shutil.rmtree(made / "uploads")
    elif harm == "no manifest":
        file.unlink()
    else:
        if harm == "newer":
            manifest["migrations"].append("streams.9999_of_the_future")
        elif harm == "outside":
            manifest["files"]["../../etc/passwd"] = {"bytes": 1, "sha256": "0"}
        else:
            manifest["format"] = 2
        file.write_text(json.dumps(manifest))
    with pytest.raises(backup.BackupError) as error:
        backup.restore(made)
    assert "; " in str(error.value) and "\n" not in str(error.value)


def test_a_dump_that_fails_leaves_nothing_behind(world, tmp_path, monkeypatch):
    monkeypatch.setitem(connection.settings_dict, "PASSWORD", "wrong")
    with pytest.raises(backup.BackupError, match="mariadb-dump ended"):
        backup.make(tmp_path / "backups")
    assert list((tmp_path / "backups").iterdir()) == []


LOAD = """
import json
from django.contrib.auth.models import User
from rest_framework.test import APIClient
from watchtide.server.people.access import make_token
from watchtide.server.streams import folding
_, text = make_token(User.objects.get(username="ann"), "load", ["push"])
client = APIClient(SERVER_NAME="127.0.0.1")
client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
for i in range(100_000):
    stamp = f"2026-03-{1 + i // 1440 % 28:02d}T{i // 60 % 24:02d}:{i % 60:02d}"
    rows = [{"time": f"{stamp}:{s:02d}Z", "metric": "load", "value": s} for s in range(60)]
    answer = client.post("/api/v1/push", "".join(json.dumps(r) + chr(10) for r in rows), content_type="application/x-ndjson")
    assert answer.status_code == 200, answer.content
    if i % 7 == 0:
        folding.fold()
    print(i, flush=True)
"""


@pytest.mark.whole
def test_a_backup_under_load_is_one_moment_of_the_database(world, elsewhere, tmp_path):
    """What batches say they brought is what the streams hold, in a dump taken between pushes and folds."""
    first, _ = backup.make(tmp_path / "backups")
    assert elsewhere("restore", first).returncode == 0
    loader = subprocess.Popen(
        [sys.executable, "-m", "watchtide.cli.main", "server", "run", "shell", "-c", LOAD],
        env=environment(OTHER, tmp_path), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        lines = [loader.stdout.readline() for _ in range(25)]
        done = elsewhere("backup", tmp_path / "loaded")
        assert loader.poll() is None, loader.stderr.read()
        lines += [loader.stdout.readline() for _ in range(5)]
    finally:
        loader.kill()
        loader.communicate()
    assert lines[-1].strip().isdigit()
    assert done.returncode == 0, done.stderr
    assert elsewhere("restore", done.stdout.split()[0], on=THIRD).returncode == 0
    found = elsewhere(
        "run", "shell", "-c",
        "from watchtide.server.streams.models import *; from watchtide.server.streams import store;"
        "print(sum(Batch.objects.filter(door='push').values_list('samples', flat=True)),"
        "len(store.read(Stream.objects.get(metric='load').pk)[0]))",
        on=THIRD,
    )  # fmt: skip
    batches, samples = found.stdout.split()[-2:]
    assert batches == samples and int(samples) >= 60 * 25


def test_the_command_says_where_and_how_much(world, tmp_path, capsys):
    call_command("backup", str(tmp_path / "b"))
    path, size, unit = capsys.readouterr().out.split()
    assert unit == "MB" and float(size) >= 0 and (tmp_path / "b" / path.rsplit("/", 1)[1]).is_dir()
    call_command("restore", path, "--check")
    assert "is whole" in capsys.readouterr().out
