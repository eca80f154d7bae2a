"""Scanning with kept stages: what a worker process does for one stream, without any database."""

from dataclasses import dataclass

from watchtide.core.scoring.rows import Label
from watchtide.engine.keep import cache
from watchtide.engine.keep.files import Store
from watchtide.engine.prepare.training import left_out_spans
from watchtide.engine.scan import stages
from watchtide.plan import Plan


@dataclass(frozen=True)
class Task:
    """One stream to scan: plain data. digest : of the samples; store : of the kept stages; mode : fit or replay."""

    stream: stages.Input
    plan: Plan
    labels: tuple[Label, ...]
    digest: str
    store: Store
    most_bytes: int
    mode: str = "fit"


def stage_key(t: Task) -> str:
    samples = f"{t.digest} {t.stream.zone} {t.stream.key}"
    if t.stream.shared is not None:
        # What its family's network learned depends on the others too.
        samples += f" {t.stream.shared.digest()}"
    return stages.baseline_digest(samples, t.plan, left_out_spans(t.plan, t.stream.key, t.labels), t.mode)


def fitted(t: Task) -> stages.Baselined:
    """The baseline stage, from the cache where it is kept, else fitted and kept."""
    key = stage_key(t)
    base = cache.load(t.store, key)
    if base is None:
        base = stages.based(t.stream, t.plan, t.labels, t.mode)
        cache.keep(t.store, key, base, most_bytes=t.most_bytes)
    return base


def scan_task(t: Task) -> tuple[stages.Scanned, str]:
    """Fit or load, then flag. Returns the result and the stage's key; errors name the stream."""
    try:
        return stages.flag(fitted(t), t.plan), stage_key(t)
    except ValueError as error:
        raise ValueError(f"{t.stream.key}: {error}") from error
