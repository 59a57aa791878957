"""``oaktag review``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    every_finding,
    fail_on,
    failed,
    finish,
    pass_context,
    sheet_option,
)


@click.command("review")
@sheet_option
@as_json
@every_finding
@fail_on
@at_a_time
@pass_context
def command(context: Context, out: str | None, as_json: bool, every: bool, fail_on: str) -> int:
    """Findings about the matrix: lines and entries that no packet reaches, and why."""
    result = context.workspace().review()
    finish(context, result, as_json=as_json, out=out, every=every)
    return failed(result.findings, fail_on)
