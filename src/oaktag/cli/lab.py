"""``oaktag lab``: up, probe, down."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.group("lab")
def command() -> None:
    """A real small network on this machine, from namespaces, without root."""


@command.command("up")
@click.option(
    "--hours", type=click.FloatRange(min=0, min_open=True), default=8.0, show_default=True,
    help="When it ends by itself.",
)  # fmt: skip
@as_json
@pass_context
def up(context: Context, hours: float, as_json: bool) -> int:
    """Build the network of network.yaml, with every endpoint in it, and no list yet."""
    finish(context, context.workspace().lab_up(hours), as_json=as_json)
    return 0


@command.command("probe")
@click.option("--all", "everything", is_flag=True, help="Every probe, not the odd ones alone.")
@as_json
@pass_context
def probe(context: Context, everything: bool, as_json: bool) -> int:
    """Send real packets for every expectation and cell, without lists and with them."""
    result = context.workspace().lab_probe()
    finish(context, result, as_json=as_json, everything=everything)
    return int(result.odd)


@command.command("state")
@click.argument("folder", default="observed", metavar="[DIR]")
@as_json
@pass_context
def state(context: Context, folder: str, as_json: bool) -> int:
    """Write what the nodes of the lab report of themselves, for oaktag drift."""
    finish(context, context.workspace().lab_state(context.unlinked(folder)), as_json=as_json)
    return 0


@command.command("down")
@as_json
@pass_context
def down(context: Context, as_json: bool) -> int:
    """Take the network away."""
    finish(context, context.workspace().lab_down(), as_json=as_json)
    return 0
