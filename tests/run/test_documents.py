"""What documents and examples show is run, and what they link to is there."""

import re
import shlex
import subprocess
import sys
import threading
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as papq
import pytest

from tests import world

ROOT = Path(__file__).parents[2]
DOCUMENTS = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
PIPELINES = ROOT / "docs" / "pipelines.md"
PLAN = (
    "baseline: {kind: slot, seasons: [24h]}\nreplay: {refit: 1d, window: 14d}\nflag: {level: {sigmas: 8}}\n"
)


def blocks(path, language):
    return re.findall(rf"^```{language}\n(.*?)^```", path.read_text(), re.M | re.S)


@pytest.fixture
def folder(tmp_path):
    values = world.hourly(spikes=(900,))
    (tmp_path / "taps.csv").write_text(world.csv_of({"north": values}, "taps", "gate"))
    (tmp_path / "labels.csv").write_text(
        world.labels_csv([("gate=north", 900, 902, "incident"), ("", 0, 1_000, "reviewed")])
    )
    (tmp_path / "nightly.yaml").write_text(PLAN)
    table = {"time": world.stamps(len(values)), "gate": ["north"] * len(values), "taps": values}
    papq.write_table(pa.table(table), tmp_path / "today.parquet")
    return tmp_path


def run(folder, *arguments, status=0):
    done = subprocess.run([sys.executable, *arguments], cwd=folder, capture_output=True, text=True)
    assert done.returncode == status, f"{arguments}: {done.stdout[-800:]}{done.stderr[-2_000:]}"
    return done.stdout


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda p: p.name)
def test_links_lead_somewhere(path):
    for target in re.findall(r"\]\(([^)\s]+)\)", path.read_text()):
        if not re.match(r"[a-z]+:|#", target):
            assert (path.parent / target.split("#")[0]).exists(), f"{path.name} links to {target}"


def test_every_command_of_the_pipelines_is_run(folder):
    class Files(SimpleHTTPRequestHandler):
        def __init__(self, *arguments):
            super().__init__(*arguments, directory=str(folder))

        def log_message(self, *_):
            pass

    with ThreadingHTTPServer(("127.0.0.1", 0), Files) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        here = f"http://127.0.0.1:{server.server_port}/"
        commands = [line for block in blocks(PIPELINES, "sh") for line in block.splitlines() if line]
        assert len(commands) >= 5
        seen = {}
        for line in commands:
            # Object stores are read and written in tests/cli/test_addresses.py.
            if "s3://" not in line:
                words = shlex.split(line.replace("https://data.example/taps/", here))
                assert words[0] == "watchtide"
                done = subprocess.run(
                    [sys.executable, "-m", "watchtide.cli.main", *words[1:]],
                    cwd=folder,
                    capture_output=True,
                    text=True,
                )
                seen[line] = done.returncode
                assert done.returncode in (0, 1), f"{line}: {done.stderr}"
        server.shutdown()
    # The table holds one spike of 12 sigmas: one gate is for more, the other for any.
    assert [status for line, status in seen.items() if "--state" in line] == [1]
    assert sum(seen.values()) == 1 and (folder / "score.xml").exists() and (folder / "today.csv").exists()


def test_the_python_of_the_pipelines_is_run(folder):
    code = "\n".join(blocks(PIPELINES, "python"))
    run(folder, "-c", code)
    assert (folder / "taps.png").read_bytes().startswith(b"\x89PNG") and (folder / "taps2.state").exists()


def test_a_look_at_a_table(folder):
    out = run(folder, str(ROOT / "examples/look_at_a_table.py"), "taps.csv", "labels.csv")
    assert "24 h" in out and "recall 1 of 1 incidents" in out and (folder / "gate-north.png").exists()


def test_a_nightly_gate_judges_what_is_new(folder):
    whole = papq.read_table(folder / "today.parquet")
    gate = str(ROOT / "examples/nightly_gate.py")
    for night, (a, b, status) in enumerate(((0, 800, 0), (800, 895, 0), (895, 1_000, 1), (1_000, 1_008, 0))):
        papq.write_table(whole.slice(a, b - a), folder / "extract.parquet")
        out = run(folder, gate, ".", "extract.parquet", status=status)
        assert ("outlier above" in out) == bool(status), night
