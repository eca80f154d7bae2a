"""Stamps as people and programs write them, and columns of digits that could be either."""

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq
import pytest

from watchtide.tables import clock, extract, layout, read, stamps
from watchtide.tables.problems import TableError


@pytest.mark.parametrize(
    ("text", "iso"),
    [
        ("2004-01", "2004-01-01T00:00"), ("2004/1", "2004-01-01T00:00"), ("2004M01", "2004-01-01T00:00"),
        ("Jan 2004", "2004-01-01T00:00"), ("january 2004", "2004-01-01T00:00"), ("Sept-2004", "2004-09-01T00:00"),
        ("Mar-04", "2004-03-01T00:00"), ("2004Q3", "2004-07-01T00:00"), ("2004-Q1", "2004-01-01T00:00"),
        ("Q4 1959", "1959-10-01T00:00"), ("2004-W23", "2004-05-31T00:00"), ("2020W53", "2020-12-28T00:00"),
        ("2009-W01-4", "2009-01-01T00:00"), ("1 Feb 2004", "2004-02-01T00:00"), ("01-Feb-04", "2004-02-01T00:00"),
        ("Feb 1, 2004", "2004-02-01T00:00"), ("Jan-1-1995", "1995-01-01T00:00"), ("February 1st 2004 3:05 pm", "2004-02-01T15:05"),
        ("Mon, 2 Feb 2004 08:09:10", "2004-02-02T08:09:10"), ("2004/02/01 07:08", "2004-02-01T07:08"),
        ("2004-2-1", "2004-02-01T00:00"), ("1 Feb 2004 12:30 AM", "2004-02-01T00:30"), ("1871", "1871-01-01T00:00"),
        ("1678-01-01", "1678-01-01T00:00"), ("2261-12-31T23:59", "2261-12-31T23:59"),
    ],
)  # fmt: skip
def test_each_form_is_the_moment_at_which_it_begins(text, iso):
    assert clock.parse_one(text) == np.datetime64(iso, "ns").astype(np.int64)


@pytest.mark.parametrize(
    "text", ["2004-13", "2004Q5", "2004-W54", "2021-W53", "Foo 2004", "31 Jun 2004", "1677", "2262-01-01"]
)
def test_what_no_calendar_has_is_no_time(text):
    with pytest.raises(clock.ClockError):
        clock.parse_one(text)


def guessed(name, cells):
    raw = read.read(
        ("\n".join([f"{name},value", *(f"{c},{i}" for i, c in enumerate(cells))]) + "\n").encode(), "a.csv"
    )
    return layout.guess(raw), extract.extract(raw, layout.guess(raw))


@pytest.mark.parametrize(
    ("name", "cells", "form", "first"),
    [
        ("year", range(1871, 1971), "year", "1871-01-01"), ("Year", ["1990.0", "1991.0", "1992.0"] * 1, "year", "1990-01-01"),
        ("date", [f"2004{m:02d}15" for m in range(1, 13)], "compact date", "2004-01-15"),
        ("month", [f"2004{m:02d}" for m in range(1, 13)], "month digits", "2004-01-01"),
        ("period", [f"2004.{m:02d}" for m in range(1, 13)], "month digits", "2004-01-01"),
        ("date", range(43_831, 43_861), "serial day", "2020-01-01"),
    ],
)  # fmt: skip
def test_digits_are_times_where_the_column_is_named_so_and_the_reason_is_given(name, cells, form, first):
    found, taken = guessed(name, cells)
    assert found.time == name and found.time_form == form
    assert f"the column is named {name}" in found.reasons[name]
    assert taken.streams[0].times[0] == np.datetime64(first, "ns").astype(np.int64)


@pytest.mark.parametrize("cells", [range(1871, 1971), range(43_831, 43_861)])
def test_the_same_digits_under_another_name_are_numbers(cells):
    with pytest.raises(TableError, match="no column holds times"):
        guessed("taps", cells)
    raw = read.read(("taps,v\n" + "".join(f"{c},1\n" for c in cells)).encode(), "a.csv")
    if cells[0] == 1871:
        found = layout.guess(raw, time="taps")
        assert found.time_form == "year" and "as stated" in found.reasons["taps"]


def test_a_column_of_two_kinds_keeps_the_most_and_sets_the_others_aside():
    parsed = clock.parse(pa.array(["2004-01", "2004-02", "2004-03-01", "soon", "2004-04"]))
    assert parsed.form == "month" and parsed.bad.tolist() == [False, False, True, True, False]
    assert parsed.other.tolist() == [False, False, True, False, False]


@pytest.mark.parametrize("order", ["day first", "month first"])
def test_afternoons_by_numbers_in_the_order_stated(order):
    parsed = clock.parse(pa.array(["3/4/2026 1:30 PM", "3/4/2026 12:05 am"]), form=order)
    day = "2026-04-03" if order == "day first" else "2026-03-04"
    expected = [np.datetime64(f"{day}T{t}", "ns").astype(np.int64) for t in ("13:30", "00:05")]
    assert parsed.times.tolist() == expected


def test_a_table_of_months_is_months_however_it_is_written(tmp_path):
    months = np.arange("2004-01", "2006-07", dtype="datetime64[M]")
    quarters = [f"{1959 + i // 4}Q{i % 4 + 1}" for i in range(30)]
    written = {
        "periods": [str(m) for m in months],
        "quarters": quarters,
        "named": [m.astype(object).strftime("%d %b %Y") for m in months],
        "midnights": [f"{m}-01 00:00:00" for m in months],
        "last days": [str((m + 1).astype("datetime64[D]") - 1) for m in months],
    }
    for name, stamps_ in written.items():
        text = "when,value\n" + "".join(f"{t},{i}\n" for i, t in enumerate(stamps_))
        raw = read.read(text.encode(), "a.csv")
        taken = extract.extract(raw, layout.guess(raw))
        assert taken.found.cadence.months == (3 if name == "quarters" else 1), name
        assert len(taken.streams[0].times) == 30
    typed = pa.table({"when": pa.array(months.astype("datetime64[ns]")), "value": np.arange(30.0)})
    papq.write_table(typed, tmp_path / "a.parquet")
    raw = read.read(str(tmp_path / "a.parquet"))
    assert extract.extract(raw, layout.guess(raw)).found.cadence.months == 1


def test_every_form_has_a_pattern_that_only_its_own_example_fits():
    examples = {
        "year first": "2004/2/1", "month": "2004-02", "month name": "Feb 2004", "day and month name": "1 Feb 2004",
        "month name and day": "Feb 1, 2004", "quarter": "2004Q1", "week": "2004-W05", "compact date": "20040201",
        "year": "2004", "month digits": "200402", "serial day": "38018.5",
    }  # fmt: skip
    assert set(examples) == set(stamps.FORMS)
    for name, text in examples.items():
        fits = [n for n in stamps.FORMS if clock._matches(pa.array([text]), n)[0]]
        assert name in fits and all(stamps.FORMS[n].is_digits for n in fits if n != name), (name, fits)


@pytest.mark.parametrize(
    ("header", "rows", "step", "first"),
    [
        ("year,quarter,gdp", ["1959,2,1.5", "1959,3,1.6", "1959,4,1.8", "1960,1,1.9"], 3, "1959-04-01"),
        ("Year,Month,sales", [f"{2019 + i // 12},{i % 12 + 1},{i}" for i in range(30)], 1, "2019-01-01"),
        ("yr,mon,day,v", [f"2020,2,{d},{d}" for d in range(1, 29)], 0, "2020-02-01"),
    ],
)
def test_a_year_is_completed_by_the_columns_beside_it(header, rows, step, first):
    raw = read.read(f"{header}\n{chr(10).join(rows)}\n".encode(), "a.csv")
    found = layout.guess(raw)
    taken = extract.extract(raw, found)
    assert [s.metric for s in taken.streams] == [header.split(",")[-1]]
    assert taken.found.cadence.months == step and taken.streams[0].times[0] == np.datetime64(
        first, "ns"
    ).astype(np.int64)
    assert layout.from_data(layout.to_data(found)).time_parts == found.time_parts
    # Told otherwise, the column is what it is told to be.
    roles = {c: found.role(c) for c in raw.columns} | {found.time_parts[0]: "value"}
    assert layout.with_roles(found, roles).time_parts == found.time_parts[1:]
