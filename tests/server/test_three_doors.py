"""Twenty tables by three doors: the command, Python and the server give the same points and the same findings."""

import csv
import io
import json
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

import watchtide as wt
from tests.cli.conftest import command  # noqa: F401
from tests.server.conftest import run_jobs
from tests.server.test_intake_store import take
from watchtide.server.streams.models import Stream

# Quick to fit, and the same choice of a level everywhere.
SLOT = {"baseline": {"kind": "slot", "seasons": ["24h"]}, "shifts": {"of": "none"}}
LEVEL = {"flag": {"level": {"sigmas": 5}}}
HARMONIC = {"baseline": {"kind": "harmonic", "seasons": ["24h"]}}


def stamps(n, step_s, begin=datetime(2026, 5, 4, tzinfo=UTC)):
    return [begin + timedelta(seconds=step_s * i) for i in range(n)]


def day(n, step_s, seed, size=8.0, level=20.0, noise=0.8):
    t = np.arange(n) * step_s / 86_400
    y = level + size * np.sin(2 * np.pi * t) + np.random.default_rng(seed).normal(0, noise, n)
    y[n // 2 : n // 2 + 3] += 9 * noise
    return y


def table(columns, rows, separator=","):
    return "\n".join(separator.join(str(c) for c in row) for row in [columns, *rows]) + "\n"


def plain(n=24 * 30, step_s=3_600, seed=0, form="%Y-%m-%dT%H:%M:%SZ", **more):
    y = day(n, step_s, seed, **more)
    return table(
        ("time", "load"), zip((t.strftime(form) for t in stamps(n, step_s)), np.round(y, 3), strict=True)
    )


def places(names, n=24 * 25, step_s=3_600):
    rows = [
        (t.isoformat(), name, round(v, 3))
        for i, name in enumerate(names)
        for t, v in zip(stamps(n, step_s), day(n, step_s, i), strict=True)
    ]
    return table(("time", "place", "load"), rows)


def gappy():
    rows = plain().splitlines()
    kept = [r for i, r in enumerate(rows) if i == 0 or (i % 37 and not 300 < i < 340)]
    return "\n".join(kept) + "\n"


def jittered():
    rng = np.random.default_rng(4)
    y = day(24 * 30 * 4, 900, 4)
    at = [
        t + timedelta(seconds=float(s))
        for t, s in zip(stamps(len(y), 900), rng.uniform(0, 200, len(y)), strict=True)
    ]
    return table(
        ("time", "load"),
        [(t.isoformat(timespec="milliseconds"), round(v, 3)) for t, v in zip(at, y, strict=True)],
    )


def counts():
    n = 24 * 30
    rng = np.random.default_rng(5)
    y = rng.poisson(30 + 20 * np.sin(2 * np.pi * np.arange(n) / 24))
    y[400:403] += 60
    return table(("time", "load"), zip((t.isoformat() for t in stamps(n, 3_600)), y, strict=True))


def doubled():
    lines = plain().splitlines()
    return "\n".join([*lines[:200], *lines[150:200], *lines[200:]]) + "\n"


def dates():
    n = 400
    y = day(n, 86_400, 6, size=0.0)
    return table(
        ("date", "load"),
        [(t.date().isoformat(), round(v, 3)) for t, v in zip(stamps(n, 86_400), y, strict=True)],
    )


def two_values():
    n = 24 * 25
    rows = zip(
        (t.isoformat() for t in stamps(n, 3_600)),
        np.round(day(n, 3_600, 1), 3),
        np.round(day(n, 3_600, 2), 3),
        strict=True,
    )
    return table(("time", "inflow", "outflow"), rows)


def missing_words():
    lines = plain().splitlines()
    for i in (50, 51, 300, 301, 302, 500):
        lines[i] = lines[i].split(",")[0] + ",n/a"
    return "\n".join(lines) + "\n"


def european():
    n = 24 * 30
    rows = [
        (t.strftime("%d.%m.%Y %H:%M"), f"{v:.3f}".replace(".", ","))
        for t, v in zip(stamps(n, 3_600), day(n, 3_600, 7), strict=True)
    ]
    return table(("Zeit", "load"), rows, ";")


def json_lines():
    n = 24 * 30
    rows = zip(stamps(n, 3_600), day(n, 3_600, 8), strict=True)
    return "".join(json.dumps({"time": t.isoformat(), "load": round(float(v), 3)}) + "\n" for t, v in rows)


def epochs():
    n = 24 * 30
    return table(
        ("timestamp", "load"),
        [(int(t.timestamp()), round(v, 3)) for t, v in zip(stamps(n, 3_600), day(n, 3_600, 9), strict=True)],
    )


# name: text, ending, zone, plan, mode
TABLES = {
    "hours": (plain(), "csv", "UTC", SLOT, "fit"),
    "hours, a level by false findings a week": (plain(seed=1), "csv", "UTC", HARMONIC, "fit"),
    "hours in replay": (
        plain(24 * 35, seed=2),
        "csv",
        "UTC",
        SLOT | {"replay": {"refit": "7d", "window": "14d"}},
        "replay",
    ),
    "everything chosen": (plain(24 * 35, seed=3), "csv", "UTC", {}, "fit"),
    "local hours over a change of the clocks": (
        plain(seed=10, form="%Y-%m-%d %H:%M"),
        "csv",
        "Europe/Dublin",
        SLOT | LEVEL,
        "fit",
    ),
    "quarter hours": (plain(96 * 20, 900, 11), "csv", "Europe/Dublin", SLOT, "fit"),
    "minutes": (
        plain(1_440 * 4, 60, 12),
        "csv",
        "UTC",
        LEVEL | {"baseline": {"kind": "rolling", "options": {"window": "2h"}}},
        "fit",
    ),
    "days": (
        dates(),
        "csv",
        "UTC",
        LEVEL | {"baseline": {"kind": "rolling", "options": {"window": "30d"}}},
        "fit",
    ),
    "three places": (places(("quay", "pier", "old dock")), "csv", "UTC", SLOT, "fit"),
    "names with commas and signs": (places(('"a,b"', '"50 %"', '"x=y"')), "csv", "UTC", SLOT, "fit"),
    "two values a row": (two_values(), "csv", "UTC", SLOT, "fit"),
    "gaps": (gappy(), "csv", "UTC", SLOT, "fit"),
    "jittered stamps": (jittered(), "csv", "UTC", SLOT, "fit"),
    "counts": (counts(), "csv", "UTC", HARMONIC | LEVEL, "fit"),
    "rows twice": (doubled(), "csv", "UTC", SLOT, "fit"),
    "words for missing": (missing_words(), "csv", "UTC", SLOT, "fit"),
    "semicolons and commas": (european(), "csv", "Europe/Dublin", SLOT, "fit"),
    "lines of JSON": (json_lines(), "jsonl", "UTC", SLOT, "fit"),
    "epoch seconds": (epochs(), "csv", "UTC", SLOT, "fit"),
    "loess and shifts": (
        plain(seed=13),
        "csv",
        "UTC",
        {"baseline": {"kind": "loess", "seasons": ["24h"]}},
        "fit",
    ),
}
FIGURES = ("expected", "spread", "lower", "upper", "score", "flag", "in_finding")
FOUND = (
    "start",
    "end",
    "kind",
    "direction",
    "score",
    "peak",
    "peak_value",
    "expected",
    "points",
    "size",
    "confidence",
)


def _plain(value):
    """Text of a cell or value of an answer, with every digit of a number."""
    if value is None or value == "":
        return ""
    try:
        return repr(float(value))
    except ValueError:
        return value.removesuffix(".000Z").removesuffix("Z")


def by_key(rows, columns, metrics):
    """{key without its metric: [figures]}: the server puts the metric first, the files only where a row has several values."""
    out = {}
    for row in rows:
        parts = [p for p in row["series"].split(",") if p and not p.startswith("metric=")]
        metric = (
            next((p for p in row["series"].split(",") if p.startswith("metric=")), "") if metrics > 1 else ""
        )
        out.setdefault(",".join(filter(None, [metric, *parts])), []).append(tuple(row[c] for c in columns))
    return out


@pytest.mark.parametrize("name", TABLES)
def test_the_same_table_by_three_doors(name, api, command, tmp_path):  # noqa: F811
    text, ending, zone, plan, mode = TABLES[name]
    (tmp_path / f"load.{ending}").write_text(text)
    (tmp_path / "plan.json").write_text(json.dumps(plan))
    status, _, problem = command(
        tmp_path, "scan", f"load.{ending}", "--tz", zone, "--plan", "plan.json", "--mode", mode,
        "--findings", "findings.csv", "--points", "points.csv",
    )  # fmt: skip
    assert status == 0, problem
    found = wt.scan(tmp_path / f"load.{ending}", plan, tz=zone, mode=mode)
    found.write_findings(tmp_path / "again.csv")
    found.write_points(tmp_path / "points2.csv")
    assert (tmp_path / "again.csv").read_bytes() == (tmp_path / "findings.csv").read_bytes()
    assert (tmp_path / "points2.csv").read_bytes() == (tmp_path / "points.csv").read_bytes()
    assert len(found.findings) >= 1

    known = set(Stream.objects.values_list("pk", flat=True))
    done = take(api, text, {"zone": zone}, name=f"load.{ending}")
    assert done["state"] == "done", done
    streams = list(Stream.objects.exclude(pk__in=known))
    metrics = len({s.metric for s in streams})
    made = api.post(
        "/api/v1/scans", {"plan": plan, "streams": [s.pk for s in streams], "mode": mode}, format="json"
    ).json()
    run_jobs()
    number = made["id"]
    answer = api.get(f"/api/v1/scans/{number}/findings", {"limit": 1000}).json()
    assert answer["next"] is None
    answered = [tuple(_plain(f[c]) for c in FOUND) for f in answer["items"]]
    files = list(csv.DictReader(io.StringIO((tmp_path / "findings.csv").read_text())))
    assert sorted(answered) == sorted(
        tuple(_plain(r["peak_time" if c == "peak" else c]) for c in FOUND) for r in files
    )
    points = []
    for s in streams:
        body = api.get(f"/api/v1/scans/{number}/streams/{s.pk}/points.csv").content.decode()
        points += list(csv.DictReader(io.StringIO(body)))
    filed = list(csv.DictReader(io.StringIO((tmp_path / "points.csv").read_text())))
    assert by_key(points, ("time", "value", *FIGURES), metrics) == by_key(
        filed, ("time", "value", *FIGURES), metrics
    )
