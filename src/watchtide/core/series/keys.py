"""Series keys: attributes as `name=value`, joined by commas; and which streams a scope covers."""

from collections.abc import Iterable, Mapping
from functools import lru_cache
from itertools import combinations
from typing import TypeVar

T = TypeVar("T")

_ESCAPES = {"%": "%25", ",": "%2C", "=": "%3D"}


def encode(attributes: Mapping[str, str] | Iterable[tuple[str, str]]) -> str:
    """The key of these attributes in the given order; `%`, `,` and `=` are percent-encoded."""
    pairs = attributes.items() if isinstance(attributes, Mapping) else attributes
    return ",".join(f"{_escape(name)}={_escape(value)}" for name, value in pairs)


@lru_cache(maxsize=65_536)
def decode(key: str) -> tuple[tuple[str, str], ...]:
    """The pairs of a key, in its order; kept, as the same few keys come again and again. Raises ValueError for a part without `=`."""
    if key == "":
        return ()
    pairs = []
    for part in key.split(","):
        name, equals, value = part.partition("=")
        if not equals or not name:
            raise ValueError(
                f"series key {key!r}: {part!r} is no name=value; write for example place=Northquay"
            )
        pairs.append((_unescape(name), _unescape(value)))
    return tuple(pairs)


def is_key(text: str) -> bool:
    """Whether a text can be decoded: pairs of name=value, or nothing."""
    return text == "" or all("=" in part for part in text.split(","))


def covers(scope: str, stream: str) -> bool:
    """Whether all name=value pairs of a scope are among the stream's, in any order."""
    if scope in ("", stream):
        return True
    return _pairs(scope) <= _pairs(stream)


def covering(scopes: Mapping[frozenset[tuple[str, str]], T], stream: str) -> list[T]:
    """What is kept under the scopes that cover a stream; scopes : by their pairs, as `pairs_of` gives them."""
    own = _pairs(stream)
    if 2 ** len(own) > 4 * len(scopes):
        return [kept for pairs, kept in scopes.items() if pairs <= own]
    subsets = (frozenset(some) for n in range(len(own) + 1) for some in combinations(own, n))
    return [scopes[some] for some in subsets if some in scopes]


def pairs_of(scope: str) -> frozenset[tuple[str, str]]:
    """The pairs of a scope, in no order; none for every stream."""
    return _pairs(scope)


@lru_cache(maxsize=65_536)
def _pairs(key: str) -> frozenset[tuple[str, str]]:
    """The pairs of a key; kept, as the same few scopes are asked of every stream."""
    return frozenset(decode(key))


def _escape(text: str) -> str:
    return "".join(_ESCAPES.get(c, c) for c in text)


def _unescape(text: str) -> str:
    if "%" not in text:
        return text
    for plain, escaped in (("=", "%3D"), (",", "%2C"), ("=", "%3d"), (",", "%2c"), ("%", "%25")):
        text = text.replace(escaped, plain)
    return text
