"""The made-up harbour: the same every time, with the trouble where it says, and unknown to the detector."""

import ast
from pathlib import Path

import numpy as np
import pytest

from watchtide.core.scoring.card import score
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Points
from watchtide.core.series import keys
from watchtide.demo import world
from watchtide.engine.scan import stages
from watchtide.plan.text import from_data
from watchtide.tables import extract, labels, layout, read


@pytest.fixture(scope="module")
def families():
    return {f.metric: f for f in world.build()}


def stream(families, metric, **attributes):
    wanted = {("metric", metric), *attributes.items()}
    [found] = [s for s in families[metric].streams if wanted <= set(s.attributes)]
    return found


def test_the_same_seed_makes_the_same_harbour(families):
    again = {f.metric: f for f in world.build()}
    for metric, family in families.items():
        for one, other in zip(family.streams, again[metric].streams, strict=True):
            assert one.key == other.key and np.array_equal(one.values, other.values, equal_nan=True)


def test_sixteen_weeks_of_each_family_at_its_cadence(families):
    sizes = {m: (len(f.streams), len(f.streams[0].times)) for m, f in families.items()}
    assert sizes == {
        "gate_taps": (18, 10_752), "berth_level": (6, 16_128), "cold_hold_temp": (4, 32_256), "ticket_pages": (2, 32_256),
        "feed_delay_p95": (6, 10_752),
    }  # fmt: skip


def test_planted_trouble_is_in_the_values(families):
    level = stream(families, "berth_level", place="Gullhaven")
    during = (level.local_hours >= world._at(38, 0)) & (level.local_hours < world._at(45, 0))
    before = (level.local_hours >= world._at(23, 14)) & (
        level.local_hours < world._at(30, 14)
    )  # a spring-neap cycle off
    assert np.mean(level.values[during]) - np.mean(level.values[before]) == pytest.approx(0.31, abs=0.15)
    stuck = stream(families, "cold_hold_temp", hold="Hold 1")
    span = (stuck.local_hours >= world._at(47, 11)) & (stuck.local_hours < world._at(47, 20))
    assert len(np.unique(stuck.values[span])) == 1
    silent = stream(families, "feed_delay_p95", receiver="Brackwater")
    assert np.isnan(silent.values[-170:]).all() and not np.isnan(silent.values[:1000]).any()
    twice = stream(families, "gate_taps", place="Saltmarsh", fare="adult")
    span = (twice.local_hours >= world._at(57, 9.5)) & (twice.local_hours < world._at(57, 14.25))
    week_before = (twice.local_hours >= world._at(50, 9.5)) & (twice.local_hours < world._at(50, 14.25))
    assert twice.values[span].sum() / twice.values[week_before].sum() == pytest.approx(2, abs=0.35)


@pytest.mark.parametrize(
    "metric", ["gate_taps", "berth_level", "cold_hold_temp", "ticket_pages", "feed_delay_p95"]
)
def test_each_file_is_read_back_to_the_very_stamps(families, metric):
    """Five ways of writing stamps, local ones through a clock change among them, all come back to UTC."""
    family = families[metric]
    raw = read.read(world.family_csv(family).encode(), f"{metric}.csv")
    taken = extract.extract(raw, layout.guess(raw, zone=world.ZONE))
    assert not taken.broken and len(taken.streams) == len(family.streams)
    by_attributes = {s.attributes: s for s in taken.streams}
    for made in family.streams[:: max(1, len(family.streams) // 3)]:
        got = by_attributes[made.attributes[1:]]
        seen = ~np.isnan(made.values)
        order = np.argsort(got.times)
        assert np.array_equal(got.times[order] // 10**9, made.times[seen])
        assert np.array_equal(got.values[order], made.values[seen])


def test_the_logbook_covers_ten_weeks_in_full_and_the_rest_in_part():
    rows = labels.read_labels(world.logbook_csv().encode(), "logbook.csv")
    reviewed = [r for r in rows if r.verdict == "reviewed"]
    assert {(r.end - r.start) // (86_400 * 10**9) for r in reviewed} == {69}, "70 days less a minute"
    cut = max(r.end for r in reviewed)
    events = world.events()
    late = [e for e in events if e.start > 70 * 24]
    assert all(e.is_noted for e in events if e.start < 70 * 24)
    assert 0 < sum(e.is_noted for e in late) < len(late)
    assert sum(r.start > cut for r in rows) == sum(e.is_noted for e in late)
    assert {r.verdict for r in rows} == {"reviewed", "incident", "foreseen"}


def test_the_detector_knows_nothing_of_the_generator():
    """No module but the demo's own imports the demo."""
    source = Path(world.__file__).parents[1]
    for file in source.rglob("*.py"):
        if file.parent.name == "demo":
            continue
        for node in ast.walk(ast.parse(file.read_text())):
            names = (
                [a.name for a in node.names]
                if isinstance(node, ast.Import)
                else [getattr(node, "module", "") or ""]
            )
            if isinstance(node, ast.Import | ast.ImportFrom):
                assert not any("demo" in name for name in names), file


def test_planted_incidents_of_small_families_are_mostly_found_and_little_else(families):
    """A guard against a detector that has lost its sight; the demo's own figures stand on its scorecard."""
    known = labels.read_labels(world.logbook_csv().encode(), "logbook.csv")
    plan = from_data({"group": {"need": 2, "of": 3, "merge": "2h"}})
    found, points = [], {}
    for made in families["feed_delay_p95"].streams:
        seen = ~np.isnan(made.values)
        s = stages.scan(
            stages.Input(made.key, made.times[seen] * 10**9, made.values[seen], world.ZONE), plan, known
        )
        found += s.findings
        points[made.key] = Points(s.base.series.times, np.abs(s.z), s.in_finding)
    own = [x for x in known if any(keys.covers(x.series, k) for k in points)]
    figures = score(found, own, points, Setting(step_ns=900 * 10**9)).figures
    # Six streams of sixteen weeks at 0.1 false ones a week may have nearly ten beside the ten incidents.
    assert figures["events"]["recall"] >= 0.85 and figures["events"]["precision"] >= 0.6
    assert figures["false_per_week"]["per_stream"] <= 0.2
