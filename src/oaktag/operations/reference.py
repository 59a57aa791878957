"""The reference of the files: every key with what it means, its default and an example, from the
JSON Schemas that ship with the package."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from importlib.resources import files
from typing import Any, ClassVar, NamedTuple

from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Reference(Result):
    """Keys of the files: what each means, its values, its default, an example."""

    key_list: list[Row] = field(metadata={"name": "keys"})
    command: ClassVar[str] = "help"
    shown_by: ClassVar[str] = "reference"
    table: ClassVar[str] = "keys"


FILES = (
    "oaktag.yaml", "groups.yaml", "assignments.yaml", "permissions.yaml", "matrix.csv",
    "network.yaml", "expectations.yaml",
)  # fmt: skip


class Key(NamedTuple):
    """One key: its file, the keys that lead to it (``[]`` is an item of a list, ``NAME`` a name of
    one's own), what it means, its values where they are few."""

    file: str
    path: str
    text: str
    required: bool
    values: tuple[str, ...]
    default: str
    example: str

    @property
    def name(self) -> str:
        """The key itself."""
        return self.path.rsplit(".", 1)[-1].removesuffix("[]")


def keys() -> Iterator[Key]:
    """Every key of every file, in the order of the schemas; those of several points of a node are
    those of one."""
    for file in FILES:
        text = (files("oaktag") / "schemas" / f"{file}.json").read_text(encoding="utf-8")
        seen: set[str] = set()
        for key in _keys(file, json.loads(text), ""):
            path = key.path.replace("points[].", "point.")
            if path not in seen:
                seen.add(path)
                yield key._replace(path=path)


def reference(word: str | None = None) -> Reference:
    """The keys of a name, of a file, or all.

    Raises:
        UsageError: there is no such key or file.
    """
    every = list(keys())
    if word is not None:
        bare = word.removesuffix("[]")
        found = [k for k in every if bare in (k.file, k.name, k.path, f"{k.file}:{k.path}")]
        found = found or [k for k in every if k.path.replace("[]", "").endswith(f".{bare}")]
        if not found:
            known = {k.name for k in every} | set(FILES)
            raise UsageError(
                f"no file has a key {word!r}; {perhaps(word, known) or 'oaktag help lists all'}"
            )
        every = found
    return Reference(
        key_list=[k._asdict() | {"values": list(k.values), "name": k.name} for k in every]
    )


def _keys(file: str, schema: Mapping[str, Any], path: str) -> Iterator[Key]:
    for word in ("anyOf", "oneOf"):
        for part in schema.get(word, ()):
            yield from _keys(file, part, path)
    if isinstance(schema.get("items"), dict):
        yield from _keys(file, schema["items"], f"{path}[]")
    if isinstance(schema.get("additionalProperties"), dict):
        yield from _keys(file, schema["additionalProperties"], f"{path}.NAME")
    for name, held in schema.get("properties", {}).items():
        where = f"{path}.{name}".lstrip(".").removeprefix("[].")
        yield Key(
            file, where, held.get("description", ""), name in schema.get("required", ()),
            tuple(_word(v) for v in _values(held)), held.get("x-default", ""),
            held.get("x-example", ""),
        )  # fmt: skip
        yield from _keys(file, held, where)


def _values(schema: Mapping[str, Any]) -> list[Any]:
    found = list(schema.get("enum", ()))
    for part in schema.get("anyOf", ()):
        found += part.get("enum", ())
    return found


def _word(value: object) -> str:
    return json.dumps(value) if isinstance(value, bool) else str(value)
