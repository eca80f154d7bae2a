"""`scan`: what the command of this name does, from Python."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal, Unpack

from watchtide.door import states, watching
from watchtide.door.errors import InputError
from watchtide.door.found import Scan
from watchtide.door.progress import Progress, shown
from watchtide.door.stated import Columns, labels_of, plan_of, streams_of
from watchtide.engine.many import run, together
from watchtide.plan import Plan
from watchtide.plan.text import from_data
from watchtide.tables import results


def scan(
    table: Any,
    plan: Plan | Mapping[str, Any] | str | Path | None = None,
    labels: Any = None,
    *,
    mode: Literal["fit", "replay"] = "fit",
    every: str | None = None,
    jobs: int = 1,
    state: str | Path | None = None,
    progress: Progress | bool | None = None,
    **columns: Unpack[Columns],
) -> Scan:
    """Fit a baseline to every stream of a table, flag what strays, and find shifts: what `watchtide scan` does.

    Parameters
    ----------
    table : DataFrame, Arrow table, dictionary of columns, or path
        Anything that offers Arrow's C stream (pandas, Polars, PyArrow, DuckDB), or a file of CSV, JSON Lines or Parquet.
    plan : Plan, dictionary, path of a YAML file, or None
        How to scan; None chooses for each stream.
    labels : path or table of labels, optional
        Known spans; those that a plan leaves out of training do not teach it.
    mode : "fit" or "replay"
        Over the whole history, or as if each sample had just come.
    every : str, optional
        The cadence, as 15m; None finds it.
    jobs : int
        Processes that scan.
    state : path, optional
        Of a file: only what is new since the state kept there is judged, as a replay of all rows would, and the state is kept. The table may
        hold all rows so far, or those since the last call.
    progress : callable or bool, optional
        Called with (streams done, streams in all); True draws a bar, in a notebook or on standard error.
    **columns
        How the table is read: time, value, series, label, denominator and covariates name columns, and what is not stated is guessed, as
        `watchtide look` shows; tz is the zone of stamps without an offset, and of days and weeks (UTC); skip_broken leaves
        rows out that cannot be read, else the first is an error.

    Returns
    -------
    Scan

    Raises
    ------
    TableError, PlanError, InputError
        With the place and the remedy; all are ValueErrors.

    Examples
    --------
    >>> import watchtide as wt
    >>> hours = [f"2026-06-{1 + i // 24:02}T{i % 24:02}:00:00Z" for i in range(24 * 28)]
    >>> values = [10 + (i % 24) / 4 + (i * 7919 % 13) / 20 for i in range(24 * 28)]
    >>> values[400] += 9
    >>> found = wt.scan({"time": hours, "value": values}, {"flag": {"level": {"sigmas": 8}}})
    >>> print(found)
    1 findings in 672 judged samples of 1 stream
    >>> [str(row["start"]) for row in found.findings.to_pylist()]
    ['2026-06-17 16:00:00+00:00']
    """
    if mode not in ("fit", "replay"):
        raise InputError("mode", f"{mode!r} is no mode", "take 'fit' or 'replay'")
    if jobs < 1:
        raise InputError("jobs", f"{jobs} processes", "take 1 or more")
    data = plan_of(plan).as_data()
    if every is not None:
        data["prepare"]["every"] = every
    # As the command checks it with its options: 6 and 6.0 are then the same.
    chosen = from_data(data)
    streams, spans = streams_of(table, chosen, **columns)
    known = [*labels_of(labels, columns.get("tz", "UTC")), *spans]
    if state is not None:
        now = states.kept(state, chosen)
        new = watching.scan_on(streams, now, known)
        results.write_whole(str(state), states.written(now))
        return new
    with run.workers(jobs, chosen) as executor, shown(progress, "scanned") as tell:
        done = run.scan_many(
            streams,
            chosen,
            known,
            mode=mode,
            is_kept=mode == "fit",
            jobs=jobs,
            executor=executor,
            progress=tell,
        )
        scanned = together.finish(list(done), chosen)
    return Scan(chosen, mode, tuple(scanned))
