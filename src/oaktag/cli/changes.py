"""The options that every command has that changes files."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from oaktag.cli.context import as_json

F = TypeVar("F", bound=Callable[..., Any])

write = click.option("--write", is_flag=True, help="Write the change; else it is only shown.")
wait = click.option("--wait", is_flag=True, help="Wait while another change of the files goes on.")
anyway = click.option("--anyway", is_flag=True, help="Also where an expectation fails then.")
owner_option = click.option("--owner", metavar="TEXT", help="Whose line it is.")
note_option = click.option("--note", metavar="TEXT", help="Why.")


def changing(command: F) -> F:
    """The options that every command has that changes files."""
    for option in (as_json, anyway, wait, write):
        command = option(command)
    return command
