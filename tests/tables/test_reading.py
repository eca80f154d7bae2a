"""Files chunk by chunk, how they are written, layouts, other cadences, and points."""

import gzip
import io
import json

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq
import pytest

from watchtide.core.series import SECOND_NS, SeriesError, live
from watchtide.tables import (
    calendars,
    chunks,
    clock,
    extract,
    layout,
    openmetrics,
    read,
    rollup,
    shape,
    survey,
    views,
)
from watchtide.tables.problems import TableError

HOUR = 3_600 * SECOND_NS
TEXT = "stamp,place,taps\n" + "".join(
    f"2026-08-0{1 + i // 24} {i % 24:02d}:00,quay {i % 3},{i}\n" for i in range(120)
)


def take(data, name="a.csv", chunk_bytes=chunks.CHUNK_BYTES, **stated):
    """All rows by small chunks, through one extractor."""
    how = shape.sniff(data, name)
    extractor, parts, broken = None, [], []
    for chunk in chunks.read_chunks(data, how, name, chunk_bytes=chunk_bytes):
        if extractor is None:
            raw = read.Raw(name, how, chunk.columns, chunk.rows, chunk.lines)
            extractor = extract.Extractor(layout.guess(raw, **stated), name)
        rows, aside = extractor.take(chunk)
        parts.append(rows)
        broken += aside
    return extract.gather(extractor, parts), broken, extractor


@pytest.mark.parametrize("size", [200, 700, 1 << 20])
@pytest.mark.parametrize("kind", ["csv", "jsonl", "gz", "utf-16"])
def test_the_size_of_the_chunks_changes_nothing(size, kind):
    data = TEXT.encode()
    if kind == "jsonl":
        names = TEXT.split("\n")[0].split(",")
        rows = [dict(zip(names, row.split(","), strict=True)) for row in TEXT.split("\n")[1:-1]]
        data = "".join(json.dumps(r | {"taps": int(r["taps"])}) + "\n" for r in rows).encode()
    elif kind == "gz":
        data = gzip.compress(data)
    elif kind == "utf-16":
        data = TEXT.encode("utf-16")
    name = {"csv": "a.csv", "jsonl": "a.jsonl", "gz": "a.csv.gz", "utf-16": "a.csv"}[kind]
    streams, broken, _ = take(data, name, size, series=("place",), values=("taps",))
    whole, _, _ = take(TEXT.encode())
    assert not broken and [s.key for s in streams] == [s.key for s in whole]
    for a, b in zip(streams, whole, strict=True):
        assert np.array_equal(a.times, b.times) and np.array_equal(a.values, b.values)


@pytest.mark.parametrize("size", [150, 400, 1 << 20])
def test_broken_rows_keep_their_lines_across_chunks(size):
    rows = TEXT.split("\n")[:-1]
    rows[7], rows[8], rows[60], rows[-1] = "short", rows[8] + ",long", "soon,quay 1,5", "cut"
    streams, broken, extractor = take(
        "\n".join(rows).encode(), chunk_bytes=size, series=("place",), values=("taps",)
    )
    assert sorted(b.line for b in broken) == [8, 9, 61, 121]
    assert extractor.rows == 116 and extractor.aside == 4 and sum(len(s.times) for s in streams) == 116


def test_both_passes_of_the_repeated_hour_are_told_apart_across_chunks():
    stamps = [
        "2026-10-25 00:30",
        "2026-10-25 01:00",
        "2026-10-25 01:30",
        "2026-10-25 01:00",
        "2026-10-25 01:30",
        "2026-10-25 02:00",
    ]
    data = ("stamp,taps\n" + "".join(f"{s},{i}\n" for i, s in enumerate(stamps))).encode()
    for size in (30, 1 << 20):
        streams, _, _ = take(data, chunk_bytes=size, zone="Europe/Dublin")
        assert np.diff(streams[0].times).tolist() == [HOUR // 2] * 5


def test_a_later_chunk_in_another_kind_of_stamp_is_refused_row_by_row():
    data = (
        "stamp,taps\n" + "".join(f"2026-08-01 0{i % 10}:00,{i}\n" for i in range(10)) + "1785542400,11\n"
    ).encode()
    _, broken, _ = take(data, chunk_bytes=60)
    assert [b.line for b in broken] == [12] and "another kind of stamp" in broken[0].problem


def test_a_field_that_a_whole_chunk_lacks_is_missing_there():
    rows = [
        {"time": f"2026-08-01T{h:02d}:00Z", "v": h} | ({"place": "quay"} if h < 12 else {}) for h in range(24)
    ]
    data = "".join(json.dumps(r) + "\n" for r in rows).encode()
    for size in (60, 1 << 20):
        streams, broken, _ = take(data, "a.jsonl", size, series=("place",), values=("v",))
        assert not broken and [(s.key, len(s.times)) for s in streams] == [("place=quay", 12), ("place=", 12)]


class TestShape:
    @pytest.mark.parametrize(
        ("text", "expected"),
        [
            ("a;b\n2026-08-01;1,5\n2026-08-02;2,5\n", (";", ",", True)), ("a,b\n2026-08-01,1.5\n", (",", ".", True)),
            ("a|b|c\n2026-08-01|x|1\n", ("|", ".", True)), ("2026-08-01,5\n2026-08-02,6\n", (",", ".", False)),
            ("a\tb\n2026-08-01\t1\n", ("\t", ".", True)), ('a,b\n"x, y",1\n"z, w",2\n', (",", ".", True)),
            ("name; of, it;v\n2026-08-01;a, b;1\n2026-08-02;c, d;2\n", (";", ".", True)),
        ],
    )  # fmt: skip
    def test_delimiter_decimal_and_header_are_told_from_the_text(self, text, expected):
        how = shape.sniff(text.encode(), "a.csv")
        assert (how.delimiter, how.decimal, how.has_header) == expected and set(how.reasons) >= {
            "delimiter",
            "decimal",
            "header",
        }

    def test_single_quotes_are_seen(self):
        how = shape.sniff(b"a,b\n'x, y',1\n'z, w',2\n'q',3\n", "a.csv")
        assert (
            how.quote == "'"
            and take(b"t,p,v\n2026-08-01,'x, y',1\n2026-08-02,'x, y',2\n2026-08-03,'z',2\n")[0][0].key
            == "p=x%2C y"
        )

    def test_windows_text_is_told_and_where(self):
        raw = read.read("t,place,v\n2026-08-01,caf\xe9,1\n".encode("cp1252"), "a.csv")
        assert raw.shape.encoding == "cp1252" and "line 2, column place" in raw.shape.reasons["encoding"]
        assert raw.columns["place"].to_pylist() == ["café"]

    def test_a_stated_encoding_that_is_wrong_names_the_place(self):
        with pytest.raises(TableError, match="line 2, column place: not UTF-8"):
            read.read("t,place,v\n2026-08-01,caf\xe9,1\n".encode("cp1252"), "a.csv", encoding="utf-8")

    def test_a_bad_byte_far_into_the_file_is_found(self):
        data = TEXT.encode() * 1 + b"2026-08-09 00:00,qu\xe9,1\n"
        long = b"stamp,place,taps\n" + b"2026-08-01 00:00,quay,1\n" * 20_000 + b"2026-08-09 00:00,qu\xe9,1\n"
        assert shape.sniff(data, "a.csv").encoding == "cp1252"
        with pytest.raises(TableError, match="line 20002, column place: not UTF-8"):
            list(chunks.read_chunks(long, shape.sniff(long, "a.csv"), "a.csv"))

    def test_a_gzip_bomb_is_stopped_early(self, monkeypatch):
        monkeypatch.setattr(shape, "FREE_INFLATION", 1 << 20)
        bomb = gzip.compress(b"t,v\n" + b"2026-08-01,1\n" * 2_000_000, 9)
        with pytest.raises(TableError, match="unpacks to more than 400 times"):
            list(chunks.read_chunks(bomb, shape.sniff(bomb, "b.csv.gz"), "b.csv.gz"))

    def test_one_endless_line_does_not_fill_the_memory(self):
        for name, data in (
            ("a.csv", b"t,v\n" + b"9" * (40 << 20)),
            ("a.jsonl", b'{"a": "' + b"9" * (80 << 20)),
        ):
            with pytest.raises(TableError):
                list(chunks.read_chunks(data, shape.sniff(data, name), name))

    @pytest.mark.parametrize("kind", ["dictionary", "decimal", "large", "list", "time", "binary"])
    def test_parquet_columns_of_every_type_are_read(self, kind):
        times = pa.array([1, 2], pa.timestamp("s", "UTC"))
        column = {
            "dictionary": pa.array(["x", "y"]).dictionary_encode(), "decimal": pa.array([1, 2]).cast(pa.decimal128(30, 2)),
            "large": pa.array(["x", "y"], pa.large_string()), "list": pa.array([[1], [2, 3]]), "time": pa.array([1, 2], pa.time32("s")),
            "binary": pa.array([b"a", b"b"]),
        }[kind]  # fmt: skip
        sink = io.BytesIO()
        papq.write_table(pa.table({"time": times, "c": column, "v": [1.0, 2.0]}), sink)
        raw = read.read(sink.getvalue(), "a.parquet")
        assert len(extract.extract(raw, layout.guess(raw, time="time", values=("v",))).streams) >= 1

    def test_a_parquet_stamp_beyond_nanoseconds_is_set_aside(self):
        sink = io.BytesIO()
        papq.write_table(
            pa.table(
                {
                    "time": pa.array([1_785_542_400, 99_999_999_999_999], pa.timestamp("s", "UTC")),
                    "v": [1.0, 2],
                }
            ),
            sink,
        )
        raw = read.read(sink.getvalue(), "a.parquet")
        got = extract.extract(raw, layout.guess(raw))
        assert got.rows == 1 and got.broken[0].line == 2

    @pytest.mark.parametrize("pattern", ["(", r"\d+", r"(?P<a>\d+)(?P<a>\d)", "x" * 3_000, r"(?P<a>x)(?=y)"])
    def test_a_pattern_that_cannot_be_used(self, pattern):
        with pytest.raises(TableError, match="pattern"):
            list(chunks.read_chunks(b"line\n", shape.Shape("log", pattern=pattern), "x.log"))

    def test_a_pattern_takes_time_in_proportion_to_the_text_only(self):
        """One that makes backtracking engines stand still: here it is over at once."""
        rows = list(
            chunks.read_chunks(
                b"a" * 50_000 + b"!\n", shape.Shape("log", pattern=r"(?P<x>(?:a+)+)b"), "x.log"
            )
        )
        assert rows[0].rows == 0 and rows[0].broken


class TestLayouts:
    def test_a_layout_kept_and_read_again_is_the_same(self):
        raw = read.read(TEXT.encode(), "a.csv")
        spec = layout.RollUp(HOUR, (layout.Measure("p95", "taps"), layout.Measure("count")))
        first = layout.guess(
            raw, zone="Europe/Dublin", keep="taps > 3", duplicates="last", rollup=spec, metric="m"
        )
        again = layout.from_data(json.loads(json.dumps(layout.to_data(first))))
        assert layout.to_data(again) == layout.to_data(first) and again.rollup == spec

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            ({"layout": 2}, "no layout of this version"), ({"colour": 1}, "unknown key 'colour'"), ({"time": ""}, "names no time"),
            ({"values": "taps"}, "list of texts"), ({"zone": "Mars"}, "no known time zone"), ({"duplicates": "best"}, "is no rule"),
            ({"decimal": "x"}, "no decimal mark"), ({"keep": "a ="}, "ends where"), ({"time_form": "backwards"}, "is not known"),
            ({"rollup": {"every_ns": 5}}, "needs every_ns and measures"), ({"rollup": {"every_ns": HOUR, "measures": [{"how": "best"}]}}, "is no measure"),
            ({"rollup": {"every_ns": HOUR, "measures": [{"how": "sum"}]}}, "needs a column"), ({"rollup": {"every_ns": 1, "measures": [{"how": "count"}]}}, "every 1 ns"),
        ],
    )  # fmt: skip
    def test_a_kept_layout_that_was_tampered_with_is_refused(self, change, words):
        data = layout.to_data(layout.Layout("stamp", ("taps",))) | change
        with pytest.raises((TableError, clock.ClockError), match=words):
            layout.from_data(data)

    def test_columns_that_are_places_become_an_attribute(self):
        data = b"time,quay,pier,rock\n2026-08-01T00:00Z,1,2,3\n2026-08-01T01:00Z,4,,6\n"
        streams, _, extractor = take(data, wide_name="place", metric="level")
        assert [s.key for s in streams] == ["place=quay", "place=pier", "place=rock"] and streams[
            0
        ].metric == "level"
        assert "each column becomes a stream" in extractor.layout.reasons["pier"]

    def test_stamps_with_the_day_first_are_told_by_a_number_above_12(self):
        data = b"when,v\n21/08/26 9:05,1\n3/9/2026 10:00,2\n"
        streams, broken, _ = take(data)
        assert not broken and clock.format_times(streams[0].times).tolist() == [
            "2026-08-21T09:05:00Z",
            "2026-09-03T10:00:00Z",
        ]
        with pytest.raises(TableError, match="no column holds times"):
            take(b"when,v\n1/2/26,1\n3/4/26,2\n")
        streams, _, _ = take(b"when,v\n1/2/26,1\n3/4/26,2\n", time="when", time_form="month first")
        assert clock.format_times(streams[0].times).tolist() == [
            "2026-01-02T00:00:00Z",
            "2026-03-04T00:00:00Z",
        ]

    def test_a_condition_leaves_rows_out_and_counts_them(self):
        streams, broken, extractor = take(TEXT.encode(), keep='taps >= 100 and not place = "quay 0"')
        assert extractor.dropped == 120 - 14 and extractor.rows == 14 and not broken and len(streams) == 2


class TestSurvey:
    def look(self, text, name="a.csv", **more):
        return survey.survey(text.encode(), name, survey.choose_by(more.pop("stated", {})), **more)

    def test_a_large_file_is_looked_at_in_part_and_says_so(self):
        text = "stamp,taps\n" + "".join(
            f"2026-08-01 00:{i // 60 % 60:02d}:{i % 60:02d},{i}\n" for i in range(200_000)
        )
        seen = self.look(text, most_bytes=1 << 20)
        assert not seen.is_whole and seen.rows < 100_000 and abs(seen.about_rows / 200_000 - 1) < 0.1

    def test_random_rows_differ_by_seed_and_keep_their_lines(self):
        first, second = (self.look(TEXT, seed=s).random_rows for s in (1, 2))
        assert len(first) == survey.RANDOM_ROWS and [r.line for r in first] != [r.line for r in second]
        for row in first:
            assert row.cells == TEXT.split("\n")[row.line - 1].split(",")

    def test_gaps_of_the_source_of_one_stream_and_silence_are_told_apart(self):
        rows = ["stamp,place,taps"]
        for i in range(200):
            at = f"2026-08-{1 + i // 24:02d} {i % 24:02d}:00"
            if 50 <= i < 64:
                continue
            rows += [
                f"{at},{p},1"
                for p, stop, hole in (("a", 200, 0), ("b", 200, 100), ("c", 150, 0))
                if i < stop and i != hole
            ]
        told = {p.kind: p for p in self.look("\n".join(rows) + "\n").problems}
        assert "every stream: 2026-08-03 02:00 to 15:00" in told["gap"].message and told["gap"].count == 3
        assert (
            told["gaps"].count == 1
            and "2026-08-05 04:00" in told["gaps"].message
            and told["silence"].count == 1
        )

    def test_values_all_alike_and_far_apart_make_pictures(self):
        for values in (["5"] * 9, ["1e99", "-1e99", "0"], ["0.1", "0.10000000000000002"]):
            text = "time,v\n" + "".join(f"2026-08-0{i + 1},{v}\n" for i, v in enumerate(values))
            assert sum(self.look(text).columns[1].picture.bars) == len(values)


class TestOtherCadences:
    def test_every_combination_against_plain_numpy(self):
        rng = np.random.default_rng(0)
        times = np.sort(rng.choice(1_000, 300, replace=False)) * SECOND_NS * 60
        values = rng.normal(size=300)
        values[::7] = np.nan
        plain = {
            "mean": np.mean, "sum": np.sum, "count": len, "min": np.min, "max": np.max, "last": lambda v: v[-1],
            "p50": np.median, "p95": lambda v: np.quantile(v, 0.95), "p99": lambda v: np.quantile(v, 0.99),
        }  # fmt: skip
        for combine, function in plain.items():
            bins, got = views.coarser(times, values, HOUR, combine)
            for b, v in zip(bins, got, strict=True):
                own = values[(times >= b) & (times < b + HOUR)]
                own = own[~np.isnan(own)]
                if len(own) == 0 and combine != "count":
                    assert np.isnan(v)
                else:
                    assert v == pytest.approx(function(own))

    def test_weeks_begin_on_monday_and_months_on_the_first_in_local_time(self):
        times = np.array(
            [
                clock.parse_one(t, "Europe/Dublin")
                for t in ("2026-10-25 23:30", "2026-10-26 00:30", "2026-11-01 00:10")
            ]
        )
        starts = clock.bin_starts(times, 7 * 24 * HOUR, "Europe/Dublin")
        assert clock.format_times(starts).tolist() == [
            "2026-10-18T23:00:00Z",
            "2026-10-26T00:00:00Z",
            "2026-10-26T00:00:00Z",
        ]
        months = clock.bin_starts(times, "month", "Europe/Dublin")
        assert clock.format_times(months).tolist() == [
            "2026-09-30T23:00:00Z",
            "2026-09-30T23:00:00Z",
            "2026-11-01T00:00:00Z",
        ]

    def test_nothing_finer_is_made_up(self):
        with pytest.raises(SeriesError, match="nothing finer is stored"):
            views.coarser(np.arange(5) * HOUR, np.ones(5), HOUR // 4, "mean")

    def test_alignment_never_looks_ahead(self):
        """Changing a covariate after a time changes nothing before it."""
        grid = np.arange(48) * HOUR
        times, values = np.arange(0, 48, 3) * HOUR + HOUR // 2, np.arange(16.0)
        before = live.aligned(times, values, grid, ends=grid + HOUR)
        for cut in range(16):
            other = values.copy()
            other[cut:] += 100
            after = live.aligned(times, other, grid, ends=grid + HOUR)
            known = grid <= times[cut] - HOUR
            assert np.array_equal(before[known], after[known], equal_nan=True)

    def test_a_roll_up_kept_as_bytes_comes_back(self):
        raw = read.read(TEXT.encode(), "a.csv")
        spec = layout.RollUp(
            6 * HOUR,
            (layout.Measure("count"), layout.Measure("p50", "taps"), layout.Measure("distinct", "place")),
        )
        extractor = extract.Extractor(layout.guess(raw, rollup=spec, series=()), "a.csv")
        roller = rollup.Roller(extractor)
        events, _ = extractor.take_events(raw.chunk())
        roller.add(events)
        again = rollup.from_bytes(rollup.to_bytes(roller.state))
        for measure in spec.measures:
            for a, b in zip(
                rollup.figures(roller.state, measure), rollup.figures(again, measure), strict=True
            ):
                assert np.array_equal(a, b)
        assert {s.metric: s.values[0] for s in roller.streams()} == {
            "events": 6,
            "taps_p50": pytest.approx(2, rel=0.005),
            "place_distinct": 3,
        }


class TestPoints:
    def test_rates_survive_restarts_and_holes(self):
        t, v = np.arange(5) * 10 * SECOND_NS, np.array([100, np.nan, 300, 50, 50.0])
        at, rate = live.rates(t, v)
        assert (at // SECOND_NS).tolist() == [0, 20, 30] and rate.tolist() == [10, 5, 0]
        assert len(live.rates(t[:1], v[:1])[0]) == 0

    def test_bucket_quantiles_by_hand(self):
        assert live.bucket_quantile([1, 2, 4], [10, 10, 20, 0], 0.5) == 2
        assert live.bucket_quantile([1, 2, 4], [10, 10, 20, 0], 0.25) == 1
        assert live.bucket_quantile([1, 2, 4], [10, 10, 20, 0], 0.75) == 3
        assert live.bucket_quantile([1, 2], [0, 0, 5], 0.5) == 2 and np.isnan(
            live.bucket_quantile([1], [0, 0], 0.5)
        )

    @pytest.mark.parametrize(
        "text",
        ["a 1\n", "# TYPE a counter\na_total x\n# EOF\n", 'a{b="c} 1\n# EOF\n', "# EOF\nmore 1\n", "\x00"],
    )
    def test_a_page_that_is_none(self, text):
        with pytest.raises(TableError, match="no OpenMetrics"):
            openmetrics.parse(text, now_ns=10**18, is_open=True)

    def test_calendars_follow_their_zones_through_the_change_of_clocks(self):
        ics = (
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;TZID=Europe/Dublin:20261019T090000\r\n"
            "DTEND;TZID=Europe/Dublin:20261019T100000\r\nRRULE:FREQ=WEEKLY;COUNT=3\r\nEXDATE;TZID=Europe/Dublin:20261102T090000\r\n"
            "SUMMARY:A drill whose name is\r\n  folded\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )  # fmt: skip
        found = calendars.days(
            calendars.read(ics.encode()), clock.parse_one("2026-10-01"), clock.parse_one("2026-12-01")
        )
        assert [clock.format_time(d.start_ns) for d in found] == [
            "2026-10-19T08:00:00Z",
            "2026-10-26T09:00:00Z",
        ]
        assert found[0].name == "A drill whose name is folded"
