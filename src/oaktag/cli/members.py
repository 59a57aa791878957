"""``oaktag members``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, finish, pass_context


@click.command("members")
@click.argument("group", required=False, shell_complete=complete("group"))
@click.option("--all", "everybody", is_flag=True, help="Everybody, one by one.")
@click.option("--unassigned", is_flag=True, help="Only who is in no group; who nearly is.")
@click.option("--when", metavar="CONDITIONS", help="Whom 'site=ashgrove, model=SC-*' would take.")
@click.option("--uncertain", is_flag=True, help="Who would move if guesses were certain.")
@click.option(
    "--rule", type=int, metavar="LINE", help="What the rule in this line takes and loses."
)
@click.option("--withheld", is_flag=True, help="Members without a standing binding, and why.")
@click.option(
    "--against", metavar="REV", help="Who moved since a git revision, or a folder (DIR/)."
)
@as_json
@pass_context
def command(
    context: Context,
    group: str | None,
    everybody: bool,
    unassigned: bool,
    when: str | None,
    uncertain: bool,
    rule: int | None,
    withheld: bool,
    against: str | None,
    as_json: bool,
) -> int:
    """Who is in GROUP, and why; without one, every group in numbers."""
    asked = [group, unassigned, when, uncertain, rule, withheld, against]
    if sum(x not in (None, False) for x in asked) > 1:
        raise click.UsageError("one question at a time: a group, or one of the options")
    workspace = context.workspace()
    if uncertain:
        result = workspace.uncertain()
    elif rule is not None:
        result = workspace.taken_by(rule)
    elif withheld:
        result = workspace.withheld()
    elif against is not None:
        result = workspace.moved_since(against)
    else:
        result = workspace.members(group, unassigned=unassigned, when=when)
    everybody = everybody or group is not None or when is not None
    finish(context, result, as_json=as_json, everybody=everybody, unassigned=unassigned)
    return 0
