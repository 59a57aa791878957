"""``oaktag callers``, and what ``callees`` has in common with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    complete,
    finish,
    pass_context,
    sheet_option,
)


def asked_for(command: Callable[..., Any]) -> Callable[..., Any]:
    """The argument and the options of both commands."""
    for option in (
        click.option(
            "--real", is_flag=True, help="What the network really lets through, by which paths."
        ),
        sheet_option,
        click.option("--endpoints", is_flag=True, help="Each endpoint of the groups too."),
        click.argument("service", required=False),
    ):
        command = option(command)
    return command


def answer(
    context: Context, question: str, asked: tuple[str, str | None],
    *, endpoints: bool, real: bool, out: str | None, as_json: bool,
) -> int:  # fmt: skip
    """Ask the workspace by the matrix, or by the matrix and the network."""
    if real and endpoints:
        raise click.UsageError("--real tells groups and segments; leave out --endpoints")
    workspace = context.workspace()
    found = (
        getattr(workspace, f"real_{question}")(*asked)
        if real
        else getattr(workspace, question)(*asked, endpoints=endpoints)
    )
    finish(context, found, as_json=as_json, out=out)
    return 0


@click.command("callers")
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@asked_for
@as_json
@at_a_time
@pass_context
def command(
    context: Context, destination: str, service: str | None, endpoints: bool, real: bool,
    out: str | None, as_json: bool,
) -> int:  # fmt: skip
    """Who may reach DST, for SERVICE or for anything."""
    asked = (destination, service)
    return answer(
        context, "callers", asked, endpoints=endpoints, real=real, out=out, as_json=as_json
    )
