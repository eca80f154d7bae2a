"""Files made to do harm, through the page's own door: refused in words, nothing half stored, and the server goes on."""

import gzip
import io

import pyarrow as pa
import pyarrow.parquet as papq
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.server.conftest import run_jobs
from watchtide.server.streams.models import Batch, Stream

GOOD = "time,place,v\n2026-08-01T00:00Z,quay,1\n2026-08-01T01:00Z,quay,2\n"


def parquet(**columns):
    sink = io.BytesIO()
    papq.write_table(pa.table(columns), sink)
    return sink.getvalue()


def preview(api, data, name="bad.csv", **choices):
    data = data.encode() if isinstance(data, str) else data
    sent = api.post("/api/v1/uploads", {"file": SimpleUploadedFile(name, data)}, format="multipart")
    if sent.status_code != 201:
        return sent, None
    number = sent.json()["id"]
    return api.post(f"/api/v1/uploads/{number}/preview", choices, format="json"), number


@pytest.mark.parametrize(
    ("data", "name", "words"),
    [
        ("time,v\n", "a.csv", "no rows"), ("time,v\n\n\n", "a.csv", "no rows"), ("\n\n\n", "a.csv", "empty"), ("just words", "a.csv", ""),
        ("time,v,v\n1,2,3\n", "a.csv", "twice"), ('time,"v\n2026-08-01,1\n', "a.csv", ""), ("a,b\n1,2\n", "a.csv", "no column holds"),
        ("\x00\x01\x02\x03binary", "a.csv", "binary"), (b"\x89PNG\r\n\x1a\n\x00\x00", "a.csv", "binary"), (b"PK\x03\x04zipped\x00\x00", "a.csv", "binary"),
        (gzip.compress(GOOD.encode(), mtime=0)[:40], "a.csv.gz", "cut off or damaged"), (gzip.compress(b"", mtime=0), "a.csv.gz", "empty"),
        (b"\x1f\x8b\x08\x00garbage", "a.csv.gz", "cut off or damaged"), (b"PAR1\x00\x00PAR1", "a.parquet", "no Parquet"),
        (parquet(time=pa.array([], pa.timestamp("s")), v=pa.array([], pa.float64())), "a.parquet", "no rows"),
        (parquet(time=pa.array([1], pa.timestamp("s")), v=pa.array([1.0]))[:-20], "a.parquet", "no Parquet"),
        ("{}\n{}\n", "a.jsonl", "no column holds"), ("[1]\n[2]\n", "a.jsonl", "no JSON object"), ("{" * 500, "a.jsonl", "no JSON object"),
        ('{"time": "2026-08-01", "v": {"deep": ' + '{"er":' * 60 + "1" + "}" * 62, "a.jsonl", "no JSON object"),
        (",".join(f"c{i}" for i in range(20_000)) + "\n" + ",".join("1" for _ in range(20_000)) + "\n", "wide.csv", "at most 2,000"),
        ("c," * 1_000_000, "million.csv", ""), ("time,v\n0001-01-01,1\n9999-12-31,2\n", "a.csv", "no column holds times"),
        ("time,v\n2026-13-45,1\n2026-02-30,2\n", "a.csv", "no column holds times"), ("time,v\n-99999999999999999999,1\n", "a.csv", "no column holds times"),
        ("time,v\n2026-08-01,NaN\n2026-08-02,nan\n", "a.csv", "no column holds numbers"), ("time,v\n2026-08-01,inf\n2026-08-02,-inf\n", "a.csv", "no column holds numbers"),
        ("line one\nline two\n", "a.log", "needs a pattern"),
    ],
)  # fmt: skip
def test_an_unusable_file_is_refused_with_place_and_remedy(api, data, name, words):
    before = (Batch.objects.count(), Stream.objects.count())
    answer, _ = preview(api, data, name)
    assert answer.status_code == 400 and answer["Content-Type"] == "application/problem+json"
    body = answer.json()
    assert words in body["title"] and (body.get("remedy") or "problems" in body), body
    assert (Batch.objects.count(), Stream.objects.count()) == before
    assert api.get("/healthz").status_code == 200


@pytest.mark.parametrize(
    ("choices", "words"),
    [
        ({"zone": "Mars/Base"}, "no known time zone"), ({"roles": {"time": "time"}}, "no column is the value"), ({"roles": {"nope": "value"}}, "cannot be"),
        ({"roles": {"time": "king"}}, "not a valid choice"), ({"roles": {"time": "time", "place": "time", "v": "value"}}, "two columns are the time"),
        ({"delimiter": ";;"}, "no more than 1"), ({"decimal": "x"}, "no decimal mark"), ({"encoding": "utf-99"}, "is not known"),
        ({"keep": "v >"}, "ends where"), ({"keep": "nothing = 1"}, "is not in the file"), ({"duplicates": "sometimes"}, "not a valid choice"),
        ({"rollup": {"every": "soon", "measures": [{"how": "count"}]}}, "is no duration"), ({"rollup": {"every": "5m", "measures": []}}, "measures nothing"),
        ({"rollup": {"every": "5m", "measures": [{"how": "sum"}]}}, "needs a column"), ({"rollup": {"every": "1s", "measures": [{"how": "sum", "field": "gone"}]}}, "is not in the file"),
        ({"pattern": "("}, "cannot be read"), ({"pattern": r"\d"}, "names no fields"), ({"metric": "m" * 300}, "no more than 200"),
        ({"time_form": "backwards"}, "not a valid choice"), ({"kept": 10**9}, "no such thing"),
    ],
)  # fmt: skip
def test_a_choice_that_cannot_be_is_refused_at_its_place(api, choices, words):
    answer, _ = preview(api, GOOD, **choices)
    assert answer.status_code in (400, 404) and words in answer.json()["title"], answer.json()


@pytest.mark.parametrize(
    "name",
    ['quo"te', "<b>bold</b>", "line\nbreak", "\u202ertl", "x" * 480, "a,b=c%d", " blanks ", "emoji 🌊", "=SUM(A1)", "'; DROP TABLE stream; --", "../../etc", "null", "\t"],
)  # fmt: skip
def test_names_of_any_kind_are_kept_byte_by_byte_and_come_out_again(api, name):
    quoted = '"' + name.replace('"', '""') + '"'
    text = f"time,place,v\n2026-08-01T00:00Z,{quoted},1\n2026-08-01T01:00Z,{quoted},2\n2026-08-01T02:00Z,other,2\n"
    answer, number = preview(api, text, metric="odd names")
    assert answer.status_code == 200, answer.json()
    api.post(
        f"/api/v1/uploads/{number}/store",
        {"metric": "odd names", "roles": {"time": "time", "place": "series", "v": "value"}},
        format="json",
    )
    run_jobs()
    stream = Stream.objects.exclude(key__endswith="place=other").get(metric="odd names")
    assert stream.attributes == [["place", name]]
    out = api.get("/api/v1/streams/samples.csv?metric=odd names")
    from tests.server.test_api import whole

    cell = whole(out).decode().split("\n", 1)[1]
    assert not cell.split(",")[1].startswith(("=", "+", "@", "\t"))


def test_a_name_beyond_all_bounds_is_set_aside_and_the_rest_taken(api):
    text = (
        "time,place,v\n"
        + "".join(f"2026-08-01T{h:02d}:00Z,quay,1\n" for h in range(9))
        + f"2026-08-01T09:00Z,{'x' * 900},1\n"
    )
    answer, _ = preview(api, text, roles={"time": "time", "place": "series", "v": "value"})
    assert answer.json()["rows_aside"] == 1 and "longer than 500" in answer.json()["problems"][0]["message"]


def test_an_upload_over_the_limit_is_413_and_leaves_no_file(api, settings):
    settings.MOST_UPLOAD_BYTES = 1_000
    folder = settings.DATA_FOLDER / "uploads"
    before = set(folder.iterdir()) if folder.is_dir() else set()
    answer = api.post(
        "/api/v1/uploads", {"file": SimpleUploadedFile("big.csv", b"x" * 2_000)}, format="multipart"
    )
    assert answer.status_code == 413 and set(folder.iterdir()) == before
