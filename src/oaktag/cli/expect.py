"""``oaktag expect``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, finish, junit_option, pass_context


@click.command("expect")
@junit_option
@click.option(
    "--uncovered", "slack", is_flag=True, help="What is allowed, and no expectation asks for."
)
@click.option(
    "--card", is_flag=True, help="The fewest packets that tell whether every line acts as written."
)
@click.option("--all", "every", is_flag=True, help="With --uncovered: every row and name.")
@as_json
@at_a_time
@pass_context
def command(
    context: Context, junit: str | None, slack: bool, card: bool, every: bool, as_json: bool
) -> int:
    """Prove the expectations and keep_open; a packet for each that fails."""
    workspace = context.workspace()
    if card and slack:
        raise click.UsageError("--uncovered and --card are two questions")
    if card:
        finish(context, workspace.card(), as_json=as_json)
        return 0
    if slack:
        finish(context, workspace.uncovered(), as_json=as_json, every=every)
        return 0
    result = workspace.expect()
    if junit:
        workspace.write_junit(result, context.unlinked(junit))
    finish(context, result, as_json=as_json)
    return int(not result.holds)
