"""What `deploy/` holds is sound by the tools of each format, and the commands of its units really run."""

import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import crossplane
import pytest
import yaml

from tests import databases
from watchtide.server.instance import ROOT

DEPLOY = ROOT / "deploy"
UNITS = sorted((DEPLOY / "systemd").iterdir())
NAME = "watchtide_deployed"


def commands():
    """Unit to the words of its command, without the path where it is installed."""
    for path in UNITS:
        if found := re.search(r"^ExecStart=(\S+)/watchtide (.+)$", path.read_text(), re.MULTILINE):
            yield path.name, shlex.split(found.group(2))


def test_systemd_finds_nothing_wrong_with_the_units(tmp_path):
    # The paths of an installation are not here: each unit is read with those of this checkout.
    for path in UNITS:
        text = path.read_text().replace("/opt/watchtide", str(ROOT)).replace("User=watchtide", "User=daemon")
        text = text.replace("Group=watchtide", "Group=daemon").replace(
            "EnvironmentFile=/etc", "EnvironmentFile=-/etc"
        )
        (tmp_path / path.name).write_text(text)
    names = [str(tmp_path / p.name.replace("@.", "@bulk.")) for p in UNITS]
    for name in names:
        if "@bulk" in name:
            shutil.copy(name.replace("@bulk", "@"), name)
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", *names],
        capture_output=True, text=True, env={**os.environ, "SYSTEMD_UNIT_PATH": f"{tmp_path}:"},
    )  # fmt: skip
    wrong = [line for line in done.stderr.splitlines() if "watchtide" in line]
    assert not wrong and done.returncode == 0, done.stderr


def test_an_error_in_a_unit_would_be_found(tmp_path):
    unit = tmp_path / "broken.service"
    unit.write_text("[Service]\nExecStart=/nowhere/at/all\nRestart=sometimes\n")
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", str(unit)], capture_output=True, text=True
    )
    assert "sometimes" in done.stderr


def test_the_compose_file_fits_the_compose_specification():
    check = [sys.executable, "-m", "check_jsonschema", "--builtin-schema", "vendor.compose-spec"]
    done = subprocess.run([*check, str(DEPLOY / "compose.yaml")], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_every_service_of_it_has_a_health_check_limits_and_a_command_that_exists():
    services = yaml.safe_load((DEPLOY / "compose.yaml").read_text())["services"]
    assert set(services) == {
        "mariadb", "migrate", "web", "worker-interactive", "worker-bulk", "worker-watch", "keeper-jobs", "keeper-streams",
    }  # fmt: skip
    by_units = {tuple(words[2:3]) for _, words in commands()}
    for name, service in services.items():
        if name != "migrate":
            assert service["healthcheck"]["test"] and service["deploy"]["resources"]["limits"]["memory"], name
        if name != "mariadb":
            assert tuple(service["command"][:1]) in by_units, name


def test_the_proxys_configuration_is_sound(tmp_path):
    whole = tmp_path / "nginx.conf"
    whole.write_text(f"events {{}}\nhttp {{\n  include {DEPLOY}/proxy/watchtide.conf;\n}}\n")
    found = crossplane.parse(str(whole), strict=True)
    assert found["status"] == "ok" and len(found["config"]) == 2, found["errors"]
    text = (DEPLOY / "proxy" / "watchtide.conf").read_text()
    assert "proxy_buffering off" in text and "$proxy_add_x_forwarded_for" in text


def test_the_example_of_settings_names_only_settings(monkeypatch):
    from watchtide.server import config

    for line in (DEPLOY / "watchtide.env.example").read_text().splitlines():
        name = line.partition("=")[0]
        if name.startswith("WATCHTIDE_"):
            config._check_known(name, name.removeprefix("WATCHTIDE_").lower(), upper=True)


@pytest.fixture
def deployed(tmp_path):
    """An empty database and the settings of an installation."""
    with databases.empty(NAME) as environment:
        yield {
            **environment, "WATCHTIDE_DATA": str(tmp_path / "data"), "WATCHTIDE_SECRET_KEY": "k" * 40,
            "WATCHTIDE_LOG_FORMAT": "json", "WATCHTIDE_LOG_LEVEL": "info",
        }  # fmt: skip


@pytest.mark.whole
def test_the_commands_of_the_units_run_live_and_stop_in_time(deployed, tmp_path):
    from watchtide.server.supervise import _free_port

    port, units = str(_free_port()), dict(commands())
    run = [str(Path(sys.executable).parent / "watchtide")]

    def words(unit, instance=""):
        found = [w.replace("%i", instance) for w in units[unit]]
        return [
            port if w == "8400" else str(tmp_path / "backups") if w.startswith("/var/lib") else w
            for w in found
        ]

    done = subprocess.run(
        [*run, *words("watchtide-migrate.service")], env=deployed, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    target = (DEPLOY / "systemd" / "watchtide.target").read_text()
    wanted = re.findall(r"watchtide-(\w+)@?(\w*)\.service", target)
    assert len(wanted) == 6
    children = {}
    for kind, instance in wanted:
        unit = f"watchtide-{kind}{'@' if instance else ''}.service"
        children[kind, instance] = subprocess.Popen(
            [*run, *words(unit, instance)], env=deployed, stderr=subprocess.PIPE
        )
    names = [
        "web",
        *(f"worker {x}" for x in ("interactive", "bulk", "watch")),
        "keeper of jobs",
        "keeper of streams",
    ]

    def alive(name):
        extra = ["--port", port] if name == "web" else []
        return (
            subprocess.run(
                [*run, "server", "run", "alive", name, *extra], env=deployed, capture_output=True
            ).returncode
            == 0
        )

    try:
        deadline = time.monotonic() + 150
        missing = list(names)
        while missing := [name for name in missing if not alive(name)]:
            assert time.monotonic() < deadline, missing
            assert all(c.poll() is None for c in children.values())
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/readyz", timeout=10) as answer:
            assert answer.status == 200
        backup = subprocess.run(
            [*run, *words("watchtide-backup.service")], env=deployed, capture_output=True, text=True
        )
        assert backup.returncode == 0 and list((tmp_path / "backups").iterdir())
        begun = time.monotonic()
        for child in children.values():
            child.send_signal(signal.SIGTERM)
        for (kind, instance), child in children.items():
            child.wait(15)
            stated = re.search(
                r"TimeoutStopSec=(\d+)",
                (DEPLOY / "systemd" / f"watchtide-{kind}{'@' if instance else ''}.service").read_text(),
            )
            assert time.monotonic() - begun < int(stated.group(1)), kind
        assert not alive("web") and not alive("worker bulk")
    finally:
        for child in children.values():
            child.kill()
            child.wait()
