"""``oaktag network``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, emit, finish, pass_context, say
from oaktag.errors import UsageError


@click.command("network")
@click.option("--out", metavar="FILE", help="Write it, as JSON of RFC 8345.")
@click.option("--in", "file", metavar="FILE", help="Add what such data have to network.yaml.")
@click.option("--network", "wanted", metavar="ID", help="With --in: which, of several.")
@changing
@pass_context
def command(
    context: Context,
    out: str | None,
    file: str | None,
    wanted: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """The network as data that other tools read (RFC 8345, RFC 8346), and network.yaml drafted from
    such data.
    """
    if (out is None) == (file is None):
        raise click.UsageError("--out FILE or --in FILE")
    if file is not None:
        path = context.path(file)
        try:
            data = path.read_bytes()
        except OSError as error:
            raise UsageError(f"{file} cannot be read: {error.strerror}") from None
        workspace = context.changing("network --in", write=write, wait=wait)
        result = workspace.topology_in(path.name, data, wanted, write=write, anyway=anyway)
        finish(context, result, as_json=as_json)
        return 0
    if write or wait or anyway or wanted is not None:
        raise click.UsageError("--network, --write, --wait and --anyway go with --in")
    assert out is not None
    context.workspace().topology(context.unlinked(out))
    if as_json:
        emit({"command": "network", "schema": 1, "file": out})
    else:
        say(f"written: {out}")
    return 0
