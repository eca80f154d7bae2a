"""Labelled streams for `./run bench quality`: every family and every kind of trouble, from seeds no test uses."""

from dataclasses import dataclass, field
from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np
from scipy.signal import lfilter

from watchtide.core.scoring.rows import Label
from watchtide.demo.world import gate_profile, tide

ZONE = "Europe/Dublin"
# The clocks go back in the seventh week.
START = datetime(2026, 9, 7, tzinfo=ZoneInfo(ZONE))
WEEKS = 10
KINDS = ("spike", "dip", "dropout", "stuck", "step", "ramp", "missing season", "shape", "burst")
# What each family can suffer; a tide has no dropout of a season by a day, a ratio no stuck counter.
FAMILIES = {
    "gate taps": KINDS,
    "small taps": ("spike", "dropout", "burst", "missing season", "shape"),
    "berth level": ("spike", "dip", "stuck", "step", "ramp", "burst"),
    "hold temperature": ("spike", "dip", "stuck", "step", "ramp", "missing season", "burst"),
    "ticket pages": KINDS,
    "ticket errors": ("spike", "step", "ramp", "burst"),
    "feed delay": ("spike", "step", "ramp", "burst", "stuck"),
    "crossing minutes": ("spike", "step", "ramp", "burst"),
    "quay wind": ("spike", "dip", "stuck", "burst"),
    "daily visits": ("spike", "dip", "step", "ramp"),
    "bursty calls": ("spike", "step", "ramp", "dropout"),
    "river level": ("spike", "step", "ramp", "stuck", "burst"),
    "hourly tide": ("spike", "dip", "step", "stuck", "burst"),
    "young pages": ("spike", "dip", "step", "dropout"),
}
# Minutes between samples and weeks of history where they are not 15 and 10.
MINUTES = {
    "crossing minutes": 60,
    "berth level": 10,
    "quay wind": 30,
    "daily visits": 1440,
    "river level": 60,
    "hourly tide": 60,
    "young pages": 60,
}
SPANS = {"daily visits": 110, "young pages": 5, "river level": 16, "hourly tide": 16}


@dataclass
class Labelled:
    """One stream: stamps (UTC ns), values, denominators or None, and its true incidents."""

    family: str
    key: str
    times: np.ndarray
    values: np.ndarray
    denominators: np.ndarray | None
    labels: list[Label] = field(default_factory=list)


def streams(seeds: tuple[int, ...], *, troubled: bool) -> list[Labelled]:
    return [make(family, seed, troubled=troubled) for family in FAMILIES for seed in seeds]


def _noise(rng: np.random.Generator, n: int, phi: float, sigma: float) -> np.ndarray:
    return np.asarray(lfilter([1.0], [1.0, -phi], rng.normal(0, sigma * np.sqrt(1 - phi**2), n)))


def _grid(minutes: int, weeks: int) -> tuple[np.ndarray, np.ndarray]:
    step = minutes * 60
    times = int(START.timestamp()) + np.arange(weeks * 7 * 86_400 // step, dtype=np.int64) * step
    zone = ZoneInfo(ZONE)
    hours = np.unique(times // 3600)
    offset = {int(h): datetime.fromtimestamp(int(h) * 3600, zone).utcoffset().total_seconds() for h in hours}  # type: ignore[union-attr]
    local = times + np.array([offset[int(h)] for h in times // 3600]) - int(START.timestamp()) - 3600
    return times, local / 3600


def _counts(rng: np.random.Generator, mean: np.ndarray, extra: float) -> np.ndarray:
    return rng.poisson(np.maximum(mean, 0) * rng.gamma(1 / extra, extra, len(mean))).astype(float)


def make(family: str, seed: int, *, troubled: bool) -> Labelled:
    """A stream of this family; its trouble, if any, touches the mean before chance does."""
    rng = np.random.default_rng([seed, sorted(FAMILIES).index(family), troubled])
    minutes = MINUTES.get(family, 15)
    times, hour = _grid(minutes, SPANS.get(family, WEEKS))
    n = len(times)
    # A daily figure stands for its day, also where the clocks have moved its stamp to the evening before.
    day = ((hour + 2 if minutes >= 1440 else hour) // 24).astype(int) % 7
    profile = gate_profile(hour % 24, day, rng.choice(["adult", "child"]))
    plan = _plan(rng, family, n, minutes) if troubled else []
    slow = np.exp(_noise(rng, n, 0.998, 0.04))
    denominators = None
    if family in ("gate taps", "small taps", "ticket pages"):
        size = {
            "gate taps": rng.uniform(60, 260),
            "small taps": rng.uniform(2, 8),
            "ticket pages": rng.uniform(300, 900),
        }[family]
        mean = size * profile * slow
        mean, after = _hurt(
            rng, mean, plan, 0.25 * mean + np.sqrt(np.maximum(mean, 0.3)), minutes, hour, profile * size
        )
        values = after(_counts(rng, mean, 0.005))
    elif family == "daily visits":
        mean = (
            rng.uniform(40, 900)
            * np.where(day >= 5, rng.uniform(0.4, 1.3), 1.0)
            * np.exp(_noise(rng, n, 0.98, 0.08))
        )
        mean, after = _hurt(rng, mean, plan, 0.12 * mean + np.sqrt(mean), minutes, hour, None)
        values = after(_counts(rng, mean, 0.012))
    elif family == "bursty calls":
        mean = rng.uniform(15, 120) * (0.3 + profile / max(profile.max(), 1e-9)) * slow
        extra = rng.uniform(0.15, 0.5)
        mean, after = _hurt(rng, mean, plan, np.sqrt(mean + extra * mean * mean), minutes, hour, None)
        values = after(_counts(rng, mean, extra))
    elif family == "river level":
        mean = 2.0 + _noise(rng, n, 0.995, 0.3) + 0.05 * np.cos(2 * np.pi * (hour % 24) / 24)
        mean, after = _hurt(rng, mean, plan, np.full(n, 0.12), minutes, hour, None)
        values = np.round(after(mean + rng.normal(0, 0.01, n)), 3)
    elif family == "hourly tide":
        mean = 3 + tide(times / 3600, int(rng.integers(6))) + _noise(rng, n, 0.98, 0.08)
        mean, after = _hurt(rng, mean, plan, np.full(n, 0.1), minutes, hour, None)
        values = np.round(after(mean + rng.normal(0, 0.02, n)), 2)
    elif family == "young pages":
        mean = rng.uniform(80, 500) * profile * slow
        mean, after = _hurt(
            rng, mean, plan, 0.25 * mean + np.sqrt(np.maximum(mean, 0.3)), minutes, hour, None
        )
        values = after(_counts(rng, mean, 0.005))
    elif family == "berth level":
        mean = 3 + tide(times / 3600, int(rng.integers(6))) + _noise(rng, n, 0.997, 0.05)
        mean, after = _hurt(rng, mean, plan, np.full(n, 0.06), minutes, hour, None)
        values = np.round(after(mean + rng.normal(0, 0.025, n)), 2)
    elif family == "hold temperature":
        since = (hour + rng.uniform(0, 6)) % 6
        season = (
            1.6 * np.exp(-((since - 0.35) ** 2) / 0.06)
            + 0.5 * np.exp(-since / 0.8)
            + 0.25 * np.cos(2 * np.pi * (hour % 24 - 15) / 24)
        )
        mean, after = _hurt(rng, -18.4 + season, plan, np.full(n, 0.16), minutes, hour, season)
        values = np.round(after(mean + _noise(rng, n, 0.9, 0.12) + rng.normal(0, 0.05, n)), 1)
    elif family == "ticket errors":
        denominators = _counts(rng, rng.uniform(40, 300) * (profile + 0.05), 0.01)
        share = rng.uniform(0.004, 0.012) * slow
        share, after = _hurt(rng, share, plan, 1.2 * share, minutes, hour, None)
        errors = rng.binomial(np.maximum(denominators, 0).astype(int), np.clip(share, 0, 0.9))
        values = 1000 * after(np.where(denominators > 0, errors / np.maximum(denominators, 1), np.nan))
    elif family == "feed delay":
        base = (
            1.7
            + 0.9 * np.exp(-0.5 * ((hour % 24 - 9) / 2.5) ** 2)
            + 0.7 * np.exp(-0.5 * ((hour % 24 - 18) / 2.5) ** 2)
        )
        mean, after = _hurt(rng, base, plan, 0.12 * base, minutes, hour, None)
        values = np.round(after(mean * np.exp(_noise(rng, n, 0.6, 0.09))), 2)
    elif family == "crossing minutes":
        base = 42 + 4 * np.exp(-0.5 * ((hour % 24 - 17) / 2) ** 2) + np.where(day >= 5, 2.0, 0.0)
        mean, after = _hurt(rng, base, plan, np.full(n, 2.2), minutes, hour, None)
        values = np.round(after(mean + 2.0 * (rng.gamma(4, 0.5, n) - 2)), 1)
    else:
        mean, after = _hurt(rng, np.full(n, 7.0), plan, np.full(n, 2.2), minutes, hour, None)
        values = np.round(after(np.abs(mean + _noise(rng, n, 0.93, 2.2) + rng.normal(0, 0.3, n))), 1)
    name = family.replace(" ", "_")
    key = f"metric={name},unit={seed}{'' if troubled else 'c'}"
    holes = rng.random(n) < 0.003
    values[holes] = np.nan
    ns = times * 10**9
    labels = [Label(int(ns[a]), int(ns[min(b, n) - 1]), key, kind=kind) for kind, a, b in plan]
    return Labelled(family, key, ns, values, denominators, labels)


def _plan(rng: np.random.Generator, family: str, n: int, minutes: int) -> list[tuple[str, int, int]]:
    """(kind, first, stop) of what goes wrong: one of every kind the family can have, some twice, well apart."""
    kinds = list(FAMILIES[family])
    rng.shuffle(kinds)
    kinds = kinds[:7]
    hour = 60 / minutes
    lasts = {
        "spike": lambda: max(1, int(rng.integers(1, 4))), "dip": lambda: max(2, int(rng.uniform(1, 4) * hour)),
        "dropout": lambda: max(3, int(rng.uniform(2, 8) * hour)), "stuck": lambda: max(6, int(rng.uniform(4, 14) * hour)),
        "step": lambda: int(rng.uniform(30, 60) * hour), "ramp": lambda: int(rng.uniform(24, 60) * hour),
        "missing season": lambda: int(24 * hour), "shape": lambda: int(24 * hour), "burst": lambda: max(6, int(rng.uniform(4, 12) * hour)),
    }  # fmt: skip
    places = np.linspace(0.06, 0.95, len(kinds) + 1)
    out = []
    for kind, a, b in zip(kinds, places[:-1], places[1:], strict=True):
        length = lasts[kind]()
        room = int(n * (b - a)) - length - int(24 * hour)
        first = int(n * a) + int(rng.uniform(0, max(room, 1)))
        if minutes >= 1440:
            length = {"spike": 1, "dip": int(rng.integers(1, 4))}.get(kind, int(rng.uniform(8, 20)))
            first = int(n * a) + int(rng.uniform(0, max(int(n * (b - a)) - length - 30, 1)))
        if kind in ("missing season", "shape"):
            first = int(first // (24 * hour) * (24 * hour))
        if kind in ("dropout", "dip", "stuck", "burst") and family in (
            "gate taps",
            "small taps",
            "ticket pages",
        ):
            # Something is lost only while something is there: by day.
            first = int(first // (24 * hour) * (24 * hour) + rng.uniform(7, 12) * hour)
        out.append((kind, first, first + length))
    return out


def _hurt(rng, mean, plan, unit, minutes, hour, season):  # type: ignore[no-untyped-def]
    """The mean with its trouble in it, and what is done to the values after chance: freezing and noise."""
    is_positive = mean.min() >= 0
    mean = mean.copy()
    late: list[tuple[str, int, int, float]] = []
    for kind, a, b in plan:
        part, u = slice(a, b), unit[a:b]
        strength = rng.uniform(3.0, 7.0)
        if kind == "spike":
            mean[part] += max(1.5, strength) * 1.5 * u
        elif kind == "dip":
            mean[part] -= strength * u
        elif kind == "dropout":
            mean[part] = 0.0
        elif kind == "step":
            mean[part] += rng.choice([1] if is_positive else [-1, 1]) * 0.75 * strength * u
        elif kind == "ramp":
            mean[part] += np.linspace(0, 1.1 * strength, b - a) * u
        elif kind == "missing season" and season is not None:
            mean[part] += np.mean(season) - season[a:b]
        elif kind == "shape" and season is not None:
            mean[part] = (
                mean[part] - season[a:b] + np.roll(season[a:b], int(rng.uniform(3, 6) * 60 / minutes))
            )
        else:
            late.append((kind, a, b, strength))

    def after(values: np.ndarray) -> np.ndarray:
        values = values.copy()
        for kind, a, b, strength in late:
            if kind == "stuck":
                values[a:b] = values[a]
            else:
                values[a:b] += 0.6 * strength * rng.standard_t(5, b - a) * unit[a:b]
                if is_positive:
                    values[a:b] = np.maximum(values[a:b], 0)
                if np.all(np.delete(values, slice(a, b)) == np.round(np.delete(values, slice(a, b)))):
                    values[a:b] = np.round(values[a:b])
        return values

    return np.maximum(mean, 0) if is_positive else mean, after
