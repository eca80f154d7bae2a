"""Skerrymoor Harbour Authority, which does not exist: streams, planted trouble, and its logbook.

Everything comes from a fixed seed. The detector never sees this module; it gets CSV files, as anybody
would hand them in, and the logbook tells of the planted trouble only as far as somebody noted it down.
"""

import csv
import io
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from watchtide.core.series import keys

Floats = NDArray[np.float64]

ZONE = "Europe/Dublin"
SEED = 20260727
WEEKS = 16
REVIEWED_WEEKS = 10
START = datetime(2026, 7, 27, tzinfo=ZoneInfo(ZONE))
PLACES = ("Northquay", "Gullhaven", "Saltmarsh", "Brackwater", "Old Pier", "Tern Rock")
PLACE_SIZE = (1.0, 0.7, 0.42, 0.36, 0.22, 0.09)
FARES = ("adult", "child", "islander")
FARE_SIZE = (1.0, 0.23, 0.16)
MINUTE = 60
HOUR = 3_600
DAY = 86_400


@dataclass(frozen=True)
class Event:
    """Something that happened: over which streams, when (hours since the start, local), and what."""

    scope: tuple[tuple[str, str], ...]
    start: float
    hours: float
    verdict: str
    kind: str
    cause: str
    effect: Callable[[Floats, Floats], Floats]
    is_noted: bool = True


@dataclass
class Stream:
    """One stream: attributes in order with metric first, stamps (UTC s) and values (NaN: no row)."""

    attributes: tuple[tuple[str, str], ...]
    times: NDArray[np.int64]
    values: Floats
    local_hours: Floats = field(repr=False)

    @property
    def key(self) -> str:
        return keys.encode(self.attributes)


@dataclass(frozen=True)
class Family:
    metric: str
    unit: str
    bad_side: str
    stamp: str
    streams: list[Stream]


def _grid(step: int) -> tuple[NDArray[np.int64], Floats]:
    """UTC seconds of every sample and its local hours since the start, clock change included."""
    first = int(START.timestamp())
    times = first + np.arange(WEEKS * 7 * DAY // step, dtype=np.int64) * step
    rules = ZoneInfo(ZONE)
    days = np.unique(times // HOUR)
    shift = {
        int(h): datetime.fromtimestamp(int(h) * HOUR, UTC).astimezone(rules).utcoffset().total_seconds()
        for h in days
    }  # type: ignore[union-attr]
    offsets = np.array([shift[int(h)] for h in times // HOUR])
    at_start = START.utcoffset()
    assert at_start is not None
    local = times + offsets - (first + at_start.total_seconds())
    return times, local / HOUR


def _bump(hour: Floats, centre: float, width: float) -> Floats:
    away = np.minimum(np.abs(hour - centre), 24 - np.abs(hour - centre))
    return np.exp(-0.5 * (away / width) ** 2)


def _smooth_noise(rng: np.random.Generator, n: int, phi: float, sigma: float) -> Floats:
    """First-order autoregression with this standard deviation."""
    from scipy.signal import lfilter

    steps = rng.normal(0, sigma * np.sqrt(1 - phi**2), n)
    return np.asarray(lfilter([1.0], [1.0, -phi], steps))


def _counts(rng: np.random.Generator, mean: Floats, extra: float) -> Floats:
    """Counts around a mean, scattering a little more than chance alone."""
    wild = rng.gamma(1 / extra, extra, len(mean))
    return rng.poisson(np.maximum(mean, 0) * wild).astype(np.float64)


def _gate_taps(rng: np.random.Generator) -> Family:
    times, h = _grid(15 * MINUTE)
    hour, day = h % 24, (h // 24).astype(int) % 7
    summer = 1 + 0.35 * np.exp(-0.5 * ((h / 24 - 20) / 30) ** 2)
    streams = []
    for place, size in zip(PLACES, PLACE_SIZE, strict=True):
        weather = np.exp(_smooth_noise(rng, len(h), 0.995, 0.05))
        for fare, share in zip(FARES, FARE_SIZE, strict=True):
            profile = gate_profile(hour, day, fare)
            mean = 240 * size * share * profile * summer * weather
            streams.append(
                Stream(
                    (("metric", "gate_taps"), ("place", place), ("fare", fare)),
                    times,
                    _counts(rng, mean, 0.006),
                    h,
                )
            )
    return Family("gate_taps", "taps / 15 min", "both", "local", streams)


def gate_profile(hour: Floats, day: NDArray[np.int64], fare: str) -> Floats:
    """How busy a gate is by local hour and weekday (0 is Monday)."""
    commute = 1.0 if fare != "child" else 0.55
    work = commute * (_bump(hour, 8.1, 1.1) + 1.15 * _bump(hour, 17.4, 1.6)) + 0.5 * _bump(hour, 12.7, 2.6)
    rest = 0.95 * _bump(hour, 11.8, 2.4) + 0.9 * _bump(hour, 16.6, 2.8)
    return np.where(day >= 5, rest, work) + 0.03


def tide(absolute_hours: Floats, i: int) -> Floats:
    """Level at the i-th berth above its mean, by hours since 1970."""
    return (
        (1.25 - 0.05 * i) * np.cos(2 * np.pi * (absolute_hours / 12.4206 + 0.03 * i))
        + 0.42 * np.cos(2 * np.pi * (absolute_hours / 12.0 + 0.02 * i))
        + 0.14 * np.cos(2 * np.pi * absolute_hours / 24.0)
    )


def _berth_level(rng: np.random.Generator) -> Family:
    times, h = _grid(10 * MINUTE)
    absolute = times / HOUR
    streams = []
    for i, place in enumerate(PLACES):
        surge = _smooth_noise(rng, len(h), 0.997, 0.05)
        level = 2.9 - 0.12 * i + tide(absolute, i) + surge + rng.normal(0, 0.025, len(h))
        streams.append(Stream((("metric", "berth_level"), ("place", place)), times, np.round(level, 2), h))
    return Family("berth_level", "m", "both", "utc", streams)


def _cold_hold(rng: np.random.Generator) -> Family:
    times, h = _grid(5 * MINUTE)
    streams = []
    for i in range(4):
        since = (h + 1.5 * i) % 6
        defrost = 1.6 * np.exp(-((since - 0.35) ** 2) / 0.06) + 0.5 * np.exp(-since / 0.8)
        value = -18.4 + 0.3 * i * 0.3 + defrost + 0.25 * np.cos(2 * np.pi * (h % 24 - 15) / 24)
        value = value + _smooth_noise(rng, len(h), 0.9, 0.12) + rng.normal(0, 0.05, len(h))
        streams.append(
            Stream((("metric", "cold_hold_temp"), ("hold", f"Hold {i + 1}")), times, np.round(value, 1), h)
        )
    return Family("cold_hold_temp", "°C", "above", "epoch s", streams)


def _ticket_pages(rng: np.random.Generator) -> Family:
    times, h = _grid(5 * MINUTE)
    hour, day = h % 24, (h // 24).astype(int) % 7
    streams = []
    for name, size in (("web", 900.0), ("counter", 140.0)):
        profile = (
            0.08
            + _bump(hour, 10.5, 2.6)
            + 0.9 * _bump(hour, 19.5, 2.2) * (name == "web")
            + 0.7 * _bump(hour, 15, 2)
        )
        profile = profile * np.where(day >= 5, 0.72, 1.0)
        mean = size * profile * np.exp(_smooth_noise(rng, len(h), 0.98, 0.03))
        streams.append(
            Stream((("metric", "ticket_pages"), ("channel", name)), times, _counts(rng, mean, 0.004), h)
        )
    return Family("ticket_pages", "requests / 5 min", "below", "offset", streams)


def _feed_delay(rng: np.random.Generator) -> Family:
    times, h = _grid(15 * MINUTE)
    hour = h % 24
    streams = []
    for i, place in enumerate(PLACES):
        mean = 1.7 + 0.15 * i + 0.9 * _bump(hour, 9, 2.5) + 0.7 * _bump(hour, 18, 2.5)
        value = mean * np.exp(_smooth_noise(rng, len(h), 0.6, 0.09))
        streams.append(
            Stream((("metric", "feed_delay_p95"), ("receiver", place)), times, np.round(value, 2), h)
        )
    return Family("feed_delay_p95", "s", "above", "epoch ms", streams)


def _times(factor: float) -> Callable[[Floats, Floats], Floats]:
    return lambda y, t: y * factor


def _plus(amount: float) -> Callable[[Floats, Floats], Floats]:
    return lambda y, t: y + amount


def _ramp(amount: float) -> Callable[[Floats, Floats], Floats]:
    return lambda y, t: y + amount * t


def _stuck(y: Floats, t: Floats) -> Floats:
    return np.full(len(y), y[0])


def _gone(y: Floats, t: Floats) -> Floats:
    return np.full(len(y), np.nan)


def _late(samples: int) -> Callable[[Floats, Floats], Floats]:
    return lambda y, t: np.roll(y, samples)


def _noise(amount: float) -> Callable[[Floats, Floats], Floats]:
    return lambda y, t: (
        y * np.exp(amount * np.sin(np.arange(len(y)) * 2.1) * np.cos(np.arange(len(y)) * 0.77))
    )


def _at(day: int, hour: float) -> float:
    return day * 24 + hour


def _scope(metric: str, **attributes: str) -> tuple[tuple[str, str], ...]:
    return (("metric", metric), *attributes.items())


def events() -> list[Event]:
    """All planted trouble; days count from Monday 27 July 2026."""
    rest = WEEKS * 7 * 24.0
    evening = lambda y, t: y + 0.8 * np.max(y) * np.exp(-0.5 * ((t - 0.55) / 0.18) ** 2)  # noqa: E731
    big = [
        Event(_scope("gate_taps", place="Brackwater"), _at(23, 6), 30, "incident", "dropout", "storm closed the route", _times(0.04)),
        Event(_scope("gate_taps", place="Tern Rock"), _at(23, 6), 30, "incident", "dropout", "storm closed the route", _times(0.02)),
        Event(_scope("berth_level", place="Gullhaven"), _at(37, 9), 9 * 24 + 4, "incident", "step", "gauge fouled by weed, cleaned", _plus(0.31)),
        Event(_scope("gate_taps"), _at(57, 9.25), 5.25, "incident", "spike", "feed counted twice after restart", _times(2.0)),
        Event(_scope("ticket_pages"), _at(57, 9.25), 5.25, "incident", "spike", "feed counted twice after restart", _times(2.0)),
        Event(_scope("gate_taps", place="Gullhaven"), _at(19, 11), 10, "foreseen", "spike", "islanders' market", _times(1.8)),
        Event(_scope("gate_taps", place="Gullhaven"), _at(20, 11), 9, "foreseen", "spike", "islanders' market", _times(1.7)),
        Event(_scope("cold_hold_temp", hold="Hold 3"), _at(29, 4), 31, "incident", "ramp", "door seal leaked", _ramp(2.1)),
        Event(_scope("cold_hold_temp", hold="Hold 1"), _at(47, 11), 9, "incident", "stuck", "sensor stuck", _stuck),
        Event(_scope("feed_delay_p95", receiver="Saltmarsh"), _at(41, 2), 5, "incident", "dropout", "receiver silent", _gone),
        Event(_scope("gate_taps", place="Northquay", fare="adult"), _at(43, 19), 3.5, "incident", "shape", "late sailing, second evening peak", evening),
        Event(_scope("gate_taps", place="Saltmarsh", fare="islander"), _at(66, 0), rest - _at(66, 0), "foreseen", "step", "tariff change", _times(1.32)),
        Event(_scope("feed_delay_p95", receiver="Tern Rock"), _at(21, 8), 20, "incident", "noise", "loose connector", _noise(0.7)),
        # The last six weeks: mostly nobody has looked yet.
        Event(_scope("gate_taps", place="Old Pier"), _at(90, 0), 3 * 24, "incident", "shift in time", "clock an hour off after the time change", _late(4), False),
        Event(_scope("gate_taps", place="Tern Rock"), _at(94, 5), 26, "incident", "dropout", "storm closed the route", _times(0.03), True),
        Event(_scope("gate_taps", place="Brackwater"), _at(94, 5), 26, "incident", "dropout", "storm closed the route", _times(0.05), False),
        Event(_scope("gate_taps"), _at(105, 10), 3, "incident", "spike", "feed counted twice after restart", _times(2.0), False),
        Event(_scope("ticket_pages"), _at(105, 10), 3, "incident", "spike", "feed counted twice after restart", _times(2.0), False),
        Event(_scope("berth_level", place="Northquay"), _at(107, 14), rest - _at(107, 14), "incident", "step", "gauge fouled", _plus(0.27), False),
        Event(_scope("cold_hold_temp", hold="Hold 2"), _at(110, 16), rest - _at(110, 16), "incident", "ramp", "door seal leaks", _ramp(2.3), False),
        Event(_scope("feed_delay_p95", receiver="Brackwater"), _at(110, 4), rest - _at(110, 4), "incident", "dropout", "receiver silent", _gone, False),
    ]  # fmt: skip
    return big + _small_events()


def _small_events() -> list[Event]:
    """Trouble of one stream for minutes to hours; some of it too small to be found."""
    rng = np.random.default_rng(SEED + 1)
    kinds: list[
        tuple[tuple[tuple[str, str], ...], str, str, Callable[[Floats, Floats], Floats], tuple[float, float]]
    ] = []
    for i in range(34):
        place = PLACES[int(rng.integers(0, 6))]
        match i % 6:
            case 0:
                kinds.append(
                    (
                        _scope("feed_delay_p95", receiver=place),
                        "spike",
                        "backlog at the receiver",
                        _times(float(rng.uniform(1.6, 4))),
                        (0.5, 2),
                    )
                )
            case 1:
                kinds.append(
                    (
                        _scope("ticket_pages", channel="web"),
                        "dip",
                        "pages slow, visitors gave up",
                        _times(float(rng.uniform(0.3, 0.75))),
                        (0.5, 1.5),
                    )
                )
            case 2:
                kinds.append(
                    (
                        _scope("cold_hold_temp", hold=f"Hold {int(rng.integers(1, 5))}"),
                        "spike",
                        "door left open",
                        _plus(float(rng.uniform(1.0, 3.5))),
                        (0.4, 1.2),
                    )
                )
            case 3:
                kinds.append(
                    (
                        _scope("gate_taps", place=PLACES[int(rng.integers(0, 4))], fare="adult"),
                        "dip",
                        "gate reader failed",
                        _times(float(rng.uniform(0.1, 0.6))),
                        (1, 4),
                    )
                )
            case 4:
                kinds.append(
                    (
                        _scope("berth_level", place=place),
                        "spike",
                        "debris at the gauge",
                        _plus(float(rng.uniform(0.3, 0.9))),
                        (0.4, 1),
                    )
                )
            case _:
                kinds.append(
                    (
                        _scope("feed_delay_p95", receiver=place),
                        "spike",
                        "late batch upstream",
                        _plus(float(rng.uniform(1.5, 5))),
                        (0.5, 3),
                    )
                )
    out = []
    for i, (scope, kind, cause, effect, (low, high)) in enumerate(kinds):
        day = (
            int(rng.integers(2, REVIEWED_WEEKS * 7 - 1))
            if i < 24
            else int(rng.integers(REVIEWED_WEEKS * 7 + 1, 104))
        )
        hour = float(rng.integers(8, 18)) + float(rng.integers(0, 4)) * 0.25
        noted = day < REVIEWED_WEEKS * 7 or i % 3 == 0
        out.append(
            Event(
                scope, _at(day, hour), float(rng.uniform(low, high)), "incident", kind, cause, effect, noted
            )
        )
    return out


def build() -> list[Family]:
    """All families with their trouble planted."""
    rng = np.random.default_rng(SEED)
    families = [_gate_taps(rng), _berth_level(rng), _cold_hold(rng), _ticket_pages(rng), _feed_delay(rng)]
    for event in events():
        for stream in (s for f in families for s in f.streams if set(event.scope) <= set(s.attributes)):
            inside = (stream.local_hours >= event.start) & (stream.local_hours < event.start + event.hours)
            if inside.any():
                t = (stream.local_hours[inside] - event.start) / event.hours
                changed = event.effect(stream.values[inside], t)
                stream.values[inside] = (
                    np.round(changed)
                    if "taps" in stream.key or "pages" in stream.key
                    else np.round(changed, 2)
                )
    return families


def family_csv(family: Family) -> str:
    """A family as one file, rows in time order, stamps in the family's own way."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    names = [name for name, _ in family.streams[0].attributes[1:]]
    column = {"utc": "time", "local": "stamp", "epoch s": "ts", "epoch ms": "ts", "offset": "time"}[
        family.stamp
    ]
    writer.writerow([column, *names, family.metric])
    stamps = _stamps(family)
    whole = family.metric in ("gate_taps", "ticket_pages")
    for i, stamp in enumerate(stamps):
        for s in family.streams:
            value = s.values[i]
            if not np.isnan(value):
                writer.writerow(
                    [stamp, *(v for _, v in s.attributes[1:]), int(value) if whole else repr(float(value))]
                )
    return out.getvalue()


def _stamps(family: Family) -> list[str]:
    times = family.streams[0].times
    if family.stamp == "epoch s":
        return [str(t) for t in times.tolist()]
    if family.stamp == "epoch ms":
        return [str(t * 1000) for t in times.tolist()]
    moments = [datetime.fromtimestamp(t, UTC) for t in times.tolist()]
    if family.stamp == "utc":
        return [m.strftime("%Y-%m-%dT%H:%M:%SZ") for m in moments]
    local = [m.astimezone(ZoneInfo(ZONE)) for m in moments]
    if family.stamp == "local":
        return [m.strftime("%Y-%m-%d %H:%M") for m in local]
    return [m.isoformat() for m in local]


def logbook_csv() -> str:
    """The annotated history: the first ten weeks looked through in full, the rest in part."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["series", "start", "end", "verdict", "kind", "cause", "author", "origin"])

    def moment(hours: float) -> str:
        # Local hours since the start, back to UTC by the zone's rules.
        from datetime import timedelta

        local = (START.replace(tzinfo=None) + timedelta(hours=hours)).replace(tzinfo=ZoneInfo(ZONE))
        return local.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")

    end = REVIEWED_WEEKS * 7 * 24 - 1 / 60
    for metric in ("gate_taps", "berth_level", "cold_hold_temp", "ticket_pages", "feed_delay_p95"):
        row = ["reviewed", "", "looked through in full", "M. Rask", "independent"]
        writer.writerow([keys.encode(_scope(metric)), moment(0), moment(end), *row])
    for e in sorted(events(), key=lambda e: e.start):
        if not e.is_noted:
            continue
        stop = e.start if e.kind == "step" and e.verdict == "foreseen" else e.start + e.hours
        writer.writerow(
            [
                keys.encode(e.scope),
                moment(e.start),
                moment(stop),
                e.verdict,
                e.kind,
                e.cause,
                "M. Rask",
                "independent",
            ]
        )
    return out.getvalue()
