"""``oaktag decide``."""

from __future__ import annotations

import io
import sys
from pathlib import Path

import click

from oaktag.cli.context import Context, as_json, at_a_time, complete, finish, pass_context


@click.command("decide")
@click.argument("source", metavar="[SRC", required=False, shell_complete=complete("end"))
@click.argument("destination", metavar="DST", required=False, shell_complete=complete("end"))
@click.argument("service", metavar="SERVICE]", required=False)
@click.option("--family", type=click.Choice(["4", "6"]), help="Only packets of IPv4 or IPv6.")
@click.option("--source-port", type=click.IntRange(0, 65535), help="Only from this port.")
@click.option("--batch", metavar="FILE", help="Answer a CSV of packets; - is standard input.")
@at_a_time
@as_json
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    service: str | None,
    family: str | None,
    source_port: int | None,
    batch: str | None,
    as_json: bool,
) -> int:
    """May SRC use SERVICE of DST, and which line says so?

    SRC and DST are groups, tag numbers, endpoints or addresses.

    --batch reads CSV with source, destination, family, protocol, source_port and
    destination_port, and writes the same rows with action, would, file and line.
    """
    if batch is not None:
        if source is not None:
            raise click.UsageError("--batch takes its questions from the file alone")
        return _batch(context, batch)
    if source is None or destination is None or service is None:
        raise click.UsageError("SRC, DST and SERVICE are needed, or --batch FILE")
    number = None if family is None else int(family)
    result = context.workspace(source, destination).decide(
        source, destination, service, number, source_port
    )
    finish(context, result, as_json=as_json)
    return 0


def _given(context: Context, batch: str) -> Path:
    """The file of questions; one of the workspace is no link that somebody laid."""
    return context.path(batch) if Path(batch).is_absolute() else context.unlinked(batch)


def _batch(context: Context, batch: str) -> int:
    workspace = context.workspace()
    name = "standard input" if batch == "-" else batch
    try:
        data = sys.stdin.buffer.read() if batch == "-" else _given(context, batch).read_bytes()
        questions = io.StringIO(data.decode("utf-8-sig"), newline="")
    except OSError as error:
        raise click.UsageError(f"{name} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError:
        raise click.UsageError(f"{name} is not UTF-8") from None
    workspace.decide_batch(questions, sys.stdout, name)
    return 0
