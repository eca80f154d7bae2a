"""The rest of the harbour: crossings, wind, tickets, receivers, nightly loads, vibration, and the long pier gauge.

Each comes as a file of another kind and shape, as such things do, with the layout that reads it.
"""

import io
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq

from watchtide.demo import world
from watchtide.demo.world import PLACES, Floats

SEED = world.SEED + 7
ROUTES = ("Northquay–Gullhaven", "Gullhaven–Saltmarsh", "Northquay–Brackwater", "Brackwater–Tern Rock")
GAUGE_SAMPLES = 2 * 365 * 1440
WAVE_SAMPLES = 128
# Lowerings are hours apart, their samples a millisecond.
RAMP_PLAN = {
    "prepare": {"unit": {"gap": "1s"}},
    "baseline": {"kind": "reconstruction"},
    "flag": {"level": {"odds": 500}},
}


@dataclass(frozen=True)
class File:
    """A file to hand in, and what its intake is told. is_scanned : whether the standing scan looks at its streams."""

    name: str
    make: Callable[[], bytes]
    given: dict[str, Any]
    is_scanned: bool = True


def files() -> list[File]:
    zone = {"zone": world.ZONE}
    return [
        File("crossings.csv", crossings, {
            **zone, "unit": "min", "bad_side": "above", "metric": "crossing",
            "roles": {"departed": "time", "route": "series", "minutes": "leave out"},
            "rollup": {"every": "1h", "measures": [{"how": "mean", "field": "minutes"}]},
        }),
        File("quay_wind.parquet", quay_wind, {**zone, "metric": "quay_wind", "unit": "m/s"}),
        File("ticket_errors.jsonl", ticket_errors, {**zone, "metric": "ticket_failures", "unit": "requests / 5 min", "bad_side": "above"}),
        File("berth_messages.csv.gz", berth_messages, {**zone, "metric": "berth_messages", "unit": "reports / 5 min", "bad_side": "below", "wide_name": "receiver", "roles": {"time": "time", **dict.fromkeys(PLACES, "value")}}),
        File("nightly_loads.csv", nightly_loads, {**zone, "roles": {"night": "time", "table": "series", "late_rows": "value", "null_share": "value"}, "bad_side": "above"}),
        File("ramp_vibration.parquet", ramp_vibration, {**zone, "metric": "ramp_vibration", "unit": "mm/s²", "bad_side": "above"}, False),
        File("pier_gauge.parquet", pier_gauge, {"zone": "UTC", "metric": "pier_gauge", "unit": "m"}, False),
    ]  # fmt: skip


FORMULAS = (
    {
        "metric": "ticket_errors", "formula": "1000 * [ticket_failures] / [ticket_pages]", "by": ["channel"],
        "unit": "‰", "bad_side": "above", "zone": world.ZONE,
    },
    {
        "metric": "taps_of_a_place", "formula": "total of [gate_taps]", "by": ["place"], "unit": "taps / 15 min",
        "zone": world.ZONE,
    },
)  # fmt: skip


def _rng(offset: int) -> np.random.Generator:
    return np.random.default_rng(SEED + offset)


def wind() -> tuple[np.ndarray, Floats]:
    """(UTC seconds, m/s): slow weather with the two storms that close routes."""
    times, h = world._grid(10 * world.MINUTE)
    slow = world._smooth_noise(_rng(1), len(h), 0.998, 0.45) + world._smooth_noise(_rng(2), len(h), 0.9, 0.12)
    speed = 6.5 * np.exp(slow)
    for day, hour in ((23, 18), (94, 17)):
        speed += 15 * np.exp(-0.5 * ((h - world._at(day, hour)) / 8) ** 2)
    return times, np.round(speed, 1)


def quay_wind() -> bytes:
    times, speed = wind()
    rows = [(p, np.round(speed * f * np.exp(_rng(10 + i).normal(0, 0.05, len(speed))), 1)) for i, (p, f) in enumerate(zip(PLACES, (1.0, 0.92, 0.85, 1.1, 0.8, 1.3), strict=True))]  # fmt: skip
    table = pa.table(
        {
            "time": pa.array(np.tile(times, len(rows)) * 1_000).cast(pa.timestamp("ms", "UTC")),
            "place": pa.array([p for p, _ in rows for _ in range(len(times))]),
            "speed": pa.array(np.concatenate([v for _, v in rows])),
        }
    )
    return _parquet(table)


def crossings() -> bytes:
    """One row a crossing: when it left, its route, how many minutes it took. Wind makes them longer and skewed."""
    times, speed = wind()
    rng = _rng(3)
    lines = ["departed,route,minutes"]
    rules = ZoneInfo(world.ZONE)
    begin = world.START
    rows: list[tuple[datetime, str, float]] = []
    for route, base, every in zip(ROUTES, (22.0, 31.0, 38.0, 55.0), (30, 40, 60, 90), strict=True):
        for day in range(world.WEEKS * 7):
            for minute in range(6 * 60, 22 * 60, every):
                local = (begin.replace(tzinfo=None) + timedelta(days=day, minutes=minute)).replace(
                    tzinfo=rules
                )
                at = local.timestamp()
                blow = float(speed[min(int((at - times[0]) // 600), len(speed) - 1)])
                if blow > 21 and "Brackwater" in route:
                    continue
                took = base * (1 + 0.012 * max(blow - 6, 0)) + rng.gamma(1.6, 0.9)
                rows.append((local, route, took))
    rows.sort(key=lambda r: (r[0].astimezone(UTC), r[1]))
    lines += [f"{t.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ},{r},{m:.1f}" for t, r, m in rows]
    return ("\n".join(lines) + "\n").encode()


def ticket_errors() -> bytes:
    """Failed requests beside those of `ticket_pages`; one JSON object a line."""
    times, h = world._grid(5 * world.MINUTE)
    hour = h % 24
    out = io.StringIO()
    for i, (channel, size) in enumerate((("web", 900.0), ("counter", 140.0))):
        rng = _rng(20 + i)
        base = size * (0.08 + world._bump(hour, 10.5, 2.6) + 0.6 * world._bump(hour, 18, 3))
        share = np.full(len(h), 0.006)
        for day, start, hours, factor in ((15, 10, 3, 6), (52, 14, 2, 9), (83, 9, 5, 4), (108, 19, 1.5, 10)):
            share[(h >= world._at(day, start)) & (h < world._at(day, start + hours))] *= factor
        failed = rng.poisson(base * share)
        stamps = [datetime.fromtimestamp(t, UTC).strftime("%Y-%m-%dT%H:%M:%SZ") for t in times.tolist()]
        for stamp, n in zip(stamps, failed.tolist(), strict=True):
            out.write(json.dumps({"time": stamp, "channel": channel, "failures": n}) + "\n")
    return out.getvalue().encode()


def berth_messages() -> bytes:
    """Position reports taken in: a column a receiver, semicolons and local stamps; one receiver falls silent."""
    import gzip

    times, h = world._grid(5 * world.MINUTE)
    hour = h % 24
    columns = []
    for i, size in enumerate(world.PLACE_SIZE):
        mean = 60 * size * (0.25 + world._bump(hour, 9, 3) + world._bump(hour, 17, 3.5)) + 3
        seen = _rng(40 + i).poisson(mean).astype(float)
        if PLACES[i] == "Saltmarsh":
            seen[(h >= world._at(41, 2)) & (h < world._at(41, 7))] = np.nan
        if PLACES[i] == "Old Pier":
            seen[(h >= world._at(73, 3)) & (h < world._at(74, 9))] = 0
        columns.append(seen)
    stamps = [datetime.fromtimestamp(t, UTC).strftime("%Y-%m-%dT%H:%M:%SZ") for t in times.tolist()]
    lines = ["time;" + ";".join(PLACES)]
    table = np.array(columns).T
    for stamp, row in zip(stamps, table.tolist(), strict=True):
        lines.append(stamp + ";" + ";".join("" if np.isnan(v) else str(int(v)) for v in row))
    return gzip.compress(("\n".join(lines) + "\n").encode(), 5, mtime=0)


def nightly_loads() -> bytes:
    """One row a night and table: how many rows came late, and the share of empty cells; dates without a time."""
    lines = ["night,table,late_rows,null_share"]
    days = world.WEEKS * 7
    for i, (table, size) in enumerate((("sailings", 40), ("tickets", 220), ("berths", 15))):
        rng = _rng(60 + i)
        weekday = (np.arange(days) % 7 >= 5) * 0.4 + 0.8
        late = rng.poisson(size * weekday)
        share = np.round(np.clip(rng.normal(0.021 + 0.004 * i, 0.002, days), 0, 1), 4)
        late[[37 + i, 88]] *= 7
        share[91:94] += 0.08 * (i == 1)
        for day in range(days):
            date = (world.START + timedelta(days=day)).strftime("%Y-%m-%d")
            lines.append(f"{date},{table},{late[day]},{share[day]}")
    return ("\n".join(lines) + "\n").encode()


RAMPS = ("north ramp", "south ramp")
# Days on which somebody looked at each lowering of the south ramp, and noted a worn bearing.
NOTED_DAYS = range(81, 90)


class Lowering(NamedTuple):
    """One lowering of a ramp: day since the start, first stamp in ms since 1970, what was measured, and whether a bearing was worn."""

    day: int
    start_ms: int
    wave: Floats
    is_worn: bool


def lowerings(ramp: int) -> Iterator[Lowering]:
    """Each lowering is a burst of 128 samples a millisecond apart; a worn bearing adds a ringing tone."""
    at = np.arange(WAVE_SAMPLES) / 1_000
    first = int(world.START.timestamp())
    rng = _rng(80 + ramp)
    for day in range(world.WEEKS * 7):
        for n in range(6):
            start = first * 1_000 + int((day * 24 + 6 + 2.6 * n + rng.normal(0, 0.05)) * 3_600_000)
            wave = 3.2 * np.exp(-at / 0.03) * np.sin(2 * np.pi * 47 * at) + rng.normal(0, 0.12, WAVE_SAMPLES)
            is_worn = ramp == 1 and day > 80 and rng.random() < 0.25
            if is_worn:
                wave += 0.9 * np.sin(2 * np.pi * 180 * at + rng.uniform(0, 6)) * np.exp(-at / 0.08)
            yield Lowering(day, start, np.round(wave, 3), is_worn)


def ramp_vibration() -> bytes:
    """The lowerings of both ramps, one sample a row."""
    all_of = [(name, one) for i, name in enumerate(RAMPS) for one in lowerings(i)]
    times = np.concatenate([one.start_ms + np.arange(WAVE_SAMPLES) for _, one in all_of])
    table = pa.table(
        {
            "time": pa.array(times).cast(pa.timestamp("ms", "UTC")),
            "ramp": pa.array([name for name, _ in all_of for _ in range(WAVE_SAMPLES)]),
            "acceleration": pa.array(np.concatenate([one.wave for _, one in all_of])),
        }
    )
    return _parquet(table)


def ramp_logbook_csv() -> str:
    """What was noted of the south ramp: each worn lowering of some days."""
    begin, end = (
        (world.START + timedelta(days=day)).astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        for day in (NOTED_DAYS[0], NOTED_DAYS[-1] + 1)
    )
    lines = [
        "series,start,end,verdict,kind,cause,author,origin",
        f'"metric=ramp_vibration,ramp=south ramp",{begin},{end},reviewed,,looked through in full,M. Rask,independent',
    ]
    for one in lowerings(1):
        if one.is_worn and one.day in NOTED_DAYS:
            start, end = (
                datetime.fromtimestamp(ms // 1_000 + add, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
                for ms, add in ((one.start_ms, 0), (one.start_ms + WAVE_SAMPLES, 1))
            )
            lines.append(
                f'"metric=ramp_vibration,ramp=south ramp",{start},{end},incident,shape,worn bearing,M. Rask,independent'
            )
    return "\n".join(lines) + "\n"


def pier_gauge() -> bytes:
    """Two years of a gauge read every minute: 1,051,200 samples that end where the other streams do."""
    end = int(world.START.timestamp()) + world.WEEKS * 7 * world.DAY
    times = end - 60 * np.arange(GAUGE_SAMPLES, 0, -1, dtype=np.int64)
    surge = world._smooth_noise(_rng(90), GAUGE_SAMPLES, 0.9995, 0.12)
    wash = _rng(91).normal(0, 0.02, GAUGE_SAMPLES)
    level = 3.1 + world.tide(times / 3_600, 4) + surge + wash
    for day, minutes, amount in ((101, 8, 0.9), (333, 15, -0.7), (580, 6, 1.2), (701, 30, 0.6)):
        level[day * 1440 : day * 1440 + minutes] += amount
    level[450 * 1440 : 450 * 1440 + 600] = np.nan
    table = pa.table(
        {
            "time": pa.array(times * 1_000).cast(pa.timestamp("ms", "UTC")),
            "pier": pa.array(["Old Pier"] * GAUGE_SAMPLES).dictionary_encode(),
            "level": pa.array(np.round(level, 3), from_pandas=True),
        }
    )
    return _parquet(table)


def _parquet(table: pa.Table) -> bytes:
    sink = pa.BufferOutputStream()
    papq.write_table(table, sink, compression="zstd")
    return bytes(sink.getvalue())


def calendar_ics() -> bytes:
    """Known days: the islanders' market, bank holidays, the change of timetable, a weekly fire drill."""
    events = [
        ("market", "Islanders' market", "DTSTART;VALUE=DATE:20260815", "DTEND;VALUE=DATE:20260817", "RRULE:FREQ=YEARLY"),
        ("holiday", "Bank holiday", "DTSTART;VALUE=DATE:20261026", "DTEND;VALUE=DATE:20261027", ""),
        ("winter", "Winter timetable begins", "DTSTART;VALUE=DATE:20261005", "DTEND;VALUE=DATE:20261006", "RRULE:FREQ=YEARLY"),
        ("drill", "Fire drill", "DTSTART;TZID=Europe/Dublin:20260803T103000", "DTEND;TZID=Europe/Dublin:20260803T110000", "RRULE:FREQ=WEEKLY;BYDAY=MO"),
    ]  # fmt: skip
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Skerrymoor Harbour Authority//Known days//EN"]
    for uid, name, *rest in events:
        lines += [
            "BEGIN:VEVENT",
            f"UID:{uid}@skerrymoor.example",
            "DTSTAMP:20260701T000000Z",
            f"SUMMARY:{name}",
        ]
        lines += [line for line in rest if line] + ["END:VEVENT"]
    return ("\r\n".join([*lines, "END:VCALENDAR"]) + "\r\n").encode()
