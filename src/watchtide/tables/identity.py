"""Which attributes of a pushed or fetched series distinguish streams: an ordered list of rules, with defaults.

A rule holds for the metrics that its pattern fits. Going through the rules in order, the first that names an attribute decides
whether it is kept or dropped; one that no rule names is kept. Series that are then the same are sources of one stream.
"""

import fnmatch
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from watchtide.core.series import joining
from watchtide.tables.points import MOST_NAME, Attributes
from watchtide.tables.problems import TableError

JOINS = ("auto", *joining.JOINS)
MOST_RULES, MOST_PATTERNS = 100, 200


@dataclass(frozen=True)
class Rule:
    """metric : pattern of metrics, `*` for any run of characters; keep, drop : patterns of attribute names; rename : (from, to);
    join : how several sources of one stream are combined, `auto` sums additive values and averages the rest; note : why."""

    metric: str = "*"
    keep: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    rename: tuple[tuple[str, str], ...] = ()
    join: str = "auto"
    note: str = ""


# By the semantic conventions of OpenTelemetry: what changes with every process, start of a host or version of a library goes; what
# names a service, a place or a resource stays.
DEFAULTS = (
    Rule(
        "k8s.pod.*",
        keep=("k8s.pod.name",),
        note="Metrics of pods stay apart per pod.",
    ),
    Rule(
        "container.*",
        keep=("container.name", "k8s.pod.name"),
        note="Metrics of containers stay apart per container.",
    ),
    Rule(
        "*",
        drop=(
            "service.instance.id",
            "process.pid",
            "process.parent_pid",
            "process.creation.time",
            "process.command*",
            "process.executable.*",
            "process.runtime.*",
            "process.owner",
        ),
        note="Changes with every process.",
    ),
    Rule(
        "*",
        drop=(
            "host.id",
            "host.ip",
            "host.mac",
            "host.image.*",
            "host.cpu.*",
            "os.version",
            "os.build_id",
            "os.description",
        ),
        note="Changes with every start of a host, or is a fact of it that distinguishes no stream.",
    ),
    Rule(
        "*",
        drop=(
            "container.id",
            "container.image.*",
            "container.runtime*",
            "container.command*",
            "k8s.pod.name",
            "k8s.pod.uid",
            "k8s.pod.ip",
            "k8s.pod.start_time",
            "k8s.*.uid",
            "k8s.replicaset.name",
            "k8s.job.name",
            "k8s.container.restart_count",
            "faas.instance",
            "faas.version",
            "aws.ecs.task.*",
            "aws.log.*",
            "gcp.cloud_run.job.*",
        ),
        note="Changes with every roll-out or start of a container.",
    ),
    Rule(
        "*",
        drop=(
            "telemetry.sdk.*",
            "telemetry.distro.*",
            "telemetry.auto.version",
            "otel.scope.*",
            "otel.library.*",
            "service.version",
            "webengine.version",
            "vcs.*",
        ),
        note="Changes with every version of a library or of the service.",
    ),
)


@lru_cache(maxsize=4_096)
def _pattern(glob: str) -> re.Pattern[str]:
    return re.compile(fnmatch.translate(glob))


@lru_cache(maxsize=16_384)
def _fits(globs: tuple[str, ...], name: str) -> bool:
    return any(_pattern(g).match(name) for g in globs)


def identify(metric: str, attributes: Attributes, rules: Sequence[Rule]) -> tuple[Attributes, str]:
    """(the attributes that distinguish a series, how sources are combined) under these rules.

    Of attributes that a new name makes equal the first stands.
    """
    own = [rule for rule in rules if _pattern(rule.metric).match(metric)]
    out: dict[str, str] = {}
    for name, value in attributes:
        if _is_dropped(name, own):
            continue
        named = next((to for rule in own for before, to in rule.rename if before == name), name)
        out.setdefault(named, value)
    join = next((rule.join for rule in own if rule.join != "auto"), "auto")
    return tuple(out.items()), join


def _is_dropped(name: str, rules: Sequence[Rule]) -> bool:
    for rule in rules:
        if _fits(rule.keep, name):
            return False
        if _fits(rule.drop, name):
            return True
    return False


def to_data(rules: Sequence[Rule]) -> list[dict[str, Any]]:
    """Rules as plain data."""
    return [
        {
            "metric": r.metric,
            "keep": list(r.keep),
            "drop": list(r.drop),
            "rename": [list(pair) for pair in r.rename],
            "join": r.join,
            "note": r.note,
        }
        for r in rules
    ]


def from_data(data: Any) -> tuple[Rule, ...]:
    """Rules of plain data. Raises TableError naming the rule, what is wrong with it, and the remedy."""
    if not isinstance(data, list):
        raise TableError("rules", "", "are no list", "send a list of rules")
    if len(data) > MOST_RULES:
        raise TableError("rules", "", f"are {len(data)}", f"take {MOST_RULES} at most")
    return tuple(_rule(i, row) for i, row in enumerate(data, 1))


def _rule(number: int, row: Any) -> Rule:
    def refuse(field: str, message: str, remedy: str) -> TableError:
        return TableError(f"rule {number}", field, message, remedy)

    if not isinstance(row, dict):
        raise refuse("", "is no object", "write metric, keep, drop, rename and join")
    if unknown := sorted(set(row) - {"metric", "keep", "drop", "rename", "join", "note"}):
        raise refuse(unknown[0], "is not known", "take metric, keep, drop, rename, join or note")
    metric = row.get("metric", "*")
    if not isinstance(metric, str) or not 0 < len(metric) <= MOST_NAME:
        raise refuse("metric", "is no pattern", "write a metric, with * for any characters")
    lists = {}
    for field in ("keep", "drop"):
        names = row.get(field) or []
        if not isinstance(names, list) or not all(
            isinstance(n, str) and 0 < len(n) <= MOST_NAME for n in names
        ):
            raise refuse(field, "is no list of attribute names", "write names, with * for any characters")
        if len(names) > MOST_PATTERNS:
            raise refuse(field, f"holds {len(names)} names", f"take {MOST_PATTERNS} at most")
        lists[field] = tuple(names)
    rename = row.get("rename") or []
    pairs = (
        [p for p in rename if isinstance(p, list | tuple) and len(p) == 2] if isinstance(rename, list) else []
    )
    if (
        not isinstance(rename, list)
        or len(pairs) < len(rename)
        or not all(isinstance(n, str) and 0 < len(n) <= MOST_NAME for p in pairs for n in p)
    ):
        raise refuse("rename", "is no list of pairs", 'write [["from", "to"]]')
    join = row.get("join") or "auto"
    if join not in JOINS:
        raise refuse("join", f"{join!r} is not known", f"take {', '.join(JOINS)}")
    note = row.get("note") or ""
    if not isinstance(note, str) or len(note) > 300:
        raise refuse("note", "is longer than 300 characters", "write a shorter one")
    return Rule(metric, lists["keep"], lists["drop"], tuple((a, b) for a, b in pairs), str(join), note)
