"""Expectations as a JUnit XML report, the form that CI systems read."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from oaktag.letters import shown
from oaktag.workspace.textfile import write_bytes


def write_junit(document: Mapping[str, Any], name: str, path: Path) -> None:
    """Write the document of ``expect``: a test case for each expectation, in file order."""
    rows = [*document["expectations"], *document["keep_open"]]
    failed = [r for r in rows if not r["holds"]]
    suite = ElementTree.Element(
        "testsuite", name=name, tests=str(len(rows)), failures=str(len(failed)), errors="0"
    )
    for row in rows:
        asks = f"{row['from']} → {row['to']}: {row['asks']}"
        case = ElementTree.SubElement(
            suite, "testcase", classname=row["file"], name=f"{asks} (line {row['line']})",
            file=row["file"], line=str(row["line"]),
        )  # fmt: skip
        if not row["holds"]:
            told = row["counterexample"]["text"]
            failure = ElementTree.SubElement(case, "failure", message=told)
            failure.text = f"{row['file']}:{row['line']}: {asks}\n{told}"
    ElementTree.indent(suite)
    text = ElementTree.tostring(suite, encoding="utf-8", xml_declaration=True).decode()
    write_bytes(path, shown(text).encode() + b"\n")
