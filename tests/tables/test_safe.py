"""Text that no spreadsheet runs, and that comes back as it was."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from watchtide.core.scoring.rows import Finding, Label
from watchtide.core.series import keys
from watchtide.tables import labels, results
from watchtide.tables.safe import as_written, key_as_written, safe_key, spreadsheet_safe


@pytest.mark.parametrize(
    "text",
    [
        "=SUM(A1)", "+1", "@cmd", "-x", "\tx", "\r=1", "-2+3+cmd|' /C calc'!A0", "+3-1", "-1e", "--1", "- 1", " =1", "\n=1",
        "\uff1d1+1", "\ufeff=1", "%0A=1", "|x", "-", "+", "=",
    ],
)  # fmt: skip
def test_what_could_be_run_stands_behind_a_quote(text):
    assert spreadsheet_safe(text) == "'" + text
    assert as_written("'" + text) == text


@pytest.mark.parametrize("text", ["", "plain", "-5", "-2.5e-3", "-.5", "'oops'", "a=b", "quay - pier", "'"])
def test_numbers_and_words_stay_as_they_are(text):
    assert spreadsheet_safe(text) == text


@given(st.text(alphabet="'=+-@ a1.|\t", max_size=8))
def test_all_text_comes_back(text):
    assert as_written(spreadsheet_safe(text)) == text
    assert spreadsheet_safe(text)[:1] not in ("=", "@", "\t", "|")


NAMES = st.text(alphabet="=+-@ a1.|\t%,\uff1d'", min_size=1, max_size=5)


@given(st.lists(st.tuples(NAMES, NAMES), min_size=1, max_size=3))
def test_a_series_key_is_not_run_and_names_the_same_streams(pairs):
    key = keys.encode(pairs)
    written = safe_key(key)
    assert written[:1] == "%" or spreadsheet_safe(written) == written or written[:1] == "'"
    assert key_as_written(written) == key


def test_findings_labels_and_points_with_odd_names_come_back():
    key = keys.encode([("@host", "a"), ("metric", "m")])
    found = [Finding(key, 0, 10, peak_time=0)]
    text = results.findings_text(found, "f.csv")
    assert "\n%40host=a" in text.replace('"', "")
    assert results.read_findings(text.encode(), "f.csv")[0].series == key
    text = labels.to_csv([Label(0, 10, key)])
    assert "%40host" in text and labels.read_labels(text.encode(), "l.csv")[0].series == key


def test_a_label_for_a_formula_is_refused():
    with pytest.raises(labels.TableError, match="no name=value"):
        labels.read_labels(b"series,start\n=cmd|' /C calc'!A0,2026-08-01T00:00:00Z\n", "l.csv")
