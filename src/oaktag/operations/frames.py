"""Rows as pandas DataFrames; pandas is an extra, for those who want them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from oaktag.errors import NotPossibleHere, UsageError

if TYPE_CHECKING:
    import pandas as pd


def pandas() -> Any:
    """The package pandas.

    Raises:
        NotPossibleHere: it is not installed.
    """
    try:
        import pandas
    except ImportError:
        raise NotPossibleHere(
            "frames need pandas, which is not installed: pip install 'oaktag[frames]'"
        ) from None
    return pandas


def frame(document: Mapping[str, Any], table: str) -> pd.DataFrame:
    """The rows of one field as a frame; nested fields are columns ``source.group``.

    Args:
        document: a result as JSON.
        table: the name of its field.

    Raises:
        UsageError: the result has no rows.
        NotPossibleHere: pandas is not installed.
    """
    pd = pandas()
    if table not in document:
        raise UsageError(f"the result of {document['command']} has no table")
    rows = document[table]
    if not rows:
        names = columns(str(document["command"]), table)
        return pd.DataFrame(columns=names)  # type: ignore[no-any-return]
    return pd.json_normalize(rows)  # type: ignore[no-any-return]


def flat_rows(document: Mapping[str, Any], table: str) -> tuple[list[str], list[list[str]]]:
    """The rows of one field as text for a sheet: heads and cells.

    Raises:
        UsageError: the result has no rows.
    """
    if table not in document:
        raise UsageError(f"the result of {document['command']} has no table")
    rows = [_spread(row) for row in document[table]]
    heads = list(dict.fromkeys(name for row in rows for name in row))
    # A field that is nothing in some rows, and nested in others, has the columns of these.
    inner = {head.rsplit(".", 1)[0] for head in heads if "." in head}
    heads = [head for head in heads if head not in inner]
    if not rows:
        heads = columns(str(document["command"]), table)
    return heads, [[row.get(name, "") for name in heads] for row in rows]


def _spread(held: Mapping[str, Any], lead: str = "") -> dict[str, str]:
    found: dict[str, str] = {}
    for name, value in held.items():
        if isinstance(value, Mapping):
            found |= _spread(value, f"{lead}{name}.")
        else:
            found[f"{lead}{name}"] = _cell(value)
    return found


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "; ".join(map(_cell, value))
    if isinstance(value, Mapping):
        if value.keys() >= {"file", "line"}:
            rest = [_cell(v) for name, v in value.items() if name not in ("file", "line")]
            return " ".join(filter(None, (f"{value['file']}:{value['line']}", *rest)))
        return ", ".join(f"{name}: {_cell(v)}" for name, v in value.items())
    return str(value)


def columns(command: str, table: str) -> list[str]:
    """The columns of a table, as the command's JSON Schema names them."""
    name = f"{command.replace(' ', '-')}.json"
    schema = json.loads((files("oaktag") / "schemas" / name).read_text(encoding="utf-8"))
    items = schema["properties"].get(table, {}).get("items", {})
    if "$ref" in items:
        items = schema["$defs"][items["$ref"].rsplit("/", 1)[-1]]
    return list(_flat(items))


def _flat(schema: Mapping[str, Any], lead: str = "") -> list[str]:
    found: list[str] = []
    for name, held in schema.get("properties", {}).items():
        found += _flat(held, f"{lead}{name}.") if "properties" in held else [f"{lead}{name}"]
    return found
