"""Models of waveforms in a file: plain arrays and JSON in a zip, as those of streams; docs/formats.md has the form."""

import json
import math
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from watchtide import __version__
from watchtide.core.expect.baselines.networks import Network
from watchtide.core.units import KINDS, UnitModel
from watchtide.engine.keep import saved
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.plan import Plan
from watchtide.plan.text import from_data
from watchtide.tables.problems import TableError

FORMAT = "watchtide units 1"


class Loss(NamedTuple):
    """Mean squared error after an epoch, and whether it is the one kept."""

    series: str
    epoch: int
    training: float
    validation: float
    is_best: bool


def write(model: UnitModel, plan: Plan) -> bytes:
    head = {
        "format": FORMAT,
        "version": __version__,
        "kind": model.kind,
        "length": model.length,
        "facts": model.facts,
        "level": model.level if math.isfinite(model.level) else None,
        "note": model.note,
        "plan": plan.as_data(),
        "arrays": sorted(model.arrays),
    }
    return zipped("model.json", head, {k: np.asarray(v, np.float64) for k, v in model.arrays.items()})


def is_of_units(path: str) -> bool:
    """Whether a file holds a model of waveforms; False also for what is no model, which `saved.read` refuses."""
    try:
        with zipfile.ZipFile(path) as file:
            return bool(json.loads(file.read("model.json"))["format"] == FORMAT)
    except (OSError, KeyError, TypeError, ValueError, zipfile.BadZipFile):
        return False


def read(path: str) -> tuple[UnitModel, Plan]:
    """The model of a file and its plan. Raises TableError for one that is damaged or contradicts itself."""
    try:
        with zipfile.ZipFile(path) as file:
            if sum(x.file_size for x in file.infolist()) > saved.MOST_BYTES:
                raise ValueError("unpacks to more than 1 GB")
            head = json.loads(file.read("model.json"))
            arrays = {}
            for name in head["arrays"]:
                with file.open(f"{name}.npy") as member:
                    arrays[str(name)] = np.asarray(read_array(member), np.float64)
        level = math.inf if head["level"] is None else float(head["level"])
        model = UnitModel(
            str(head["kind"]), int(head["length"]), arrays, dict(head["facts"]), level, str(head["note"])
        )
        _check(model)
        return model, from_data(head["plan"])
    except (OSError, KeyError, TypeError, ValueError, zipfile.BadZipFile) as error:
        raise TableError(
            Path(path).name,
            "",
            f"is no whole model of units: {error}",
            "save the model anew with scan --wave --save",
        ) from error


def _check(model: UnitModel) -> None:
    """Raise ValueError where the arrays do not fit one another: a stranger's file must not crash what reads it."""
    if model.kind not in KINDS:
        raise ValueError(f"kind {model.kind} judges no units")
    float(model.facts["middle"])
    has_scales = all(float(model.facts[name]) > 0 for name in ("scale", "spread"))
    if model.arrays["centre"].shape != (model.length,) or not has_scales:
        raise ValueError("its centre or scale does not fit its length")
    if model.kind == "isolation":
        cuts = model.arrays["cuts"]
        if cuts.ndim != 3 or cuts.shape[2] != 4 or not np.isfinite(cuts).all():
            raise ValueError("its trees have no such form")
        nodes, split = cuts.shape[1], cuts[:, :, 3] > 0
        if np.any(split[:, (nodes - 1) // 2 :]) or np.any(
            (cuts[:, :, 0] < 0) | (cuts[:, :, 0] >= model.length)
        ):
            raise ValueError("its trees lead nowhere")
        if np.any((cuts[:, :, 2] < 0) | (cuts[:, :, 2] > int(model.facts["subsample"]))):
            raise ValueError("its trees hold more rows than they grew on")
        return
    Network.of(model.arrays).check(model.length, model.length)


def losses_of(path: str) -> Iterator[Loss]:
    """The losses of every learned model of a file, epoch by epoch."""
    if is_of_units(path):
        yield from _losses("", read(path)[0].facts)
        return
    for one in saved.read(path):
        yield from _losses(one.key, one.model.fitted.facts)


def _losses(key: str, facts: dict[str, Any]) -> Iterator[Loss]:
    for epoch, (training, validation) in enumerate(facts.get("epoch_losses", ()), start=1):
        yield Loss(key, epoch, training, validation, epoch == facts["best_epoch"])
