"""Bounds that fail a build, and JUnit XML that build systems show."""

import math
import operator
import re
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from xml.etree import ElementTree

import typer

from watchtide.cli.exits import fail
from watchtide.core.scoring.rows import Finding
from watchtide.tables import clock, results

COMPARISONS: dict[str, Callable[[float, float], bool]] = {
    ">": operator.gt,
    ">=": operator.ge,
    "<": operator.lt,
    "<=": operator.le,
    "==": operator.eq,
    "!=": operator.ne,
}
_FORM = re.compile(r"\s*(\w+)\s*(>=|<=|==|!=|>|<)\s*(\S+)\s*")
# Findings that a failed case lists.
MOST_LISTED = 20
# What XML 1.0 cannot hold.
_NOT_XML = re.compile(r"[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


@dataclass(frozen=True)
class Figures:
    """What gates go by. streams : those with a finding; score : the largest, 0 without one; judged : samples."""

    findings: int
    outliers: int
    shifts: int
    discords: int
    streams: int
    score: float
    judged: int

    @classmethod
    def of(cls, findings: Sequence[Finding], judged: int) -> "Figures":
        kinds = [f.kind for f in findings]
        scores = [abs(f.score) for f in findings if not math.isnan(f.score)]
        counts = [kinds.count(kind) for kind in ("outlier", "shift", "discord")]
        return cls(
            len(findings), *counts, len({f.series for f in findings}), max(scores, default=0.0), judged
        )


FIGURES = tuple(f.name for f in fields(Figures))


@dataclass(frozen=True)
class Gate:
    """`figure comparison amount`, as written; the command fails where it is met."""

    text: str
    figure: str
    comparison: str
    amount: float

    @classmethod
    def read(cls, text: str) -> "Gate":
        """Ends the command where it is none."""
        found = _FORM.fullmatch(text)
        if found is None or found[1] not in FIGURES:
            fail(
                f"--fail-on '{text}': write one of {', '.join(FIGURES)}, then > >= < <= == or !=, then a number"
            )
        try:
            amount = float(found[3])
        except ValueError:
            amount = math.nan
        if math.isnan(amount):
            fail(f"--fail-on '{text}': {found[3]} is no number")
        return cls(text, found[1], found[2], amount)

    def is_met(self, figures: Figures) -> bool:
        return COMPARISONS[self.comparison](getattr(figures, self.figure), self.amount)


def close(gates: Sequence[Gate], figures: Figures) -> None:
    """Exit with status 1 where a gate is met, and name each."""
    shut = [gate for gate in gates if gate.is_met(figures)]
    for gate in shut:
        print(
            f"watchtide: {gate.figure} is {getattr(figures, gate.figure):g}: fails on {gate.text}",
            file=sys.stderr,
        )
    if shut:
        raise typer.Exit(1)


@dataclass(frozen=True)
class Case:
    """One case of a JUnit file. failure : why it failed, None where it did not; details : beside it; skipped : why it was not run."""

    name: str
    failure: str | None = None
    details: str = ""
    skipped: str | None = None


def cases_of(series: Sequence[str], findings: Sequence[Finding]) -> list[Case]:
    """A case a stream, failed where it has findings."""
    by_stream: dict[str, list[Finding]] = {key: [] for key in series}
    for f in findings:
        by_stream.setdefault(f.series, []).append(f)
    return [
        Case(
            key or "the only stream",
            f"{len(own)} finding{'s' if len(own) > 1 else ''}" if own else None,
            "\n".join(_words(f) for f in own[:MOST_LISTED])
            + (f"\nand {len(own) - MOST_LISTED} more" if len(own) > MOST_LISTED else ""),
        )
        for key, own in by_stream.items()
    ]


def _words(f: Finding) -> str:
    side = f" {f.direction}" if f.direction else ""
    score = "" if math.isnan(f.score) else f", score {f.score:.1f}"
    return f"{f.kind}{side} from {clock.format_time(f.start)} to {clock.format_time(f.end)}{score}"


def write_junit(path: str, suite: str, cases: Sequence[Case]) -> None:
    """Cases as JUnit XML."""
    failures = sum(case.failure is not None for case in cases)
    skipped = sum(case.skipped is not None for case in cases)
    counts = {"tests": str(len(cases)), "failures": str(failures), "errors": "0", "skipped": str(skipped)}
    root = ElementTree.Element("testsuites", {"name": "watchtide", **counts})
    inside = ElementTree.SubElement(root, "testsuite", {"name": suite, **counts})
    for case in cases:
        one = ElementTree.SubElement(inside, "testcase", {"classname": suite, "name": _plain(case.name)})
        if case.failure is not None:
            failed = ElementTree.SubElement(
                one, "failure", {"message": _plain(case.failure), "type": "finding"}
            )
            failed.text = _plain(case.details)
        if case.skipped is not None:
            ElementTree.SubElement(one, "skipped", {"message": _plain(case.skipped)})
    ElementTree.indent(root)
    text = ElementTree.tostring(root, encoding="unicode")
    results.write_whole(path, f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n')


def _plain(text: str) -> str:
    return _NOT_XML.sub("\ufffd", text)
