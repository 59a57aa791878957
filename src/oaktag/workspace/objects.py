"""A workspace made of plain objects instead of files: the same reader, the same checks, the same
messages, which name the object where a file would be named."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from oaktag.workspace.folder import Folder

#: The columns of a line, in the order in which a tuple gives them.
LINE = ("source", "destination", "permission", "mode", "way", "expires", "owner", "note")
Line = Mapping[str, Any] | Sequence[str]


def folder_of(
    *,
    groups: Iterable[Mapping[str, Any]],
    permissions: Mapping[str, Any],
    lines: Iterable[Line] | Mapping[str, Iterable[Line]] = (),
    endpoints: Iterable[Mapping[str, Any]] = (),
    sets: Mapping[str, Any] | None = None,
    services: Mapping[str, Any] | None = None,
    rules: Iterable[Mapping[str, Any]] = (),
    pins: Iterable[Mapping[str, Any]] = (),
    sessions: Iterable[Mapping[str, Any]] = (),
    network: Mapping[str, Any] | None = None,
    expectations: Iterable[Mapping[str, Any]] = (),
    config: Mapping[str, Any] | None = None,
) -> Folder:
    """The objects as the files that would say the same; see ``Workspace.from_objects``."""
    layers = lines if isinstance(lines, Mapping) else {"lines": lines}
    names = {name: f"matrix/{name}.csv" for name in layers}
    held = _endpoints(endpoints)
    settings: dict[str, Any] = {"workspace": "objects", "layers": list(names.values())}
    settings["sources"] = [
        {"file": f"endpoints/{kind}.jsonl", "kind": kind, "id": "id"}
        | {key: key for key in ("address", "stability") if any(key in row for row in rows)}
        for kind, rows in held.items()
    ]
    files: dict[str, Any] = {
        "groups.yaml": {"groups": list(groups), "sets": dict(sets or {})},
        "permissions.yaml": {"services": dict(services or {}), "permissions": dict(permissions)},
        "assignments.yaml": {"pins": list(pins), "rules": list(rules)},
        "expectations.yaml": list(expectations),
    }
    if network is not None:
        files["network.yaml"] = dict(network)
    rows = list(sessions)
    if rows:
        settings["sessions"] = "sessions.csv"
        files["sessions.csv"] = _table(rows, ("endpoint", "address", "since"))
    settings |= config or {}
    files["oaktag.yaml"] = settings
    for kind, members in held.items():
        text = "".join(json.dumps(row, default=str) + "\n" for row in members)
        files[f"endpoints/{kind}.jsonl"] = text
    for name, layer in layers.items():
        files[names[name]] = _layer(layer)
    laid = {
        name: (text if isinstance(text, str) else json.dumps(text, default=str)).encode()
        for name, text in files.items()
    }
    return Folder(Path("objects"), laid, alone=True)


def _endpoints(endpoints: Any) -> dict[str, list[dict[str, Any]]]:
    """Endpoints by kind; a frame is taken row by row."""
    if hasattr(endpoints, "to_dict"):
        endpoints = endpoints.to_dict("records")
    found: dict[str, list[dict[str, Any]]] = {}
    for row in endpoints:
        known = {name: value for name, value in row.items() if value is not None and name != "kind"}
        known = {name: value for name, value in known.items() if value == value}  # no NaN
        found.setdefault(str(row.get("kind", "server")), []).append(known)
    return found


def _layer(lines: Iterable[Line]) -> str:
    rows = [
        dict(line) if isinstance(line, Mapping) else dict(zip(LINE, line, strict=False))
        for line in lines
    ]
    return _table(rows, LINE)


def _table(rows: Sequence[Mapping[str, Any]], first: Sequence[str]) -> str:
    columns = list(dict.fromkeys([*first, *(name for row in rows for name in row)]))
    out = io.StringIO()
    writer = csv.DictWriter(out, columns, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()
