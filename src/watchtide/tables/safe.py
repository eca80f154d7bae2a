"""Text in files that spreadsheets open: nothing that they would run as a formula, and the same text back when it is read."""

import re
import unicodedata

_NUMBER = re.compile(r"-?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "|", "%")


def spreadsheet_safe(text: str) -> str:
    """Text behind a quote where it could be run, or reads as if it had one. A number stays one: `-2`, not `-2+3+cmd|…`."""
    # Full-width signs are read as the plain ones, and blanks before them are passed over.
    begins = unicodedata.normalize("NFKC", text[:8]).lstrip(" \n\v\f\u00a0\ufeff")
    has_quote = text[:1] == "'" and spreadsheet_safe(text[1:]) != text[1:]
    if has_quote or (begins[:1] in _FORMULA and begins and not _NUMBER.fullmatch(text)):
        return "'" + text
    return text


def as_written(text: str) -> str:
    """What `spreadsheet_safe` was given."""
    return text[1:] if text[:1] == "'" and spreadsheet_safe(text[1:]) != text[1:] else text
