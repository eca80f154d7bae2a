"""Stage outputs on disk: a cache with a size cap, safe to delete at any moment."""

import contextlib
import json
import os
import tempfile
import zipfile
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np

from watchtide.core.expect.quantile import Counted
from watchtide.core.judge import watches
from watchtide.core.series import Series
from watchtide.engine.keep import arrays
from watchtide.engine.scan.based import Baselined, InForce, Units

_ARRAYS = ("expected", "spread", "trend", "seasons", "level_series", "clean", "shift_candidates")
# Records of arrays, kept under the names of both.
_RECORDS: dict[str, Any] = {
    "counted": Counted,
    "evidence": watches.Evidence,
    "held_out": watches.Evidence,
    "in_force": InForce,
    "units": Units,
}
_SMALL = ("key", "zone", "train_stop", "stream_spread", "found_seasons", "resolved", "notes", "mode")
# The fitted model is made anew where it is to be saved.
_NOT_KEPT = ("model", "transform", "watch", "carry")
assert {f.name for f in fields(Baselined)} == {*_ARRAYS, *_RECORDS, *_SMALL, *_NOT_KEPT, "series"}


def load(folder: Path, digest: str) -> Baselined | None:
    """The kept stage, or None where there is none or it cannot be read."""
    path = folder / f"{digest}.npz"
    try:
        kept = arrays.load(path)
        small: dict[str, Any] = json.loads(str(kept["small"]))
        axis, ends = (kept.get(name) for name in ("axis_ns", "ends_ns"))
        series = Series(
            kept["times"], kept["values"], int(small.pop("step_ns")), kept["offsets_ns"], axis, ends
        )
        parts = {name: kept[name] for name in _ARRAYS}
        for name, kind in _RECORDS.items():
            parts[name] = kind(**{f.name: kept[f"{name}.{f.name}"] for f in fields(kind)})
    except (OSError, ValueError, KeyError, zipfile.BadZipFile, EOFError):
        return None
    with contextlib.suppress(OSError):
        os.utime(path)
    small["found_seasons"] = tuple((float(p), float(s)) for p, s in small["found_seasons"])
    small["notes"] = tuple(small["notes"])
    return Baselined(series=series, **parts, **small)


def keep(folder: Path, digest: str, base: Baselined, *, most_bytes: int) -> None:
    """Keep a stage; the oldest used go when the folder grows over its cap."""
    folder.mkdir(parents=True, exist_ok=True)
    small = {name: getattr(base, name) for name in _SMALL} | {"step_ns": base.series.step_ns}
    stamps: dict[str, Any] = {"axis_ns": base.series.axis_ns, "ends_ns": base.series.ends_ns}
    records = {
        f"{name}.{f.name}": getattr(getattr(base, name), f.name)
        for name, kind in _RECORDS.items()
        for f in fields(kind)
    }
    handle, temporary = tempfile.mkstemp(dir=folder, suffix=".part")
    try:
        with os.fdopen(handle, "wb") as file:
            np.savez(
                file,
                small=np.array(json.dumps(small)),
                times=base.series.times,
                values=base.series.values,
                offsets_ns=base.series.offsets_ns,
                **{name: values for name, values in stamps.items() if values is not None},
                **records,
                **{name: getattr(base, name) for name in _ARRAYS},
            )
        os.replace(temporary, folder / f"{digest}.npz")
    except BaseException:
        os.unlink(temporary)
        raise
    trim(folder, most_bytes)


def trim(folder: Path, most_bytes: int, *, spared: int = 0) -> None:
    """Let the oldest used files of a folder go until it is under its cap; so many of the newest stay in any case."""
    files = []
    for path in folder.glob("*.npz"):
        with contextlib.suppress(OSError):
            stat = path.stat()
            files.append((stat.st_mtime, stat.st_size, path))
    total = sum(size for _, size, _ in files)
    for _, size, path in sorted(files)[: len(files) - spared]:
        if total <= most_bytes:
            return
        with contextlib.suppress(OSError):
            path.unlink()
        total -= size
