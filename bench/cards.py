"""Scorecards and lists at size: 1,000 streams scored, 100,000 findings beside 20,000 entries. In a database of its own."""

import time
from typing import Any

import numpy as np

STREAMS, SAMPLES = 1_000, 2_880
FINDINGS, ENTRIES = 100_000, 20_000
QUARTER = 900 * 10**9
START = 1_785_110_400 * 10**9


def measure() -> dict[str, Any]:
    from bench.intake import _prepare as prepare

    prepare()
    from django.contrib.auth.models import User
    from rest_framework.test import APIClient

    from watchtide.server.cards import counting
    from watchtide.server.scans.models import Card

    scan = _world()
    user, _ = User.objects.get_or_create(username="bench")
    client = APIClient(SERVER_NAME="127.0.0.1")
    client.force_authenticate(user)

    def answered(url: str) -> float:
        begin = time.perf_counter()
        answer = client.get(f"/api/v1/{url}")
        assert answer.status_code == 200, (url, answer.content[:300])
        return time.perf_counter() - begin

    counting.card_of(scan, counting.Selection())  # compiled, and files read once
    Card.objects.all().delete()
    begin = time.perf_counter()
    counting.card_of(scan, counting.Selection())
    out: dict[str, Any] = {"scorecard of 1,000 streams counted, s": time.perf_counter() - begin}
    for words, url in (
        ("scorecard opened, s", f"scans/{scan.pk}/scorecard"), ("logbook: first page, s", "logbook"),
        ("logbook: by words, s", "logbook?text=cause+17"), ("logbook: page at 15,000, s", "logbook?cursor=15000"),
        ("logbook: lanes, s", "logbook/lanes"), ("tide table, after the logbook changed, s", "tide"),
        ("tide table again, s", "tide"), ("incidents, proposals and all, s", "incidents"),
    ):  # fmt: skip
        out[words] = answered(url)
    return out


def _world() -> Any:
    """1,000 streams with made-up scores, findings where these are high, and entries anywhere."""
    from watchtide.plan import Plan as PlanText
    from watchtide.server.logbook.models import Entry, Revision
    from watchtide.server.scans import services, sheets
    from watchtide.server.scans.models import Finding, Scan, ScanStream, Standing
    from watchtide.server.streams.models import Stream

    rng = np.random.default_rng(0)
    Stream.objects.bulk_create(
        [
            Stream(metric="taps", key=f"metric=taps,gate={i}", key_sha=f"{i:064d}", attributes=[["gate", str(i)]], step_ns=QUARTER)
            for i in range(STREAMS)
        ]
    )  # fmt: skip
    streams = list(Stream.objects.filter(metric="taps").order_by("pk"))
    version = services.plan_version("bench", PlanText(), "")
    times = START + np.arange(SAMPLES, dtype=np.int64) * QUARTER
    end = int(times[-1])
    from django.utils import timezone

    scan = Scan.objects.create(
        plan_version=version, is_standing=True, code_version="bench", finished_at=timezone.now(), span_from_ns=START,
        span_to_ns=end, step_ns=QUARTER, longest_season_ns=24 * 3_600 * 10**9,
    )  # fmt: skip
    rows, found, kept, stands = [], [], [], []
    for s in streams:
        z = rng.standard_t(4, SAMPLES)
        at = rng.choice(SAMPLES - 6, FINDINGS // STREAMS, replace=False)
        z[at] = rng.uniform(4, 12, len(at))
        flagged = np.zeros(SAMPLES, np.bool_)
        flagged[at] = True
        kept.append((s.pk, sheets.Sheet(s.key, times, z, np.zeros(SAMPLES, np.bool_), flagged)))
        level = {"above": 4.0, "below": 4.0, "odds": 1e4, "per_week": 0.1, "note": ""}
        rows.append(
            ScanStream(
                scan=scan, stream=s, samples_digest="0" * 64, stage_key="0" * 64, samples=SAMPLES, resolved={"flag": level},
                promised=np.tile(np.geomspace(1, 1e-4, 201), (2, 1)).astype("<f4").tobytes(), ribbon=bytes(400),
                ribbon_from_ns=START, ribbon_to_ns=end, last_ns=end, last_value=1.0,
            )
        )  # fmt: skip
        found += [
            Finding(
                scan=scan, stream=s, start_ns=int(times[i]), end_ns=int(times[i]), kind="outlier", direction="above",
                score=float(z[i]), peak_ns=int(times[i]), peak_value=1.0, expected=0.0,
            )
            for i in at
        ]  # fmt: skip
        stands.append(Standing(stream=s, plan_version=version, scan=scan))
    ScanStream.objects.bulk_create(rows, batch_size=200)
    Finding.objects.bulk_create(found, batch_size=2_000)
    Standing.objects.bulk_create(stands, batch_size=500)
    verdicts = ("incident", "foreseen", "false-alarm", "unsure")
    begins = rng.integers(START, end, ENTRIES).tolist()
    Entry.objects.bulk_create(
        [
            Entry(
                scope=streams[k % STREAMS].key, start_ns=t, end_ns=t + 4 * QUARTER, verdict=verdicts[k % 4],
                cause=f"cause {k % 200}",
            )
            for k, t in enumerate(begins)
        ],
        batch_size=2_000,
    )  # fmt: skip
    Entry.objects.create(start_ns=START, end_ns=end, verdict="reviewed")
    Revision.objects.create(entry=Entry.objects.last(), action="add", content={}, by="bench")
    sheets.keep(scan, kept)
    return scan
