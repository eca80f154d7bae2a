"""`watchtide score`: figures from files, and the bounds that fail a build."""

import json
import sys
from pathlib import Path
from typing import Any

import typer

from watchtide.cli import gates
from watchtide.cli.exits import fail
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.series import SECOND_NS
from watchtide.door import asking
from watchtide.plan import durations
from watchtide.tables import labels, remote, report, results


def score(
    findings: str,
    labels_path: str,
    points_path: str | None,
    summary_path: str | None,
    *,
    tolerance: str,
    start: str | None,
    stop: str | None,
    kinds: str | None,
    bounds: dict[str, float | None],
    json_out: str | None,
    html_out: str | None,
    junit: str | None,
    zone: str,
) -> None:
    found = results.read_findings(findings)
    known = labels.read_labels(labels_path, zone=zone)
    points = results.read_points(points_path) if points_path else None
    summary = _summary(summary_path)
    step = round(summary["step_s"] * SECOND_NS) if summary.get("step_s") else None
    if step is None:
        step = asking.step_of(points)
    season = summary.get("longest_season_s")
    try:
        tolerance_ns = durations.parse_ns(tolerance, step_ns=step)
    except ValueError as error:
        fail(f"--tolerance: {error}")
    wanted = tuple(k.strip() for k in kinds.split(",")) if kinds else None
    for kind in wanted or ():
        if kind not in asking.KINDS:
            fail(f"--kinds {kind}: must be among {', '.join(asking.KINDS)}")
    span = None
    if start or stop:
        span = asking.span_of(found, known, points, start, stop, zone)
        if span[1] < span[0]:
            fail("--from lies after --to; swap the two")
    season_ns = round(season * SECOND_NS) if season else None
    figures = asking.figures_of(found, known, points, Setting(tolerance_ns, step, season_ns, span, wanted))
    if json_out:
        results.write_whole(json_out, json.dumps(figures, indent=1, allow_nan=False) + "\n")
    if html_out:
        about = [f"{Path(findings).name} against {Path(labels_path).name}"]
        results.write_whole(html_out, report.page({"figures": figures}, "Scorecard", about))
    if json_out != "-":
        _tell(figures)
    cases = _cases(figures["events"], bounds)
    if junit:
        gates.write_junit(junit, "watchtide score", cases)
    unmet = [case.failure for case in cases if case.failure is not None]
    if unmet:
        for line in unmet:
            print(f"watchtide: {line}", file=sys.stderr)
        raise typer.Exit(1)


def _summary(path: str | None) -> dict[str, Any]:
    if path is None:
        return {}
    try:
        data = json.loads(remote.text_of(path))
    except (OSError, ValueError) as error:
        fail(f"--summary {path}: {error}; give the summary that scan wrote")
    if not isinstance(data, dict):
        fail(f"--summary {path}: no summary; give the one that scan wrote")
    return data


def _tell(figures: dict[str, Any]) -> None:
    e = figures["events"]
    counted = e["tp_findings"] + e["fp_findings"]
    incidents = e["tp_labels"] + e["fn_labels"]
    print(f"span       {figures['span']['from']} to {figures['span']['to']}")
    print(
        f"precision  {_number(e['precision'])} {_interval(e['precision_ci'])}  {e['tp_findings']} of {counted} findings"
    )
    print(
        f"recall     {_number(e['recall'])} {_interval(e['recall_ci'])}  {e['tp_labels']} of {incidents} {e['recall_of']}"
    )
    print(f"F1         {_number(e['f1'])}")
    rate = figures["false_per_week"]
    print(
        f"false      {_number(rate['per_stream'])} a stream-week  {rate['false_findings']} in {rate['stream_weeks']:.1f} stream-weeks"
    )
    delay = figures["delay"]
    print(f"delay      {_number(delay['median_s'])} s median of {delay['n']}")
    if figures["excluded"]["unjudged"]:
        low, high = e["precision_bounds"]
        print(
            f"unjudged   {figures['excluded']['unjudged']} findings: precision lies between {low:.3f} and {high:.3f}"
        )


def _number(value: float | None) -> str:
    return "  –  " if value is None else f"{value:.3f}"


def _interval(pair: list[float] | None) -> str:
    return "" if pair is None else f"({pair[0]:.3f} to {pair[1]:.3f})"


def _cases(e: dict[str, Any], bounds: dict[str, float | None]) -> list[gates.Case]:
    """A case a bound; one without a bound was not looked at."""
    seen = {
        "precision": e["precision"],
        "precision_lower": e["precision_ci"][0] if e["precision_ci"] else None,
        "recall": e["recall"],
    }
    out = []
    for name, bound in bounds.items():
        words, value = name.replace("_", " "), seen[name]
        if bound is None:
            out.append(gates.Case(words, skipped="no bound is stated"))
        elif value is None:
            out.append(gates.Case(words, f"{words} cannot be computed, so the bound {bound} is not met"))
        elif value < bound:
            out.append(gates.Case(words, f"{words} is {value:.4f}, below the bound {bound}"))
        else:
            out.append(gates.Case(words))
    return out
