"""Scans on the server that rest on more than one stream: family tails, the fleet's rule, calendars, covariates."""

import numpy as np
import pytest
from django.utils import timezone
from tests.server.conftest import run_jobs

from watchtide.core.series import SECOND_NS
from watchtide.engine import run, stages, together
from watchtide.plan.text import from_data
from watchtide.server.problems import Problem
from watchtide.server.scans import services
from watchtide.server.scans.models import Finding, Scan, ScanStream
from watchtide.server.streams import calendars, folding, store
from watchtide.server.streams.models import Batch, Stream

pytestmark = pytest.mark.django_db
START = 1_785_715_200 * SECOND_NS
HOUR = 3_600 * SECOND_NS
SHORT = {"baseline": {"seasons": []}, "flag": {"windows": "none"}}
LOOSE = {"baseline": {"seasons": []}, "flag": {"level": {"sigmas": 3.2}, "windows": "none"}}
HOLIDAY = "\r\n".join(
    ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//made up//EN"]
    + [
        line
        for day in (8, 15, 22)
        for line in (
            "BEGIN:VEVENT",
            f"UID:regatta-{day}@example",
            f"DTSTART;VALUE=DATE:202608{day:02d}",
            "SUMMARY:Regatta",
            "END:VEVENT",
        )
    ]
    + ["END:VCALENDAR", ""]
)


def kept(values, n, metric="flow"):
    """A stream of hourly values, stored and folded."""
    key = f"metric={metric},place=p{n:02d}"
    stream = Stream.objects.create(key_sha=f"{metric}{n:050d}", metric=metric, key=key)
    batch = Batch.objects.create(key=f"{metric} {n}", source="made", accepted_at=timezone.now())
    times = START + np.arange(len(values), dtype=np.int64) * HOUR
    store.write_blocks(batch, [(stream.pk, times, np.asarray(values, float))])
    folding.fold()
    return Stream.objects.get(pk=stream.pk)


def scanned(streams, plan, mode="fit"):
    version = services.plan_version("neighbours", from_data(plan), "ann")
    scan = services.start(version, [s.pk for s in streams], mode=mode)
    run_jobs()
    return Scan.objects.get(pk=scan.pk)


def by_engine(streams, plan, mode="fit"):
    inputs = [stages.Input(s.key, *store.read(s.pk), s.zone) for s in streams]
    plan = from_data(plan)
    return together.finish(list(run.scan_many(inputs, plan, mode=mode)), plan)


def spans(findings):
    return sorted((f.start, f.end, f.kind, f.raised) for f in findings)


def stored(scan, stream):
    rows = Finding.objects.filter(scan=scan, stream=stream)
    return sorted((f.start_ns, f.end_ns, f.kind, f.raised_ns) for f in rows)


def row_of(scan, stream):
    return ScanStream.objects.select_related("scan__plan_version", "stream").get(scan=scan, stream=stream)


def test_a_short_stream_borrows_its_familys_tail_here_too(small_world):
    rng = np.random.default_rng(0)
    streams = [kept(rng.normal(50, 2, 150), k) for k in range(6)]
    scan = scanned(streams, SHORT)
    for stream, want in zip(streams, by_engine(streams, SHORT), strict=True):
        row = row_of(scan, stream)
        again = services.rescan(row)
        assert "with the family's tail" in row.resolved["flag"]["note"]
        assert row.level_above == want.level.above == again.level.above and again.level == want.level
        assert stored(scan, stream) == spans(want.findings) == spans(again.findings)


@pytest.mark.parametrize("mode", ["fit", "replay"])
def test_the_fleets_rule_drops_here_what_it_drops_by_command(small_world, mode):
    rng = np.random.default_rng(1)
    streams = []
    for k in range(8):
        y = rng.normal(50, 2, 24 * 75)
        y[1600] += 30 if k == 0 else 0
        streams.append(kept(y, k))
    plan = LOOSE | {"flag": LOOSE["flag"] | {"fleet": {"rate": 0.1}}, "replay": {"refit": "14d"}}
    scan = scanned(streams, plan, mode)
    dropped = 0
    for stream, want in zip(streams, by_engine(streams, plan, mode), strict=True):
        row = row_of(scan, stream)
        assert stored(scan, stream) == spans(want.findings) == spans(services.rescan(row).findings)
        assert np.array_equal(services.rescan(row).in_finding, want.in_finding)
        assert row.resolved["fleet"] == want.resolved["fleet"]
        dropped += row.resolved["fleet"]["dropped"]
    assert dropped > 5
    assert any(start == START + 1600 * HOUR for start, *_ in stored(scan, streams[0]))


def test_known_days_of_a_kept_calendar_are_expected(small_world):
    rng = np.random.default_rng(2)
    y = rng.normal(50, 2, 24 * 42)
    local_days = START + np.arange(len(y), dtype=np.int64) * HOUR
    regatta = np.isin((local_days // (24 * HOUR)), [20673, 20680, 20687])
    y[regatta] += 40
    stream = kept(y, 0)
    calendars.keep("Regattas", HOLIDAY.encode(), "UTC", None)
    plain = {"baseline": {"kind": "harmonic", "seasons": ["24h"]}}
    told = {"baseline": plain["baseline"] | {"calendars": [{"file": "Regattas"}]}}
    without, with_days = scanned([stream], plain), scanned([stream], told)
    assert services.rescan(row_of(with_days, stream)).base.expected[regatta].mean() > 85
    assert services.rescan(row_of(without, stream)).base.expected[regatta].mean() < 60
    # A calendar that changes makes another stage: nothing kept from the old one is taken for it.
    first = row_of(with_days, stream)
    calendars.keep("Regattas", HOLIDAY.replace("20260808", "20260809").encode(), "UTC", None)
    again = row_of(scanned([stream], told), stream)
    assert again.stage_key != first.stage_key and again.samples_digest != first.samples_digest


def test_a_covariate_tied_to_the_stream_explains_it(small_world):
    rng = np.random.default_rng(3)
    wind = rng.normal(0, 1, 24 * 30).cumsum() / 5
    stream, beside = kept(20 + 6 * wind + rng.normal(0, 0.5, len(wind)), 0), kept(wind, 0, "wind")
    stream.covariates.add(beside)
    plan = {"baseline": {"kind": "harmonic", "seasons": ["24h"], "covariates": ["wind"]}}
    base = services.rescan(row_of(scanned([stream], plan), stream)).base
    assert np.nanstd(base.series.values - base.expected) < 1.0


def test_what_is_not_there_is_refused_with_what_is(small_world):
    calendars.keep("Regattas", HOLIDAY.encode(), "UTC", None)
    with pytest.raises(Problem) as refused:
        services.plan_version("lost", from_data({"baseline": {"calendars": [{"file": "Gales"}]}}), "")
    assert "Gales" in refused.value.body["title"] and "Regattas" in refused.value.body["remedy"]
    stream = kept(np.arange(100.0), 0)
    version = services.plan_version("lost", from_data({"baseline": {"covariates": ["wind"]}}), "")
    with pytest.raises(Problem) as refused:
        services.start(version, [stream.pk])
    assert "no covariate wind" in refused.value.body["title"]
    assert not Scan.objects.filter(plan_version=version).exists()
