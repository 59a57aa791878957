"""``oaktag review``."""

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


@click.command("review")
@as_json
@every_finding
@fail_on
@pass_context
def command(context: Context, as_json: bool, every: bool, fail_on: str) -> int:
    """Findings about the matrix: lines and entries that no packet reaches, and why."""
    document = context.workspace().review()
    if as_json:
        emit(document)
    else:
        findings_text(document["findings"], len(document["accepted"]), every=every)
    return failed(document["findings"], fail_on)
