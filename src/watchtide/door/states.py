"""What a later call goes on from: the samples of each stream so far, and where its replay stands."""

import io
import json
import zipfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from watchtide.core.series import Floats, Ints
from watchtide.door.errors import InputError
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.engine.live import watching
from watchtide.engine.live.watching import Followed
from watchtide.plan import Plan
from watchtide.tables import layout, remote
from watchtide.tables.layout import Layout

FORMAT = "watchtide watch 1"


@dataclass
class Stream:
    """The samples of one stream so far, and how far it is judged."""

    zone: str
    times: Ints
    values: Floats
    followed: Followed = field(default_factory=Followed)


@dataclass
class State:
    """All that a restart goes on from. offset : bytes of the file that were taken; lines : how many those are; unsent :
    events that the hook has not taken yet."""

    plan: Plan
    layout: Layout | None = None
    offset: int = 0
    lines: int = 0
    streams: dict[str, Stream] = field(default_factory=dict)
    unsent: list[dict[str, Any]] = field(default_factory=list)


def add(state: State, key: str, zone: str, times: Ints, values: Floats) -> Stream:
    """A stream of the state with these samples too."""
    stream = state.streams.get(key) or Stream(zone, times[:0], values[:0])
    times, values = np.r_[stream.times, times], np.r_[stream.values, values]
    order = np.argsort(times, kind="stable")
    stream.times, stream.values = times[order], values[order]
    state.streams[key] = stream
    return stream


def written(state: State) -> bytes:
    """A state as bytes: JSON and arrays in a zip, so that reading one runs nothing."""
    head = {
        "format": FORMAT,
        "plan": state.plan.as_data(),
        "layout": layout.to_data(state.layout) if state.layout is not None else None,
        "offset": state.offset,
        "lines": state.lines,
        "unsent": state.unsent,
        "streams": [
            {
                "key": key,
                "zone": s.zone,
                "through_ns": s.followed.through_ns,
                "judged": s.followed.judged,
                "late": s.followed.late,
                "has_upkeep": s.followed.upkeep is not None,
                "findings": [watching.as_data(f) for f in s.followed.findings],
            }
            for key, s in state.streams.items()
        ],
    }
    streams = list(state.streams.values())
    arrays = {f"{i}/{n}": getattr(s, n) for i, s in enumerate(streams) for n in ("times", "values")}
    upkeep = {
        f"{i}/upkeep": s.followed.upkeep for i, s in enumerate(streams) if s.followed.upkeep is not None
    }
    # Written after each bin: quick comes before small.
    return zipped("state.json", head, arrays, upkeep, level=1)


def kept(path: str | Path, plan: Plan) -> State:
    """The state in a file; a fresh one where there is none."""
    try:
        data = remote.bytes_of(path)
    except FileNotFoundError:
        return State(plan)
    try:
        return _read_state(data, plan, str(path))
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise InputError("state", f"{path} is no state ({error})", "name another file") from error


def _read_state(data: bytes, plan: Plan, path: str) -> State:
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        head = json.loads(file.read("state.json"))
        if head["format"] != FORMAT:
            raise ValueError(f"its format is {head['format']!r}")
        if head["plan"] != json.loads(json.dumps(plan.as_data())):
            raise InputError(
                "state", f"{path} is the state of another plan", "name another file, or give that plan"
            )
        streams = {}
        for i, row in enumerate(head["streams"]):
            times, values = (read_array(io.BytesIO(file.read(f"{i}/{n}.npy"))) for n in ("times", "values"))
            state = file.read(f"{i}/upkeep") if row["has_upkeep"] else None
            findings = tuple(watching.as_finding(f) for f in row["findings"])
            followed = Followed(row["through_ns"], state, row["judged"], row["late"], findings)
            streams[row["key"]] = Stream(row["zone"], times, values, followed)
    laid_out = layout.from_data(head["layout"]) if head["layout"] is not None else None
    return State(plan, laid_out, head["offset"], head["lines"], streams, head["unsent"])
