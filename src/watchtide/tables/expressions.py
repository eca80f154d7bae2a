"""Two small languages of our own: conditions on rows, and formulas over streams. docs/formats.md has them.

Both are read by hand into trees of frozen dataclasses and evaluated on whole columns; nothing is ever handed
to Python's own evaluator. An error names the column of the text and what was expected there.

    condition   fare = adult and not place in ("Old Pier", Saltmarsh)
    formula     1000 * [ticket_errors] / [ticket_pages]
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from watchtide.core.series import Bools, Floats

MOST_TEXT = 2_000
MOST_DEPTH = 30
_TOKEN = re.compile(
    r"""\s*(?:(?P<quoted>"(?:[^"]|"")*")|(?P<source>\[[^\]\[]*\])|(?P<mark><=|>=|!=|[=<>(),+*/-])"""
    r"""|(?P<word>[^\s"\[\]()<>=!,+*/-][^\s"\[\]()<>=!,+*/]*))"""
)
_WORDS = ("and", "or", "not", "in", "is", "missing", "contains", "starts")


class ExpressionError(ValueError):
    """A condition or formula that cannot be read; names the place in the text and the remedy."""


@dataclass(frozen=True)
class Token:
    kind: str
    text: str
    at: int


def _tokens(text: str) -> list[Token]:
    if len(text) > MOST_TEXT:
        raise ExpressionError(f"{len(text):,} characters, at most {MOST_TEXT:,}; write a shorter one")
    out, at = [], 0
    while text[at:].strip():
        found = _TOKEN.match(text, at)
        if not found:
            raise ExpressionError(
                f"column {at + 1}: {text[at:].strip()[:12]!r} cannot be read; see the examples"
            )
        kind = str(found.lastgroup)
        word = found[kind]
        out.append(
            Token(kind, word[1:-1].replace('""', '"') if kind == "quoted" else word, found.start(kind))
        )
        at = found.end()
    return out


@dataclass(frozen=True)
class Compare:
    """One column against a word or number. `operator` is one of = != < <= > >= in contains starts missing."""

    column: str
    operator: str
    operands: tuple[str, ...]


@dataclass(frozen=True)
class Both:
    left: "Condition"
    right: "Condition"


@dataclass(frozen=True)
class Either:
    left: "Condition"
    right: "Condition"


@dataclass(frozen=True)
class Not:
    inner: "Condition"


Condition = Compare | Both | Either | Not


class _Reader:
    def __init__(self, text: str) -> None:
        self.tokens = _tokens(text)
        self.i = 0
        self.depth = 0
        self.length = len(text)

    @property
    def next(self) -> Token | None:
        return self.tokens[self.i] if self.i < len(self.tokens) else None

    def is_next(self, *words: str) -> bool:
        token = self.next
        return token is not None and token.kind in ("word", "mark") and token.text.lower() in words

    def take(self, expected: str) -> Token:
        token = self.next
        if token is None:
            raise ExpressionError(f"column {self.length + 1}: ends where {expected} is expected; complete it")
        self.i += 1
        return token

    def fail(self, expected: str) -> ExpressionError:
        token = self.next
        if token is None:
            return ExpressionError(
                f"column {self.length + 1}: ends where {expected} is expected; complete it"
            )
        return ExpressionError(f"column {token.at + 1}: {token.text!r} where {expected} is expected")

    def deeper(self) -> None:
        self.depth += 1
        if self.depth > MOST_DEPTH:
            raise ExpressionError(f"more than {MOST_DEPTH} brackets in one another; write it flatter")


def parse_condition(text: str) -> Condition:
    """Read a condition on rows. Raises ExpressionError with the column and what is expected there."""
    reader = _Reader(text)
    if reader.next is None:
        raise ExpressionError("column 1: an empty condition; write for example fare = adult")
    tree = _either(reader)
    if reader.next is not None:
        raise reader.fail("and, or, or the end")
    return tree


def _either(r: _Reader) -> Condition:
    tree = _both(r)
    while r.is_next("or"):
        r.i += 1
        tree = Either(tree, _both(r))
    return tree


def _both(r: _Reader) -> Condition:
    tree = _denied(r)
    while r.is_next("and"):
        r.i += 1
        tree = Both(tree, _denied(r))
    return tree


def _denied(r: _Reader) -> Condition:
    if r.is_next("not"):
        r.i += 1
        r.deeper()
        tree: Condition = Not(_denied(r))
        r.depth -= 1
        return tree
    if r.is_next("("):
        r.i += 1
        r.deeper()
        tree = _either(r)
        r.depth -= 1
        if not r.is_next(")"):
            raise r.fail("a closing bracket")
        r.i += 1
        return tree
    return _compare(r)


def _name(r: _Reader, expected: str) -> str:
    token = r.next
    if token is None or token.kind not in ("word", "quoted"):
        raise r.fail(expected)
    r.i += 1
    return token.text


def _compare(r: _Reader) -> Condition:
    column = _name(r, "the name of a column")
    is_denied = False
    if r.is_next("is"):
        r.i += 1
        is_denied = r.is_next("not")
        r.i += is_denied
        if not r.is_next("missing"):
            raise r.fail("missing")
        r.i += 1
        tree: Condition = Compare(column, "missing", ())
        return Not(tree) if is_denied else tree
    if r.is_next("not"):
        r.i += 1
        is_denied = True
        if not r.is_next("in"):
            raise r.fail("in")
    if not r.is_next("=", "!=", "<", "<=", ">", ">=", "in", "contains", "starts"):
        raise r.fail("= != < <= > >= in, contains, starts or is missing")
    operator = r.take("an operator").text.lower()
    if operator == "in":
        if not r.is_next("("):
            raise r.fail("an opening bracket")
        r.i += 1
        words = [_value(r)]
        while r.is_next(","):
            r.i += 1
            words.append(_value(r))
        if not r.is_next(")"):
            raise r.fail("a comma or a closing bracket")
        r.i += 1
        tree = Compare(column, "in", tuple(words))
        return Both(Not(tree), Not(Compare(column, "missing", ()))) if is_denied else tree
    word = _value(r)
    if operator in ("<", "<=", ">", ">=") and _number(word) is None:
        raise ExpressionError(f"column {r.tokens[r.i - 1].at + 1}: {word!r} where a number is expected")
    return Compare(column, operator, (word,))


def _value(r: _Reader) -> str:
    sign = ""
    if r.is_next("-", "+"):
        sign = r.take("a value").text
    token = r.next
    if token is not None and token.kind == "word" and token.text.lower() in _WORDS:
        raise ExpressionError(
            f"column {token.at + 1}: {token.text!r} where a value is expected; put it in quotes if it is one"
        )
    return sign + _name(r, "a value")


def _number(text: str) -> float | None:
    try:
        number = float(text)
    except ValueError:
        return None
    return number if np.isfinite(number) and "_" not in text else None


def columns_of(tree: Condition) -> set[str]:
    """Names of the columns a condition looks at."""
    match tree:
        case Compare():
            return {tree.column}
        case Not():
            return columns_of(tree.inner)
        case _:
            return columns_of(tree.left) | columns_of(tree.right)


def holds(tree: Condition, columns: Mapping[str, pa.Array], rows: int) -> Bools:
    """(rows,) where a condition holds. Raises ExpressionError for a column that is not there.

    Text compares byte by byte once blanks around it are gone; with a number as operand, = and != compare as
    numbers where the cell is one. A missing cell fulfils nothing but `is missing`.
    """
    match tree:
        case Not():
            return ~holds(tree.inner, columns, rows)
        case Both():
            return holds(tree.left, columns, rows) & holds(tree.right, columns, rows)
        case Either():
            return holds(tree.left, columns, rows) | holds(tree.right, columns, rows)
    if tree.column not in columns:
        there = ", ".join(columns)
        raise ExpressionError(f"there is no column {tree.column!r}; the columns are {there}")
    return _compared(columns[tree.column], tree)


def _compared(column: pa.Array, tree: Compare) -> Bools:
    text = pc.fill_null(pc.utf8_trim_whitespace(column.cast(pa.string())), "")
    is_missing = np.asarray(pc.equal(text, ""))
    if tree.operator == "missing":
        return is_missing
    first = tree.operands[0]
    if tree.operator == "contains":
        return np.asarray(pc.match_substring(text, first))
    if tree.operator == "starts":
        return np.asarray(pc.starts_with(text, first))
    numbers = [_number(o) for o in tree.operands]
    if tree.operator in ("=", "!=", "in"):
        found = np.asarray(pc.is_in(text, pa.array(tree.operands)))
        if any(n is not None for n in numbers):
            found = found | np.isin(_as_numbers(text), [n for n in numbers if n is not None])
        return ~found & ~is_missing if tree.operator == "!=" else found & ~is_missing
    y, bound = _as_numbers(text), numbers[0]
    assert bound is not None
    compare = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}[tree.operator]
    return np.asarray(compare(y, bound)) & ~np.isnan(y)


def _as_numbers(text: pa.Array) -> Floats:
    is_number = pc.match_substring_regex(text, r"^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")
    out = np.full(len(text), np.nan)
    out[np.asarray(is_number)] = np.asarray(text.filter(is_number).cast(pa.float64()))
    return out


@dataclass(frozen=True)
class Number:
    value: float


@dataclass(frozen=True)
class Streams:
    """The streams of a metric with these attributes; several of them are put together by `how`."""

    metric: str
    attributes: tuple[tuple[str, str], ...]
    how: str | None


@dataclass(frozen=True)
class Operation:
    left: "Formula"
    operator: str
    right: "Formula"


Formula = Number | Streams | Operation
TOGETHER = ("total", "mean", "least", "most")


def parse_formula(text: str) -> Formula:
    """Read a formula over streams. Raises ExpressionError with the column and what is expected there."""
    reader = _Reader(text)
    if reader.next is None:
        raise ExpressionError("column 1: an empty formula; write for example [errors] / [requests]")
    tree = _terms(reader)
    if reader.next is not None:
        raise reader.fail("+ - * / or the end")
    if not sources_of(tree):
        raise ExpressionError(
            "column 1: names no stream; write its metric in square brackets, such as [taps]"
        )
    return tree


def _terms(r: _Reader) -> Formula:
    tree = _factors(r)
    while r.is_next("+", "-"):
        tree = Operation(tree, r.take("+").text, _factors(r))
    return tree


def _factors(r: _Reader) -> Formula:
    tree = _atom(r)
    while r.is_next("*", "/"):
        tree = Operation(tree, r.take("*").text, _atom(r))
    return tree


def _atom(r: _Reader) -> Formula:
    if r.is_next("-"):
        r.i += 1
        r.deeper()
        tree: Formula = Operation(Number(0.0), "-", _atom(r))
        r.depth -= 1
        return tree
    if r.is_next("("):
        r.i += 1
        r.deeper()
        tree = _terms(r)
        r.depth -= 1
        if not r.is_next(")"):
            raise r.fail("a closing bracket")
        r.i += 1
        return tree
    token = r.next
    if token is not None and token.kind == "word" and token.text in TOGETHER:
        r.i += 1
        if not r.is_next("of"):
            raise r.fail("of")
        r.i += 1
        return _source(r, token.text)
    if token is not None and token.kind == "source":
        return _source(r, None)
    if token is None or token.kind != "word" or (number := _number(token.text)) is None:
        raise r.fail(f"a number, [metric], or one of {', '.join(TOGETHER)} of [metric]")
    r.i += 1
    return Number(number)


def _source(r: _Reader, how: str | None) -> Streams:
    token = r.next
    if token is None or token.kind != "source":
        raise r.fail("[metric, name=value …]")
    r.i += 1
    metric, *pairs = [part.strip() for part in token.text[1:-1].split(",")]
    if not metric or "=" in metric:
        raise ExpressionError(
            f"column {token.at + 1}: {token.text!r} names no metric; write [metric, name=value]"
        )
    attributes = []
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name.strip():
            raise ExpressionError(f"column {token.at + 1}: {pair!r} where name=value is expected")
        attributes.append((name.strip(), value.strip()))
    return Streams(metric, tuple(attributes), how)


def sources_of(tree: Formula) -> list[Streams]:
    """The streams a formula names, in order."""
    match tree:
        case Streams():
            return [tree]
        case Operation():
            return sources_of(tree.left) + sources_of(tree.right)
    return []


def denominator_of(tree: Formula) -> Formula | None:
    """What the formula divides by, where it is a ratio at its top (a factor before or behind may scale it)."""
    if isinstance(tree, Operation) and tree.operator == "/" and sources_of(tree.right):
        return tree.right
    if isinstance(tree, Operation) and tree.operator in ("*", "/"):
        inner = [side for side in (tree.left, tree.right) if sources_of(side)]
        return denominator_of(inner[0]) if len(inner) == 1 else None
    return None


def evaluate(tree: Formula, values: Callable[[Streams], Floats], n: int) -> Floats:
    """(n,) values of a formula; missing where an operand is, or where it divides by nothing."""
    match tree:
        case Number():
            return np.full(n, tree.value)
        case Streams():
            return values(tree)
    left, right = evaluate(tree.left, values, n), evaluate(tree.right, values, n)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        match tree.operator:
            case "+":
                out = left + right
            case "-":
                out = left - right
            case "*":
                out = left * right
            case _:
                out = np.where(right == 0, np.nan, left / right)
    return np.where(np.isfinite(out), out, np.nan)
