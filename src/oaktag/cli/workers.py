"""Who does long work: options of commands."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from oaktag.errors import UsageError

Command = TypeVar("Command", bound=Callable[..., Any])


def workers(command: Command) -> Command:
    """The options ``--jobs`` and ``--on`` of a command."""
    jobs = click.option(
        "--jobs", type=click.IntRange(min=1), metavar="N",
        help="Work in N processes; without it in as many as it is worth.",
    )  # fmt: skip
    on = click.option(
        "--on", metavar="ADDRESS", help="Work on a Dask cluster, by its scheduler: tcp://HOST:PORT."
    )
    return jobs(on(command))


def who(jobs: int | None, on: str | None) -> int | str | None:
    """Who is asked to work.

    Raises:
        UsageError: two are.
    """
    if jobs is not None and on is not None:
        raise UsageError("--jobs and --on exclude each other: say who is to work")
    return on if on is not None else jobs
