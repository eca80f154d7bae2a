"""Text in files that spreadsheets open: nothing that they would run as a formula, and the same text back when it is read."""

import re
import unicodedata
from urllib.parse import unquote

_NUMBER = re.compile(r"-?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "|", "%")
_ENCODED = re.compile(r"(%[0-9A-F]{2})+")


def spreadsheet_safe(text: str) -> str:
    """Text behind a quote where it could be run, or reads as if it had one. A number stays one: `-2`, not `-2+3+cmd|…`."""
    # Full-width signs are read as the plain ones, and blanks before them are passed over.
    begins = unicodedata.normalize("NFKC", text[:8]).lstrip(" \n\v\f\u00a0\ufeff")
    has_quote = text[:1] == "'" and spreadsheet_safe(text[1:]) != text[1:]
    if has_quote or (begins[:1] in _FORMULA and begins and not _NUMBER.fullmatch(text)):
        return "'" + text
    return text


def safe_key(key: str) -> str:
    """A series key whose first character is percent-encoded where a spreadsheet would run it; it names the same streams.

    No key begins with a plain `=`, and one that begins with `%` has two digits behind it.
    """
    if key[:1] in ("", "'", "%", "=") or spreadsheet_safe(key) == key:
        return key
    return "".join(f"%{byte:02X}" for byte in key[0].encode()) + key[1:]


def key_as_written(key: str) -> str:
    """What `safe_key` was given."""
    for n in range(1, 5):
        # A character has up to four bytes.
        plain = unquote(key[: 3 * n], errors="replace") + key[3 * n :]
        if _ENCODED.fullmatch(key[: 3 * n]) and safe_key(plain) == key:
            return plain
    return key


def as_written(text: str) -> str:
    """What `spreadsheet_safe` was given."""
    return text[1:] if text[:1] == "'" and spreadsheet_safe(text[1:]) != text[1:] else text
