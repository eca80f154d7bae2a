"""A replay that goes on: its state written down after each tick, and read back to go on from there.

What comes is judged as `scan --mode replay` judges the whole history, to the last bit, but nothing is fitted twice: a tick fits
only where a refit falls due. The state is arrays and JSON in a zip, so that reading one from a stranger runs nothing.
"""

import dataclasses
import hashlib
import io
import json
import threading
import zipfile
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from cachetools import LRUCache

from watchtide.core.expect import quantile
from watchtide.core.expect.baselines import Fitted
from watchtide.core.expect.frame import Period
from watchtide.core.expect.records import Choice, Model
from watchtide.core.expect.spread import SpreadModel
from watchtide.core.judge import flagging, standing, watches
from watchtide.core.judge.innovations import Follower
from watchtide.core.scoring.rows import Label
from watchtide.core.series import Series
from watchtide.engine.keep.arrays import read_array, zipped
from watchtide.engine.live import ages
from watchtide.engine.live.ages import Standing
from watchtide.engine.live.glancing import Glance
from watchtide.engine.live.replaying import Memory
from watchtide.engine.prepare import training
from watchtide.engine.prepare.preparing import Input
from watchtide.engine.scan import stages
from watchtide.engine.scan.based import Baselined, InForce, Scanned, Units
from watchtide.engine.scan.stages import BASELINE_VERSION
from watchtide.plan import Plan

FORMAT = "watchtide upkeep 2"
STATE_CLASSES = (
    Baselined,
    Choice,
    Fitted,
    Follower,
    InForce,
    Units,
    Model,
    Period,
    Series,
    SpreadModel,
    Standing,
    flagging.Level,
    quantile.Counted,
    standing.Kept,
    watches.Evidence,
    watches.Watch,
)
_CLASSES = {c.__name__: c for c in STATE_CLASSES}


@dataclasses.dataclass(frozen=True)
class Complete:
    """How far a stream can be judged: until_ns, the end of its newest complete bin; step_ns, the length of a bin."""

    until_ns: int
    step_ns: int


def complete(stream: Input, plan: Plan, now_ns: int, wait_ns: int, skip_last: int = 0) -> Complete | None:
    """The bins, on the replay's own grid, that ended so long ago that their samples have come; None where there is none.

    Bins without a sample after the newest one are not counted, nor the last `skip_last` before it.
    """
    if not len(stream.times):
        return None
    prepared = ages.grid_of(stream, plan)
    ends = prepared.series.ends[: len(prepared.series) - skip_last]
    ended = int(np.searchsorted(ends, now_ns - wait_ns, side="right"))
    return Complete(int(ends[ended - 1]), prepared.cadence.step_ns) if ended else None


# States that a process has read lately: a stream that is not calm is judged many times between two fits.
MOST_REMEMBERED_BYTES, UNPACKED = 64 << 20, 4


@dataclasses.dataclass(frozen=True)
class _Read:
    """A state as read, its key, what is remembered beside it, and how long it was."""

    standing: Standing
    key: str
    memory: Memory
    size: int


_lock = threading.Lock()
_remembered: LRUCache[bytes, _Read] = LRUCache(MOST_REMEMBERED_BYTES, getsizeof=lambda one: one.size)


def _remember(state: bytes) -> _Read:
    """A state read, or as it was read before."""
    with _lock:
        found = _remembered.get(state)
    if found is None:
        # Unpacked it is some times as long.
        found = _Read(*read(state), Memory(), UNPACKED * len(state))
        if found.size <= MOST_REMEMBERED_BYTES:
            with _lock:
                _remembered[state] = found
    return found


class Tick(NamedTuple):
    """A stream judged through its newest bin, the state to go on from, None before the first fit, and the glance by which calm
    samples can be judged until the next one, where one would do."""

    scanned: Scanned
    state: bytes | None
    glance: Glance | None


def tick(
    stream: Input,
    plan: Plan,
    labels: Sequence[Label] = (),
    state: bytes | None = None,
    *,
    is_told: bool = True,
) -> Tick:
    """Judge all samples that are there.

    is_told : whether what its level promises is worked out too, which takes longer than all the rest.

    stream : the whole history, also what was judged before. A state of other samples, labels or another plan, as after a
    correction of history, is not gone on from: all is judged anew. The answer is that of `stages.scan(…, mode="replay")`.
    """
    kept, memory = None, None
    if state is not None:
        known = _remember(state)
        if known.key == key_of(stream, plan, labels, known.standing.until_ns):
            kept, memory = known.standing, known.memory
    base, now, glance = ages.replay_on(stream, plan, labels, kept, memory)
    scanned = stages.flag(base, plan, is_told=is_told)
    if now is None:
        return Tick(scanned, None, None)
    if kept is None or (now.age, now.kept.at) != (kept.age, kept.kept.at):
        state = write(now, key_of(stream, plan, labels, now.until_ns))
    return Tick(scanned, state, glance)


def key_of(stream: Input, plan: Plan, labels: Sequence[Label], until_ns: int) -> str:
    """What a state rests on: the samples before a moment, labels that had ended, the plan and the code."""
    seal = hashlib.sha256()
    seal.update(
        json.dumps([BASELINE_VERSION, stream.key, stream.zone, plan.as_data()], sort_keys=True).encode()
    )
    columns = [stream.values] if stream.denominators is None else [stream.values, stream.denominators]
    for column in (stream.times, *columns):
        seal.update(np.ascontiguousarray(column[stream.times < until_ns]).tobytes())
    for span in sorted(training.left_out_spans(plan, stream.key, labels)):
        if span[1] < until_ns:
            seal.update(repr(span).encode())
    for beside in stream.covariates:
        before = beside.times < until_ns
        seal.update(beside.name.encode() + beside.times[before].tobytes() + beside.values[before].tobytes())
    seal.update(repr(stream.days).encode())
    return seal.hexdigest()


def write(kept: Standing, key: str) -> bytes:
    """The state as bytes. key : of the samples, labels and plan that it rests on (`key_of`)."""
    arrays: list[np.ndarray] = []
    head = {"format": FORMAT, "key": key, "kept": _plain(kept, arrays)}
    return zipped("state.json", head, {str(i): values for i, values in enumerate(arrays)})


def read(data: bytes) -> tuple[Standing, str]:
    """The state and its key. Raises ValueError for what is none."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as file:
            head = json.loads(file.read("state.json"))
            if head.get("format") != FORMAT:
                raise ValueError(f"no {FORMAT}, but {head.get('format')!r}")
            count = len(file.namelist()) - 1
            parts = [read_array(io.BytesIO(file.read(f"{i}.npy"))) for i in range(count)]
        kept = _real(head["kept"], parts)
    except (zipfile.BadZipFile, KeyError, TypeError, IndexError, json.JSONDecodeError) as error:
        raise ValueError(f"the kept state cannot be read: {error}") from error
    if not isinstance(kept, Standing):
        raise ValueError("the kept state holds something else")
    return kept, str(head["key"])


def _plain(value: Any, arrays: list[np.ndarray]) -> Any:
    """As JSON; arrays are put aside and named by their place."""
    if isinstance(value, np.ndarray):
        arrays.append(value)
        return {"array": len(arrays) - 1}
    if isinstance(value, np.generic):
        arrays.append(np.asarray(value))
        return {"scalar": len(arrays) - 1}
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        fields = {f.name: _plain(getattr(value, f.name), arrays) for f in dataclasses.fields(value)}
        return {"class": type(value).__name__, "fields": fields}
    if isinstance(value, dict):
        return {"dict": [[_plain(k, arrays), _plain(v, arrays)] for k, v in value.items()]}
    if isinstance(value, tuple | list):
        return {type(value).__name__: [_plain(v, arrays) for v in value]}
    if value is None or isinstance(value, bool | int | float | str):
        return value
    raise TypeError(f"{type(value).__name__} cannot be written down")


def _real(plain: Any, arrays: Sequence[np.ndarray]) -> Any:
    if not isinstance(plain, dict):
        return plain
    if "array" in plain:
        return arrays[plain["array"]]
    if "scalar" in plain:
        return arrays[plain["scalar"]][()]
    if "class" in plain:
        fields = {name: _real(v, arrays) for name, v in plain["fields"].items()}
        return _CLASSES[plain["class"]](**fields)
    if "dict" in plain:
        return {_real(k, arrays): _real(v, arrays) for k, v in plain["dict"]}
    kind, items = next(iter(plain.items()))
    return (tuple if kind == "tuple" else list)(_real(v, arrays) for v in items)
