"""What every command needs: the workspace, JSON or a table, the exit status of findings."""

from __future__ import annotations

import json
import os
import re
import shutil
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oaktag.errors import OakTagError, WorkspaceError
from oaktag.letters import shown, shown_json, tame
from oaktag.report.page import WIDTH
from oaktag.report.words import FIRST_OF_A_CODE

if TYPE_CHECKING:
    from oaktag.operations.result import Result
    from oaktag.operations.workspace import Workspace
    from oaktag.report.page import Page


@dataclass(slots=True)
class Context:
    """The options before the command; and where results are kept besides, where somebody asks for
    them, by command."""

    folder: Path
    today: date | None
    debug: bool
    told: dict[str, Result] | None = None
    #: Of which time, and of which branch, a command that may be asked so is asked.
    at: str | None = None
    branch: str | None = None

    def workspace(self, *asked: str) -> Workspace:
        """Read the workspace, as far as a question about some ends needs it, or as it was at a
        time; what was interrupted in it, and is finished now, is said."""
        from oaktag.operations.workspace import Workspace

        if self.at is None and self.branch is not None:
            raise click.UsageError("--branch goes with a time, --at")
        if self.at is not None and self.today is not None:
            raise click.UsageError("--at says which day it is; leave out --today")
        workspace = Workspace.load(
            self.folder, self.today, asked=asked, at=self.at, branch=self.branch or "HEAD"
        )
        if workspace.as_of:
            click.echo(f"oaktag: {shown(workspace.as_of)}", err=True)
        if workspace.settled:
            click.echo(f"oaktag: {shown(workspace.settled)}", err=True)
        return workspace

    def changing(self, what: str, *, write: bool, wait: bool) -> Workspace:
        """Read the workspace for a change; where it is written no other one goes on until this
        command is done."""
        if self.at is not None:
            raise click.UsageError("what was cannot be changed: leave out --at")
        if write:
            from oaktag.operations.model import Model
            from oaktag.workspace.lock import PATIENCE, one_writer

            def waiting(who: str) -> None:
                click.echo(f"waiting for another change: {shown(who)} …", err=True)

            Model.must_be(self.folder)
            held = one_writer(
                self.folder, f"oaktag {what}", patience=None if wait else PATIENCE,
                waiting=waiting if wait else None,
            )  # fmt: skip
            click.get_current_context().with_resource(held)
        return self.workspace()

    def path(self, name: str) -> Path:
        """A path of an option, seen from the folder of ``-C``."""
        return self.folder / name

    def unlinked(self, name: str) -> Path:
        """A path of an option, seen from the folder of ``-C``, that leads through no link of it.

        Raises:
            UsageError: it leads through a link of that folder.
        """
        from oaktag.workspace.textfile import unlinked

        return unlinked(self.folder / name, self.folder)


def listed(context: Context, name: str) -> list[str]:
    """The words of a file, one a line; ``#`` begins a comment, and ``-`` is the standard input.

    Raises:
        UsageError: it cannot be read.
    """
    from oaktag.errors import UsageError

    try:
        if name == "-":
            text = sys.stdin.read()
        else:
            text = context.path(name).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        told = error.strerror if isinstance(error, OSError) else "it is no UTF-8"
        raise UsageError(f"{name} cannot be read: {told}") from None
    words = (line.split("#", 1)[0].strip() for line in text.splitlines())
    return [word for word in words if word]


pass_context = click.make_pass_decorator(Context)
as_json = click.option("--json", "as_json", is_flag=True, help="One JSON document.")
LEVELS = ("error", "warning", "note", "never")
fail_on = click.option(
    "--fail-on", type=click.Choice(LEVELS), default="error", show_default=True,
    help="The severity from which findings give exit status 1.",
)  # fmt: skip


#: Rows of JSON that are written at once.
PIECE = 4096


def emit(document: dict[str, Any]) -> None:
    """Print a document as JSON: a field a line, and of fields that are lists a row a line."""
    encoder = json.JSONEncoder(ensure_ascii=False)

    def encode(value: object) -> str:
        return shown_json(encoder.encode(value))

    before = "{"
    for name, value in document.items():
        click.echo(f"{before}\n {encode(name)}: ", nl=False)
        before = ","
        if not isinstance(value, list) or not value:
            click.echo(encode(value), nl=False)
            continue
        for start in range(0, len(value), PIECE):
            rows = ",\n  ".join(map(encode, value[start : start + PIECE]))
            click.echo(("[\n  " if not start else ",\n  ") + rows, nl=False)
        click.echo("\n ]", nl=False)
    click.echo("\n}")


def emit_errors(error: OakTagError) -> None:
    """Print errors as a JSON document."""
    rows: list[dict[str, Any]]
    if isinstance(error, WorkspaceError):
        rows = [
            {
                "file": p.location.file, "line": p.location.line, "column": p.location.column,
                "message": p.message, "expected": p.expected,
            }
            for p in error.problems
        ]  # fmt: skip
    else:
        rows = [{"message": str(error)}]
    count = error.count if isinstance(error, WorkspaceError) else 1
    emit({"command": "error", "schema": 1, "count": count, "errors": rows})


def failed(findings: Sequence[dict[str, Any]], level: str) -> int:
    """Exit status 1 if a finding is as severe as the level, else 0."""
    if level == "never":
        return 0
    counted = LEVELS[: LEVELS.index(level) + 1]
    return int(any(f["severity"] in counted for f in findings))


#: The heads of columns in their line.
HEADS = re.compile(r"\S+(?: \S+)*")
#: Where something stands, as file and line.
PLACE = re.compile(r"(?<![\w./-])((?:[\w-]+/)*[\w.-]+\.(?:yaml|csv|ldif|jsonl|json|nft)):(\d+)")


def finish(
    context: Context, result: Result, *, as_json: bool, out: str | None = None, **how: Any
) -> None:
    """Print a result: one JSON document, or what it says for people.

    Args:
        context: where the command runs.
        result: the answer.
        as_json: as JSON.
        out: a file for its rows as a sheet instead; where there is one, JSON is printed besides.
        how: what else the page is told, as ``every=True``.
    """
    if context.told is not None:
        context.told[result["command"]] = result
    if out is not None:
        result.sheet(context.unlinked(out))
    if as_json:
        emit(result.as_json())
    elif out is not None:
        say(f"written: {out}")
    else:
        draw(result.page(**how), context.folder)


def draw(page: Page, folder: Path) -> None:
    """Draw a page: as wide as the terminal, with heads and places that can be followed on one that
    knows how."""
    styled = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    width = max(shutil.get_terminal_size((WIDTH, 40)).columns, 60) if styled else WIDTH
    linked = styled and os.environ.get("TERM", "dumb") != "dumb"
    for line, head in page.lines(width):
        if head and styled:
            line = re.sub(
                r"\S+(?: \S+)*", lambda m: click.style(m[0], bold=True, underline=True), line
            )
        if linked and not head:
            line = PLACE.sub(lambda m: _linked(m[0], folder / m[1]), line)
        click.echo(line)


def say(text: str = "") -> None:
    """One line for people, now."""
    click.echo(tame(shown(text)))


def _of_time(ctx: click.Context, parameter: click.Parameter, value: str | None) -> None:
    setattr(ctx.ensure_object(Context), parameter.name or "", value)


branch_option = click.option(
    "--branch", metavar="NAME", expose_value=False, callback=_of_time,
    help="With a time: whose commits count, not those of HEAD.",
)  # fmt: skip


def at_a_time(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of commands that may be asked as of a time."""
    at = click.option(
        "--at", metavar="TIME", expose_value=False, callback=_of_time,
        help="As git had it at a time, as 2026-11-27T08:00Z.",
    )  # fmt: skip
    return at(branch_option(command))


sheet_option = click.option(
    "--out", metavar="FILE", help="Write it as a sheet: .csv, .xlsx or .ods."
)


def drawn(figure: str | None, *, as_json: bool) -> None:
    """Say where a figure is."""
    if figure and not as_json:
        say(f"drawn in {figure}")


def _linked(text: str, path: Path) -> str:
    """Text that leads to a file, on terminals that know links (OSC 8)."""
    return f"\x1b]8;;{path.resolve().as_uri()}\x1b\\{text}\x1b]8;;\x1b\\"


every_finding = click.option(
    "--all", "every", is_flag=True,
    help=f"Every finding, not the first {FIRST_OF_A_CODE} of a code.",
)  # fmt: skip


figure_option = click.option("--figure", metavar="FILE", help="Draw it, as PNG or SVG.")
junit_option = click.option(
    "--junit", metavar="FILE", help="Write the expectations as JUnit XML too."
)


def progress(word: str) -> Callable[[str], None]:
    """A callback that says on standard error how far it is, each second from the first on."""
    said, count = time.monotonic(), 0

    def step(name: str) -> None:
        nonlocal said, count
        count += 1
        if time.monotonic() - said > 1:
            said = time.monotonic()
            click.echo(f"{word} {count:,}: {shown(name)} …", err=True)

    return step


def complete(kind: str) -> Callable[..., list[str]]:
    """Shell completion of groups, endpoints and points of the workspace here."""

    def found(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        from oaktag.operations.workspace import Workspace

        folder = ctx.find_root().params.get("folder") or "."
        try:
            model = Workspace.load(folder).model
        except OakTagError:
            return []
        words = {
            "group": [*model.groups.index, *model.groups.sets],
            "end": [*model.groups.index, *model.files.endpoints.ids],
            "node": list(model.network.nodes),
            "point": list(model.network.points),
        }[kind]
        return [w for w in words if w.startswith(incomplete) and shown(w) == w]

    return found
