"""`watchtide`: entry point, exit statuses, and the commands' names; the work is imported when called."""

import json
from enum import StrEnum
from typing import Annotated, Any

import typer

from watchtide import kernels
from watchtide.cli.options import Every, Wave, WaveAt, WaveClass, WaveId, WaveName, Zone, takes_table

app = typer.Typer(
    no_args_is_help=True,
    add_completion=True,
    pretty_exceptions_enable=False,
    # Plain help: its rich form takes longer to import than all of the rest.
    rich_markup_mode=None,
    help="Scan metric streams for anomalies, and count how far the scan can be trusted.",
)
plan_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Check and show plans.")
server_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Run and look after the server.")
cluster_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Run a cluster that scans.")
convert_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Turn files into other formats.")
app.add_typer(plan_app, name="plan")
app.add_typer(convert_app, name="convert")
app.add_typer(server_app, name="server")
app.add_typer(cluster_app, name="cluster")


@app.callback()
def options(
    context: typer.Context,
    allow: Annotated[
        list[str] | None,
        typer.Option(
            help="Addresses with this beginning may be read and written, as s3://lake/; repeatable."
        ),
    ] = None,
) -> None:
    """Scan metric streams for anomalies, and count how far the scan can be trusted."""
    if allow:
        from watchtide.tables import remote

        context.with_resource(remote.allowed(*allow))


class Mode(StrEnum):
    fit = "fit"
    replay = "replay"


class Side(StrEnum):
    both = "both"
    above = "above"
    below = "below"


@app.command()
@takes_table()
def scan(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    plan: Annotated[str | None, typer.Option(help="Plan file, YAML or JSON.")] = None,
    train_until: Annotated[str | None, typer.Option(help="Train on what lies before this time.")] = None,
    train_share: Annotated[float | None, typer.Option(help="Train on this share of the time span.")] = None,
    known: Annotated[str | None, typer.Option(help="Labels whose incidents stay out of training.")] = None,
    mode: Mode = Mode.fit,
    level: Annotated[
        str | None, typer.Option(help="sigmas=4, odds=1000, per-week=0.1, interval=0.99 or share=0.01")
    ] = None,
    side: Side | None = None,
    points: Annotated[str | None, typer.Option(help="Write the judged samples here.")] = None,
    findings: Annotated[str | None, typer.Option(help="Write the findings here.")] = None,
    summary: Annotated[str | None, typer.Option(help="Write the summary here (JSON).")] = None,
    save: Annotated[str | None, typer.Option(help="Keep the fitted models here, for apply.")] = None,
    state: Annotated[
        str | None,
        typer.Option(help="Judge only what is new since the state kept here, as a replay, and keep it."),
    ] = None,
    fail_on: Annotated[
        list[str] | None, typer.Option(help="Exit 1 where this holds, as 'findings > 0'; repeatable.")
    ] = None,
    junit: Annotated[str | None, typer.Option(help="Write JUnit XML here, a case a stream.")] = None,
    jobs: Annotated[int, typer.Option(min=1, help="Processes to scan with.")] = 1,
    cluster: Annotated[
        str | None,
        typer.Option(
            metavar="ADDRESS", help="Scan on this cluster, tls://host:port or tcp://127.0.0.1:port."
        ),
    ] = None,
    wave: Wave = None,
    id_: WaveName = None,
    class_: WaveClass = None,
    wave_id: WaveId = None,
    wave_at: WaveAt = None,
    *,
    table: dict[str, Any],
) -> None:
    """Fit a baseline per stream, flag what strays from it, and find shifts."""
    from watchtide.cli import scanning
    from watchtide.cli.waves import Stated

    scanning.scan(
        source,
        units=Stated(wave, id_, class_, wave_id, wave_at),
        plan_path=plan,
        train_until=train_until,
        train_share=train_share,
        known=known,
        mode=mode.value,
        level=level,
        side=side.value if side else None,
        points=points,
        findings=findings,
        summary=summary,
        save=save,
        state_path=state,
        fail_on=fail_on or [],
        junit=junit,
        jobs=jobs,
        cluster=cluster,
        table=table,
    )


@app.command()
@takes_table("label")
def decompose(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    season: Annotated[list[str], typer.Option(help="Season length, such as 24h; repeatable.")],
    out: Annotated[str, typer.Option(help="Write the components here.")],
    form: Annotated[str, typer.Option(help="additive, multiplicative or auto")] = "additive",
    robust: Annotated[bool, typer.Option("--robust", help="Give outliers less weight.")] = False,
    summary: Annotated[str | None, typer.Option(help="Write the form and its evidence here (JSON).")] = None,
    *,
    table: dict[str, Any],
) -> None:
    """Split streams into trend, seasons and remainder."""
    from watchtide.cli import scanning

    scanning.decompose(source, season, out, form=form, robust=robust, summary=summary, table=table)


@app.command()
@takes_table("label")
def shifts(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    out: Annotated[str, typer.Option(help="Write the change points here, as findings.")],
    of: Annotated[str, typer.Option(help="step, spread or slope")] = "step",
    season: Annotated[list[str] | None, typer.Option(help="Season length, auto or none.")] = None,
    penalty: Annotated[str, typer.Option(help="auto, or what one change must gain.")] = "auto",
    online: Annotated[bool, typer.Option("--online", help="As they would have become known.")] = False,
    details: Annotated[
        str | None, typer.Option(help="Write sizes with intervals and the penalty path here, as JSON.")
    ] = None,
    *,
    table: dict[str, Any],
) -> None:
    """Find change points in streams freed of their seasons."""
    from watchtide.cli import scanning

    scanning.find_shifts(
        source, out, of=of, season=season, penalty=penalty, online=online, details=details, table=table
    )


@app.command()
@takes_table("label")
def seasons(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    *,
    table: dict[str, Any],
) -> None:
    """Season lengths of each stream, strongest first, as JSON."""
    from watchtide.cli import scanning

    scanning.find_seasons(source, table=table)


@app.command()
def score(
    findings: Annotated[str, typer.Option(help="Findings file.")],
    labels: Annotated[str, typer.Option(help="Labels file, CSV or JSON.")],
    points: Annotated[str | None, typer.Option(help="Points file, for the point and range levels.")] = None,
    summary: Annotated[str | None, typer.Option(help="The scan's summary: cadence, seasons, span.")] = None,
    tolerance: Annotated[str, typer.Option(help="Widens every label on both sides.")] = "0s",
    from_: Annotated[str | None, typer.Option("--from", help="Start of the scored span.")] = None,
    to: Annotated[str | None, typer.Option("--to", help="End of the scored span, closed.")] = None,
    kinds: Annotated[str | None, typer.Option(help="Findings to count: outlier,shift,discord.")] = None,
    min_precision: Annotated[float | None, typer.Option(help="Exit 1 below this precision.")] = None,
    min_precision_lower: Annotated[
        float | None, typer.Option(help="Exit 1 where its interval starts below.")
    ] = None,
    min_recall: Annotated[float | None, typer.Option(help="Exit 1 below this recall.")] = None,
    json_out: Annotated[str | None, typer.Option("--json", help="Write all figures here.")] = None,
    html: Annotated[str | None, typer.Option("--html", help="Write a page to read and print here.")] = None,
    junit: Annotated[str | None, typer.Option(help="Write JUnit XML here, a case a bound.")] = None,
    tz: Zone = "UTC",
) -> None:
    """Count findings against labels: precision, recall and what stands beside them."""
    from watchtide.cli import judging

    judging.score(
        findings, labels, points, summary, tolerance=tolerance, start=from_, stop=to, kinds=kinds,
        bounds={"precision": min_precision, "precision_lower": min_precision_lower, "recall": min_recall},
        json_out=json_out, html_out=html, junit=junit, zone=tz,
    )  # fmt: skip


@app.command()
@takes_table("label")
def apply(
    model: Annotated[str, typer.Argument(metavar="MODEL")],
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    points: Annotated[str | None, typer.Option(help="Write the judged samples here.")] = None,
    findings: Annotated[str | None, typer.Option(help="Write the findings here.")] = None,
    summary: Annotated[str | None, typer.Option(help="Write the summary here (JSON).")] = None,
    wave: Wave = None,
    id_: WaveName = None,
    class_: WaveClass = None,
    wave_id: WaveId = None,
    wave_at: WaveAt = None,
    *,
    table: dict[str, Any],
) -> None:
    """Judge new data by models that scan --save kept, without fitting."""
    from watchtide.cli import models
    from watchtide.cli.waves import Stated

    units = Stated(wave, id_, class_, wave_id, wave_at)
    models.apply(model, source, units=units, points=points, findings=findings, summary=summary, table=table)


@app.command()
@takes_table("label")
def forecast(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    steps: Annotated[str, typer.Option(help="How far: a number of samples, or a duration such as 7d.")],
    out: Annotated[str, typer.Option(help="Write the forecast here.")],
    skip_last: Annotated[int, typer.Option(min=0, help="Leave out the last samples, to compare with.")] = 0,
    interval: Annotated[float, typer.Option(help="Share of future samples that should lie within.")] = 0.95,
    limit: Annotated[float | None, typer.Option(help="Tell when this is reached, and how sure.")] = None,
    plan: Annotated[str | None, typer.Option(help="Plan file, YAML or JSON.")] = None,
    *,
    table: dict[str, Any],
) -> None:
    """The next samples with an interval, and when a limit is reached."""
    from watchtide.cli import models

    models.forecast(
        source,
        out,
        plan_path=plan,
        steps=steps,
        skip_last=skip_last,
        interval=interval,
        limit=limit,
        table=table,
    )


@app.command()
@takes_table("label")
def diagnose(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    plan: Annotated[str | None, typer.Option(help="Plan file, YAML or JSON.")] = None,
    json_out: Annotated[str | None, typer.Option("--json", help="Write figures and diagnoses here.")] = None,
    remedied: Annotated[str | None, typer.Option(help="Write the plan with the remedies here.")] = None,
    *,
    table: dict[str, Any],
) -> None:
    """Is the baseline any good? Errors, what is wrong, and the remedy for each."""
    from watchtide.cli import models

    models.diagnose(source, plan_path=plan, json_out=json_out, remedied=remedied, table=table)


@app.command()
@takes_table("label")
def discords(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    window: Annotated[str, typer.Option(help="Length of a window: a duration, or a number of samples.")],
    out: Annotated[str, typer.Option(help="Write the windows here, as findings.")],
    most: Annotated[int, typer.Option(min=1, max=100, help="So many a stream.")] = 3,
    *,
    table: dict[str, Any],
) -> None:
    """The windows least like any other of their stream."""
    from watchtide.cli import models

    models.discords(source, out, window, most, table=table)


@app.command()
def threshold(
    points: Annotated[str, typer.Option(help="Points file, as scan writes it.")],
    labels: Annotated[str | None, typer.Option(help="Labels file; units have their classes.")] = None,
    by: Annotated[str, typer.Option(help="events, points or units")] = "events",
    plan: Annotated[str | None, typer.Option(help="Plan whose grouping and side hold.")] = None,
    min_recall: Annotated[float | None, typer.Option(help="At least this recall.")] = None,
    max_false_per_week: Annotated[
        float | None, typer.Option(help="At most so many false a stream-week.")
    ] = None,
    max_gap: Annotated[
        float | None, typer.Option(help="Sensitivity and specificity no further apart.")
    ] = None,
    cost_miss: Annotated[float | None, typer.Option(help="What a missed incident costs.")] = None,
    cost_false: Annotated[float | None, typer.Option(help="What a false finding costs.")] = None,
    locked: Annotated[str | None, typer.Option(help="FROM..TO, never used to choose.")] = None,
    tolerance: Annotated[str, typer.Option(help="Widens every label on both sides.")] = "0s",
    json_out: Annotated[str, typer.Option("--json", help="Write the answer here.")] = "-",
    tz: Zone = "UTC",
) -> None:
    """The best level under a constraint: apparent, cross-validated, and on a locked span."""
    from watchtide.cli import levels

    levels.threshold(
        levels.Weighing(points, labels, by, plan, locked, tolerance, tz),
        {
            "min_recall": min_recall,
            "max_false_per_week": max_false_per_week,
            "max_gap": max_gap,
            "cost_miss": cost_miss,
            "cost_false": cost_false,
        },
        json_out,
    )


@app.command()
def losses(
    model: Annotated[str, typer.Argument(metavar="MODEL")],
    out: Annotated[str, typer.Option(help="Write the errors here.")] = "-",
) -> None:
    """Training and validation error of each epoch of a learned model, and which one is kept."""
    from watchtide.cli import waves

    waves.losses(model, out)


@app.command()
def compare(
    findings: Annotated[list[str], typer.Option(help="Findings file; give two.")],
    labels: Annotated[str, typer.Option(help="Labels file.")],
    points: Annotated[list[str] | None, typer.Option(help="Points file of each, in the same order.")] = None,
    block: Annotated[str, typer.Option(help="Length of the blocks of time drawn together.")] = "7d",
    tolerance: Annotated[str, typer.Option(help="Widens every label on both sides.")] = "0s",
    json_out: Annotated[str, typer.Option("--json", help="Write the comparison here.")] = "-",
    tz: Zone = "UTC",
) -> None:
    """Two scans against the same labels, with paired intervals on what differs."""
    from watchtide.cli import levels

    levels.compare(
        findings, labels, points or [], block=block, tolerance=tolerance, json_out=json_out, zone=tz
    )


@app.command()
def sample(
    findings: Annotated[str, typer.Option(help="Findings file.")],
    out: Annotated[str, typer.Option(help="Write what to judge here, as labels.")],
    n: Annotated[int, typer.Option("--n", min=1, help="How many findings to draw.")] = 50,
    points: Annotated[str | None, typer.Option(help="Points file: draws unflagged spans too.")] = None,
    spans: Annotated[int, typer.Option(min=0, help="How many unflagged spans to draw.")] = 0,
    length: Annotated[str, typer.Option(help="Length of an unflagged span.")] = "6h",
    judged: Annotated[
        str | None, typer.Option(help="Labels of an earlier draw: more where verdicts differ.")
    ] = None,
    seed: Annotated[int, typer.Option(help="The same seed draws the same.")] = 1,
) -> None:
    """An unbiased sample of findings and unflagged spans to judge, with the chance of each."""
    from watchtide.cli import levels

    levels.sample(findings, out, n, points_path=points, spans=spans, length=length, judged=judged, seed=seed)


@convert_app.command("labels")
def convert_labels(
    source: Annotated[str, typer.Argument(metavar="IN")],
    out: Annotated[str, typer.Argument(metavar="OUT")],
    tz: Zone = "UTC",
) -> None:
    """Labels between CSV, JSON and iCalendar, losing nothing."""
    from watchtide.cli import levels

    levels.convert(source, out, tz)


@app.command()
@takes_table("covariate", "denominator", "calendar", "label", "skip_broken", "duplicates")
def watch(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    plan: Annotated[str | None, typer.Option(help="Plan, YAML or JSON.")] = None,
    state: Annotated[str | None, typer.Option(help="Kept here after each bin, and gone on from.")] = None,
    hook: Annotated[str | None, typer.Option(help="Send what begins and ends there, as CloudEvents.")] = None,
    wait: Annotated[str, typer.Option(help="How long after a bin's end samples of it may come.")] = "0s",
    once: Annotated[bool, typer.Option("--once", help="Stop at the end of the file.")] = False,
    *,
    table: dict[str, Any],
) -> None:
    """Follow a growing JSON Lines file or standard input, and print findings when they begin and end."""
    from watchtide.cli import watching

    watching.watch(source, plan, state, hook, wait=wait, is_once=once, table=table)


@app.command()
@takes_table()
def look(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    json_out: Annotated[str | None, typer.Option("--json", help="Write what was seen here.")] = None,
    save_layout: Annotated[str | None, typer.Option(help="Keep how the table is read, for --layout.")] = None,
    whole: Annotated[bool, typer.Option("--whole", help="Look at all of a large file.")] = False,
    *,
    table: dict[str, Any],
) -> None:
    """Look a table through: columns, rows, what is wrong, and what it would become."""
    from watchtide.cli import taking

    taking.look(source, json_out, save_layout, whole=whole, table=table)


@app.command()
@takes_table()
def rollup(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    out: Annotated[str, typer.Option(help="Write the streams here.")],
    every: Annotated[str, typer.Option(help="Interval, such as 5m or 1d.")],
    measure: Annotated[
        list[str],
        typer.Option(
            help="count, or sum|mean|min|max|p50|p90|p95|p99|distinct of a column: `p95 ms`; repeatable."
        ),
    ],
    metric: Annotated[str | None, typer.Option(help="Name of the count.")] = None,
    *,
    table: dict[str, Any],
) -> None:
    """Turn rows that are events into streams: figures per interval and attribute."""
    from watchtide.cli import taking

    taking.roll_up(source, out, every, measure, metric, table=table)


@app.command()
@takes_table()
def regrid(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    out: Annotated[str, typer.Option(help="Write the streams here.")],
    every: Annotated[str, typer.Option(help="Cadence: 15m, 1h, 1d, 7d, month, year. Days follow --tz.")],
    combine: Annotated[str, typer.Option(help="mean, sum, count, min, max, last, p50, p95 or p99.")] = "mean",
    *,
    table: dict[str, Any],
) -> None:
    """Put streams on another cadence."""
    from watchtide.cli import taking

    taking.regrid(source, out, every, combine, table=table)


@app.command()
@takes_table()
def derive(
    source: Annotated[str, typer.Argument(metavar="INPUT")],
    out: Annotated[str, typer.Option(help="Write the streams here.")],
    formula: Annotated[str, typer.Option(help="Such as `1000 * [errors] / [requests]`.")],
    by: Annotated[list[str] | None, typer.Option(help="Attribute to keep; repeatable.")] = None,
    metric: Annotated[str, typer.Option(help="Name of the result.")] = "derived",
    every: Every = None,
    *,
    table: dict[str, Any],
) -> None:
    """Make streams of others by a formula; a ratio keeps its denominator beside it."""
    from watchtide.cli import taking

    taking.derive(source, out, formula, by or [], metric, every, table=table)


@app.command()
def days(
    source: Annotated[str, typer.Argument(metavar="FILE.ics")],
    from_: Annotated[str, typer.Option("--from", help="Start of the span.")],
    to: Annotated[str, typer.Option("--to", help="End of the span.")],
    tz: Zone = "UTC",
    out: Annotated[str, typer.Option(help="Write the days here, as CSV.")] = "-",
) -> None:
    """Known days of a calendar within a span, recurring ones written out."""
    from watchtide.cli import taking

    taking.days(source, from_, to, tz, out)


@plan_app.command("check")
def plan_check(path: str) -> None:
    """Check a plan; mistakes are told by line."""
    from watchtide.cli import scanning

    scanning.load_plan(path)
    print(f"{path}: fine")


@plan_app.command("show")
def plan_show(path: Annotated[str | None, typer.Argument()] = None) -> None:
    """Show a plan with every key written out."""
    from watchtide.cli import scanning
    from watchtide.plan import dump

    print(dump(scanning.load_plan(path)), end="")


@plan_app.command("schema")
def plan_schema() -> None:
    """The JSON Schema of plans."""
    from watchtide.plan import Plan

    print(json.dumps(Plan.model_json_schema(by_alias=True), indent=1))


@server_app.command("run", context_settings={"allow_extra_args": True, "ignore_unknown_options": True})
def server_run(context: typer.Context) -> None:
    """A management command of the server, such as `migrate` or `createsuperuser`."""
    from watchtide.cli import server

    server.run(context.args)


@server_app.command("start")
def server_start(
    port: Annotated[int, typer.Option(min=1, max=65535)] = 8400,
    host: Annotated[str, typer.Option(help="Address to listen on; put TLS in front of it.")] = "127.0.0.1",
    demo: Annotated[
        bool, typer.Option("--demo", help="With the demo's data and its sign-in, to look around.")
    ] = False,
) -> None:
    """Start everything: MariaDB where no other is stated, workers, keepers and the web server. Ctrl-C stops all of it."""
    from watchtide.cli import server

    server.start(port, host, is_demo=demo)


FORWARDED = {"allow_extra_args": True, "ignore_unknown_options": True, "help_option_names": []}


@server_app.command("backup", context_settings=FORWARDED)
def server_backup(context: typer.Context) -> None:
    """Write a backup into a new folder of FOLDER, while everything runs."""
    from watchtide.cli import server

    server.run(["backup", *context.args])


@cluster_app.command("schedule")
def cluster_schedule(
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=1, max=65535)] = 8786,
) -> None:
    """Run the scheduler of a cluster."""
    from watchtide.cli import cluster

    cluster.schedule(host, port)


@cluster_app.command("run")
def cluster_run(
    workers: Annotated[int, typer.Option(min=1, help="Workers, one task at a time each.")] = 2,
    port: Annotated[int, typer.Option(min=1, max=65535)] = 8786,
) -> None:
    """Run a scheduler and workers on this host, to try it."""
    from watchtide.cli import cluster

    cluster.run(workers, port)


@cluster_app.command("work")
def cluster_work(
    address: Annotated[str, typer.Argument(help="Of the scheduler, such as tls://host:8786.")],
    processes: Annotated[int, typer.Option(min=1, help="Workers on this host.")] = 1,
    server: Annotated[
        bool, typer.Option("--server", help="Scan for a server too: settings as the server has them.")
    ] = False,
) -> None:
    """Run workers of a cluster on this host."""
    from watchtide.cli import cluster

    cluster.work(address, processes, is_of_server=server)


@server_app.command("restore", context_settings=FORWARDED)
def server_restore(context: typer.Context) -> None:
    """Restore a backup that `backup` made, or --check it."""
    from watchtide.cli import server

    server.run(["restore", *context.args])


def main() -> None:
    """Run, and turn our own errors into one message and exit status 2."""
    kernels.use_cache()
    from watchtide.cli import errors

    errors.run(app)


if __name__ == "__main__":
    main()
