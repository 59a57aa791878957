"""``oaktag check``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    emit,
    every_finding,
    fail_on,
    failed,
    finish,
    pass_context,
    progress,
    sheet_option,
)
from oaktag.errors import WorkspaceError


@click.command("check")
@sheet_option
@as_json
@click.option("--codes", is_flag=True, help="List the codes of all findings.")
@every_finding
@fail_on
@at_a_time
@pass_context
def command(
    context: Context, out: str | None, as_json: bool, codes: bool, every: bool, fail_on: str
) -> int:
    """Do the files agree? Findings about endpoints, groups, bindings, network."""
    if codes:
        return _codes(as_json)
    try:
        result = context.workspace().check(progress("checking"))
    except WorkspaceError as error:
        if any(p.kind == "form" for p in error.problems):
            raise
        from oaktag.operations.check import clashes

        result = clashes(error)
    finish(context, result, as_json=as_json, out=out, every=every)
    return failed(result.findings, fail_on)


def _codes(as_json: bool) -> int:
    from oaktag.findings import CODES
    from oaktag.report.page import Page

    rows = [{"code": c.code, "severity": c.severity, "title": c.title} for c in CODES.values()]
    if as_json:
        emit({"command": "check", "schema": 1, "codes": rows})
    else:
        page = Page()
        page.table(("code", "severity", "what it says"), [tuple(r.values()) for r in rows])
        click.echo(page.text(), nl=False)
    return 0
