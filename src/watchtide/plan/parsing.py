"""YAML or JSON text as plain data, and what is wrong with it as plan, by line."""

import difflib
from typing import Any

import yaml
from pydantic import BaseModel, ValidationError

# Where each key stands in the text, by its path.
Lines = dict[tuple[str | int, ...], int]
MOST_BYTES = 256 * 1024


class PlanError(ValueError):
    """A plan that cannot be used. `problems` lists (line or None, place, message)."""

    def __init__(self, problems: list[tuple[int | None, str, str]]) -> None:
        self.problems = problems
        lines = [
            f"line {line}, {place}: {text}" if line else f"{place}: {text}" for line, place, text in problems
        ]
        super().__init__("; ".join(lines))


class _Loader(yaml.SafeLoader):
    """Safe YAML without aliases, which can make a small file large."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.events.AliasEvent):
            event = self.peek_event()  # type: ignore[no-untyped-call]
            raise PlanError(
                [(event.start_mark.line + 1, "plan", "aliases are not taken; write the value out")]
            )
        return super().compose_node(parent, index)


def data_of(text: str) -> tuple[dict[str, Any], Lines]:
    """The data of this YAML or JSON text, and the lines of its keys. Raises PlanError naming line and remedy."""
    if len(text.encode()) > MOST_BYTES:
        raise PlanError([(None, "plan", f"longer than {MOST_BYTES // 1024} kB; a plan is a page of text")])
    try:
        # Characters that YAML does not have are found here.
        loader = _Loader(text)
    except yaml.YAMLError as error:
        raise PlanError([(None, "plan", f"{error.__class__.__name__}: {error}"[:200])]) from error
    try:
        node = loader.get_single_node()
        data = loader.construct_document(node) if node is not None else {}
    except RecursionError as error:
        raise PlanError([(None, "plan", "nested too deeply; a plan is a page of text")]) from error
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        message = getattr(error, "problem", None) or "cannot be read as YAML"
        raise PlanError(
            [(mark.line + 1 if mark else None, "plan", f"{message}; check indent and colons")]
        ) from error
    finally:
        loader.dispose()
    if not isinstance(data, dict):
        raise PlanError([(1, "plan", "must be a set of keys such as baseline: and flag:")])
    lines: Lines = {}
    if node is not None:
        _note_lines(node, (), lines)
    return data, lines


def refusal(error: ValidationError, model: type[BaseModel], lines: Lines) -> PlanError:
    """What is wrong with data that should be of this model, by line where lines are known."""
    return PlanError([_tell(e, model, lines) for e in _closest(error.errors())])


def _note_lines(node: yaml.Node, path: tuple[str | int, ...], lines: Lines) -> None:
    lines.setdefault(path, node.start_mark.line + 1)
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            lines[(*path, key.value)] = key.start_mark.line + 1
            _note_lines(value, (*path, key.value), lines)
    elif isinstance(node, yaml.SequenceNode):
        for i, value in enumerate(node.value):
            _note_lines(value, (*path, i), lines)


def _closest(errors: list[Any]) -> list[Any]:
    """Of the branches of one value (auto, or a list …) the errors of the branch that came furthest."""
    own = [tuple(p for p in e["loc"] if isinstance(p, int) or not _is_union_tag(p)) for e in errors]
    return [
        e
        for e, path in zip(errors, own, strict=True)
        if e["type"] not in ("literal_error", "list_type")
        or not any(
            o is not e and other[: len(path)] == path and o["type"] != e["type"]
            for o, other in zip(errors, own, strict=True)
        )
    ]


def _tell(error: Any, model: type[BaseModel], lines: Lines) -> tuple[int | None, str, str]:
    """(line, place, message) of one of pydantic's errors."""
    path = tuple(part for part in error["loc"] if isinstance(part, int) or not _is_union_tag(part))
    line = next((lines[path[:k]] for k in range(len(path), -1, -1) if path[:k] in lines), None)
    place = ".".join(str(part) for part in path) or "plan"
    message = error["msg"].removeprefix("Value error, ")
    if error["type"] == "extra_forbidden":
        near = difflib.get_close_matches(str(path[-1]), _keys_beside(model, path), n=1)
        message = "is not a known key" + (f"; did you mean {near[0]}?" if near else "; see docs/formats.md")
    return line, place, message


def _is_union_tag(part: str) -> bool:
    """Pydantic names the members of a union in the path; the file has no such keys."""
    return "[" in part or "(" in part or part in ("Train", "str", "int", "float")


def _keys_beside(model: Any, path: tuple[str | int, ...]) -> list[str]:
    for part in path[:-1]:
        field = getattr(model, "model_fields", {}).get(part)
        model = field.annotation if field is not None else None
    fields = getattr(model, "model_fields", {})
    return [field.alias or name for name, field in fields.items()]
