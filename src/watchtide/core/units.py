"""Waveforms judged as wholes: each unit is a row of samples, and one that is rebuilt badly, or is set apart at once, is odd."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.special import ndtri

from watchtide.core.baselines import isolation, networks
from watchtide.core.baselines.networks import Network, Progress
from watchtide.core.scoring.choice import Constraint
from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.spans import f_one, ratio
from watchtide.core.series import Bools, Floats, Strings

KINDS = ("reconstruction", "isolation")
TRAINING, VALIDATION, TEST, LABELLED = "training", "validation", "test", "labelled"
SHARES = (0.6, 0.2)
LEAST_TRAINING = 16
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
    waves: Floats, parts: Strings, kind: str, level: tuple[str, float], *, epochs: int = 30, bottleneck: int = 8,
    patience: int = 5, trees: int = 100, subsample: int = 256, seed: int = 1, progress: Progress | None = None,
) -> UnitModel:  # fmt: skip
    """Learn from the (n, length) units of training what is usual; units of validation stop it and give scores their scale.

    parts : (n,) of each unit, by `split`. level : reading and amount, as a plan states them. No unit of the test, and none
    that is labelled, has a part in anything that is kept.
    Raises ValueError for too few usual units, kinds that judge no units, and a training that diverges.
    """
    if kind not in KINDS:
        raise ValueError(f"a {kind} baseline judges no units: take {' or '.join(KINDS)}")
    length = waves.shape[1]
    whole = ~np.isnan(filled(waves)).any(axis=1)
    training, validation = (whole & (parts == part) for part in (TRAINING, VALIDATION))
    if training.sum() < LEAST_TRAINING or not validation.any():
        raise ValueError(
            f"{int(training.sum())} usual units to train on and {int(validation.sum())} to stop by; it needs {LEAST_TRAINING} and 1: "
            "bring more units, or name with --class only what is not usual"
        )
    rows = filled(waves)
    centre = rows[training].mean(axis=0)
    scale = float(np.std(rows[training] - centre)) or 1.0
    facts: dict[str, Any] = {"scale": scale, "seed": seed, "kind": kind}
    arrays: dict[str, Floats] = {"centre": centre}
    if kind == "reconstruction":
        wide = max(4 * bottleneck, 16)
        parameters = wide * (2 * length + 2 * bottleneck + 2)
        networks.check_size(int(training.sum()), length, parameters, "bottleneck")
        scaled = (rows - centre) / scale
        net = networks.train(
            scaled[training], scaled[training], (scaled[validation], scaled[validation]), (wide, bottleneck, wide),
            epochs=epochs, patience=patience, seed=seed, progress=progress,
        )  # fmt: skip
        arrays |= net.arrays()
        facts |= {"bottleneck": bottleneck, "epochs": len(net.losses), "best_epoch": net.best}
    else:
        grown = isolation.grow(rows[training], trees, subsample, np.random.default_rng(seed))
        arrays["cuts"] = grown
        facts |= {"trees": trees, "subsample": min(subsample, int(training.sum()))}
    model = UnitModel(kind, length, arrays, facts, np.inf, "")
    # Units that trained are rebuilt better than others are: what is usual is read off those that did not.
    usual = _size(model, waves)[validation]
    middle = float(np.median(usual))
    over = usual[usual >= middle] - middle
    facts |= {"middle": middle, "spread": max(1.4826 * float(np.median(over)), 1e-9) if len(over) else 1.0}
    above, note = _level(score(model, waves)[training | validation], score(model, waves)[validation], level)
    return UnitModel(kind, length, arrays, facts, above, note)


def _level(seen: Floats, held: Floats, level: tuple[str, float]) -> tuple[float, str]:
    reading, amount = level
    if reading == "sigmas":
        return amount, "as stated"
    if reading == "share":
        return float(
            np.quantile(seen, 1 - amount)
        ), f"reached by {amount:g} of the units of training and validation"
    if reading == "per-week":
        odds, words = 100.0, "a unit has no week: one usual unit in 100"
    else:
        odds = 1 / (1 - amount) if reading == "interval" else amount
        words = f"one usual unit in {odds:g}"
    if len(held) >= odds:
        return float(np.quantile(held, 1 - 1 / odds)), f"{words}, as the {len(held)} of validation say"
    usual = float(ndtri(1 - 1 / odds))
    return max(usual, float(np.max(held))), (
        f"{words}: {len(held)} units of validation are too few to say, so at least the largest of them and a Gaussian's"
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
    """(n, length) what the network gives back for each unit. Raises ValueError for a kind that rebuilds nothing."""
    if model.kind != "reconstruction":
        raise ValueError(f"a {model.kind} baseline rebuilds nothing")
    net = Network.of(model.arrays, model.facts["best_epoch"])
    centre, scale = model.arrays["centre"], model.facts["scale"]
    with networks.one_thread():
        return np.asarray(net((filled(waves) - centre) / scale) * scale + centre)


def _size(model: UnitModel, waves: Floats) -> Floats:
    """(n,) how odd each unit is, on a scale of its kind: log of the error of rebuilding, or the strength of isolation."""
    if model.kind == "reconstruction":
        off = (rebuilt(model, waves) - waves) / model.facts["scale"]
        known = np.maximum(np.sum(~np.isnan(off), axis=1), 1)
        error = np.sqrt(np.nansum(off**2, axis=1) / known)
        out: Floats = np.log(np.maximum(error, 1e-12))
        out[np.isnan(filled(waves)).any(axis=1)] = np.nan
        return out
    rows = filled(waves)
    whole = ~np.isnan(rows).any(axis=1)
    out = np.full(len(rows), np.nan)
    if whole.any():
        own = np.ascontiguousarray(rows[whole])
        out[whole] = isolation.strengths(own, model.arrays["cuts"], model.facts["subsample"])
    return out


def score(model: UnitModel, waves: Floats) -> Floats:
    """(n,) size in robust sigmas of the usual units that did not train; under their middle 0. NaN for one mostly missing.

    Raises ValueError for units of another length.
    """
    if waves.shape[1] != model.length:
        raise ValueError(f"units of {waves.shape[1]} samples; the model judges units of {model.length}")
    return np.asarray(np.maximum((_size(model, waves) - model.facts["middle"]) / model.facts["spread"], 0.0))


def flagged(model: UnitModel, scores: Floats) -> Bools:
    return np.asarray(scores >= model.level)


def confusion(scores: Floats, normal: Bools, level: float) -> dict[str, Any]:
    """Counts of units at a level, and what they make."""
    seen = ~np.isnan(scores)
    odd = scores >= level
    tp, fp = int(np.sum(seen & odd & ~normal)), int(np.sum(seen & odd & normal))
    fn, tn = int(np.sum(seen & ~odd & ~normal)), int(np.sum(seen & ~odd & normal))
    precision, recall, specificity = ratio(tp, tp + fp), ratio(tp, tp + fn), ratio(tn, tn + fp)
    return {
        "tp": tp, "fp": fp, "fn": fn, "tn": tn, "precision": precision, "precision_ci": wilson(tp, tp + fp), "recall": recall,
        "recall_ci": wilson(tp, tp + fn), "specificity": specificity, "specificity_ci": wilson(tn, tn + fp),
        "accuracy": ratio(tp + tn, tp + fp + fn + tn), "f1": f_one(precision, recall),
    }  # fmt: skip


def average_precision(scores: Floats, normal: Bools) -> float | None:
    """Mean precision over the units that are not usual, taken from the largest score down; ties count together."""
    seen = ~np.isnan(scores)
    s, odd = scores[seen], ~normal[seen]
    if not odd.any():
        return None
    total = 0.0
    for level in np.unique(s[odd]):
        at = s >= level
        total += float(np.sum(odd & (s == level))) * float(np.sum(odd & at)) / float(np.sum(at))
    return total / float(np.sum(odd))


def best_level(scores: Floats, normal: Bools, parts: Strings, constraint: Constraint) -> dict[str, Any]:
    """The best level under a constraint: chosen on validation and labelled units, with the figures of the test beside.

    Raises ValueError for a constraint on weeks, and where there is no usual or no other unit to choose by.
    """
    if constraint.max_false_per_week is not None:
        raise ValueError("a unit has no week: state a least recall, a most gap, or both costs")
    chosen_on = np.isin(parts, (VALIDATION, LABELLED)) & ~np.isnan(scores)
    usual, odd = scores[chosen_on & normal], scores[chosen_on & ~normal]
    if not len(usual) or not len(odd):
        raise ValueError(
            f"{len(usual)} usual units of validation and {len(odd)} labelled ones to choose a level by: it needs both"
        )
    # Every level between two scores that tells units apart, and one over all of them.
    values = np.unique(np.r_[usual, odd])
    levels: Floats = np.r_[
        values[0], (values[1:] + values[:-1]) / 2, values[-1] + max(abs(values[-1]) * 1e-6, 1e-9)
    ]
    recall: Floats = 1 - np.searchsorted(np.sort(odd), levels) / len(odd)
    specificity: Floats = np.asarray(np.searchsorted(np.sort(usual), levels) / len(usual))
    meets: Bools
    far: Floats
    hits, false = recall * len(odd), (1 - specificity) * len(usual)
    if constraint.min_recall is not None:
        meets, far = recall >= constraint.min_recall - 1e-12, constraint.min_recall - recall
        gain = specificity
    elif constraint.max_gap is not None:
        gap = np.abs(recall - specificity)
        meets, far, gain = gap <= constraint.max_gap + 1e-12, gap, recall + specificity
    else:
        assert constraint.cost_miss is not None and constraint.cost_false is not None
        cost = constraint.cost_miss * (len(odd) - hits) + constraint.cost_false * false
        meets, far, gain = np.ones(len(levels), np.bool_), cost, -cost
    is_met = bool(meets.any())
    worth = np.where(meets, gain, -np.inf) if is_met else -far
    # Of equal ones the middle: as far from the usual as from the others.
    best = np.flatnonzero(worth >= worth.max() - 1e-12)
    level = float(levels[best[len(best) // 2]])
    test = parts == TEST
    return {
        "level": level,
        "is_met": is_met,
        "by": "units",
        "chosen_on": confusion(scores[chosen_on], normal[chosen_on], level),
        "test": confusion(scores[test], normal[test], level),
        "curve": [
            {"level": float(x), "recall": float(r), "specificity": float(s)}
            for x, r, s in zip(levels, recall, specificity, strict=True)
        ],
    }
