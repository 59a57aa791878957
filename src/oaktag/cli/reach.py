"""``oaktag reach``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import (
    Context,
    at_a_time,
    complete,
    drawn,
    figure_option,
    finish,
    pass_context,
    progress,
)


def _number(_: click.Context, __: click.Parameter, value: float) -> float:
    if value != value:
        raise click.BadParameter("nan is no number of seconds")
    return value


@click.command("reach")
@click.option("--from", "source", metavar="WHO", shell_complete=complete("end"))
@click.option("--to", "destination", metavar="WHO", shell_complete=complete("end"))
@click.option("--flows", is_flag=True, help="Every row, not the causes alone.")
@click.option("--accepted", is_flag=True, help="The rows that oaktag.yaml accepts.")
@click.option(
    "--by",
    type=click.Choice(["cell", "point", "segment", "endpoint"]),
    help="What is not exact, counted by cell, place, segment or endpoint.",
)
@click.option("--observed", metavar="DIR", help="The network as its nodes report it.")
@figure_option
@click.option("--failures", is_flag=True, help="What each single failure would do.")
@click.option("--mend", is_flag=True, help="The cheapest changes after which nothing leaks.")
@click.option("--breaks", is_flag=True, help="With --mend: nothing may break either.")
@click.option(
    "--even-if-breaks", is_flag=True, help="With --mend: what is exact now may break, and is named."
)
@click.option(
    "--seconds", type=click.FloatRange(0, 86_400), callback=_number, default=60.0,
    show_default=True, help="With --mend: when to stop.",
)  # fmt: skip
@at_a_time
@changing
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    flows: bool,
    accepted: bool,
    by: str | None,
    observed: str | None,
    figure: str | None,
    failures: bool,
    mend: bool,
    breaks: bool,
    even_if_breaks: bool,
    seconds: float,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Do tags reach every point on every path, and what passes or breaks where not?"""
    if mend:
        workspace = context.changing("reach --mend", write=write, wait=wait)
        mended = workspace.mend(
            breaks=breaks, even_if_breaks=even_if_breaks, write=write, anyway=anyway,
            seconds=seconds, progress=progress("mending"),
        )  # fmt: skip
        finish(context, mended, as_json=as_json, breaks=breaks, even_if_breaks=even_if_breaks)
        return 0
    if write or wait or anyway:
        raise click.UsageError("--write, --wait and --anyway go with --mend")
    if failures:
        finish(context, context.workspace().failures(progress("failing")), as_json=as_json)
        return 0
    folder = None if observed is None else context.unlinked(observed)
    if observed is not None and context.at is not None:
        raise click.UsageError("what nodes report is of the present: leave out --at")
    workspace = context.workspace()
    result = workspace.reach(
        source, destination, observed=folder, endpoints=by == "endpoint",
        progress=progress("reaching"),
    )  # fmt: skip
    if figure:
        workspace.draw_network(result, context.unlinked(figure))
    finish(context, result, as_json=as_json, flows=flows, accepted=accepted, by=by)
    drawn(figure, as_json=as_json)
    return int(bool(result.wrong))
