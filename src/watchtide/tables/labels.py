"""Labels in and out: CSV, JSON and iCalendar, losing nothing that the format names."""

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from watchtide.core.scoring.rows import ORIGINS, VERDICTS, Label
from watchtide.core.series import keys
from watchtide.tables import clock, remote, safe
from watchtide.tables.problems import TableError

MOST_BYTES = 32 << 20

WORDS = ("kind", "cause", "note", "author", "stratum")
COLUMNS = (
    "series",
    "start",
    "end",
    "verdict",
    "kind",
    "cause",
    "note",
    "author",
    "origin",
    "stratum",
    "probability",
)


def read_labels(source: str | Path | bytes, name: str | None = None, *, zone: str = "UTC") -> list[Label]:
    """Labels of a CSV, JSON or iCalendar file. Raises TableError naming line, column and remedy."""
    name = name or (remote.name_of(source) if remote.is_address(source) else None)
    source = remote.fetched(source)
    if isinstance(source, bytes):
        data, name = source, name or "labels"
    else:
        path = Path(source)
        name = name or path.name
        if not path.is_file():
            raise TableError(name, "", "there is no such file", "check the path")
        data = path.read_bytes()
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise TableError(name, f"line {line}", "not UTF-8 text", "save the file as UTF-8") from error
    if name.endswith(".ics") or text.lstrip().startswith("BEGIN:VCALENDAR"):
        # Few label files are calendars: the others need not wait for a calendar's reader.
        from watchtide.tables import expansion

        return [
            _label(row, name, "event", number, zone) for number, row in expansion.label_rows(data, name, zone)
        ]
    if text.lstrip()[:1] in ("[", "{"):
        rows, place = _json_rows(text, name), "entry"
    else:
        rows, place = _csv_rows(text, name), "line"
    return [_label(row, name, place, number, zone) for number, row in rows]


def _csv_rows(text: str, name: str) -> list[tuple[int, dict[str, Any]]]:
    reader = csv.DictReader(io.StringIO(text), delimiter=";" if text.split("\n", 1)[0].count(";") else ",")
    header = reader.fieldnames or []
    if not header:
        raise TableError(name, "", "the file is empty", "write a header with at least start")
    for i, column in enumerate(header):
        if column in header[:i]:
            raise TableError(
                name, f"line 1, column {i + 1}", f"the header has {column!r} twice", "rename one of them"
            )
    if "start" not in header:
        raise TableError(name, "line 1", f"no column start (columns: {', '.join(header)})", "add one")
    rows = []
    for row in reader:
        if None in row or any(v is None for v in row.values()):
            raise TableError(
                name, f"line {reader.line_num}", f"has another number of cells than the header's {len(header)}",
                "complete the row, or quote the cell that holds a comma",
            )  # fmt: skip
        rows.append((reader.line_num, row))
    return rows


def _json_rows(text: str, name: str) -> list[tuple[int, dict[str, Any]]]:
    try:
        data = json.loads(text)
    except json.JSONDecodeError as error:
        raise TableError(
            name, f"line {error.lineno}", f"no JSON ({error.msg})", "write a list of objects"
        ) from error
    if isinstance(data, dict):
        data = data.get("labels", [data])
    if not isinstance(data, list) or not all(isinstance(row, dict) for row in data):
        raise TableError(name, "", "no list of objects", 'write [{"start": "…"}]')
    return list(enumerate(data, start=1))


def _label(row: dict[str, Any], name: str, place: str, number: int, zone: str) -> Label:
    def refuse(column: str, message: str, remedy: str) -> TableError:
        return TableError(name, f"{place} {number}, column {column}", message, remedy)

    def moment(column: str) -> int:
        try:
            return clock.parse_one(str(row[column]).strip(), zone)
        except clock.ClockError as error:
            message, _, remedy = str(error).partition("; ")
            raise refuse(column, message, remedy) from error

    if not str(row.get("start") or "").strip():
        raise refuse("start", "is empty", "every label needs a start")
    start = moment("start")
    end = moment("end") if str(row.get("end") or "").strip() else start
    if end < start:
        raise refuse("end", "is before the start", "swap the two")
    series = safe.key_as_written(str(row.get("series") or ""))
    try:
        keys.decode(series)
    except ValueError as error:
        raise refuse(
            "series", str(error).partition("; ")[0], "write name=value pairs joined by commas"
        ) from error
    verdict = str(row.get("verdict") or "incident").strip()
    if verdict not in VERDICTS:
        raise refuse("verdict", f"{verdict!r} is no verdict", f"use one of {', '.join(VERDICTS)}")
    origin = str(row.get("origin") or "independent").strip()
    if origin not in ORIGINS:
        raise refuse("origin", f"{origin!r} is no origin", f"use one of {', '.join(ORIGINS)}")
    chance = str(row.get("probability") if row.get("probability") is not None else "").strip()
    try:
        probability = float(chance) if chance else None
    except ValueError as error:
        raise refuse(
            "probability", f"{chance!r} is no number", "write a number above 0 and at most 1"
        ) from error
    if probability is not None and not 0 < probability <= 1:
        raise refuse("probability", f"{chance} is out of range", "write a number above 0 and at most 1")
    words = {k: str(row.get(k) or "") for k in WORDS}
    if place == "line":
        words = {k: safe.as_written(v) for k, v in words.items()}
    return Label(start, end, series, verdict, origin=origin, probability=probability, **words)


def as_rows(labels: Sequence[Label]) -> list[dict[str, Any]]:
    """Plain rows with the columns of the format; times in UTC."""
    return [
        {
            "series": x.series,
            "start": clock.format_time(x.start),
            "end": clock.format_time(x.end),
            "verdict": x.verdict,
            "kind": x.kind,
            "cause": x.cause,
            "note": x.note,
            "author": x.author,
            "origin": x.origin,
            "stratum": x.stratum,
            "probability": "" if x.probability is None else repr(x.probability),
        }
        for x in labels
    ]


def to_csv(labels: Sequence[Label]) -> str:
    out = io.StringIO()
    writer = csv.DictWriter(out, COLUMNS, lineterminator="\n")
    writer.writeheader()
    for row in as_rows(labels):
        writer.writerow(
            row
            | {"series": safe.safe_key(row["series"])}
            | {name: safe.spreadsheet_safe(row[name]) for name in WORDS}
        )
    return out.getvalue()


def to_json(labels: Sequence[Label]) -> str:
    return json.dumps(as_rows(labels), indent=1, ensure_ascii=False) + "\n"


def to_text(labels: Sequence[Label], path: str) -> str:
    """Labels in the format that a path's ending names. Raises TableError for another ending."""
    if path.endswith(".json"):
        return to_json(labels)
    if path.endswith(".ics"):
        from watchtide.tables import label_calendar

        return label_calendar.to_calendar(as_rows(labels), list(labels))
    if path.endswith(".csv") or path == "-":
        return to_csv(labels)
    raise TableError(path, "", "has no ending that names a format", "end it in .csv, .json or .ics")
