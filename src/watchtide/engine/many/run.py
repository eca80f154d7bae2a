"""A plan over many streams: fan-out, progress, cancel, and the summary."""

import multiprocessing
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numba
import numpy as np

from watchtide import __version__, kernels
from watchtide.core.expect.frame import DAY_NS
from watchtide.core.scoring.rows import Coverage, Label
from watchtide.core.series import SECOND_NS
from watchtide.engine.many import families
from watchtide.engine.scan import outcome, stages
from watchtide.parent import die_with_parent
from watchtide.plan import Plan
from watchtide.tables import clock, results

T = TypeVar("T")
R = TypeVar("R")


class Cancelled(RuntimeError):
    """The work was asked to stop; nothing of it is kept."""


class StreamFailed(ValueError):
    """One stream could not be scanned; the message names it."""


def _start_worker(parent: int, ready: Callable[[], None] | None) -> None:
    """One numeric thread each, and no life without the parent. ready : what else a process does before its first task."""
    import signal

    kernels.use_cache()
    # By a call, not by the environment: Numba reads that again when it compiles, and the parent has more threads.
    numba.set_num_threads(1)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    die_with_parent(signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)
    if ready is not None:
        ready()


# Runs beside the one thread of a process that has read Arrow's library, and lets go of its locks before a fork.
ALLOCATOR_THREAD = "jemalloc_bg_thd"


def _is_single() -> bool:
    """Whether this process has one thread of its own and no more, so that a fork of it leaves no lock held."""
    try:
        names = [task.joinpath("comm").read_text().strip() for task in Path("/proc/self/task").iterdir()]
    except OSError:
        return False
    return len([name for name in names if name != ALLOCATOR_THREAD]) == 1


@contextmanager
def pool(
    jobs: int, *, is_forked: bool = False, ready: Callable[[], None] | None = None
) -> Iterator[Executor]:
    """A pool of `jobs` processes, spawned unless they may be forked. ready : what each does before its first task."""
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    context = multiprocessing.get_context("fork" if is_forked else "spawn")
    executor = ProcessPoolExecutor(
        jobs, mp_context=context, initializer=_start_worker, initargs=(os.getpid(), ready)
    )
    try:
        yield executor
    finally:
        executor.shutdown(wait=True, cancel_futures=True)


def _ready(plan: Plan) -> None:
    """What a worker does first: a scan of next to nothing, so that it has what a scan by this plan needs before the parent has read."""
    times = np.arange(14 * 24, dtype=np.int64) * 3_600 * SECOND_NS
    try:
        stages.scan(stages.Input("", times, np.sin(times / DAY_NS * 2 * np.pi)), plan, is_told=False)
    except ValueError:
        # A plan that asks for more than this; the streams themselves say what they lack.
        return


@contextmanager
def workers(jobs: int, plan: Plan) -> Iterator[Executor | None]:
    """A pool for scans by a plan that starts at once, or None where one process does it all.

    Forked where this process has nothing but memory to hand on, as a command has before it reads its input: its children
    then need not import everything again, which takes longer than many a scan.
    """
    if jobs <= 1:
        yield None
        return
    with pool(jobs, is_forked=_is_single()) as executor:
        for _ in range(jobs):
            executor.submit(_ready, plan)
        yield executor


# Streams handed to a worker at once, where there are many.
MOST_IN_BATCH = 8


def _work_on(work: Callable[[T], R], items: Sequence[T]) -> list[R]:
    return [work(item) for item in items]


def each(
    work: Callable[[T], R],
    items: Sequence[T],
    *,
    jobs: int = 1,
    executor: Executor | None = None,
    ready: Callable[[], None] | None = None,
    progress: Callable[[int, int], None] | None = None,
    is_cancelled: Callable[[], bool] | None = None,
) -> Iterator[R]:
    """Results of `work` on each item, in the order of the items; few items are kept in flight.

    executor : a pool of `jobs` that runs already; else one is made where it pays, whose processes call `ready` first. Raises Cancelled once `is_cancelled` says so, between items.
    """
    total = len(items)

    def check(done: int) -> None:
        if progress is not None:
            progress(done, total)
        if is_cancelled is not None and is_cancelled():
            raise Cancelled

    if total < 3 or (jobs <= 1 and executor is None):
        for i, item in enumerate(items):
            check(i)
            yield work(item)
        check(total)
        return
    # Many small pieces travel a few at a time: handing over costs as much as a tenth of a quick scan.
    batch = int(np.clip(total // (16 * jobs), 1, MOST_IN_BATCH))
    with nullcontext(executor) if executor is not None else pool(min(jobs, total), ready=ready) as crew:
        waiting: dict[int, Future[list[R]]] = {}
        arrived: dict[int, list[R]] = {}
        sent = done = given = 0
        while given < total:
            while sent < total and len(waiting) + len(arrived) < 4 * jobs:
                waiting[sent] = crew.submit(_work_on, work, items[sent : sent + batch])
                sent += batch
            finished, _ = wait(waiting.values(), timeout=0.5, return_when=FIRST_COMPLETED)
            for i in [i for i, f in waiting.items() if f in finished]:
                arrived[i] = waiting.pop(i).result()
                done += len(arrived[i])
            check(done)
            while given in arrived:
                results = arrived.pop(given)
                yield from results
                given += len(results)


@dataclass(frozen=True)
class Task:
    """What one worker needs to scan one stream; the fields as in stages.scan, the labels those that cover it."""

    stream: stages.Input
    plan: Plan
    labels: tuple[Label, ...]
    mode: str
    is_kept: bool
    is_told: bool


def scan_one(t: Task) -> stages.Scanned:
    """Scan one stream, with its key in any error."""
    try:
        return stages.scan(t.stream, t.plan, t.labels, t.mode, is_kept=t.is_kept, is_told=t.is_told)
    except ValueError as error:
        raise StreamFailed(f"stream {t.stream.key or '(the only one)'}: {error}") from error


def judged_in(s: stages.Scanned) -> int:
    return int(np.sum(~np.isnan(s.z)))


@dataclass(frozen=True)
class Written:
    """The findings of one stream as lines of a file, and how many samples were judged."""

    lines: list[results.OrderedLine]
    judged: int


def write_one(t: Task, path: str) -> Written:
    """Scan one stream and write its findings as lines of a file of this name: little comes back from another process."""
    scanned = scan_one(t)
    return Written(results.finding_lines(scanned.findings, path), judged_in(scanned))


def scan_many(
    streams: Sequence[stages.Input],
    plan: Plan,
    labels: Sequence[Label] = (),
    *,
    mode: str = "fit",
    is_kept: bool = False,
    is_told: bool = True,
    jobs: int = 1,
    executor: Executor | None = None,
    progress: Callable[[int, int], None] | None = None,
    is_cancelled: Callable[[], bool] | None = None,
) -> Iterator[stages.Scanned]:
    """Every stream by itself, in order; `together.finish` then lets them help one another, as a family's network does before.

    Raises ValueError for a family that cannot share a network.
    """
    if mode == "fit":
        streams = families.with_shared(streams, plan, labels)
    known = Coverage(labels)
    tasks = [Task(s, plan, known.of(s.key), mode, is_kept, is_told) for s in streams]
    return each(scan_one, tasks, jobs=jobs, executor=executor, progress=progress, is_cancelled=is_cancelled)


def write_many(
    streams: Sequence[stages.Input],
    plan: Plan,
    path: str,
    labels: Sequence[Label] = (),
    *,
    mode: str = "fit",
    jobs: int = 1,
    executor: Executor | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> Iterator[Written]:
    """The findings of every stream by itself, in order, as lines of a file of this name: for plans whose streams do nothing
    for one another."""
    if mode == "fit":
        streams = families.with_shared(streams, plan, labels)
    known = Coverage(labels)
    tasks = [Task(s, plan, known.of(s.key), mode, is_kept=False, is_told=False) for s in streams]
    return each(partial(write_one, path=path), tasks, jobs=jobs, executor=executor, progress=progress)


def summarise(scanned: Sequence[stages.Scanned], plan: Plan, mode: str = "fit") -> dict[str, Any]:
    """The summary of a scan: the plan as stated, and per stream all that was resolved and found."""
    streams: dict[str, dict[str, Any]] = {}
    for s in scanned:
        base = s.base
        times = base.series.times
        cut = int(times[base.train_stop - 1]) if base.train_stop else None
        streams[base.key] = {
            "samples": len(base.series),
            "missing": int((base.series.values != base.series.values).sum()),
            "judged": int((s.z == s.z).sum()),
            "from": clock.format_time(int(times[0])) if len(times) else None,
            "to": clock.format_time(int(times[-1])) if len(times) else None,
            "cadence": base.resolved["prepare"]["every"],
            "step_s": base.series.step_ns / SECOND_NS if base.series.axis_ns is None else None,
            "zone": base.zone,
            "seasons": [
                {
                    "period_s": p * base.series.step_ns / SECOND_NS,
                    "samples": float(p),
                    "strength": float(strength) if strength == strength else None,
                }
                for p, strength in outcome.seasons_of(base)
            ],
            "level": {
                "above": s.resolved["flag"]["above"],
                "below": s.resolved["flag"]["below"],
                "note": s.level.note,
                "odds": s.level.odds,
                "promised_per_week": s.level.per_week,
            },
            "mode": base.mode,
            "provisional": base.resolved.get("replay", {}).get("provisional"),
            "training": _part(s, None, cut),
            "after": _part(s, cut, None) if base.train_stop < len(base.series) else None,
            "resolved": s.resolved,
            "notes": list(base.notes),
        }
    seasons = [x["period_s"] for s in streams.values() for x in s["seasons"]]
    return {
        "watchtide": 1,
        "version": __version__,
        "mode": mode,
        "plan": plan.as_data(),
        "span": {
            "from": min((s["from"] for s in streams.values() if s["from"]), default=None),
            "to": max((s["to"] for s in streams.values() if s["to"]), default=None),
        },
        "cadence": _shared([s["cadence"] for s in streams.values()]),
        "step_s": min((s["step_s"] for s in streams.values() if s["step_s"] is not None), default=None),
        "longest_season_s": max(seasons, default=None),
        "findings": sum(len(s.findings) for s in scanned),
        "streams": streams,
    }


def _shared(cadences: Sequence[str]) -> str | None:
    """The cadence of the most streams."""
    return max(dict.fromkeys(cadences), key=cadences.count, default=None)


def _part(s: stages.Scanned, after: int | None, until: int | None) -> dict[str, Any]:
    times = s.base.series.times
    mask = (times > after if after is not None else times == times) & (
        times <= until if until is not None else True
    )
    found = [
        f for f in s.findings if (after is None or f.start > after) and (until is None or f.start <= until)
    ]
    residual = (s.base.series.values - s.base.expected)[mask]
    seen = residual[residual == residual]
    return {
        "samples": int(mask.sum()),
        "flagged": int((s.flags[mask] != 0).sum()),
        "findings": len(found),
        "mean_absolute_error": float(abs(seen).mean()) if len(seen) else None,
        "median_absolute_error": float(sorted(abs(seen))[len(seen) // 2]) if len(seen) else None,
    }
