"""Topics of ``oaktag help`` beside keys of files: codes of findings, and fields of JSON answers."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any, ClassVar

from oaktag.errors import UsageError
from oaktag.findings import CODES
from oaktag.near import perhaps
from oaktag.operations.reference import FILES
from oaktag.operations.result import Result, Row

#: Schemas that are no answer of a command.
_OTHERS = {*FILES, "access-list", "access-list-addresses"}


@dataclass(frozen=True, eq=False, repr=False)
class CodeHelp(Result):
    """What a code of a finding means, an example, and what to do."""

    codes: list[Row]
    command: ClassVar[str] = "help code"
    shown_by: ClassVar[str] = "help_code"
    table: ClassVar[str] = "codes"


@dataclass(frozen=True, eq=False, repr=False)
class FieldHelp(Result):
    """The fields of a JSON answer."""

    of: str
    fields: list[Row]
    command: ClassVar[str] = "help json"
    shown_by: ClassVar[str] = "help_json"
    table: ClassVar[str] = "fields"


@cache
def words(name: str) -> dict[str, Any]:
    """What is said of each code of a finding (``findings``: ``means``, ``example``, ``todo``), or
    of each field of an answer (``fields``). Names mean the same everywhere; where one
    does not, its schema says it.
    """
    text = (files("oaktag") / "words" / f"{name}.json").read_text(encoding="utf-8")
    found: dict[str, Any] = json.loads(text)
    return found


def answers() -> list[str]:
    """The JSON answers, by the names of their schemas."""
    found = (path.name for path in (files("oaktag") / "schemas").iterdir())
    names = (name.removesuffix(".json") for name in found if name.endswith(".json"))
    return sorted(name for name in names if name not in _OTHERS)


def code_help(code: str | None = None) -> CodeHelp:
    """What a code means; without one, all of them.

    Raises:
        UsageError: there is no such code.
    """
    if code is not None and code not in CODES:
        raise UsageError(f"there is no code {code!r}; {perhaps(code, CODES)}")
    told = words("findings")
    return CodeHelp(
        codes=[
            {"code": c.code, "severity": c.severity, "title": c.title, **told[c.code]}
            for c in CODES.values()
            if code in (None, c.code)
        ]
    )


def field_help(answer: str) -> FieldHelp:
    """The fields of a JSON answer, each with what it holds.

    Raises:
        UsageError: there is no such answer.
    """
    if answer not in answers():
        raise UsageError(f"there is no answer {answer!r}; {perhaps(answer, answers())}")
    text = (files("oaktag") / "schemas" / f"{answer}.json").read_text(encoding="utf-8")
    schema = json.loads(text)
    seen: dict[str, Row] = {}
    for row in _fields(schema, schema, ""):
        seen.setdefault(row["path"], row)
    return FieldHelp(of=answer, fields=list(seen.values()))


def _fields(schema: Mapping[str, Any], whole: Mapping[str, Any], path: str) -> Iterator[Row]:
    if "$ref" in schema:
        at: Any = whole
        for step in schema["$ref"].removeprefix("#/").split("/"):
            at = at[step]
        if path.count(".") < 6:
            yield from _fields(at, whole, path)
        return
    for word in ("anyOf", "oneOf"):
        for part in schema.get(word, ()):
            yield from _fields(part, whole, path)
    if isinstance(schema.get("items"), dict):
        yield from _fields(schema["items"], whole, f"{path}[]")
    if isinstance(schema.get("additionalProperties"), dict):
        yield from _fields(schema["additionalProperties"], whole, f"{path}.NAME")
    for name, held in schema.get("properties", {}).items():
        where = f"{path}.{name}".lstrip(".")
        told = words("fields")
        text = held.get("description") or told.get(name, "")
        yield {"path": where, "type": _type(held), "text": text}
        yield from _fields(held, whole, where)


def _type(schema: Mapping[str, Any]) -> str:
    if "const" in schema:
        return json.dumps(schema["const"])
    if "enum" in schema:
        return " or ".join(json.dumps(value) for value in schema["enum"])
    if "anyOf" in schema:
        return " or ".join(dict.fromkeys(_type(part) for part in schema["anyOf"]))
    kind = schema.get("type", "object")
    return " or ".join(kind) if isinstance(kind, list) else str(kind)
