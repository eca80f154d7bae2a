"""What a pane of a board shows: its settings checked, and its data read when somebody looks."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from watchtide.core.series import SECOND_NS, Ints, at_stamps
from watchtide.engine.scan import reduce
from watchtide.server import moments
from watchtide.server.incidents import services as incidents
from watchtide.server.lookouts.models import Watched
from watchtide.server.looks import services as looks
from watchtide.server.looks.services import MOST_BEFORE
from watchtide.server.problems import Problem
from watchtide.server.scans import charts, forecasts, reading, services, tide
from watchtide.server.scans.forecasts import Wanted
from watchtide.server.scans.models import ScanStream, Standing
from watchtide.server.streams import catalogue, store
from watchtide.server.streams.models import Stream

WIDE, TALL, MOST_PANES = 12, 60, 40
HOUR_NS = 3_600 * SECOND_NS
POINTS = 400
MOST_HOURS = 24 * 366
Row = dict[str, Any]


def _whole(given: Row, name: str, low: int, high: int, usual: int | None = None) -> int:
    value = given.get(name, usual)
    if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
        raise Problem(f"{name} is no whole number from {low} to {high}", place=name, remedy="correct it")
    return value


def _stream(given: Row) -> Row:
    return {"stream": _known(given.get("stream")), "hours": _whole(given, "hours", 1, MOST_HOURS, 48)}


def _known(pk: Any) -> int:
    if isinstance(pk, bool) or not isinstance(pk, int) or not catalogue.visible().filter(pk=pk).exists():
        raise Problem(f"no stream {pk}", place="stream", remedy="see /api/v1/catalogue", code=404)
    return pk


def _several(given: Row) -> Row:
    streams = given.get("streams")
    if not isinstance(streams, list) or not 1 <= len(streams) <= 6:
        raise Problem("streams names none, or more than 6", place="streams", remedy="name 1 to 6")
    return {"streams": [_known(pk) for pk in streams], "hours": _whole(given, "hours", 1, MOST_HOURS, 48)}


def _strongest(given: Row) -> Row:
    return {
        "most": _whole(given, "most", 1, 20, 5),
        "family": _whole(given, "family", 1, 20, 2),
        "stream": _whole(given, "stream", 1, 20, 1),
    }


def _ribbons(given: Row) -> Row:
    metric = given.get("metric")
    if not isinstance(metric, str) or not catalogue.visible().filter(metric=metric).exists():
        raise Problem(
            f"no stream has the metric {metric!r}", place="metric", remedy="see /api/v1/catalogue", code=404
        )
    return {"metric": metric, "most": _whole(given, "most", 1, 40, 12)}


def _forecast(given: Row) -> Row:
    return {"stream": _known(given.get("stream")), "hours": _whole(given, "hours", 1, 24 * 60, 48)}


def _look(given: Row) -> Row:
    by = given.get("by", "day")
    if by not in ("day", "week"):
        raise Problem("by is neither day nor week", place="by", remedy="state one of them")
    return {"stream": _known(given.get("stream")), "by": by, "n": _whole(given, "n", 1, MOST_BEFORE, 8)}


def _incidents(given: Row) -> Row:
    return {"most": _whole(given, "most", 1, 20, 5)}


def _text(given: Row) -> Row:
    text = given.get("text")
    if not isinstance(text, str) or not 0 < len(text) <= 2_000:
        raise Problem(
            "text is empty or longer than 2,000 characters", place="text", remedy="write a shorter one"
        )
    return {"text": text}


def _nothing(given: Row) -> Row:
    return {}


@dataclass(frozen=True)
class Kind:
    """check : the settings as they are kept; read : what is shown."""

    check: Callable[[Row], Row]
    read: Callable[[Row], Row]


def checked(given: Any) -> list[Row]:
    """Panes as they are kept. Raises Problem for the first that cannot be shown, naming it."""
    if not isinstance(given, list) or len(given) > MOST_PANES:
        raise Problem(
            f"panes is no list, or has more than {MOST_PANES}", place="panes", remedy="leave some out"
        )
    return [_checked(i, pane) for i, pane in enumerate(given)]


def _checked(i: int, pane: Any) -> Row:
    place = f"panes[{i}]"
    if not isinstance(pane, dict) or pane.get("kind") not in KINDS:
        raise Problem("the pane is of no known kind", place=place, remedy=f"use one of {', '.join(KINDS)}")
    try:
        x = _whole(pane, "x", 0, WIDE - 1, 0)
        where = {
            "x": x,
            "y": _whole(pane, "y", 0, 1_000, 0),
            "w": _whole(pane, "w", 1, WIDE - x, min(6, WIDE - x)),
            "h": _whole(pane, "h", 1, TALL, 4),
        }
        title = str(pane.get("title") or "")[:120]
        return {"kind": pane["kind"], "title": title, **where, **KINDS[pane["kind"]].check(pane)}
    except Problem as error:
        error.body["place"] = f"{place}.{error.body.get('place', '')}"
        raise


def data_of(pane: Row) -> Row:
    """What a pane shows now, with when that was read."""
    return {"kind": pane["kind"], "at": moments.at(moments.now_ns()), **KINDS[pane["kind"]].read(pane)}


def _read_stream(pane: Row) -> Row:
    return _line(Stream.objects.get(pk=pane["stream"]), pane["hours"], has_band=True)


def _line(stream: Stream, hours: int, *, has_band: bool) -> Row:
    """The newest stretch of a stream; what was expected, its band and what was found as far as its scan goes."""
    times, values = store.read(stream.pk, (stream.last_ns or 0) - hours * HOUR_NS)
    at = reduce.indices(values, None, np.empty(0, np.int64), POINTS)
    times, values = times[at], values[at]
    watched = (
        Watched.objects.filter(stream=stream).order_by("-judged_through_ns").values("state", "why").first()
    )
    return {
        "stream": stream.pk,
        "metric": stream.metric,
        "title": stream.title,
        "unit": stream.unit,
        "zone": stream.zone,
        **(watched or {"state": None, "why": ""}),
        "time": moments.each(times),
        "value": charts.for_chart(values),
        **(_band(stream, times) if has_band else {}),
    }


def _band(stream: Stream, times: Ints) -> Row:
    rows = ScanStream.objects.select_related("scan__plan_version", "stream")
    row = rows.filter(stream=stream, scan__in=Standing.objects.filter(stream=stream).values("scan")).first()
    if row is None:
        return {}
    scanned = services.rescan(row)
    if not len(scanned.base.series):
        return {}
    band = charts.band_at(scanned, times)
    found = at_stamps(scanned.base.series.times, scanned.in_finding.astype(np.float64), times) == 1
    columns = {name: charts.for_chart(column) for name, column in band.items()}
    return columns | {"found": np.flatnonzero(found).tolist()}


def _read_several(pane: Row) -> Row:
    found = Stream.objects.in_bulk(pane["streams"])
    return {
        "lines": [_line(found[pk], pane["hours"], has_band=False) for pk in pane["streams"] if pk in found]
    }


def _read_strongest(pane: Row) -> Row:
    found = tide.open_findings()
    caps = tide.Strongest(pane["most"], pane["family"], pane["stream"])
    return {"findings": tide.strongest(found, caps), "open": len(found)}


def _read_ribbons(pane: Row) -> Row:
    table = tide.tide_table(metric=pane["metric"])
    rows = table["rows"][: pane["most"]]
    names = (
        "id",
        "title",
        "unit",
        "zone",
        "last_value",
        "state",
        "open",
        "ribbon",
        "ribbon_from",
        "ribbon_to",
    )
    return {
        "rows": [{n: r[n] for n in names} for r in rows],
        "span_from": table["span_from"],
        "span_to": table["span_to"],
    }


def _read_forecast(pane: Row) -> Row:
    stream = Stream.objects.get(pk=pane["stream"])
    until = (stream.last_ns or 0) + pane["hours"] * HOUR_NS
    ahead = forecasts.forecast([stream], None, Wanted(until=until))[0]
    return {"ahead": ahead, "line": _line(stream, pane["hours"], has_band=True)}


def _read_scorecard(pane: Row) -> Row:
    got = reading.review(None)
    return {n: got[n] for n in ("precision", "precision_ci", "precision_counts", "judged", "total")}


def _read_look(pane: Row) -> Row:
    return looks.look(looks.Wanted(pane["by"], pane["n"], pane["stream"]))


def _read_incidents(pane: Row) -> Row:
    rows = incidents.listed()
    names = (
        "id",
        "finding",
        "title",
        "state",
        "start",
        "end",
        "streams",
        "score",
        "kind",
        "direction",
        "taken_by",
    )
    return {"count": len(rows), "rows": [{n: r.get(n) for n in names} for r in rows[: pane["most"]]]}


def _read_text(pane: Row) -> Row:
    return {"text": pane["text"]}


KINDS = {
    "stream": Kind(_stream, _read_stream),
    "several": Kind(_several, _read_several),
    "strongest": Kind(_strongest, _read_strongest),
    "ribbons": Kind(_ribbons, _read_ribbons),
    "forecast": Kind(_forecast, _read_forecast),
    "scorecard": Kind(_nothing, _read_scorecard),
    "incidents": Kind(_incidents, _read_incidents),
    "look": Kind(_look, _read_look),
    "text": Kind(_text, _read_text),
}
