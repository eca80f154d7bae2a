"""What comes next: a forecast with its interval, and when a limit is reached, with how sure."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.special import ndtri

from watchtide.core.expect import carrying, expectation, onward, passage, quantile
from watchtide.core.expect.frame import DAY_NS
from watchtide.core.judge import promises, watches
from watchtide.core.series import Floats, Ints, Series, gridding, transforms
from watchtide.core.series.steps import Cadence
from watchtide.engine.prepare import choices, preparing, training
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import by_unit
from watchtide.plan import Plan
from watchtide.tables import clock

MOST_STEPS = 100_000
# With which chances the time at which a limit is reached is told.
CHANCES = (0.1, 0.5, 0.9)


@dataclass(frozen=True)
class Forecast:
    """Arrays of (h,): times, expected, lower, upper in the unit of the values; growth : of the errors with the horizon.

    spread : with its growth; noise : (m,) the stream's own held-out scores; block : samples of it that are drawn together.
    """

    key: str
    times: Ints
    expected: Floats
    lower: Floats
    upper: Floats
    spread: Floats
    growth: Floats
    noise: Floats
    block: int
    notes: tuple[str, ...]


def forecast(
    stream: Input, plan: Plan, steps: int, *, skip_last: int = 0, interval: float = 0.95
) -> Forecast:
    """The next `steps` samples after the last one (less `skip_last` of them), with an interval.

    The interval is the spread times what this stream's own held-out scores reach with that chance, times how errors grew with
    the horizon when the same forecast was made from six places in the past. Raises ValueError for steps, skip_last or
    interval out of range, and for baselines that only judge what has come (rolling, trailing, isolation).
    """
    _refuse(plan, steps, interval)
    prepared = preparing.prepare(stream, plan)
    n = len(prepared.series) - skip_last
    if skip_last < 0 or n < 2:
        raise ValueError(
            f"{skip_last} samples to skip leave {max(n, 0)} of {len(prepared.series)}; skip fewer"
        )
    ready = _with_future(stream, prepared, n, steps)
    known, denominator = ready.series, ready.denominator
    usable, notes = training.usable_samples(ready, plan, [])
    transform = training.transform_of(plan, known, usable, by_row=prepared.by_row)
    frame = preparing.frame_of(ready, transform, usable, usable)
    part = frame.part(0, n)
    choice, _, first = choices.choice_of(part, ready, plan)
    notes = [*notes, *training.ignored_columns(choice, ready)]
    got = expectation.expect(frame, choice, stop=n, denominator=denominator, first=first)
    if got.model is None or got.training is None:
        raise ValueError("no observed sample to forecast from")
    if carrying.follows_by_itself(got.model) or choice.kind == "trailing":
        known_d = None if denominator is None else denominator[:n]
        carry, beyond = carrying.measure(part, got.model, got.held[:n], steps, known_d), got.expected[n:]
    else:
        chosen = onward.choose(part, got.model, got.training, frame, got.held[:n], denominator)
        carry, beyond = chosen.carry, chosen.expected
        notes = [*notes, f"beyond the end {chosen.note}"]
    growth = carry.growth_at(np.arange(1, steps + 1))
    ahead = np.r_[got.expected[:n], beyond]
    expected, spread = (x[n:] for x in transforms.back(transform, known.values, ahead, got.spread))
    counted = training.counted_in(frame, got.model).at(slice(n, n + steps))
    held = promises.Held(watches.alone(got.held), got.clean, frame.times, known.step_ns, got.model.grain)
    far = {side: _reach(held, side, interval) for side in ("above", "below")}
    lower = quantile.values_at(-far["below"], expected, growth * spread, counted)
    if choice.law in ("count", "ratio") or np.nanmin(known.values) >= 0:
        lower = np.maximum(lower, 0.0)
    return Forecast(
        key=stream.key,
        times=known.times[n:],
        expected=expected,
        lower=lower,
        upper=quantile.values_at(far["above"], expected, growth * spread, counted),
        spread=spread * growth,
        growth=growth,
        noise=np.where(got.clean, got.held, np.nan)[:n],
        block=max(int(DAY_NS // known.step_ns), 1),
        notes=(*notes, *choice.reasons, *got.notes),
    )


def _refuse(plan: Plan, steps: int, interval: float) -> None:
    """Raise ValueError for what cannot be foretold."""
    if not 1 <= steps <= MOST_STEPS:
        raise ValueError(f"steps must be between 1 and {MOST_STEPS:,}, got {steps}")
    if not 0 < interval < 1:
        raise ValueError(f"interval must be between 0 and 1, got {interval:g}")
    if plan.baseline.kind in ("rolling", "trailing", "isolation"):
        raise ValueError(
            f"a {plan.baseline.kind} baseline says nothing of what has not come; take harmonic, loess or slot"
        )
    if plan.prepare.transform not in ("none", "log", "box-cox", "z-score", "min-max"):
        raise ValueError(
            f"transform {plan.prepare.transform} cannot be carried forward; leave it out for a forecast"
        )
    by_unit.refuse(plan, by_unit.FORECAST)


def _with_future(stream: Input, prepared: preparing.Prepared, n: int, steps: int) -> preparing.Prepared:
    """The first n samples with the bins after them, still missing, and what is known of those."""
    known = _continued(prepared.series.part(0, n), prepared.cadence, steps, stream.zone)
    # What is skipped is not known, of covariates either.
    cut = int(known.ends[n - 1]) if n < len(prepared.series) else None
    columns, names = preparing.beside(stream.until(cut), known)
    denominator = None
    if prepared.denominator is not None:
        usual = float(np.nanmedian(prepared.denominator[:n]))
        denominator = np.r_[prepared.denominator[:n], np.full(steps, usual)]
    return replace(prepared, series=known, columns=columns, names=names, denominator=denominator)


def _reach(held: promises.Held, side: str, interval: float) -> float:
    """Sigmas on a side within which values lie with this chance on both together."""
    tail = None
    if held.count >= promises.LEAST_SCORES:
        tail = promises.tail_of(promises.side_scores(held, side, 2))
    return tail.level_for((1 - interval) / 2) if tail else float(ndtri((1 + interval) / 2))


def _continued(series: Series, way: Cadence, steps: int, zone: str) -> Series:
    """A series with its next `steps` bins, still missing: the next months, working days, local days or even steps."""
    n, step = len(series), series.step_ns
    axis = series.axis[-1] + np.arange(1, steps + 1, dtype=np.int64) * step
    if way.kind in ("months", "workday"):
        labels, closes = gridding.ahead(way, clock.utc_locals(series.times, zone), steps)
        later, ends = clock.localise(labels, zone).times, clock.localise(closes, zone).times
    elif way.is_even and clock.is_calendar(step) and zone != "UTC":
        local = clock.utc_locals(series.times[-1:], zone)[0] + np.arange(1, steps + 1, dtype=np.int64) * step
        later, ends = clock.localise(local, zone).times, clock.localise(local + step, zone).times
    else:
        later = series.times[-1] + np.arange(1, steps + 1, dtype=np.int64) * step
        ends = later + step
    times = np.r_[series.times, later]
    return Series(
        times,
        np.r_[series.values, np.full(steps, np.nan)],
        step,
        clock.utc_offsets(times, zone),
        None if series.axis_ns is None else np.r_[series.axis_ns[:n], axis],
        np.r_[series.ends, ends],
    )


def reaching(f: Forecast, limit: float, *, is_above: bool) -> passage.Passage:
    """When drawn futures first reach a limit."""
    return passage.first_passage(
        f.expected, f.spread / f.growth, f.growth, f.noise, limit, is_above=is_above, block=f.block
    )


def limit_reached(
    f: Forecast, limit: float, *, is_above: bool | None = None, drawn: passage.Passage | None = None
) -> dict[str, Any]:
    """When a limit is reached, and how sure that is, as plain data.

    is_above : which side is past the limit; not stated, the one that the forecast does not begin on. drawn : of `reaching`, where it
    is there already. expected_at : by the expectation itself; earliest_at : by the edge of the
    interval; reached_with : when it has been reached in a tenth, half and nine tenths of drawn futures (`core.expect.passage`), None where they
    are never so many; chance_by_end : share of futures that reach it within the horizon.
    """
    if is_above is None:
        is_above = bool(limit >= f.expected[0])
    if drawn is None:
        drawn = reaching(f, limit, is_above=is_above)
    past = f.expected >= limit if is_above else f.expected <= limit
    edge = f.upper >= limit if is_above else f.lower <= limit

    def stamp(at: int | None) -> str | None:
        return None if at is None else clock.format_time(int(f.times[at]))

    def first(mask: np.ndarray) -> str | None:
        return stamp(int(np.argmax(mask)) if mask.any() else None)

    return {
        "limit": limit,
        "side": "above" if is_above else "below",
        "expected_at": first(past),
        "earliest_at": first(edge),
        "reached_with": {f"{chance:g}": stamp(drawn.at(chance)) for chance in CHANCES},
        "chance_by_end": float(drawn.by[-1]),
    }
