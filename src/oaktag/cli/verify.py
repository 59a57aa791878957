"""``oaktag verify``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    emit,
    fail_on,
    failed,
    hint,
    paragraph,
    pass_context,
    place,
    say,
    table,
)
from oaktag.errors import WorkspaceError


@click.command("verify")
@click.option("--junit", metavar="FILE", help="Write the expectations as JUnit XML too.")
@as_json
@fail_on
@pass_context
def command(context: Context, junit: str | None, as_json: bool, fail_on: str) -> int:
    """Check, review, expect and reach in one exit status, for CI."""
    try:
        workspace = context.workspace()
    except WorkspaceError as error:
        if any(p.kind == "form" for p in error.problems):
            raise
        from oaktag.operations.verify import contradiction

        document = contradiction(error)
    else:
        document = workspace.verify(fail_on)
        if junit:
            from oaktag.report.junit import write_junit

            name = workspace.model.files.config.workspace
            write_junit(workspace.expect(), name, context.unlinked(junit))
    if as_json:
        emit(document)
    else:
        _text(document, fail_on)
    return int(fail_on != "never" and not all(p["well"] for p in document["parts"]))


def _text(document: dict[str, Any], level: str) -> None:
    table(
        ("", "part", "what it says"),
        [("well" if p["well"] else "FAILS", p["part"], p["text"]) for p in document["parts"]],
    )
    for found in document["findings"]:
        if failed([found], level):
            say(f"{found['code']} {place(found)}: {found['message']}")
    for row in document["failed"]:
        say(f"{place(row)} fails: {row['from']} → {row['to']}: {row['asks']}")
    if document["not_looked_at"]:
        say("not looked at:")
    for told in document["not_looked_at"]:
        paragraph(told, "     ", first="   - ")
    wrong = [p["part"] for p in document["parts"] if not p["well"]]
    if wrong:
        verb = "says" if len(wrong) == 1 else "say"
        hint(f"{' and '.join(f'oaktag {name}' for name in wrong)} {verb} more")
