"""What every command needs: the workspace, JSON or a table, the exit status of findings."""

from __future__ import annotations

import json
import textwrap
import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oaktag.errors import OakTagError, WorkspaceError
from oaktag.letters import shown, shown_json, tame

if TYPE_CHECKING:
    from oaktag.operations.face import Workspace

WIDTH = 100


@dataclass(slots=True)
class Context:
    """The options before the command."""

    folder: Path
    today: date | None
    debug: bool

    def workspace(self, *asked: str) -> Workspace:
        """Read the workspace, as far as a question about some ends needs it; what was interrupted
        in it, and is finished now, is said."""
        from oaktag.operations.face import Workspace

        workspace = Workspace.load(self.folder, self.today, asked=asked)
        if workspace.settled:
            click.echo(f"oaktag: {shown(workspace.settled)}", err=True)
        return workspace

    def changing(self, what: str, *, write: bool, wait: bool) -> Workspace:
        """Read the workspace for a change; where it is written no other one goes on until this
        command is done."""
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

    def show(self, path: str) -> str:
        """A path below the folder of ``-C``, as seen from there."""
        try:
            return Path(path).relative_to(self.folder).as_posix()
        except ValueError:
            return path


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


def say(text: str = "") -> None:
    """A line for people."""
    click.echo(tame(shown(text)))


def hint(text: str) -> None:
    """The last line: what to do next."""
    click.echo(f"→ {shown(text)}")


def count(number: int, word: str) -> str:
    """A number of things: ``1 group``, ``2 groups``."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"


def paragraph(text: str, indent: str, first: str | None = None) -> None:
    """Text over as many lines of 100 columns as it takes; no-break spaces hold words together."""
    filled = textwrap.fill(
        text, WIDTH, initial_indent=indent if first is None else first,
        subsequent_indent=indent, break_long_words=False, break_on_hyphens=False,
    )  # fmt: skip
    say(filled.replace("\N{NO-BREAK SPACE}", " "))


def table(
    heads: Sequence[str],
    rows: Sequence[Sequence[Any]],
    right: Sequence[int] = (),
    wrap: Sequence[int] = (),
    *,
    spaced: bool = False,
) -> None:
    """A table for a terminal of 100 columns or more.

    ``right`` are columns of numbers; ``wrap`` those whose text may run over several lines, with
    an empty one between rows if ``spaced``.
    """
    if len(rows) > LARGE:
        _large_table(heads, rows, right)
        return
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    console = Console(highlight=False, markup=False, emoji=False)
    if not console.is_terminal:
        console = Console(highlight=False, markup=False, emoji=False, width=WIDTH)
    made = Table(
        box=None,
        pad_edge=False,
        header_style="bold underline",
        padding=(0, 2, 0, 0),
        leading=int(spaced),
    )
    for number, head in enumerate(heads):
        made.add_column(
            Text(shown(head)), justify="right" if number in right else "left", overflow="fold",
            no_wrap=bool(wrap) and number not in wrap,
        )  # fmt: skip
    for row in rows:
        made.add_row(*(Text(shown(str(cell))) for cell in row))
    with console.capture() as captured:
        console.print(made)
    text = captured.get()
    click.echo(tame("\n".join(line.rstrip() for line in text.rstrip("\n").split("\n"))))


#: Tables of more rows are for searching in, not for reading: they come at once, unwrapped.
LARGE = 1000


def _large_table(heads: Sequence[str], rows: Sequence[Sequence[Any]], right: Sequence[int]) -> None:
    from rich.cells import cell_len

    texts = [[shown(str(cell)) for cell in row] for row in (heads, *rows)]
    lengths = [[len(t) if t.isascii() else cell_len(t) for t in row] for row in texts]
    widths = [max(column) for column in zip(*lengths, strict=True)]
    for row, length in zip(texts, lengths, strict=True):
        padded = [
            " " * (w - n) + t if number in right else t + " " * (w - n)
            for number, (t, n, w) in enumerate(zip(row, length, widths, strict=True))
        ]
        click.echo(tame("  ".join(padded).rstrip()))


def place(row: dict[str, Any] | None) -> str:
    """Where something stands: file and line."""
    return "default" if row is None else f"{row['file']}:{row['line']}"


#: So many findings of one code are shown in the terminal, unless all are asked for.
FIRST_OF_A_CODE = 8
every_finding = click.option(
    "--all",
    "every",
    is_flag=True,
    help=f"Every finding, not the first {FIRST_OF_A_CODE} of a code.",
)


def findings_text(
    findings: Sequence[dict[str, Any]], accepted: int = 0, *, every: bool = False
) -> None:
    """Findings for people: what, where, and what to do."""
    seen: Counter[str] = Counter()
    for found in findings:
        seen[found["code"]] += 1
        if seen[found["code"]] > FIRST_OF_A_CODE and not every:
            continue
        where = f"{found['file']}:{found['line']}" if found["line"] else found["file"]
        say(f"{found['code']} {found['severity']:<7} {where}")
        paragraph(found["message"], " " * 6)
        if found["example"] and "text" in found["example"]:
            ends = f"{found['example']['source']} → {found['example']['destination']}"
            paragraph(f"e.g. {ends}, {found['example']['text']}", " " * 6)
        paragraph(found["hint"], " " * 8, first="      → ")
    more = {code: n - FIRST_OF_A_CODE for code, n in seen.items() if n > FIRST_OF_A_CODE}
    if more and not every:
        say("and more: " + ", ".join(f"{n} of {code}" for code, n in more.items()) + " (--all)")
    kinds = {s: sum(f["severity"] == s for f in findings) for s in LEVELS[:3]}
    counts = ", ".join(count(n, s) for s, n in kinds.items() if n)
    borne = f"; {accepted} accepted in oaktag.yaml" if accepted else ""
    say(f"{counts or 'nothing'} found{borne}")


def progress(word: str) -> Callable[[str], None]:
    """A callback that says on standard error how far it is, once that takes over a second."""
    start = time.monotonic()

    def step(name: str) -> None:
        if time.monotonic() - start > 1:
            click.echo(f"{word} {shown(name)} …", err=True)

    return step


def complete(kind: str) -> Callable[..., list[str]]:
    """Shell completion of groups, endpoints and points of the workspace here."""

    def found(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        from oaktag.operations.face import Workspace

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


def places(lines: Sequence[dict[str, Any]]) -> str:
    """Where some lines stand, each file named once: ``matrix/10.csv:3,9``."""
    by: dict[str, list[str]] = {}
    for line in lines:
        if line["file"] is None:
            by.setdefault("default", [])
        else:
            by.setdefault(line["file"], []).append(str(line["line"]))
    return "; ".join(f"{f}:{','.join(n)}" if n else f for f, n in by.items())
