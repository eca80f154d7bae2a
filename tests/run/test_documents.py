"""What documents and examples show is run, and what they link to is there."""

import importlib
import json
import re
import shlex
import subprocess
import sys
import threading
from html import unescape
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import yaml

import watchtide as wt
from tests import world
from watchtide.plan.model import Plan

ROOT = Path(__file__).parents[2]
DOCUMENTS = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
GUIDE = [
    ROOT / "docs" / "index.md",
    *sorted((ROOT / "docs").glob("tasks/*.md")),
    *sorted((ROOT / "docs").glob("concepts/*.md")),
]
# Made while the guide is built, which tests their links.
MADE = re.compile(r"reference/[a-z]+\.md|[a-z]+\.svg")
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
    pq.write_table(pa.table(table), tmp_path / "today.parquet")
    return tmp_path


def run(folder, *arguments, status=0):
    done = subprocess.run([sys.executable, *arguments], cwd=folder, capture_output=True, text=True)
    assert done.returncode == status, f"{arguments}: {done.stdout[-800:]}{done.stderr[-2_000:]}"
    return done.stdout


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda p: p.name)
def test_links_lead_somewhere(path):
    for target in re.findall(r"\]\(([^)\s]+)\)", path.read_text()):
        if not re.match(r"[a-z]+:|#", target) and not MADE.search(target):
            assert (path.parent / target.split("#")[0]).exists(), f"{path.name} links to {target}"


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    """The guide as it is built: every link, picture and anchor within it leads somewhere, or there is none."""
    place = tmp_path_factory.mktemp("site")
    done = subprocess.run(
        [sys.executable, "-m", "mkdocs", "build", "--quiet", "--site-dir", str(place)],
        cwd=ROOT,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr[-3_000:]
    return place


def test_the_guide_has_a_page_for_every_screen(site):
    frame = (ROOT / "web/src/frame.tsx").read_text()
    pages = dict(re.findall(r'^  ([a-z]+): "([^"]+/[^"]*)",$', frame, re.M))
    routes = set(re.findall(r'path="/([a-z]+)', (ROOT / "web/src/app.tsx").read_text()))
    # A board shown to others, and the page of an invitation, have no frame around them.
    assert pages and routes - set(pages) <= {"shared", "join"}
    for page in pages.values():
        path, _, anchor = page.partition("#")
        text = (site / path / "index.html").read_text()
        assert not anchor or f'id="{anchor}"' in text


def test_the_guide_asks_nothing_of_the_network_or_of_a_lax_policy(site):
    for page in site.rglob("*.html"):
        text = page.read_text()
        assert not re.search(r'(?:src|href)="(?:https?:)?//', text), page
        # The server's policy allows neither inline scripts nor inline styles.
        assert not re.search(r'<script(?![^>]*src=)|<style|\sstyle="|\son[a-z]+="', text), page


def test_the_reference_has_every_command_key_and_name(site):
    def words(name):
        return unescape(re.sub(r"<[^>]+>", " ", (site / "reference" / name / "index.html").read_text()))

    python, plan, commands, rest = (words(n) for n in ("python", "plan", "commands", "rest"))
    assert all(f"wt.{n}" in python for n in wt.__all__ if n != "__version__")
    assert "Client.judge" in python and ">>> import watchtide as wt" in python
    for name, part in Plan.model_fields.items():
        assert name in plan
        for key, field in getattr(part.annotation, "model_fields", {}).items():
            assert f"{name}.{field.alias or key}" in plan and field.description, (
                f"{name}.{key} has no description"
            )
    listed = subprocess.run(
        [sys.executable, "-m", "watchtide.cli.main", "--help"], capture_output=True, text=True
    ).stdout
    for command in re.findall(r"^  ([a-z]+)  ", listed.split("Commands:")[1], re.M):
        assert f"watchtide {command}" in commands
    scan = subprocess.run(
        [sys.executable, "-m", "watchtide.cli.main", "scan", "--help"], capture_output=True, text=True
    ).stdout
    options = set(re.findall(r"^  (--[a-z-]+)", scan, re.M)) - {"--help"}
    assert len(options) > 20 and all(o in commands for o in options)
    paths = yaml.safe_load((ROOT / "docs/openapi.yaml").read_text())["paths"]
    assert all(f"{method.upper()} {path}" in rest for path, methods in paths.items() for method in methods)


def test_formulas_are_set_and_the_search_finds_pages(site):
    assert (
        '<math xmlns="http://www.w3.org/1998/Math/MathML" display="block">'
        in (site / "concepts/level/index.html").read_text()
    )
    assert (site / "methods/index.html").read_text().count("<math") > 40
    index = json.loads((site / "search/search_index.json").read_text())["docs"]
    assert any("scorecard" in d["text"] and d["location"].startswith("tasks/precision/") for d in index)
    assert (site / "concepts/replay.svg").read_bytes().lstrip().startswith(b"<?xml")


def test_a_formula_that_cannot_be_set_stops_the_build(monkeypatch):
    """It stood in the guide in letters."""
    monkeypatch.syspath_prepend(str(ROOT / "docs/site"))
    hooks = importlib.import_module("hooks")
    with pytest.raises(ValueError, match="arg"):
        hooks.on_page_markdown("```math\n\\arg\\min_a x\n```\n")


@pytest.mark.parametrize("path", GUIDE, ids=lambda p: p.stem)
def test_what_the_guide_shows_is_run(path, folder):
    rows = pq.read_table(folder / "today.parquet").to_pylist()
    (folder / "taps.jsonl").write_text("".join(json.dumps(r) + "\n" for r in rows))
    for line in [line for block in blocks(path, "sh") for line in block.splitlines() if line]:
        words = shlex.split(line)
        assert words[0] == "watchtide"
        run(folder, "-m", "watchtide.cli.main", *words[1:])
    for code in blocks(path, "python"):
        run(folder, "-c", code)


@pytest.mark.parametrize("path", GUIDE, ids=lambda p: p.stem)
def test_words_of_the_screens_are_those_on_the_screens(path):
    """What the guide sets bold is to be found on the page, letter by letter."""
    source = "\n".join(p.read_text() for p in (ROOT / "web/src").rglob("*.tsx"))
    known = re.sub(r"\s+", " ", source).lower()
    for words in re.findall(r"\*\*([^*]+)\*\*", path.read_text()):
        assert words.lower() in known, f"{path.name} names {words!r}, which no screen has"


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
    whole = pq.read_table(folder / "today.parquet")
    gate = str(ROOT / "examples/nightly_gate.py")
    for night, (a, b, status) in enumerate(((0, 800, 0), (800, 895, 0), (895, 1_000, 1), (1_000, 1_008, 0))):
        pq.write_table(whole.slice(a, b - a), folder / "extract.parquet")
        out = run(folder, gate, ".", "extract.parquet", status=status)
        assert ("outlier above" in out) == bool(status), night
