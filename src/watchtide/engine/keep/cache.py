"""Stage outputs in files: a cache with a size cap, safe to delete at any moment."""

import json
import zipfile
from dataclasses import fields
from typing import Any

import numpy as np

from watchtide.core.expect.quantile import Counted
from watchtide.core.judge import watches
from watchtide.core.series import Series
from watchtide.engine.keep import arrays
from watchtide.engine.keep.files import ERRORS, Store
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


def load(store: Store, digest: str) -> Baselined | None:
    """The kept stage, or None where there is none or it cannot be read."""
    name = f"{digest}.npz"
    try:
        kept = arrays.load(store.path(name))
        small: dict[str, Any] = json.loads(str(kept["small"]))
        axis, ends = (kept.get(name) for name in ("axis_ns", "ends_ns"))
        series = Series(
            kept["times"], kept["values"], int(small.pop("step_ns")), kept["offsets_ns"], axis, ends
        )
        parts = {name: kept[name] for name in _ARRAYS}
        for name, kind in _RECORDS.items():
            parts[name] = kind(**{f.name: kept[f"{name}.{f.name}"] for f in fields(kind)})
    except (*ERRORS, KeyError, zipfile.BadZipFile, EOFError):
        return None
    store.use(name)
    small["found_seasons"] = tuple((float(p), float(s)) for p, s in small["found_seasons"])
    small["notes"] = tuple(small["notes"])
    return Baselined(series=series, **parts, **small)


def keep(store: Store, digest: str, base: Baselined, *, most_bytes: int) -> None:
    """Keep a stage; those used longest ago go when there are more bytes than the cap."""
    small = {name: getattr(base, name) for name in _SMALL} | {"step_ns": base.series.step_ns}
    stamps: dict[str, Any] = {"axis_ns": base.series.axis_ns, "ends_ns": base.series.ends_ns}
    records = {
        f"{name}.{f.name}": getattr(getattr(base, name), f.name)
        for name, kind in _RECORDS.items()
        for f in fields(kind)
    }
    with store.write(f"{digest}.npz") as file:
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
    # To list an object store costs a call a thousand files: the keeper trims it each hour.
    if store.is_folder:
        store.trim(most_bytes)
