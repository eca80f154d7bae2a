"""From a frame and a choice of baseline to what each sample was expected to be, and how far it may stray."""

import numpy as np

from watchtide.core.expect import baselines, regimes, runs, trouble
from watchtide.core.expect.applying import judge, score_of, spread_at, spread_groups
from watchtide.core.expect.baselines import WHOLE_WINDOWS
from watchtide.core.expect.fitting import fit
from watchtide.core.expect.frame import Frame
from watchtide.core.expect.records import Choice, Expectation, Model, Training
from watchtide.core.series import Bools, Floats


def expect(
    frame: Frame,
    choice: Choice,
    *,
    stop: int | None = None,
    denominator: Floats | None = None,
    first: tuple[Model, Training] | None = None,
    has_level: bool = True,
) -> Expectation:
    """Fit the baseline on the usable samples before `stop` and judge every sample by it.

    frame : (n,) samples, usable ones observed and not left out; stop : index of the first sample after training, None
    trains on all; denominator : (n,) of ratios; first : the plain fit of the training part, where it is made already; has_level : whether the
    values without their seasons are wanted. A step that lasts `settle_samples` becomes the new normal: the
    seasons are fitted with it taken out, and the expectation follows it that much later.
    Raises ValueError for an unknown kind, or seasons and options the baseline cannot use.
    """
    n = len(frame)
    stop = n if stop is None else stop
    part = frame.part(0, stop)
    if not part.usable.any():
        return _blank(frame, "no observed sample to train on: nothing is judged")
    d = None if denominator is None else denominator[:stop]
    model, training = first or fit(part, choice, d)
    suspect = suspects(model, part, training, d)
    if suspect.any():
        model, training = fit(part, choice, d, suspect=suspect, like=training)
    parts, expected_now = judge(model, frame, training)
    groups = spread_groups(frame, model)
    wide = spread_at(model, parts, expected_now, groups, denominator, frame)
    wide_then = spread_at(model, parts, training.held, groups[:stop], d, part)
    held_then = np.where(training.clean, score_of(model, part, training.held, wide_then), np.nan)
    after = n - stop
    clean = np.r_[training.clean, np.zeros(after, np.bool_)]
    return Expectation(
        expected=expected_now,
        spread=wide,
        held=np.r_[held_then, np.full(after, np.nan)],
        clean=clean,
        trend=parts.trend,
        seasons=parts.seasons,
        more=parts.more,
        level_series=regimes.season_free(frame, choice.periods, clean) if has_level else np.full(n, np.nan),
        shift_candidates=regimes.lasting(training.steps, training.changes, choice.settle_samples),
        settling=np.r_[training.steps != training.delayed, np.zeros(after, np.bool_)],
        groups=model.slot_of(groups),
        group_count=model.groups,
        isolated=isolated_of(model, frame),
        model=model,
        training=training,
        notes=(model.spread.reason, *_notes_of(training)),
    )


def suspects(model: Model, part: Frame, training: Training, denominator: Floats | None = None) -> Bools:
    """(m,) samples of a training part that look like trouble lasting over several samples, labelled or not.

    Judged by held-out values with every accepted step taken as known, so that a new normal is no trouble for ever.
    """
    if model.choice.kind in ("fixed", "trailing"):
        return np.zeros(len(part), np.bool_)
    if training.is_rare:
        # What happens is seldom here, which alone makes it no trouble.
        return np.zeros(len(part), np.bool_)
    groups = spread_groups(part, model)
    spread_then = model.spread.at(training.held, groups, denominator)
    z = np.where(part.usable, score_of(model, part, training.held, spread_then), np.nan)
    groups = model.slot_of(groups)
    equal = runs.equal_chances(part.values, part.usable, groups, model.groups)
    likely = runs.chance_of_equal(equal, groups, part.values, training.held, part.event)
    run, _ = runs.surprises(part.values, likely)
    found = trouble.trouble(z, part.step_ns, run) & part.usable
    return found & ~part.on_known_day if model.choice.kind == "harmonic" else found


def isolated_of(model: Model, frame: Frame) -> Floats | None:
    """(n,) how unusual the window that ends at each sample is, by kinds that judge whole windows; None for others."""
    if model.choice.kind not in WHOLE_WINDOWS:
        return None
    return np.asarray(baselines.module(model.choice.kind).strength(model.fitted, frame), np.float64)


def _notes_of(training: Training) -> list[str]:
    notes = []
    if np.any(training.steps != training.steps[:1]):
        notes.append("a lasting step became the new normal after it had settled")
    if training.left_out:
        notes.append(
            f"{training.left_out} samples of training look like trouble and are left out: windows far from the rest, and "
            "levels that did not last or have not lasted yet"
        )
    return notes


def _blank(frame: Frame, note: str) -> Expectation:
    n = len(frame)
    blank, none = np.full(n, np.nan), np.zeros(n, np.bool_)
    return Expectation(
        expected=blank,
        spread=blank,
        held=blank,
        clean=none,
        trend=blank,
        seasons=np.zeros((0, n)),
        more={},
        level_series=blank,
        shift_candidates=np.empty(0, np.int64),
        settling=none,
        groups=np.zeros(n, np.int64),
        group_count=1,
        isolated=None,
        model=None,
        training=None,
        notes=(note,),
    )
