"""``oaktag members``."""

from __future__ import annotations

import click

from oaktag.cli.changes import anyway as anyway_option
from oaktag.cli.changes import wait as wait_option
from oaktag.cli.changes import write as write_option
from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    complete,
    finish,
    pass_context,
    sheet_option,
)


@click.command("members")
@click.argument("group", required=False, shell_complete=complete("group"))
@click.option("--all", "everybody", is_flag=True, help="Everybody, one by one.")
@click.option("--unassigned", is_flag=True, help="Only who is in no group; who nearly is.")
@click.option("--when", metavar="CONDITIONS", help="Whom 'site=ashgrove, model=SC-*' would take.")
@click.option(
    "--confidence", type=click.FloatRange(0, 1), default=0.0, metavar="NUMBER",
    help="With --when: attributes known with less count as missing.",
)  # fmt: skip
@click.option("--uncertain", is_flag=True, help="Who would move if guesses were certain.")
@click.option(
    "--rule", type=int, metavar="LINE", help="What the rule in this line takes and loses."
)
@click.option("--withheld", is_flag=True, help="Members without a standing binding, and why.")
@click.option(
    "--against", metavar="REV", help="Who moved since a git revision, or a folder (DIR/)."
)
@click.option(
    "--save", metavar="GROUP", shell_complete=complete("group"),
    help="Make a rule of --when that gives GROUP.",
)  # fmt: skip
@click.option(
    "--before", type=int, metavar="LINE",
    help="With --save: before the rule in this line, else behind all.",
)  # fmt: skip
@write_option
@wait_option
@anyway_option
@sheet_option
@at_a_time
@as_json
@pass_context
def command(
    context: Context,
    group: str | None,
    everybody: bool,
    unassigned: bool,
    when: str | None,
    confidence: float,
    uncertain: bool,
    rule: int | None,
    withheld: bool,
    against: str | None,
    save: str | None,
    before: int | None,
    write: bool,
    wait: bool,
    anyway: bool,
    out: str | None,
    as_json: bool,
) -> int:
    """Who is in GROUP, and why; without one, every group in numbers."""
    asked = [group, unassigned, when, uncertain, rule, withheld, against]
    if sum(x not in (None, False) for x in asked) > 1:
        raise click.UsageError("one question at a time: a group, or one of the options")
    if confidence and when is None:
        raise click.UsageError("--confidence goes with --when")
    if save is not None:
        if when is None or out is not None:
            raise click.UsageError("--save makes a rule of --when, and nothing else")
        changing = context.changing("members --save", write=write, wait=wait)
        made = changing.save_rule(when, save, before, confidence, write=write, anyway=anyway)
        finish(context, made, as_json=as_json)
        return 0
    if before is not None or write or wait or anyway:
        raise click.UsageError("--before, --write, --wait and --anyway go with --save")
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
        result = workspace.members(group, unassigned=unassigned, when=when, confidence=confidence)
    everybody = everybody or group is not None or when is not None
    finish(context, result, as_json=as_json, out=out, everybody=everybody, unassigned=unassigned)
    return 0
