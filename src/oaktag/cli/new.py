"""``oaktag new``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, emit, pass_context, say
from oaktag.demo.sample import write_empty, write_sample


@click.command("new")
@click.argument("folder", metavar="DIR")
@click.option("--sample", is_flag=True, help="Write the libraries of Quillmere, mistakes included.")
@click.option("--mended", is_flag=True, help="Write them with the mistakes mended.")
@as_json
@pass_context
def command(context: Context, folder: str, sample: bool, mended: bool, as_json: bool) -> int:
    """Start a workspace in DIR, which must be empty or not there."""
    path = context.path(folder)
    written = write_sample(path, mended=mended) if sample or mended else write_empty(path)
    if as_json:
        emit({"command": "new", "schema": 1, "folder": folder, "files": written})
        return 0
    for name in written:
        say(f"{folder}/{name}")
    if sample or mended:
        say(f"→ cd {folder}, then oaktag check")
    else:
        say(f"→ write groups into {folder}/groups.yaml, then oaktag -C {folder} check")
    return 0
