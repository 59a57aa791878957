"""``oaktag verify``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    fail_on,
    finish,
    junit_option,
    pass_context,
    progress,
)
from oaktag.errors import WorkspaceError


@click.command("verify")
@junit_option
@as_json
@fail_on
@at_a_time
@pass_context
def command(context: Context, junit: str | None, as_json: bool, fail_on: str) -> int:
    """Check, review, expect and reach in one exit status, for CI."""
    try:
        workspace = context.workspace()
    except WorkspaceError as error:
        if any(p.kind == "form" for p in error.problems):
            raise
        from oaktag.operations.verify import contradiction

        result = contradiction(error)
    else:
        result = workspace.verify(fail_on, progress("verifying"))
        if junit:
            workspace.write_junit(workspace.expect(), context.unlinked(junit))
    finish(context, result, as_json=as_json, level=fail_on)
    return int(fail_on != "never" and not result.well)
