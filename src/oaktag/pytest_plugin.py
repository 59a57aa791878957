"""A workspace's expectations, reach and proofs as tests of pytest.

``pytest --oaktag`` in the repository of a workspace (or ``oaktag = true`` in pytest's settings)
takes each ``oaktag.yaml`` for a file of tests: one for each expectation and row of ``keep_open``,
one for each two segments between which packets fare, one for each point's list. What fails says
which packet, and where.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

from oaktag.errors import OakTagError

if TYPE_CHECKING:
    from oaktag.operations.workspace import Workspace

FILE = "oaktag.yaml"
#: Between more segments than that, all of reach is one test.
MOST_PAIRS = 2_000
#: So many packets of a test that fails are named.
NAMED = 5


def pytest_addoption(parser: pytest.Parser) -> None:
    """The option, and the setting."""
    group = parser.getgroup("oaktag", "workspaces of Oak Tag")
    group.addoption(
        "--oaktag", action="store_true", help="take workspaces (oaktag.yaml) for files of tests"
    )
    parser.addini("oaktag", "take workspaces (oaktag.yaml) for files of tests", "bool", False)


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """A workspace, where that is asked for."""
    asked = parent.config.getoption("--oaktag") or parent.config.getini("oaktag")
    if file_path.name != FILE or not asked:
        return None
    return WorkspaceFile.from_parent(parent, path=file_path)


class Failed(Exception):
    """A test that failed, with what is to be said of it."""


class WorkspaceFile(pytest.File):
    """A workspace as a file of tests."""

    def collect(self) -> Iterator[pytest.Item]:
        """The tests; a workspace that cannot be read is one that fails."""
        from oaktag.operations.workspace import Workspace

        try:
            workspace = Workspace.load(self.path.parent)
            tests = list(_tests(workspace))
        except OakTagError as error:
            told = str(error)
            tests = [("workspace", lambda: told)]
        for name, test in tests:
            yield WorkspaceTest.from_parent(self, name=name, test=test)


class WorkspaceTest(pytest.Item):
    """One question to a workspace, whose answer is what is wrong, or nothing."""

    def __init__(self, *, test: Callable[[], str], **kwargs: Any) -> None:
        super().__init__(**kwargs)
        self.test = test

    def runtest(self) -> None:
        """Ask it."""
        if told := self.test():
            raise Failed(told)

    def repr_failure(  # type: ignore[override]
        self, excinfo: pytest.ExceptionInfo[BaseException]
    ) -> str:
        """What is wrong, without the way through this file."""
        if isinstance(excinfo.value, (Failed, OakTagError)):
            return str(excinfo.value)
        return str(super().repr_failure(excinfo))

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Where it stands; what ended with the name alone would be taken for one of Python."""
        return self.path, None, f"oaktag: {self.name}"


Test = tuple[str, Callable[[], str]]


def _tests(workspace: Workspace) -> Iterator[Test]:
    yield from _expectations(workspace)
    yield from _reach(workspace)
    yield from _proofs(workspace)


def _expectations(workspace: Workspace) -> Iterator[Test]:
    found = workspace.expect()
    for row in (*found.expectations, *found.keep_open):
        told = ""
        if not row["holds"]:
            told = f"{row['file']}:{row['line']}: {row['counterexample']['text']}"
        ends = f"{row['from']} → {row['to']}: {row['asks']}"
        yield f"{row['file']}:{row['line']} {ends}", lambda told=told: told  # type: ignore[misc]


def _reach(workspace: Workspace) -> Iterator[Test]:
    from oaktag.report.words import WORDS

    pairs: dict[tuple[str, str], list[str]] = {}
    for row in workspace.reach().flows:
        ends = [row[end] for end in ("source", "destination")]
        held = pairs.setdefault((ends[0]["segment"], ends[1]["segment"]), [])
        if row["effect"] != "exact" and not row["accepted"]:
            why = [WORDS[r["why"]].format(node=r["node"]) for r in (*row["reasons"], *row["amiss"])]
            groups = " → ".join(f"{e['group']} in {e['segment']}" for e in ends)
            told = row["packets_text"] or row["effect"]
            held.append(f"{groups}: {told} ({'; '.join(dict.fromkeys(why))})")
    if len(pairs) > MOST_PAIRS:
        pairs = {("all", "all"): [told for held in pairs.values() for told in held]}
    for (one, two), held in pairs.items():
        yield f"reach {one} → {two}", lambda held=held: _some(held)  # type: ignore[misc]


def _some(told: list[str]) -> str:
    more = [f"and {len(told) - NAMED} more"] if len(told) > NAMED else []
    return "\n".join([*told[:NAMED], *more])


def _proofs(workspace: Workspace) -> Iterator[Test]:
    from oaktag.operations.lists import make, points_of

    model = workspace.model
    for point in points_of(model):
        yield (
            f"proof of {point.id}",
            lambda point=point: make(model, point, proved=True).error,  # type: ignore[misc]
        )
