"""Models of waveforms in a file: plain arrays and JSON in a zip, as those of streams; docs/formats.md has the form."""

import json
import math
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from watchtide import __version__
from watchtide.core.baselines.networks import Network
from watchtide.core.units import KINDS, UnitModel
from watchtide.engine import saved
from watchtide.engine.arrays import read_array, zipped
from watchtide.plan import Plan
from watchtide.plan.text import from_data
from watchtide.tables.problems import TableError

FORMAT = "watchtide units 1"

Loss = tuple[str, int, float, float, bool]


def write(model: UnitModel, plan: Plan) -> bytes:
    head = {
        "format": FORMAT, "version": __version__, "kind": model.kind, "length": model.length, "facts": model.facts,
        "level": model.level if math.isfinite(model.level) else None, "note": model.note, "plan": plan.as_data(),
        "arrays": sorted(model.arrays),
    }  # fmt: skip
    return zipped("model.json", head, {k: np.asarray(v, np.float64) for k, v in model.arrays.items()})


def is_of_units(path: str) -> bool:
    """Whether a file holds a model of waveforms; False for what is no model at all, which others refuse."""
    head = _head(path)
    return head is not None and head.get("format") == FORMAT


def _head(path: str) -> dict[str, Any] | None:
    try:
        with zipfile.ZipFile(path) as file:
            return dict(json.loads(file.read("model.json")))
    except (OSError, KeyError, ValueError, zipfile.BadZipFile):
        return None


def read(path: str) -> tuple[UnitModel, Plan]:
    """The model of a file and its plan. Raises TableError for one that is damaged, or says what cannot be."""
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
    centre = model.arrays["centre"]
    if (
        centre.shape != (model.length,)
        or not float(model.facts["spread"]) > 0
        or not float(model.facts["scale"]) > 0
    ):
        raise ValueError("its centre or scale does not fit its length")
    float(model.facts["middle"])
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
    if model.kind not in KINDS:
        raise ValueError(f"kind {model.kind} judges no units")
    net = Network.of(model.arrays, int(model.facts["best_epoch"]))
    net.check(model.length)
    if len(net.biases[-1]) != model.length:
        raise ValueError("it gives back units of another length")


def losses_of(path: str) -> Iterator[Loss]:
    """(series, epoch, training, validation, whether it is the best) of every learned model of a file."""
    if is_of_units(path):
        model, _ = read(path)
        yield from _losses("", model.arrays, model.facts)
        return
    for one in saved.read(path):
        yield from _losses(one.key, one.model.fitted.arrays, one.model.fitted.facts)


def _losses(key: str, arrays: dict[str, Any], facts: dict[str, Any]) -> Iterator[Loss]:
    for i, (training, validation) in enumerate(arrays.get("losses", np.zeros((0, 2))).tolist(), start=1):
        yield key, i, training, validation, i == facts.get("best_epoch")
