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


def columns(command: str, table: str) -> list[str]:
    """The columns of a table, as the command's JSON Schema names them."""
    name = f"{command.replace(' ', '-')}.json"
    schema = json.loads((files("oaktag") / "schemas" / name).read_text(encoding="utf-8"))
    items = schema["properties"].get(table, {}).get("items", {})
    return list(_flat(items))


def _flat(schema: Mapping[str, Any], lead: str = "") -> list[str]:
    found: list[str] = []
    for name, held in schema.get("properties", {}).items():
        found += _flat(held, f"{lead}{name}.") if "properties" in held else [f"{lead}{name}"]
    return found
