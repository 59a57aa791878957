#!/usr/bin/env python3
"""Run folders of worked cases through the commands, and compare every key of what is expected.

    python tools/run_cases.py FOLDER...

A case is a folder with a workspace and an ``expected.json``; folders may hold folders of cases.
A key that is not known here is a failure, not a skip. Keys in plain words (``review``, ``check``,
``errors``) are compared by what must be mentioned: every name of the workspace, file and line
that an item speaks of must stand in one and the same message.
"""

from __future__ import annotations

import contextlib
import io
import json
import re
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from oaktag.cli import app as cli_app

PACKET = ("source", "destination", "family", "protocol", "source_port", "destination_port")
Faults = Iterator[str]


def oaktag(folder: Path, *arguments: str) -> tuple[int, str, str]:
    """Run one command line as the program would; returns status and both streams."""
    out, err = io.StringIO(), io.StringIO()
    before, sys.argv = sys.argv, ["oaktag", "-C", str(folder), *arguments]
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            cli_app.run()
    except SystemExit as done:
        return int(done.code or 0), out.getvalue(), err.getvalue()
    finally:
        sys.argv = before
    raise AssertionError("the program always exits")


def document(folder: Path, *arguments: str) -> dict[str, Any]:
    """The JSON of one command."""
    status, out, err = oaktag(folder, *arguments, "--json")
    if not out or status > 1:
        raise RuntimeError(f"oaktag {' '.join(arguments)}: status {status}: {err or out}".strip())
    found: dict[str, Any] = json.loads(out)
    return found


def decide(folder: Path, rows: list[dict[str, Any]]) -> Faults:
    with tempfile.NamedTemporaryFile("w", suffix=".csv") as file:
        lines = [",".join(PACKET), *(",".join(str(r[c]) for c in PACKET) for r in rows)]
        file.write("\n".join(lines) + "\n")
        file.flush()
        status, out, err = oaktag(folder, "decide", "--batch", file.name)
    if status:
        yield f"decide --batch: status {status}: {err}"
        return
    for row, line in zip(rows, out.splitlines()[1:], strict=True):
        action, would, place, number = line.rsplit(",", 4)[1:]
        said = {"action": action, "would": would, "file": place or None,
                "line": int(number) if number else None}  # fmt: skip
        yield from _differ(f"decide {_packet(row)}", row, said, PACKET)
        single = document(folder, "decide", row["source"], row["destination"], *_service(row))
        for key in ("action", "would"):
            if key in row and single[key] != row[key]:
                yield f"decide {_packet(row)}: {key} is {single[key]}, not {row[key]} (one question)"


def _packet(row: dict[str, Any]) -> str:
    return " ".join(str(row[c]) for c in PACKET)


def _service(row: dict[str, Any]) -> list[str]:
    family, protocol, source, destination = (row[c] for c in PACKET[2:])
    transport = {6: "tcp", 17: "udp", 132: "sctp"}.get(protocol)
    if transport:
        return [f"{destination}/{transport}", "--family", str(family), "--source-port", str(source)]
    if (family, protocol) in ((4, 1), (6, 58)):
        return [f"icmp{family}/{source}/{destination}"]
    return [f"proto/{protocol}", "--family", str(family)]


def _differ(
    what: str, row: dict[str, Any], said: dict[str, Any], skipped: tuple[str, ...]
) -> Faults:
    for key in row:
        if key in skipped:
            continue
        if key not in said:
            yield f"{what}: the key {key!r} is not known"
        elif said[key] != row[key]:
            yield f"{what}: {key} is {said[key]!r}, not {row[key]!r}"


def cell(folder: Path, rows: list[dict[str, Any]]) -> Faults:
    for row in rows:
        found = document(folder, "cell", row["source"], row["destination"])
        said = {"lines": [[x["file"], x["line"]] for x in found["lines"]]}
        what = f"cell {row['source']} {row['destination']}"
        yield from _differ(what, row, said, ("source", "destination"))


def members(folder: Path, rows: dict[str, dict[str, Any]]) -> Faults:
    found = {e["endpoint"]: e for e in document(folder, "members")["endpoints"]}
    for name, row in rows.items():
        if name not in found:
            yield f"members: no endpoint {name}"
            continue
        one = found[name]
        by = one["by"] or {"kind": None, "line": None}
        said = {
            **one, "by": by["kind"], "line": by["line"], "also": [a["line"] for a in one["also"]],
            "near": [[n["line"], n["attribute"]] for n in one["near"]],
        }  # fmt: skip
        yield from _differ(f"members {name}", row, said, ())


def groups(folder: Path, rows: dict[str, dict[str, Any]]) -> Faults:
    found = {g["group"]: g for g in document(folder, "groups")["groups"]}
    for name, row in rows.items():
        yield from _differ(f"groups {name}", row, found.get(name, {}), ())


def lookup(folder: Path, rows: dict[str, int], *at: str) -> Faults:
    found = document(folder, "bindings", *at, *rows)["found"]
    for one in found:
        if one["tag"] != rows[one["address"]]:
            place = " ".join(at) or "lookup"
            yield f"{place} {one['address']}: {one['tag']}, not {rows[one['address']]}"


def known(folder: Path, rows: dict[str, dict[str, int]]) -> Faults:
    for node, addresses in rows.items():
        yield from lookup(folder, addresses, "--at", node)


def paths(folder: Path, rows: list[dict[str, Any]]) -> Faults:
    from oaktag import Workspace

    found = Workspace.load(folder).model.paths
    for row in rows:
        said = [list(p.nodes) for p in found.between(row["source"], row["destination"])]
        if sorted(said) != sorted(row["paths"]):
            yield f"paths {row['source']} {row['destination']}: {said}, not {row['paths']}"
        yield from _differ("paths", row, row, ("source", "destination", "paths"))


def _flows(folder: Path) -> list[dict[str, Any]]:
    flows: list[dict[str, Any]] = document(folder, "reach")["flows"]
    return flows


def _ends(flow: dict[str, Any]) -> list[list[str]]:
    return [[flow[e]["segment"], flow[e]["group"]] for e in ("source", "destination")]


def reach(folder: Path, rows: list[dict[str, Any]]) -> Faults:
    flows = _flows(folder)
    for row in rows:
        ends = [row["source"], row["destination"]]
        path = row.get("path") or []
        found = [f for f in flows if _ends(f) == ends and (f["path"] == path or "path" not in row)]
        if not found:
            yield f"reach {ends} over {path}: there is no such row"
        for flow in found:
            why = [[r["node"], r["why"]] for r in flow["reasons"]]
            if row.get("result") == "unenforced" and row.get("why") == []:
                why = []  # such a row has a reason always (section 8): none given, none asked for
            yield from _differ(
                f"reach {ends}", row, {**flow, "why": why}, ("source", "destination", "path")
            )


def absent(folder: Path, rows: list[list[list[str]]]) -> Faults:
    there = [_ends(f) for f in _flows(folder)]
    yield from (f"reach {ends}: must not be there" for ends in rows if ends in there)


def dead(folder: Path, rows: list[list[Any]]) -> Faults:
    findings = document(folder, "review")["findings"]
    said = sorted([f["file"], f["line"]] for f in findings if f["code"] == "OT301")
    if said != sorted(rows):
        yield f"dead: {said}, not {sorted(rows)}"


def _held(key: str) -> Callable[[Path, list[dict[str, Any]]], Faults]:
    def compare(folder: Path, rows: list[dict[str, Any]]) -> Faults:
        found = document(folder, "expect")[key]
        for number, row in enumerate(rows):
            fitting = [e for e in found if e["line"] == row.get("line", e["line"])]
            if "line" not in row:
                fitting = found[number : number + 1]
            if not fitting:
                yield f"{key}: nothing in line {row.get('line')}"
            for one in fitting:
                yield from _differ(f"{key} line {one['line']}", row, one, ())

    return compare


def _words(command: str) -> Callable[[Path, Any], Faults]:
    def compare(folder: Path, items: Any) -> Faults:
        status, out, err = oaktag(folder, command, "--json")
        shown = json.loads(out) if out else {}
        told = [
            json.dumps(r, ensure_ascii=False)
            for r in shown.get("findings", shown.get("errors", []))
        ]
        names = _names(folder)
        for item in items if isinstance(items, list) else [items]:
            text = item if isinstance(item, str) else json.dumps(item, ensure_ascii=False)
            wanted = {w for w in re.findall(r"[\w.:/-]*\w", text) if w in names or "/" in w}
            if not any(all(w in message for w in wanted) for message in told):
                yield f"{command}: nothing says {text!r} ({', '.join(sorted(wanted))}): {told or err or status}"

    return compare


def _names(folder: Path) -> set[str]:
    """Words of the workspace's files that name something."""
    names: set[str] = set()
    for path in folder.rglob("*.*"):
        if path.suffix in (".yaml", ".csv"):
            names.update(
                re.findall(r"[a-z][\w.:-]*\w", path.read_text(encoding="utf-8", errors="replace"))
            )
    return names - {"source", "destination", "line", "file", "the", "and", "for", "from", "to"}


KEYS: dict[str, Callable[[Path, Any], Faults]] = {
    "decide": decide, "cell": cell, "members": members, "groups": groups, "lookup": lookup,
    "known": known, "paths": paths, "reach": reach, "absent": absent, "dead": dead,
    "expect": _held("expectations"), "keep_open": _held("keep_open"),
    "review": _words("review"), "check": _words("check"), "errors": _words("check"),
}  # fmt: skip


def run_case(folder: Path) -> list[str]:
    """Everything in which the commands differ from what a case expects."""
    expected = json.loads((folder / "expected.json").read_text(encoding="utf-8"))
    faults: list[str] = []
    for key, rows in expected.items():
        if key not in KEYS:
            faults.append(f"the key {key!r} is not known here")
            continue
        try:
            faults += KEYS[key](folder, rows)
        except Exception as error:
            faults.append(f"{key}: {type(error).__name__}: {error}")
    return faults


def main(folders: list[str]) -> int:
    """Run all cases below some folders; returns the exit status."""
    cases = sorted({p.parent for f in folders for p in Path(f).rglob("expected.json")})
    failed = 0
    for case in cases:
        faults = run_case(case)
        failed += bool(faults)
        print(f"{'differs' if faults else 'agrees '}  {case}")
        for fault in faults:
            print(f"         {fault}")
    print(f"{len(cases) - failed} of {len(cases)} cases agree")
    return int(bool(failed) or not cases)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
