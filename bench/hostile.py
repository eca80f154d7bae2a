"""Hostile inputs at every door: files, pushes, labels, calendars, plans and patterns made to be slow, large, or to break something."""

import gzip
import io
import json
import random
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class Input:
    """door : path; kind : content type of the body, or a file's name."""

    name: str
    door: str
    body: bytes
    kind: str = "application/json"
    file: str = ""
    encoding: str = ""


ICS = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART:20260815T100000Z\r\n{}\r\nSUMMARY:x\r\n"
    "END:VEVENT\r\nEND:VCALENDAR\r\n"
)
ROWS = "time,place,v\n" + "".join(
    f"2026-08-01T{h:02d}:{m:02d}Z,quay,{h}\n" for h in range(24) for m in range(0, 60, 5)
)


def handmade() -> Iterator[Input]:
    """What somebody who means harm would try first."""
    files = {
        "zip bomb.csv.gz": gzip.compress(b"0" * (200 << 20), 9),
        "nested gzip.csv.gz": gzip.compress(gzip.compress(gzip.compress(b"time,v\n"))),
        "archive.csv": _zipped(), "wide.csv": b"time," + b",".join(b"c%d" % i for i in range(50_000)) + b"\n",
        "one long line.csv": b"time,v\n" + b"9" * (8 << 20), "no end of quotes.csv": b'time,v\n"' + b"a,\n" * 500_000,
        "nul.csv": b"time,v\n\0\0\0", "utf16.csv": "time,v\n1,2\n".encode("utf-16"), "formula.csv": b"time,place,v\n2026-08-01,=cmd|'/c calc'!A1,1\n",
        "huge numbers.csv": b"time,v\n2026-08-01," + b"9" * 100_000 + b"\n", "deep.jsonl": b'{"a":' * 100_000 + b"1" + b"}" * 100_000,
        "many keys.jsonl": b"{" + b",".join(b'"k%d":1' % i for i in range(100_000)) + b"}\n", "not parquet.parquet": b"PAR1" + b"\xff" * 5_000 + b"PAR1",
        "parquet that lies.parquet": b"PAR1" + b"\x15\x04" * 2_000 + b"\xff\xff\xff\x7fPAR1", "empty.csv": b"", "..%2f..%2fetc%2fpasswd.csv": ROWS.encode(),
        "lines.log": b"(a+)+$ " * 100_000, "times.csv": b"time,v\n" + b"\n".join(b"99999-99-99T99:99:99Z,1" for _ in range(50_000)),
        "distinct.csv": b"time,place,v\n" + b"\n".join(b"2026-08-01T00:00:00Z,p%d,1" % i for i in range(60_000)),
    }  # fmt: skip
    for name, body in files.items():
        yield Input(f"file {name}", "/api/v1/uploads", body, file=name)
    for rule in (
        "RRULE:FREQ=HOURLY;BYMINUTE=" + ",".join(map(str, range(60))), "RRULE:FREQ=SECONDLY", "RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30",
        "RRULE:FREQ=DAILY;COUNT=999999999", "RRULE:FREQ=YEARLY;BYDAY=" + ",".join(["MO"] * 5_000), "RDATE:" + ",".join(["20260815T100000Z"] * 50_000),
        "DURATION:P99999999999D", "RRULE:FREQ=WEEKLY;INTERVAL=0", "RRULE:" + "X" * 200_000,
    ):  # fmt: skip
        yield Input(f"calendar {rule[:40]}", "/api/v1/calendars", ICS.format(rule).encode(), file="days.ics")
        yield Input(
            f"labels {rule[:40]}", "/api/v1/logbook/import", ICS.format(rule).encode(), file="labels.ics"
        )
    for text in (
        "a: &a [" + "*a, " * 1_000 + "]", "a: !!python/object/apply:os.system ['true']", "[" * 50_000, "watchtide: 1\nbaseline: " + "x" * 300_000,
        "watchtide: 1\nbaseline: {kind: harmonic, options: {order: 999999999}}", "watchtide: 1\nbaseline: {seasons: [1ns]}", "&\x1d\xaa", "? " * 20_000,
        "watchtide: 1\nflag: {level: {sigmas: .inf}}", "watchtide: 1\nprepare: {every: 0.000001ns}",
    ):  # fmt: skip
        yield Input(f"plan {text[:40]}", "/api/v1/plans/check", json.dumps({"text": text}).encode())
    line = b'{"time": "2026-08-01T00:00Z", "metric": "m", "value": 1}\n'
    for name, body, encoding in (
        ("bomb", gzip.compress(b" " * (300 << 20), 9), "gzip"), ("cut off", gzip.compress(line * 1_000)[:-9], "gzip"), ("not gzip", line, "gzip"),
        ("deep", b"[" * 200_000, ""), ("many attributes", b'{"time":1,"metric":"m","value":1,' + b",".join(b'"a%d":"x"' % i for i in range(50_000)) + b"}\n", ""),
        ("many streams", b"\n".join(b'{"time":"2026-08-01T00:00Z","metric":"m","value":1,"n":"%d"}' % i for i in range(80_000)), ""),
        ("long metric", b'{"time":1,"metric":"' + b"m" * 1_000_000 + b'","value":1}', ""), ("numbers", b'{"time":1,"metric":"m","value":1e99999}', ""),
        ("surrogates", b'{"time":1,"metric":"\\ud800","value":1}', ""), ("no end", b'{"time":', ""), ("packing", line, "br"),
    ):  # fmt: skip
        yield Input(f"push {name}", "/api/v1/push", body, "application/x-ndjson", encoding=encoding)
        yield Input(f"OTLP {name}", "/v1/metrics", body, "application/json", encoding=encoding)
        yield Input(f"OTLP protobuf {name}", "/v1/metrics", body, "application/x-protobuf", encoding=encoding)
    for i, body in enumerate(
        (
            b'{"a":' * 50_000,
            b"[" * 50_000,
            b'{"name": "' + b"x" * 5_000_000 + b'"}',
            b"\xff\xfe",
            b'{"a": 1e999}',
            b"null",
            b'"x"',
            b"[[[]]]",
        )
    ):
        for door in (
            "/api/v1/logbook",
            "/api/v1/scans",
            "/api/v1/formulas",
            "/api/v1/identity/preview",
            "/api/v1/feeds",
        ):
            yield Input(f"body {i} at {door}", door, body)
    for formula in (
        "(" * 20_000,
        "1" + "+1" * 50_000,
        "[" + "a" * 100_000 + "]",
        "[a] ** [a] ** [a]",
        "9" * 10_000,
        "__import__('os')",
    ):
        yield Input(
            f"formula {formula[:20]}",
            "/api/v1/formulas",
            json.dumps({"metric": "x", "formula": formula}).encode(),
        )


def mutated(seed: int) -> Iterator[Input]:
    """Sound inputs with bytes changed, cut out, repeated; without end."""
    rng = random.Random(seed)
    sound = [
        ("/api/v1/uploads", ROWS.encode(), "", "taps.csv"),
        ("/api/v1/uploads", gzip.compress(ROWS.encode()), "", "taps.csv.gz"),
        ("/api/v1/calendars", ICS.format("RRULE:FREQ=WEEKLY").encode(), "", "days.ics"),
        (
            "/api/v1/logbook/import",
            b"series,start,end,verdict\nmetric=m,2026-08-01,2026-08-02,incident\n" * 20,
            "",
            "l.csv",
        ),
        (
            "/api/v1/push",
            b'{"time": "2026-08-01T00:00Z", "metric": "m", "value": 1, "place": "quay"}\n' * 30,
            "application/x-ndjson",
            "",
        ),
        ("/v1/metrics", OTLP_JSON, "application/json", ""),
        (
            "/api/v1/plans/check",
            json.dumps({"text": "watchtide: 1\nflag: {level: {sigmas: 4}}\n"}).encode(),
            "application/json",
            "",
        ),
    ]
    while True:
        door, body, kind, file = rng.choice(sound)
        data = bytearray(body)
        for _ in range(rng.randint(1, 12)):
            at = rng.randrange(len(data) or 1)
            match rng.randrange(4):
                case 0 if data:
                    data[at] = rng.randrange(256)
                case 1:
                    del data[at : at + rng.randint(1, 60)]
                case 2:
                    data[at:at] = bytes(data[at : at + rng.randint(1, 200)]) * rng.randint(1, 50)
                case _:
                    data[at:at] = rng.choice(
                        [b"\0", b"\n", b'"', b"{", b"NaN", b"1e999", b"-", b"=HYPERLINK(", b"\xf0\x9f"]
                    )
        yield Input("changed", door, bytes(data[: 4 << 20]), kind or "application/json", file=file)


def _zipped() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("../../x.csv", b"0" * (50 << 20))
    return out.getvalue()


OTLP_JSON = json.dumps(
    {"resourceMetrics": [{"scopeMetrics": [{"metrics": [{"name": "m", "gauge": {"dataPoints": [
        {"timeUnixNano": "1785542400000000000", "asDouble": 1.5, "attributes": [{"key": "place", "value": {"stringValue": "quay"}}]}
    ]}}]}]}]}
).encode()  # fmt: skip
