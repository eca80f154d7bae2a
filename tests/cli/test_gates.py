"""Bounds that fail a build, and JUnit XML beside them."""

from xml.etree import ElementTree

import pytest

from tests import world


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "level.csv").write_text(
        world.csv_of({"quay": world.hourly(spikes=(200, 500)), "calm <&> weir": world.hourly(seed=9)})
    )
    (tmp_path / "labels.csv").write_text(
        world.labels_csv([("place=quay", 200, 202, "incident"), ("", 0, 700, "reviewed")])
    )
    return tmp_path


def scan(command, folder, *more):
    return command(folder, "scan", "level.csv", "--level", "sigmas=8", "--findings", "f.csv", *more)


@pytest.mark.parametrize(
    ("gate", "status"),
    [
        ("findings > 0", 1), ("findings>2", 0), ("findings >= 2", 1), ("outliers == 2", 1), ("shifts != 0", 0),
        ("streams > 1", 0), ("score > 8", 1), ("score > 1e6", 0), ("judged < 1000", 0), ("judged <= 1e9", 1),
        ("discords > 0", 0),
    ],
)  # fmt: skip
def test_a_gate_fails_the_command_after_its_files_are_written(command, folder, gate, status):
    found, _, err = scan(command, folder, "--fail-on", gate)
    assert found == status, err
    assert (folder / "f.csv").exists()
    assert ("fails on" in err) == bool(status)


def test_each_gate_that_holds_is_named(command, folder):
    status, _, err = scan(
        command, folder, "--fail-on", "findings > 0", "--fail-on", "shifts > 0", "--fail-on", "score > 8"
    )
    assert status == 1
    assert "fails on findings > 0" in err and "fails on score > 8" in err and "shifts > 0" not in err


@pytest.mark.parametrize(
    "gate", ["findings", "findings > many", "found > 0", "findings = 0", "findings > nan", ""]
)
def test_what_is_no_gate_is_refused_before_anything_is_read(command, folder, gate):
    status, _, err = command(folder, "scan", "missing.csv", "--fail-on", gate)
    assert status == 2 and "--fail-on" in err and "missing" not in err


def test_a_case_a_stream_fails_where_it_has_findings(command, folder):
    status, _, err = scan(command, folder, "--junit", "j.xml")
    assert status == 0, err
    root = ElementTree.parse(folder / "j.xml").getroot()
    assert root.attrib == {"name": "watchtide", "tests": "2", "failures": "1", "errors": "0", "skipped": "0"}
    cases = {c.attrib["name"]: c.find("failure") for c in root.iter("testcase")}
    assert set(cases) == {"place=quay", "place=calm <&> weir"} and cases["place=calm <&> weir"] is None
    failure = cases["place=quay"]
    assert failure.attrib["message"] == "2 findings"
    assert failure.text.splitlines()[0].startswith("outlier above from 2026-")


def test_a_case_a_bound(command, folder):
    scan(command, folder, "--points", "p.csv")
    files = ("--findings", "f.csv", "--labels", "labels.csv", "--junit", "j.xml")
    status, _, err = command(folder, "score", *files, "--min-precision", "0.9", "--min-recall", "0.9")
    assert status == 1 and "precision is 0.5000" in err
    root = ElementTree.parse(folder / "j.xml").getroot()
    seen = {c.attrib["name"]: [e.tag for e in c] for c in root.iter("testcase")}
    assert seen == {"precision": ["failure"], "precision lower": ["skipped"], "recall": []}
    assert command(folder, "score", *files, "--min-recall", "0.9")[0] == 0


def test_waveforms_have_no_gates(command, folder):
    status, _, err = command(folder, "scan", "level.csv", "--wave", "a..b", "--fail-on", "findings > 0")
    assert status == 2 and "--fail-on" in err
