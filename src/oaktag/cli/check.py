"""``oaktag check``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    emit,
    every_finding,
    fail_on,
    failed,
    findings_text,
    pass_context,
)
from oaktag.errors import WorkspaceError


@click.command("check")
@as_json
@click.option("--codes", is_flag=True, help="List the codes of all findings.")
@every_finding
@fail_on
@pass_context
def command(context: Context, as_json: bool, codes: bool, every: bool, fail_on: str) -> int:
    """Do the files agree? Findings about endpoints, groups, bindings, network."""
    if codes:
        return _codes(as_json)
    try:
        document = context.workspace().check()
    except WorkspaceError as error:
        if any(p.kind == "form" for p in error.problems):
            raise
        from oaktag.operations.check import clashes

        document = clashes(error)
    if as_json:
        emit(document)
    else:
        findings_text(document["findings"], len(document["accepted"]), every=every)
    return failed(document["findings"], fail_on)


def _codes(as_json: bool) -> int:
    from oaktag.cli.context import table
    from oaktag.findings import CODES

    rows = [{"code": c.code, "severity": c.severity, "title": c.title} for c in CODES.values()]
    if as_json:
        emit({"command": "check", "schema": 1, "codes": rows})
    else:
        table(("code", "severity", "what it says"), [tuple(r.values()) for r in rows])
    return 0
