"""``oaktag expect``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    emit,
    hint,
    paragraph,
    pass_context,
    place,
    say,
    table,
)


@click.command("expect")
@click.option("--junit", metavar="FILE", help="Write them as JUnit XML too.")
@as_json
@pass_context
def command(context: Context, junit: str | None, as_json: bool) -> int:
    """Prove the expectations and keep_open; a packet for each that fails."""
    workspace = context.workspace()
    document = workspace.expect()
    if junit:
        from oaktag.report.junit import write_junit

        write_junit(document, workspace.model.files.config.workspace, context.unlinked(junit))
    rows: list[dict[str, Any]] = document["expectations"] + document["keep_open"]
    broken = [r for r in rows if not r["holds"]]
    if as_json:
        emit(document)
        return int(bool(broken))
    table(
        ("", "from", "to", "asks", "written in"),
        [
            (
                "holds" if r["holds"] else "FAILS", r["from"], r["to"],
                r["asks"] + (" on every path" if r["path"] else ""), place(r),
            )
            for r in rows
        ],
        wrap=(3,),
    )  # fmt: skip
    for row in broken:
        example = row["counterexample"]
        paragraph(f"{place(row)}: {_ends(example)}{example['text']}", "      ", first="")
    say(f"{len(rows) - len(broken)} of {len(rows)} hold")
    if broken:
        example = broken[0]["counterexample"]
        if "source" in example:
            ends = f"{example['source']['group']} {example['destination']['group']}"
            hint(f"oaktag cell {ends} shows the lines; oaktag reach the paths")
    return int(bool(broken))


def _ends(example: dict[str, Any]) -> str:
    if "source" not in example:
        return ""
    return f"{example['source']['group']} → {example['destination']['group']}, "
