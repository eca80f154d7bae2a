"""Text that no spreadsheet runs, and that comes back as it was."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from watchtide.tables.safe import as_written, spreadsheet_safe


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
