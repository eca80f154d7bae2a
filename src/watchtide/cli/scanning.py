"""Commands that read a table: scan, decompose, shifts, seasons."""

import json
import sys
from collections.abc import Iterator, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from watchtide.cli import gates, taking, waves
from watchtide.cli.exits import fail
from watchtide.core.scoring.rows import Finding, Label
from watchtide.door import asking, reading, states, watching
from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.progress import shown
from watchtide.engine.many import clusters, run, together
from watchtide.engine.scan import outcome, stages
from watchtide.plan import Plan, PlanError, durations, load
from watchtide.plan.model import check_level
from watchtide.plan.text import from_data
from watchtide.tables import clock, extract, labels, layout, remote, results, stamps


def load_plan(path: str | None) -> Plan:
    """The plan of a file, or the default one. Raises PlanError with the file's name before each line."""
    if path is None:
        return Plan()
    try:
        text = sys.stdin.read() if path == "-" else remote.text_of(path)
    except UnicodeDecodeError:
        fail(f"{path}: not UTF-8 text; a plan is a text file")
    try:
        return load(text)
    except PlanError as error:
        fail(f"{path}, {error}")


def read_streams(
    source: str, table: dict[str, Any]
) -> tuple[extract.Extracted, list[stages.Input], list[Label]]:
    """The streams of a file, and the known spans of a stated label column. Guesses go to standard error."""
    taken, guessed, linked, known = reading.streams_of(
        taking.source_of(source), taking.name_of(source), table, taking.chooser(table)
    )
    _tell_guess(guessed, taken, table, len(linked))
    return taken, linked, known


def with_days(streams: list[stages.Input], plan: Plan, table: dict[str, Any]) -> list[stages.Input]:
    """The streams with the known days of the plan's calendars."""
    days = reading.known_days(plan, streams, table["tz"], _calendar)
    return [replace(s, days=days) for s in streams] if days else streams


def _calendar(name: str) -> bytes:
    return sys.stdin.buffer.read() if name == "-" else remote.bytes_of(name)


def plan_of(path: str | None, table: dict[str, Any]) -> Plan:
    """The plan of a file, with what the options of the table say in its place."""
    return plan_with_options(
        load_plan(path),
        {
            "prepare": {
                "every": table["every"],
                "combine": table["combine"],
                "denominator": table.get("denominator"),
            },
            "baseline": {
                "covariates": table.get("covariate") or None,
                "calendars": [{"file": f} for f in table["calendar"]] if table.get("calendar") else None,
            },
        },
    )


def _tell_guess(guessed: layout.Layout, taken: extract.Extracted, table: dict[str, Any], count: int) -> None:
    words = [f"time {guessed.time}{_ambiguity(guessed)}", f"value {', '.join(guessed.values)}"]
    if guessed.series:
        words.append(f"streams by {', '.join(guessed.series)}")
    every = table["every"] or durations.format_every(taken.found.cadence)
    print(
        f"took {'; '.join(words)}; zone {guessed.zone}; every {every} "
        f"({taken.found.share:.1%} of the steps); {count} stream{'s' if count > 1 else ''}",
        file=sys.stderr,
    )
    if taken.found.change is not None and not table["every"]:
        before, after = (
            durations.format_every(c) for c in (taken.found.change.before, taken.found.change.after)
        )
        at = clock.format_time(taken.found.change.begins_ns)
        print(
            f"note: the cadence changes from {before} to {after} at {at}; the coarser one is taken",
            file=sys.stderr,
        )
    if not taken.found.is_regular and not table["every"]:
        print(
            "note: the stamps have no even cadence; state --every, or rows for rows in order", file=sys.stderr
        )
    if guessed.suggested_label and not guessed.label:
        print(
            f"column {guessed.suggested_label} looks like known anomalies; --label uses it", file=sys.stderr
        )
    for p in taken.problems:
        print(
            f"note: {p.count} rows {p.message}"
            if not p.sets_aside
            else f"left out: {p.count} rows, {p.message}",
            file=sys.stderr,
        )


def _ambiguity(guessed: layout.Layout) -> str:
    """Why a column of digits was taken for stamps, where it was: it could have been a column of numbers."""
    form = stamps.FORMS.get(guessed.time_form or "")
    return (
        f" ({guessed.reasons.get(guessed.time, form.words)})" if form is not None and form.is_digits else ""
    )


def plan_with_options(plan: Plan, changes: dict[str, dict[str, Any]]) -> Plan:
    """A plan with some keys replaced, checked again."""
    data = plan.as_data()
    for part, values in changes.items():
        data[part].update({k: v for k, v in values.items() if v is not None})
    try:
        return from_data(data)
    except PlanError as error:
        fail(str(error))


def parse_level(text: str) -> dict[str, float]:
    kind, equals, amount = text.partition("=")
    try:
        level = {kind: float(amount)}
        check_level(level)
    except ValueError as error:
        why = str(error) if equals and kind else "write for example sigmas=4"
        fail(
            f"--level {text}: {why if 'float' not in why else 'the amount must be a number, such as sigmas=4'}"
        )
    return level


def scan(
    source: str,
    *,
    plan_path: str | None,
    train_until: str | None,
    train_share: float | None,
    known: str | None,
    mode: str,
    level: str | None,
    side: str | None,
    points: str | None,
    findings: str | None,
    summary: str | None,
    save: str | None,
    state_path: str | None,
    fail_on: Sequence[str],
    junit: str | None,
    jobs: int,
    cluster: str | None = None,
    units: waves.Stated,
    table: dict[str, Any],
) -> None:
    if train_until is not None and train_share is not None:
        fail("--train-until and --train-share: give one of the two")
    train: dict[str, Any] | None = None
    if train_until is not None:
        clock.parse_one(train_until, table["tz"])
        train = {"until": train_until}
    elif train_share is not None:
        if not 0 < train_share <= 1:
            fail(
                f"--train-share {train_share:g}: must be above 0 and at most 1, a share of the time span such as 0.6"
            )
        train = {"share": train_share}
    if save and (mode == "replay" or state_path):
        fail("--save keeps the one fit of --mode fit; a replay has many")
    after = After([gates.Gate.read(text) for text in fail_on], junit)
    plan = plan_with_options(
        plan_of(plan_path, table),
        {
            "baseline": {"train": train},
            "flag": {"level": parse_level(level) if level else None, "side": side},
        },
    )
    if units:
        if train_until or known or mode == "replay" or state_path or fail_on or junit:
            fail(
                "waveforms are split by their order: leave out --train-until, --known, --mode replay, --state, --fail-on and --junit; "
                "--train-share is taken"
            )
        out = waves.Out(points, findings, summary, save)
        waves.scan(source, plan, units, out, train_share=train_share, table=table)
        return
    table = with_plan(table, plan)
    left_out = labels.read_labels(known, zone=table["tz"]) if known else []
    with crew(jobs, cluster, plan) as (executor, jobs), shown(sys.stderr.isatty(), "scanned") as progress:
        _, streams, spans = read_streams(source, table)
        streams = with_days(streams, plan, table)
        if state_path:
            state = states.kept(state_path, plan)
            new = watching.scan_on(streams, state, [*left_out, *spans])
            write_scan(new, points=points, findings=findings, summary=summary)
            # Once all is written: a call that fails before is made again.
            results.write_whole(state_path, states.written(state))
            after.end(new.found, new.judged, [s.key for s in streams])
            return
        common = {"mode": mode, "jobs": jobs, "executor": executor, "progress": progress}
        if together.is_apart(plan) and not (points or summary or save or fail_on or junit):
            path = findings or "-"
            written = list(run.write_many(streams, plan, path, [*left_out, *spans], **common))
            results.write_whole(path, results.ordered_text((x for s in written for x in s.lines), path))
            tell_count(sum(len(s.lines) for s in written), sum(s.judged for s in written), len(written))
            return
        done = run.scan_many(
            streams,
            plan,
            [*left_out, *spans],
            is_kept=save is not None,
            is_told=save is not None or summary is not None,
            **common,
        )
        scanned = together.finish(list(done), plan)
    whole = Scan(plan, mode, tuple(scanned))
    if save:
        whole.save(save)
    write_scan(whole, points=points, findings=findings, summary=summary)
    after.end(whole.found, whole.judged, whole.series)


@dataclass(frozen=True)
class After:
    """What comes of a scan once its files are written: JUnit XML, and gates that fail the command."""

    gates: Sequence[gates.Gate]
    junit: str | None

    def end(self, findings: Sequence[Finding], judged: int, series: Sequence[str]) -> None:
        if self.junit:
            gates.write_junit(self.junit, "watchtide scan", gates.cases_of(series, findings))
        gates.close(self.gates, gates.Figures.of(findings, judged))


@contextmanager
def crew(jobs: int, cluster: str | None, plan: Plan) -> Iterator[tuple[Executor | None, int]]:
    """What scans, and how many streams at once: this process, several of them, or a cluster."""
    if cluster is None:
        with run.workers(jobs, plan) as executor:
            yield executor, jobs
        return
    try:
        with clusters.joined(clusters.stated(cluster)) as them:
            yield them.executor, them.jobs
    except clusters.ClusterError as error:
        fail(str(error))


def with_plan(table: dict[str, Any], plan: Plan) -> dict[str, Any]:
    """The options of a table with the columns that the plan names, where no option names them."""
    return table | {
        "denominator": table.get("denominator") or plan.prepare.denominator,
        "covariate": table.get("covariate") or list(plan.baseline.covariates),
    }


def write_scan(whole: Scan, *, points: str | None, findings: str | None, summary: str | None) -> None:
    """What a scan found, in the files that are stated; findings to standard output where none is."""
    if points:
        whole.write_points(points)
    if summary:
        whole.write_summary(summary)
    if findings or not (points or summary):
        whole.write_findings(findings or "-")
    tell_count(len(whole.found), whole.judged, len(whole.series))


def tell_count(findings: int, judged: int, streams: int) -> None:
    print(f"{findings} findings in {judged:,} judged samples of {streams} streams", file=sys.stderr)


def decompose(
    source: str,
    season: list[str],
    out: str,
    *,
    form: str,
    robust: bool,
    summary: str | None,
    table: dict[str, Any],
) -> None:
    if form not in ("additive", "multiplicative", "auto"):
        fail(f"--form {form}: must be additive, multiplicative or auto")
    plan = plan_with_options(Plan(), {"prepare": {"every": table["every"], "combine": table["combine"]}})
    _, streams, _ = read_streams(source, table)
    parts, taken_apart = [], {}
    for stream in streams:
        try:
            part, taken, evidence = asking.parts_of(stream, plan, season, form, robust=robust)
        except InputError as error:
            fail(f"--{error}")
        taken_apart[stream.key] = {"form": taken, **({"evidence": evidence} if evidence else {})}
        texts = pa.array(clock.format_times(part["time"].to_numpy()), pa.string())
        parts.append(part.set_column(part.column_names.index("time"), "time", texts))
        print(
            f"{stream.key or source}: {taken}" + (f", leftover season {evidence}" if evidence else ""),
            file=sys.stderr,
        )
    results.write_whole(out, results.table_bytes(pa.concat_tables(parts), out))
    if summary:
        first = next(iter(taken_apart.values()))
        results.write_whole(
            summary, json.dumps({"form": first["form"], "streams": taken_apart}, indent=1) + "\n"
        )


def find_shifts(
    source: str,
    out: str,
    *,
    of: str,
    season: list[str] | None,
    penalty: str,
    online: bool,
    details: str | None = None,
    table: dict[str, Any],
) -> None:
    if of not in ("step", "spread", "slope"):
        fail(f"--of {of}: must be step, spread or slope")
    amount: str | float = penalty
    if penalty != "auto":
        try:
            amount = float(penalty)
        except ValueError:
            fail(f"--penalty {penalty}: must be auto or a number, 0 or more")
    plan = asking.shifts_plan(season or [], of, amount, table["every"], table["combine"])
    _, streams, _ = read_streams(source, table)
    found = []
    if online and of != "step":
        fail(f"--online looks for steps; --of {of} needs the whole series")
    if online and details:
        fail("--details tells of a search over the whole series; leave out --online")
    told = {}
    with shown(sys.stderr.isatty(), "searched") as progress:
        for scanned in run.scan_many(streams, plan, mode="replay" if online else "fit", progress=progress):
            found += [f for f in scanned.findings if f.kind == "shift"]
            if details:
                told[scanned.base.key] = outcome.shift_details(scanned, plan)
    if details:
        results.write_whole(details, json.dumps({"streams": told}, indent=1, allow_nan=False) + "\n")
    found.sort(key=lambda f: (f.start, f.series))
    results.write_whole(out, results.findings_text(found, out))
    print(f"{len(found)} shifts in {len(streams)} streams", file=sys.stderr)


def find_seasons(source: str, *, table: dict[str, Any]) -> None:
    plan = plan_with_options(Plan(), {"prepare": {"every": table["every"], "combine": table["combine"]}})
    _, streams, _ = read_streams(source, table)
    found = {stream.key: asking.seasons_of(stream, plan) for stream in streams}
    print(json.dumps({"series": found}, indent=1))
