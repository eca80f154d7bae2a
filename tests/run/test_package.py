"""The package as it is built: what it holds, and that the command and Python need none of the extras."""

import contextlib
import os
import re
import signal
import subprocess
import sys
import tarfile
import time
import zipfile
from importlib import metadata
from pathlib import Path

import httpx
import pytest
from bench.faults import folder
from packaging.requirements import Requirement

from tests import world

ROOT = Path(__file__).parents[2]
BUILD = """
import os, sys
from setuptools import build_meta
os.chdir(sys.argv[1])
print(getattr(build_meta, sys.argv[2])(sys.argv[3]))
"""


@pytest.fixture(scope="module")
def built(tmp_path_factory):
    """A wheel and an archive of the source, from a copy of what belongs into them."""
    copy, out = tmp_path_factory.mktemp("copy"), tmp_path_factory.mktemp("dist")
    files = [
        p
        for part in ("src/watchtide", "web/dist", "web/guide")
        for p in (ROOT / part).rglob("*")
        if p.is_file() and "__pycache__" not in p.parts
    ]
    named = ("pyproject.toml", "setup.py", "MANIFEST.in", "README.md", "LICENSE")
    for path in (*files, *(ROOT / name for name in named)):
        target = copy / path.relative_to(ROOT)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(path.read_bytes())
    for kind in ("build_wheel", "build_sdist"):
        command = [sys.executable, "-c", BUILD, str(copy), kind, str(out)]
        done = subprocess.run(command, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr[-2_000:]
    return out


def needs_of(requirements, extra=""):
    """Names of what is required, with what that requires."""
    found, left = set(), [Requirement(r) for r in requirements]
    while left:
        one = left.pop()
        if one.marker is not None and not one.marker.evaluate({"extra": extra}):
            continue
        name = re.sub(r"[-_.]+", "-", one.name).lower()
        if name not in found:
            found.add(name)
            left += [
                Requirement(r) for r in metadata.requires(name) or () if "extra ==" not in r.replace("'", '"')
            ]
            left += [
                Requirement(r.split(";")[0])
                for e in one.extras
                for r in metadata.requires(name) or ()
                if f'extra == "{e}"' in r.replace("'", '"')
            ]
    return found


@pytest.fixture(scope="module")
def bare(built, tmp_path_factory):
    """An environment with the wheel and what it requires without any extra, by links to what is installed here."""
    place = tmp_path_factory.mktemp("bare")
    (wheel,) = built.glob("*.whl")
    with zipfile.ZipFile(wheel) as file:
        file.extractall(place)
    (info,) = place.glob("*.dist-info/METADATA")
    lines = info.read_text().splitlines()
    requirements = [x.removeprefix("Requires-Dist: ") for x in lines if x.startswith("Requires-Dist: ")]
    for name in needs_of(requirements):
        for file in metadata.files(name) or ():
            top = file.parts[0]
            if top not in ("..", "__pycache__") and not (place / top).exists():
                (place / top).symlink_to(Path(metadata.distribution(name).locate_file(top)))
    return place


def run(bare, *arguments, **more):
    # -S leaves the installed packages out.
    command = [sys.executable, "-S", *arguments]
    environment = {"PYTHONPATH": str(bare), "PATH": "/usr/bin:/bin", "HOME": str(bare)}
    return subprocess.run(command, env=environment, capture_output=True, text=True, **more)


def test_wheel_and_archive_hold_the_types_the_pages_and_the_licence(built):
    (wheel,) = built.glob("*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    built_parts = [f"watchtide/server/built/{n}" for n in ("dist/.vite/manifest.json", "guide/index.html")]
    parts = ("watchtide/py.typed", "watchtide/server/templates/", "watchtide/cli/main.py", "LICENSE")
    for part in (*parts, *built_parts):
        assert any(part in name for name in names), part
    assert not any(name.startswith(("tests/", "bench/", "web/")) for name in names)
    (archive,) = built.glob("*.tar.gz")
    with tarfile.open(archive) as file:
        names = file.getnames()
    for part in ("src/watchtide/py.typed", "web/dist/.vite/manifest.json", "web/guide/index.html"):
        assert any(name.endswith(part) for name in names), part


def test_the_command_and_python_need_no_extra(bare, tmp_path):
    for name in ("django", "matplotlib", "sklearn", "distributed", "MySQLdb", "pandas", "polars"):
        assert run(bare, "-c", f"import {name}").returncode != 0, f"{name} is in the bare environment"
    (tmp_path / "level.csv").write_text(world.csv_of({"quay": world.hourly(spikes=(200,))}))
    code = "import watchtide as wt; f = wt.scan('level.csv'); print(len(f.findings), f.findings.columns[0])"
    done = run(bare, "-c", code, cwd=tmp_path)
    assert done.returncode == 0 and done.stdout.split()[1] == "series", done.stderr[-2_000:]
    done = run(bare, "-m", "watchtide.cli.main", "scan", "level.csv", "--findings", "f.csv", cwd=tmp_path)
    assert done.returncode == 0 and (tmp_path / "f.csv").read_text().startswith("series,start"), done.stderr


@pytest.mark.parametrize(
    ("arguments", "extra"),
    [
        (("server", "run", "migrate"), "server"),
        (("scan", "level.csv", "--plan", "plan.yaml"), "learn"),
        (("scan", "level.csv", "--cluster", "tcp://127.0.0.1:1"), "cluster"),
    ],
)
def test_an_extra_that_is_missing_is_named(bare, tmp_path, arguments, extra):
    (tmp_path / "level.csv").write_text(world.csv_of({"quay": world.hourly()}))
    (tmp_path / "plan.yaml").write_text("baseline: {kind: next-step, seasons: [24h]}\n")
    done = run(bare, "-m", "watchtide.cli.main", *arguments, cwd=tmp_path)
    assert done.returncode == 2 and f"watchtide[{extra}]" in done.stderr, done.stderr[-2_000:]


def test_importing_reads_none_of_the_numerics(bare):
    code = "import sys, watchtide; print(sorted(set(sys.modules) & {'numpy', 'numba', 'pyarrow', 'scipy'}))"
    assert run(bare, "-c", code).stdout.strip() == "[]"


@pytest.fixture
def home():
    """Where MariaDB, which is not root, may write too."""
    with folder() as place:
        yield place


def test_the_server_of_a_wheel_answers_with_page_and_guide(built, tmp_path, home):
    from watchtide.server.supervise import _free_port

    place, port = tmp_path / "wheel", _free_port()
    (wheel,) = built.glob("*.whl")
    with zipfile.ZipFile(wheel) as file:
        file.extractall(place)
    environment = {
        **{k: v for k, v in os.environ.items() if not k.startswith(("WATCHTIDE_", "DJANGO_"))},
        "PYTHONPATH": str(place),
        "WATCHTIDE_HOME": str(home),
        "WATCHTIDE_SECRET_KEY": "k" * 40,
        "WATCHTIDE_ADMIN_NAME": "ann",
        "WATCHTIDE_ADMIN_PASSWORD": "correct horse battery",
    }
    command = [sys.executable, "-m", "watchtide.cli.main", "server", "start", "--port", str(port)]
    here = f"http://127.0.0.1:{port}"
    with (tmp_path / "log").open("wb") as log:
        server = subprocess.Popen(command, env=environment, cwd=tmp_path, stdout=log, stderr=log)
        try:
            until = time.monotonic() + 180
            while b"is ready" not in (tmp_path / "log").read_bytes():
                assert server.poll() is None and time.monotonic() < until, (tmp_path / "log").read_text()
                with contextlib.suppress(subprocess.TimeoutExpired):
                    server.wait(0.2)
            page = httpx.get(here).text
            (script,) = re.findall(r'src="(/static/assets/[^"]+\.js)"', page)[:1]
            assert httpx.get(f"{here}{script}").status_code == 200
            assert "<h1" in httpx.get(f"{here}/guide/").text
            where = [sys.executable, "-c", "import watchtide.server as s; print(s.__file__)"]
            assert str(place) in subprocess.run(where, env=environment, capture_output=True, text=True).stdout
        finally:
            server.send_signal(signal.SIGTERM)
            server.wait(60)
