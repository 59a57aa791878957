"""The group of all commands, loaded lazily, and the exit status of whatever happens in one.

Exit status (interface.md): 0 all is well; 1 something was found; 2 wrong usage, or files that
cannot be read as a workspace; 3 a point or server did not answer.
"""

from __future__ import annotations

import contextlib
import importlib
import io
import os
import re
import sys
from collections import Counter
from datetime import date
from pathlib import Path
from typing import NoReturn

import click

from oaktag.cli.context import Context
from oaktag.errors import NoAnswer, OakTagError, UnwritableEntry, UsageError, WorkspaceError
from oaktag.letters import clipped, shown, tame
from oaktag.near import perhaps

FOUND, WRONG, SILENT = 1, 2, 3

#: command → what for; the module of the same name holds it.
COMMANDS = {
    "new": "start a workspace, empty or with the sample",
    "demo": "write the sample workspace and walk through the whole job on it",
    "check": "do the files agree; findings about endpoints, groups, bindings, network",
    "attributes": "which attributes there are, their values and counts",
    "groups": "groups, tags, members, bindings; give numbers and write them",
    "members": "who is in a group, and why; who nearly is",
    "explain": "all that is known about an endpoint, an address, a group or a tag",
    "find": "every place where a name, an address, a service or a text occurs",
    "pin": "put an endpoint or a prefix into a group by hand",
    "unpin": "take a pin out again",
    "correct": "correct an attribute of an endpoint by hand",
    "rename": "rename a group or set in all files",
    "split": "part a group in two that fare alike, in all files",
    "merge": "join a group to another, in all files",
    "renumber": "give a group another number in all files",
    "retire": "take a group out of all files",
    "pull": "read directories and other domains into files, diff first",
    "share": "write our groups for other domains, signed",
    "domains": "other domains: what is in force of them, what is there now",
    "bindings": "bindings, central or as one node knows them",
    "matrix": "the matrix, whole or in part",
    "set": "change lines of the matrix, keeping the files' form",
    "move": "put a line at another place, and what each place would change",
    "grant": "the smallest change that allows just this",
    "revoke": "the smallest change that ends just this",
    "cell": "one cell: lines, ordered entries, what they come to",
    "decide": "allow or deny, and the line that says so",
    "callers": "who may reach a destination",
    "callees": "what a source may reach",
    "describe": "a group's whole policy in plain sentences",
    "around": "what comes into a set of groups, passes inside it, goes out",
    "compare": "what differs between two versions, or if observed lines were enforced",
    "expect": "prove the expectations",
    "review": "findings about the matrix",
    "verify": "check, review, expect and reach in one exit status, for CI",
    "compile": "write the access lists, proved",
    "prove": "read lists back and prove them equal to the matrix",
    "network": "the network as data that other tools read, and drafted from such",
    "reach": "do tags reach every point on every path",
    "trace": "one packet's way, hop by hop",
    "drift": "what nodes report against what is intended",
    "lab": "a real small network on this machine to try the lists in",
    "listen": "take in who logs in and who is where, and answer log-ins with their group",
    "store": "what the store holds, whether it agrees with itself; take out what is over",
    "report": "one HTML page that tells all of it, to everybody",
    "help": "what a key of a file means, or how a command is used",
}


class LazyGroup(click.Group):
    """Commands by name, imported when asked for, so that help and errors come at once."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All names, in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import one command."""
        if cmd_name not in COMMANDS:
            return None
        module = importlib.import_module(f"oaktag.cli.{cmd_name}")
        command: click.Command = module.command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The table of commands, without importing any."""
        with formatter.section("Commands, in the order of the work"):
            formatter.write_dl(list(COMMANDS.items()))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find the command; an unknown one gets the closest names."""
        if args and args[0] not in COMMANDS:
            hint = perhaps(args[0], COMMANDS, "oaktag --help lists them")
            raise click.UsageError(f"there is no command {args[0]!r}; {hint}")
        return super().resolve_command(ctx, args)


def _day(_: click.Context, __: click.Parameter, value: str | None) -> date | None:
    if value is None:
        return None
    try:
        return date.fromisoformat(value)
    except ValueError:
        raise click.BadParameter(f"{value!r} is no day, as in 2027-01-31") from None


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("-C", "folder", default=".", metavar="DIR", help="Run as if started in DIR.")
@click.option("--today", callback=_day, metavar="DAY", help="The day lines and pins end by.")
@click.option("--debug", is_flag=True, help="Show the traceback of an error.")
@click.version_option(package_name="oaktag", message="oaktag %(version)s")
@click.pass_context
def app(ctx: click.Context, folder: str, today: date | None, debug: bool) -> None:
    """Group tags for network access: assign, decide, compile, prove, and check the reach."""
    ctx.obj = Context(Path(folder), today, debug, ctx.obj)


def run() -> NoReturn:
    """Run a command line; every error becomes a message and an exit status."""
    _streams()
    if "_OAKTAG_COMPLETE" in os.environ:
        app(prog_name="oaktag")
    debug = "--debug" in sys.argv
    try:
        status = _invoke()
        sys.stdout.flush()
    except click.exceptions.Exit as done:
        status = done.exit_code
    except click.ClickException as error:
        with contextlib.suppress(OSError):
            error.show()
        status = WRONG
    except (click.Abort, KeyboardInterrupt):
        _tell("stopped")
        status = 130
    except BrokenPipeError:  # who reads has seen enough
        status = 0
    except OakTagError as error:
        _trace(debug)
        status = _complain(error)
    except OSError as error:
        _trace(debug)
        status = _complain(OakTagError(_system(error)))
    except MemoryError:
        status = _complain(OakTagError("there is not enough memory for this"))
    except Exception as error:
        _trace(debug)
        _tell(
            f"oaktag: this should not happen: {type(error).__name__}: {shown(str(error))}\n"
            "Run it again with --debug before the command to see where, and please report it."
        )
        status = WRONG
    sys.exit(_ended(status))


def _trace(debug: bool) -> None:
    """Where an error comes from, for whoever asks; the message and the exit status stay."""
    if debug:
        import traceback

        _tell(traceback.format_exc().rstrip())


def _invoke() -> int:
    """Run the command; what it returns is the exit status."""
    with app.make_context("oaktag", sys.argv[1:]) as ctx:
        status = app.invoke(ctx)
    return status if isinstance(status, int) else 0


def _streams() -> None:
    """Standard streams that are there, and that can write any character."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is None:
            handle = os.open(os.devnull, os.O_RDWR)
            if handle != number:
                os.dup2(handle, number)
            setattr(sys, name, open(number, "r" if number == 0 else "w", closefd=False))  # noqa: SIM115
        elif number and isinstance(getattr(sys, name), io.TextIOWrapper):
            getattr(sys, name).reconfigure(errors="backslashreplace")


def _ended(status: int) -> int:
    """The exit status, when all that was said is out, or nobody hears it."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError as error:
            if stream is sys.stdout and not isinstance(error, BrokenPipeError) and not status:
                _tell(f"oaktag: standard output: {error.strerror}")
                status = WRONG
            with contextlib.suppress(OSError, ValueError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    return status


def _tell(text: str) -> None:
    """A message on standard error, if anybody listens."""
    with contextlib.suppress(OSError):
        click.echo(tame(text), err=True)


def _system(error: OSError) -> str:
    """What the system refused, in one sentence."""
    place = error.filename2 or error.filename
    told = error.strerror or str(error)
    return f"{clipped(str(place))}: {told}" if place else told


#: So many faults of one kind in one file are shown, unless all are asked for.
FIRST_OF_A_KIND = 8
#: What differs in messages of one kind.
_NAMES = re.compile(r"'[^']*'|\"[^\"]*\"|[\w.:/-]*\d[\w.:/-]*")


def _faults(error: WorkspaceError) -> None:
    """The faults of the files: the first of each kind, and how many more there are."""
    seen: Counter[tuple[str, str]] = Counter()
    for problem in error.problems:
        kind = (
            problem.location.file,
            re.sub(r"'[^']*'|\"[^\"]*\"|[\w.:/-]*\d[\w.:/-]*", "…", problem.message),
        )
        seen[kind] += 1
        if seen[kind] <= FIRST_OF_A_KIND or "--all" in sys.argv:
            _tell(shown(str(problem)))
    more = {kind: n - FIRST_OF_A_KIND for kind, n in seen.items() if n > FIRST_OF_A_KIND}
    if "--all" not in sys.argv:
        for (file, what), n in more.items():
            _tell(shown(f"{file}: {n} more of: {what}"))
    kept = len(error.problems)
    tail = f"; the first {kept:,} were looked at" if error.count > kept else ""
    tail += "; oaktag check --all shows every one" if more and "--all" not in sys.argv else ""
    count = error.count
    _tell(f"{count} {'fault' if count == 1 else 'faults'} in the files{tail}")


def _complain(error: OakTagError) -> int:
    """Say what is wrong; the exit status of it."""
    if "--json" in sys.argv:
        from oaktag.cli.context import emit_errors

        with contextlib.suppress(OSError):
            emit_errors(error)
    if isinstance(error, WorkspaceError):
        _faults(error)
        return WRONG
    for line in str(error).split("\n"):
        _tell(f"oaktag: {shown(clipped(line))}")
    if isinstance(error, NoAnswer):
        return SILENT
    wrong = isinstance(error, UsageError) or not isinstance(error, UnwritableEntry)
    return WRONG if wrong else FOUND
