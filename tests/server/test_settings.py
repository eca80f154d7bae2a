"""Settings: the environment and the file alike, real types, and a clear word for what cannot stand."""

import os
import subprocess
import sys

import pytest

from watchtide.server import config
from watchtide.server.management.commands import web


@pytest.fixture
def stated(monkeypatch, tmp_path):
    """Settings of nothing but what is written here."""
    for name in list(os.environ):
        if name.startswith("WATCHTIDE_"):
            monkeypatch.delenv(name)
    monkeypatch.chdir(tmp_path)

    def state(toml="", **environment):
        (tmp_path / "watchtide.toml").write_text(toml)
        for name, value in environment.items():
            monkeypatch.setenv(f"WATCHTIDE_{name}", value)
        return config.load()

    return state


def test_every_setting_is_the_same_from_the_file_and_from_the_environment(stated, tmp_path):
    toml = """
    https = true
    hosts = ["tide.example", "127.0.0.1"]
    db_host = "10.1.2.3"
    db_port = 3307
    db_password = "a, b"
    outgoing = "10.0.0.0/8, 10.0.0.5:9100"
    trusted_proxies = ["10.9.0.0/16"]
    most_upload_mb = 12
    job_lease_seconds = 2.5
    data = "/srv/tide"
    smtp_tls = "starttls"
    """
    by_file = stated(toml).model_dump()
    by_environment = stated(
        "", HTTPS="true", HOSTS="tide.example,127.0.0.1", DB_HOST="10.1.2.3", DB_PORT="3307", DB_PASSWORD="a, b",
        OUTGOING="10.0.0.0/8,10.0.0.5:9100", TRUSTED_PROXIES="10.9.0.0/16", MOST_UPLOAD_MB="12", JOB_LEASE_SECONDS="2.5",
        DATA="/srv/tide", SMTP_TLS="starttls",
    ).model_dump()  # fmt: skip
    assert by_file == by_environment
    assert by_file["https"] is True and by_file["outgoing"] == ["10.0.0.0/8", "10.0.0.5:9100"]


def test_the_environment_comes_first(stated):
    assert stated("upload_days = 3", UPLOAD_DAYS="4").upload_days == 4


def test_an_empty_variable_is_not_stated(stated):
    assert stated("https = true", HTTPS="").https is True


@pytest.mark.parametrize(
    ("toml", "environment", "words"),
    [
        ("htps = true", {}, ["htps in watchtide.toml is not a setting", "did you mean https?"]),
        ("", {"UPLOADDAYS": "3"}, ["WATCHTIDE_UPLOADDAYS is not a setting", "did you mean WATCHTIDE_UPLOAD_DAYS?"]),
        ("", {"XYZZY": "3"}, ["WATCHTIDE_XYZZY is not a setting", "docs/operations.md"]),
        ("https = 'perhaps'", {}, ["https in watchtide.toml"]),
        ("", {"UPLOAD_DAYS": "0"}, ["WATCHTIDE_UPLOAD_DAYS", "greater than or equal to 1"]),
        ("trusted_proxies = ['everybody']", {}, ["trusted_proxies in watchtide.toml", "'everybody' is no address"]),
        ("", {"OUTGOING": "10.0.0.5:99999"}, ["WATCHTIDE_OUTGOING", "port"]),
        ("https = ", {}, ["watchtide.toml", "correct the file"]),
        ("", {"CONFIG": "/nowhere.toml"}, ["WATCHTIDE_CONFIG", "no file /nowhere.toml"]),
    ],
)  # fmt: skip
def test_what_cannot_stand_is_named_with_its_place(stated, toml, environment, words):
    with pytest.raises(config.ConfigError) as error:
        stated(toml, **environment)
    for word in words:
        assert word in str(error.value)


def test_secrets_are_in_no_representation(stated):
    found = stated(SECRET_KEY="s" * 40, DB_PASSWORD="hunter2hunter2")
    assert "hunter2" not in repr(found) and "ssss" not in repr(found)


def test_a_wrong_setting_ends_a_command_with_status_2_and_one_line(tmp_path):
    done = subprocess.run(
        [sys.executable, "-m", "watchtide.cli.main", "server", "run", "check"],
        env={**os.environ, "WATCHTIDE_HTPS": "1"}, cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 2
    assert done.stderr == "watchtide: WATCHTIDE_HTPS is not a setting; did you mean WATCHTIDE_HTTPS?\n"


def test_serving_is_refused_without_a_secret_with_the_demos_password_and_on_an_older_database(
    db, settings, monkeypatch
):
    from django.contrib.auth.models import User
    from django.db.migrations.executor import MigrationExecutor

    monkeypatch.setenv("WATCHTIDE_SECRET_KEY", "short")
    assert "no secret key" in web.unfit()
    monkeypatch.setenv("WATCHTIDE_SECRET_KEY", "x" * 40)
    assert web.unfit() is None
    User.objects.create_user("anybody", password="demo")
    assert "password demo" in web.unfit()
    monkeypatch.setattr(MigrationExecutor, "migration_plan", lambda *_: ["something"])
    assert "older version" in web.unfit()
