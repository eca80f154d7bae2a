"""Pages of the reference, from what the code says of itself: commands, keys of a plan, REST, Python."""

import dataclasses
import inspect
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer
import yaml

import watchtide as wt
from watchtide import client
from watchtide.cli.main import app
from watchtide.plan.model import OPTIONS, Plan

ROOT = Path(__file__).parents[2]
MADE = "This page is made from the code.\n"


def table(heads: list[str], rows: list[list[str]]) -> str:
    lines = [heads, ["---"] * len(heads), *rows]
    return "\n".join("| " + " | ".join(_cell(c) for c in line) + " |" for line in lines) + "\n"


def _cell(text: str) -> str:
    return re.sub(r"\s+", " ", str(text)).replace("|", "\\|").strip()


def _plain(text: str) -> str:
    """Text of a docstring as Markdown: what the eye reads as a tag or a link stays text."""
    return re.sub(r"<(?=[\w/])", "&lt;", inspect.cleandoc(text))


def commands() -> str:
    root = typer.main.get_command(app)
    context = root.context_class(root, info_name="watchtide")
    parts = ["# Commands\n", MADE, _plain(root.help or "") + "\n", _options(root, context)]
    parts += _commands(root, context)
    return "\n".join(parts)


def _commands(group: Any, context: Any) -> Iterator[str]:
    for name, command in getattr(group, "commands", {}).items():
        if command.hidden:
            continue
        own = command.context_class(command, info_name=name, parent=context)
        depth = "##" if own.command_path.count(" ") == 1 else "###"
        yield f"{depth} {own.command_path}\n"
        yield _plain((command.help or "").replace("\f", "")) + "\n"
        if getattr(command, "commands", None):
            yield from _commands(command, own)
            continue
        yield "```text\n" + own.command_path + " " + " ".join(command.collect_usage_pieces(own)) + "\n```\n"
        yield _options(command, own)


def _options(command: Any, context: Any) -> str:
    """A table of what a command takes, each as its own help has it."""
    rows = []
    for option in command.params:
        if (
            option.param_type_name == "option"
            and "--help" not in option.opts
            and (record := option.get_help_record(context))
        ):
            names, words = record
            rows.append([f"`{names}`", words])
    return table(["Option", "What it does"], rows) if rows else ""


def plan() -> str:
    schema = Plan.model_json_schema(by_alias=True)
    parts = [
        "# Keys of a plan\n", MADE,
        "Every key has a default. `watchtide plan show` writes them all out, `watchtide plan schema` gives the JSON Schema, and "
        "`watchtide plan check` names the line of what is wrong.\n",
    ]  # fmt: skip
    for name, part in schema["properties"].items():
        parts.append(f"## {name}\n")
        rows = list(_keys(part, schema["$defs"], name))
        parts.append(table(["Key", "May be", "Default", "What it does"], rows))
    parts.append("## Options of each kind\n")
    parts.append("`baseline.options` holds what a kind takes beside what all take.\n")
    rows = [
        [f"`{kind}`", ", ".join(f"`{k}` ({v})" for k, v in options.items()) or "none"]
        for kind, options in OPTIONS.items()
    ]
    parts.append(table(["Kind", "Options"], rows))
    return "\n".join(parts)


def _keys(part: dict[str, Any], known: dict[str, Any], path: str) -> Iterator[list[str]]:
    inner = [known[ref] for ref in _references(part)]
    own = [p for p in (part, *part.get("anyOf", [])) if "$ref" not in p]
    if not inner or len(own) > 1 or part.get("type") == "array":
        given = part.get("default")
        default = given if isinstance(given, str) else "none" if given is None else json.dumps(given)
        yield [f"`{path}`", _may_be(part), f"`{default}`" if default else "", part.get("description", "")]
    for each in inner:
        for name, sub in each.get("properties", {}).items():
            yield from _keys(sub, known, f"{path}.{name}")


def _references(part: dict[str, Any]) -> list[str]:
    found = [part, *part.get("anyOf", []), part.get("items", {})]
    return [p["$ref"].rsplit("/", 1)[1] for p in found if "$ref" in p]


def _may_be(part: dict[str, Any]) -> str:
    if "enum" in part:
        return ", ".join(f"`{v}`" for v in part["enum"])
    if "const" in part:
        return f"`{part['const']}`"
    if "anyOf" in part:
        seen = dict.fromkeys(_may_be(p) for p in part["anyOf"] if "$ref" not in p and p.get("type") != "null")
        # Durations are text such as 24h, or a number of samples' seconds.
        return ", ".join(seen).replace("text, whole number, number", "a duration")
    names = {
        "string": "text",
        "integer": "whole number",
        "number": "number",
        "boolean": "true or false",
        "object": "keys",
    }
    kind = part.get("type", "")
    if kind == "array":
        return (
            f"a list of {_may_be(part['items'])}"
            if part.get("items") and "$ref" not in part["items"]
            else "a list"
        )
    return names.get(kind, kind)


def rest() -> str:
    document = yaml.safe_load((ROOT / "docs" / "openapi.yaml").read_text())
    schemas = document["components"]["schemas"]
    parts = [
        "# REST\n", MADE,
        "The whole of it as an [OpenAPI document](../openapi.yaml); a running server answers it at `/api/v1/schema`. Programs sign in by a token "
        "(*Settings, Tokens*) in the header `Authorization: Bearer …`. What is wrong comes as a problem document (RFC 9457) that names the place and "
        "the remedy. Lists come in pages: `next` is the `cursor` of the next one.\n",
    ]  # fmt: skip
    group = ""
    for path, methods in document["paths"].items():
        head = path.removeprefix("/api/v1/").split("/")[0].split(".")[0]
        if head != group:
            group = head
            parts.append(f"## {group.replace('{', '').replace('}', '')}\n")
        for method, operation in methods.items():
            if method not in ("get", "post", "put", "patch", "delete"):
                continue
            parts.append(f"### {method.upper()} {path}\n")
            parts.append(_plain(operation.get("description", "")) + "\n")
            rows = [*_parameters(operation), *_fields(operation, schemas)]
            if rows:
                parts.append(table(["Name", "In", "Takes", "What it is"], rows))
    return "\n".join(parts)


def _parameters(operation: dict[str, Any]) -> Iterator[list[str]]:
    for p in operation.get("parameters", []):
        yield [f"`{p['name']}`", p["in"], _type(p["schema"]), p.get("description", "")]


def _fields(operation: dict[str, Any], schemas: dict[str, Any]) -> Iterator[list[str]]:
    """What the body of a request holds; the same in each of the forms in which it may come."""
    forms = list(operation.get("requestBody", {}).get("content", {}).values())
    body = schemas.get(_name(forms[0]["schema"]), {}) if forms else {}
    for name, field in body.get("properties", {}).items():
        place = "body, required" if name in body.get("required", []) else "body"
        yield [f"`{name}`", place, _type(field), field.get("description", "")]


def _name(schema: dict[str, Any]) -> str:
    return str(schema.get("$ref", "")).rsplit("/", 1)[-1]


def _type(schema: dict[str, Any]) -> str:
    if "enum" in schema:
        return ", ".join(f"`{v}`" for v in schema["enum"])
    if schema.get("type") == "array":
        return f"a list of {_type(schema['items'])}"
    return str(schema.get("type") or _name(schema) or "any")


def python() -> str:
    parts = [
        "# Python\n", MADE,
        "`import watchtide as wt`. A table is anything that offers Arrow's C stream (pandas, Polars, PyArrow, DuckDB), a dictionary of columns, or a "
        "path; results are Arrow tables with `to_pandas()` and `to_polars()`. See [pipelines and Python](../pipelines.md).\n",
    ]  # fmt: skip
    functions = [n for n in wt.__all__ if inspect.isroutine(getattr(wt, n))]
    classes = [n for n in wt.__all__ if inspect.isclass(getattr(wt, n))]
    parts += [_function("wt", n, getattr(wt, n)) for n in functions]
    parts += [_class("wt", n, getattr(wt, n)) for n in classes]
    parts.append(_class("watchtide.client", "Client", client.Client))
    return "\n".join(parts)


def _function(place: str, name: str, it: Any, depth: str = "##") -> str:
    # Types by their names alone, and columns as they are called.
    signature = re.sub(r"\b(?:[a-z_]+\.)+(?=[A-Z])", "", str(inspect.signature(it)))
    signature = re.sub(r"\*\*columns: [^)]*", "**columns", signature)
    return f"{depth} {place}.{name}\n\n```text\n{name}{signature}\n```\n\n{_docs(it)}\n"


def _class(place: str, name: str, it: Any) -> str:
    parts = [f"## {place}.{name}\n\n{_docs(it)}\n"]
    for attribute, member in inspect.getmembers(it):
        if attribute.startswith("_") or attribute not in _own(it):
            continue
        if isinstance(member, property):
            parts.append(f"### {name}.{attribute}\n\n{_docs(member)}\n")
        elif inspect.isroutine(member):
            parts.append(_function(name, attribute, member, "###"))
    return "\n".join(parts)


def _own(it: Any) -> set[str]:
    """Names that our own classes give, not those of the libraries they stand on."""
    ours = [c for c in it.__mro__ if c.__module__.startswith("watchtide")]
    fields = {f.name for f in dataclasses.fields(it)} if dataclasses.is_dataclass(it) else set()
    # What checks a model as it is made is nobody's to call.
    checks = getattr(it, "__pydantic_decorators__", None)
    return {n for c in ours for n in vars(c)} - fields - set(checks.model_validators if checks else ())


def _docs(it: Any) -> str:
    """The docstring: prose as prose, sections by their names, what a function takes as a list, examples as code."""
    lines = _plain(inspect.getdoc(it) or "").splitlines()
    out: list[str] = []
    is_code = False
    for i, line in enumerate(lines):
        following = lines[i + 1] if i + 1 < len(lines) else ""
        starts = line.startswith(">>> ")
        if starts and not is_code:
            out.append("\n```python")
        if is_code and not line.strip():
            out.append("```\n")
        is_code = starts or (is_code and bool(line.strip()))
        if is_code:
            out.append(line)
        elif re.fullmatch("-{3,}", following):
            out.append(f"\n**{line}**\n")
        elif following.startswith("    ") and line and not line.startswith((" ", ">")):
            name, _, kind = line.partition(" : ")
            out.append(f"- `{name}` ({kind}):" if kind else f"- `{name}`:")
        elif not re.fullmatch("-{3,}", line):
            out.append(line)
    return "\n".join([*out, "```"] if is_code else out)


PAGES = {"commands": commands, "plan": plan, "rest": rest, "python": python}
