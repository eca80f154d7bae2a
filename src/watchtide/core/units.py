"""Waveforms judged as wholes: each unit is a row of samples, and one that is rebuilt badly, or is set apart at once, is odd."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.special import ndtri

from watchtide.core.expect.baselines import isolation, networks
from watchtide.core.expect.baselines.networks import Network
from watchtide.core.scoring import choice, samples
from watchtide.core.scoring.choice import Constraint
from watchtide.core.series import Bools, Floats, Strings

PARTS = TRAINING, VALIDATION, TEST, LABELLED = "training", "validation", "test", "labelled"
SHARES = (0.6, 0.2)
LEAST_TRAINING = 16
# Kinds that judge units, and the options of a plan that each takes for them.
OPTIONS = {
    "reconstruction": ("bottleneck", "epochs", "patience", "seed"),
    "isolation": ("trees", "subsample", "seed"),
}
KINDS = tuple(OPTIONS)
# Least width of the layers around a bottleneck.
LEAST_WIDE = 16
# What a rate per week stands for.
USUAL_ODDS = 100.0
# A unit of validation from here on is odd itself, labelled or not: it must not set the level by which it is found.
ODD_SIGMAS = 6.0
# Words of a class column that name a usual unit.
NORMAL = frozenset({"", "0", "0.0", "false", "no", "normal"})


@dataclass(frozen=True)
class UnitModel:
    """What judges units of `length` samples: plain arrays and facts, as a `Fitted` has them. level : score from which on one is
    flagged; note : how it was read."""

    kind: str
    length: int
    arrays: dict[str, Floats]
    facts: dict[str, Any]
    level: float
    note: str


def is_normal(classes: Sequence[str | None]) -> Bools:
    """(n,) whether each class names a usual unit."""
    return np.array([(c or "").strip().lower() in NORMAL for c in classes], np.bool_)


def split(normal: Bools, shares: tuple[float, float] = SHARES) -> Strings:
    """(n,) part of each unit by its place: the first ones train, the next show when to stop, the last are the test.

    Units that are not normal never train: before the test they are `labelled`, in it they are test like the others.
    """
    n = len(normal)
    first, second = round(shares[0] * n), round((shares[0] + shares[1]) * n)
    out = np.full(n, TEST, dtype="U10")
    out[:second] = np.where(normal[:second], VALIDATION, LABELLED)
    out[:first] = np.where(normal[:first], TRAINING, LABELLED)
    return out


def fit(
    waves: Floats,
    parts: Strings,
    kind: str,
    level: tuple[str, float],
    **options: int,
) -> UnitModel:
    """Learn from the (n, length) units of training what is usual; those of validation stop it and give scores their scale.

    parts : (n,) of each unit, by `split`; level : reading and amount, as a plan states them; options : those of `OPTIONS`.
    No unit of the test, and none that is labelled, has a part in anything that is kept.
    Raises ValueError for too few usual units, kinds that judge no units, and a training that diverges.
    """
    if kind not in KINDS:
        raise ValueError(f"a {kind} baseline judges no units: take {' or '.join(KINDS)}")
    rows = filled(waves)
    whole = ~np.isnan(rows).any(axis=1)
    training, validation = (whole & (parts == part) for part in (TRAINING, VALIDATION))
    if training.sum() < LEAST_TRAINING or not validation.any():
        raise ValueError(
            f"{int(training.sum())} usual units to train on and {int(validation.sum())} to stop by; it needs {LEAST_TRAINING} and 1: "
            "bring more units, or label only those that are not usual"
        )
    centre = rows[training].mean(axis=0)
    scale = float(np.std(rows[training] - centre)) or 1.0
    scaled = (rows - centre) / scale
    learnt = _fit_network if kind == "reconstruction" else _fit_trees
    arrays, facts = learnt(scaled[training], scaled[validation], **options)
    model = UnitModel(kind, waves.shape[1], {"centre": centre} | arrays, {"scale": scale} | facts, np.inf, "")
    # Units that trained are rebuilt better than others: the scale is that of validation.
    size = _size(model, waves)
    middle = float(np.median(size[validation]))
    over = size[validation & (size >= middle)] - middle
    model.facts.update(middle=middle, spread=max(1.4826 * float(np.median(over)), 1e-9))
    least, note = level_of(_in_sigmas(model, size), parts, level)
    return replace(model, level=least, note=note)


Learnt = tuple[dict[str, Floats], dict[str, Any]]


def _fit_network(training: Floats, validation: Floats, bottleneck: int = 8, **schedule: int) -> Learnt:
    wide = max(4 * bottleneck, LEAST_WIDE)
    layers = wide, bottleneck, wide
    given, seen = (networks.Examples(rows, rows) for rows in (training, validation))
    networks.check_size(given, layers, "bottleneck")
    found = networks.train(given, seen, layers, networks.Schedule(**schedule))
    facts = {"bottleneck": bottleneck, "best_epoch": found.best, "epoch_losses": found.losses}
    return found.net.arrays(), facts


def _fit_trees(
    training: Floats,
    validation: Floats,
    trees: int = 100,
    subsample: int = 256,
    seed: int = 1,
) -> Learnt:
    cuts = isolation.grow(training, trees, subsample, np.random.default_rng(seed))
    return {"cuts": cuts}, {"subsample": min(subsample, len(training))}


def level_of(scores: Floats, parts: Strings, level: tuple[str, float]) -> tuple[float, str]:
    """The score from which on units are flagged, and how it was read: off units of training and validation alone.

    scores, parts : (n,), NaN where a unit is mostly missing; level : reading and amount, as a plan states them.
    """
    reading, amount = level
    judged = ~np.isnan(scores)
    validation = scores[judged & (parts == VALIDATION)]
    odd = validation >= ODD_SIGMAS
    if reading not in ("sigmas", "share") and odd.any() and not odd.all():
        least, words = level_of(np.where(scores >= ODD_SIGMAS, np.nan, scores), parts, level)
        return least, f"{words}, without {int(odd.sum())} that are odd themselves"
    usual = scores[judged & ((parts == TRAINING) | (parts == VALIDATION))]
    if reading == "sigmas":
        return amount, "as stated"
    if reading == "share":
        words = f"reached by {amount:g} of the units of training and validation"
        return float(np.quantile(usual, 1 - amount)), words
    if reading == "per-week":
        odds, words = USUAL_ODDS, f"units have no weeks: one usual unit in {USUAL_ODDS:g}"
    else:
        odds = 1 / (1 - amount) if reading == "interval" else amount
        words = f"one usual unit in {odds:g}"
    count = len(validation)
    if count >= odds:
        return float(np.quantile(validation, 1 - 1 / odds)), f"{words}, by the {count} of validation"
    least = max(float(ndtri(1 - 1 / odds)), float(np.max(validation)))
    return (
        least,
        f"{words}: {count} of validation are too few, so the largest of them and a Gaussian's at least",
    )


def filled(waves: Floats) -> Floats:
    """(n, length) units with what is missing drawn straight across; one with under half of its samples stays missing."""
    missing = np.isnan(waves)
    out: Floats = waves.copy()
    at = np.arange(waves.shape[1])
    for i in np.flatnonzero(missing.any(axis=1)):
        own = ~missing[i]
        out[i] = np.interp(at, at[own], waves[i, own]) if own.sum() * 2 >= len(at) else np.nan
    return out


def rebuilt(model: UnitModel, waves: Floats) -> Floats:
    """(n, length) units as the network rebuilds them. Raises ValueError for a kind without one."""
    if model.kind != "reconstruction":
        raise ValueError(f"a {model.kind} baseline rebuilds nothing")
    with networks.one_thread():
        scaled = Network.of(model.arrays)(_scaled(model, waves))
    return np.asarray(scaled * model.facts["scale"] + model.arrays["centre"])


def expected(model: UnitModel, waves: Floats) -> Floats:
    """(n, length) what each unit is expected to be: as the network rebuilds it, or the mean unit of training for trees."""
    if model.kind == "reconstruction":
        return rebuilt(model, waves)
    return np.tile(model.arrays["centre"], (len(waves), 1))


def spread(off: Floats, parts: Strings) -> Floats:
    """(length,) usual size of the error at each place, and never nothing: 1.4826 times its median over units of validation.

    off : (n, length) errors, NaN where there is none.
    """
    seen = np.abs(off[parts == VALIDATION])
    with np.errstate(invalid="ignore"):
        each = 1.4826 * np.nanmedian(seen, axis=0) if len(seen) else np.zeros(off.shape[1])
    usual = float(np.nanmedian(each)) if np.any(np.isfinite(each)) else 0.0
    return np.asarray(np.maximum(np.nan_to_num(each, nan=usual), max(0.1 * usual, 1e-12)))


def _scaled(model: UnitModel, waves: Floats) -> Floats:
    return np.asarray((filled(waves) - model.arrays["centre"]) / model.facts["scale"])


def _size(model: UnitModel, waves: Floats) -> Floats:
    """(n,) how unusual each unit is by its kind: log error of rebuilding, or strength of isolation; NaN for one mostly missing."""
    rows = _scaled(model, waves)
    whole = ~np.isnan(rows).any(axis=1)
    out = np.full(len(rows), np.nan)
    if not whole.any():
        return out
    if model.kind == "reconstruction":
        off = (rebuilt(model, waves[whole]) - waves[whole]) / model.facts["scale"]
        out[whole] = np.log(np.maximum(np.sqrt(np.nanmean(off**2, axis=1)), 1e-12))
    else:
        cuts, subsample = model.arrays["cuts"], model.facts["subsample"]
        out[whole] = isolation.strengths(np.ascontiguousarray(rows[whole]), cuts, subsample)
    return out


def _in_sigmas(model: UnitModel, size: Floats) -> Floats:
    return np.asarray(np.maximum((size - model.facts["middle"]) / model.facts["spread"], 0.0))


def score(model: UnitModel, waves: Floats) -> Floats:
    """(n,) size in robust sigmas of the units of validation, 0 below their median; NaN for one mostly missing.

    Raises ValueError for units of another length.
    """
    if waves.shape[1] != model.length:
        raise ValueError(f"units of {waves.shape[1]} samples; the model judges units of {model.length}")
    return _in_sigmas(model, _size(model, waves))


def flagged(model: UnitModel, scores: Floats) -> Bools:
    return np.asarray(scores >= model.level)


def confusion(scores: Floats, normal: Bools, level: float) -> dict[str, Any]:
    """Counts of judged units at a level, and their ratios with intervals."""
    judged, flags = ~np.isnan(scores), scores >= level
    counts = (
        int(np.sum(judged & has_flag & is_usual))
        for has_flag, is_usual in ((flags, ~normal), (flags, normal), (~flags, ~normal), (~flags, normal))
    )
    return samples.figures(*counts)


def counts(scores: Floats, normal: Bools, levels: Floats) -> choice.Tally:
    """Confusion of units at each of these levels; one that is not judged counts nowhere. scores, normal : (n,)."""
    judged = ~np.isnan(scores)
    usual, odd = np.sort(scores[judged & normal]), np.sort(scores[judged & ~normal])
    below, missed = np.searchsorted(usual, levels), np.searchsorted(odd, levels)
    return choice.Tally.of_points(len(odd) - missed, len(usual) - below, missed, below)


def best_level(scores: Floats, normal: Bools, parts: Strings, constraint: Constraint) -> dict[str, Any]:
    """The best level under a constraint: chosen on validation and labelled units, with the figures of the test beside.

    Raises ValueError for a constraint on weeks, and where there is no usual or no other unit to choose by.
    """
    if constraint.max_false_per_week is not None:
        raise ValueError("units have no weeks: state a least recall, a most gap, or both costs")
    chosen_on = np.isin(parts, (VALIDATION, LABELLED)) & ~np.isnan(scores)
    usual, odd = int(np.sum(chosen_on & normal)), int(np.sum(chosen_on & ~normal))
    if not usual or not odd:
        raise ValueError(
            f"{usual} usual units of validation and {odd} labelled ones to choose a level by: it needs both"
        )
    # Midway between adjacent scores, and one above all of them.
    values = np.unique(scores[chosen_on])
    levels: Floats = np.r_[
        values[0], (values[1:] + values[:-1]) / 2, values[-1] + max(abs(values[-1]) * 1e-6, 1e-9)
    ]
    each = counts(scores[chosen_on], normal[chosen_on], levels)
    best, nearest = choice.choose(each, constraint, "points")
    level = float(levels[nearest if best is None else best])
    test = parts == TEST
    return {
        "level": level,
        "is_met": best is not None,
        "by": "units",
        "chosen_on": confusion(scores[chosen_on], normal[chosen_on], level),
        "test": confusion(scores[test], normal[test], level),
        "curve": [
            {"level": float(x), "recall": float(1 - m / odd), "specificity": float(b / usual)}
            for x, m, b in zip(levels.tolist(), each.point_fn, each.point_tn, strict=True)
        ],
    }
