"""``oaktag lab``: up, apply, probe, break, heal, state, down."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oaktag.cli.context import Context, as_json, complete, finish, pass_context, progress
from oaktag.errors import UsageError, WorkspaceError
from oaktag.letters import shown, shown_json
from oaktag.workspace.folder import stamp

if TYPE_CHECKING:
    from oaktag.operations.result import Result

#: Seconds between two looks at the folder.
AGAIN = 0.3

KIND = click.Choice(("link", "node", "feed", "registry", "point"))


@click.group("lab")
def command() -> None:
    """A real small network on this machine, from namespaces, without root."""


@command.command("up")
@click.option(
    "--hours", type=click.FloatRange(min=0, min_open=True), default=8.0, show_default=True,
    help="When it ends by itself.",
)  # fmt: skip
@click.option(
    "--sites", metavar="SITE,...", default="", help="Only these sites, and what is between them."
)
@click.option("--nodes", metavar="NODE,...", default="", help="Only these nodes, the same way.")
@click.option("--without-lists", is_flag=True, help="Load no list yet; lab apply does.")
@as_json
@pass_context
def up(
    context: Context, hours: float, sites: str, nodes: str, without_lists: bool, as_json: bool
) -> int:
    """Build the network of network.yaml, with everybody in it, and load its lists.

    Before any list every probe is sent once: what does not work then never worked. Of a part of
    the network what surrounds it is folded to one node each side.
    """
    result = context.workspace().lab_up(
        hours, sites=_listed(sites), nodes=_listed(nodes), lists=not without_lists,
        progress=progress("building"),
    )  # fmt: skip
    finish(context, result, as_json=as_json)
    return 0


def _listed(words: str) -> list[str]:
    return [word.strip() for word in words.split(",") if word.strip()]


@command.command("apply")
@click.option("--watch", is_flag=True, help="Follow the folder, until Ctrl-C.")
@as_json
@pass_context
def apply(context: Context, watch: bool, as_json: bool) -> int:
    """Bring the lab to the folder's present state, in place."""
    seen = _stamps(context.folder)
    _told(context, context.workspace().lab_apply(), as_json=as_json, line=watch)
    while watch:
        time.sleep(AGAIN)
        now = _stamps(context.folder)
        if now == seen:
            continue
        seen = now
        try:
            _told(context, context.workspace().lab_apply(), as_json=as_json, line=True)
        except UsageError as error:  # files that are in the middle of being changed
            click.echo(f"oaktag: {shown(str(error))}", err=True)
        except WorkspaceError as error:
            for problem in error.problems:
                click.echo(f"oaktag: {shown(str(problem))}", err=True)
    return 0


def _told(context: Context, result: Result, *, as_json: bool, line: bool, **how: Any) -> None:
    """Print a result; one of several as JSON on a line of its own."""
    if as_json and line:
        click.echo(shown_json(json.dumps(result.as_json(), ensure_ascii=False)))
    else:
        finish(context, result, as_json=as_json, **how)


def _stamps(folder: Path) -> dict[str, tuple[int, ...]]:
    """How the files of a folder are, hidden ones left out."""
    found: dict[str, tuple[int, ...]] = {}
    for above, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in (n for n in files if not n.startswith(".")):
            with contextlib.suppress(OSError):
                path = Path(above, name)
                found[str(path)] = stamp(path.stat())
    return found


@command.command("break")
@click.argument("kind", type=KIND)
@click.argument("name")
@as_json
@pass_context
def break_(context: Context, kind: str, name: str, as_json: bool) -> int:
    """Let a link, a node, a feed or a point fail."""
    finish(context, context.workspace().lab_break(kind, name), as_json=as_json)
    return 0


@command.command("heal")
@click.argument("kind", type=KIND, required=False)
@click.argument("name", required=False)
@as_json
@pass_context
def heal(context: Context, kind: str | None, name: str | None, as_json: bool) -> int:
    """Mend what was broken: one thing, or all."""
    if kind is not None and name is None:
        raise UsageError(f"which {kind} is to be mended? oaktag lab heal alone mends all")
    finish(context, context.workspace().lab_heal(kind, name), as_json=as_json)
    return 0


@command.command("log-in")
@click.argument("who", shell_complete=complete("end"))
@click.argument("segment")
@click.argument("address", required=False)
@as_json
@pass_context
def log_in(context: Context, who: str, segment: str, address: str | None, as_json: bool) -> int:
    """Let somebody log in on a segment, by RADIUS packets from its node to a listener at the
    registry, and get an ADDRESS there (one that is free by default) and the tag of the group."""
    result = context.workspace().lab_log_in(who, segment, address)
    finish(context, result, as_json=as_json)
    return 0 if result.done else 1


@command.command("log-off")
@click.argument("who", shell_complete=complete("end"))
@as_json
@pass_context
def log_off(context: Context, who: str, as_json: bool) -> int:
    """Let somebody log off who logged in in the lab."""
    result = context.workspace().lab_log_off(who)
    finish(context, result, as_json=as_json)
    return 0 if result.done else 1


@command.command("probe")
@click.argument("source", required=False, shell_complete=complete("end"))
@click.argument("destination", required=False, shell_complete=complete("end"))
@click.argument("service", required=False)
@click.option(
    "--repeat", type=click.IntRange(min=1), default=1, help="So many times, a second apart."
)
@click.option("--card", is_flag=True, help="The tests of oaktag expect --card.")
@click.option("--save", metavar="FILE", help="Keep the result, to hold a later one against.")
@click.option("--against", metavar="FILE", help="Hold it against a result that was kept.")
@click.option("--all", "everything", is_flag=True, help="Every probe, not the odd ones alone.")
@as_json
@pass_context
def probe(
    context: Context, source: str | None, destination: str | None, service: str | None,
    repeat: int, card: bool, save: str | None, against: str | None, everything: bool, as_json: bool,
) -> int:  # fmt: skip
    """Send real packets through what the lab holds now: for every expectation and cell, or for one
    question.

    An end may be any address on a segment: if no host of the lab has it, one does while the probe
    runs.
    """
    if source is not None and destination is None:
        raise UsageError(f"from {source} to whom? oaktag lab probe SRC DST [SERVICE]")
    if card and source is not None:
        raise UsageError("--card and a question are two things")
    workspace = context.workspace()
    earlier = None if against is None else _read(context.path(against))
    odd = False
    for number in range(repeat):
        if number:
            time.sleep(1)
        result = workspace.lab_probe(
            source,
            destination,
            service,
            card=card,
            against=earlier,
            progress=progress("sending"),
        )
        every = everything or source is not None
        _told(context, result, as_json=as_json, line=repeat > 1, everything=every)
        odd = odd or result.odd
    if save is not None:
        from oaktag.workspace.textfile import write_text

        write_text(context.unlinked(save), result.json())
    return int(odd)


def _read(path: Path) -> dict[str, object]:
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise UsageError(f"{path}: {error.strerror}") from None
    except ValueError:
        found = None
    if not isinstance(found, dict) or found.get("command") != "lab probe":
        raise UsageError(f"{path} holds no result of oaktag lab probe --save")
    return found


@command.command("state")
@click.argument("folder", default="observed", metavar="[DIR]")
@as_json
@pass_context
def state(context: Context, folder: str, as_json: bool) -> int:
    """Write what the nodes of the lab report of themselves, for oaktag drift."""
    finish(context, context.workspace().lab_state(context.unlinked(folder)), as_json=as_json)
    return 0


@command.command("watch")
@click.option("--seconds", type=click.FloatRange(min=0), help="When to end; else with Ctrl-C.")
@click.option("--count", type=click.IntRange(min=1), help="After so many flows.")
@click.option(
    "--counters", is_flag=True, help="At the end, what was counted meanwhile, by cell and by line."
)
@as_json
@pass_context
def watch(
    context: Context, seconds: float | None, count: int | None, counters: bool, as_json: bool
) -> int:
    """Flows that are opened, as they are: denied, would be denied, or allowed by a line that logs.

    With --json a line each.
    """
    from oaktag.report.pages.lab import flow_line

    workspace = context.workspace()
    before = workspace.lab_counters() if counters else None
    end = None if seconds is None else time.monotonic() + seconds
    seen = 0
    flows: list[dict[str, Any]] = []
    with contextlib.suppress(KeyboardInterrupt):
        for event in workspace.lab_watch(until=end, every=counters):
            if event:
                flows.append(event)
                if event["verdict"] == "allowed" and not event["recorded"]:
                    continue
                seen += 1
                text = shown_json(json.dumps(event, ensure_ascii=False))
                click.echo(text if as_json else shown(flow_line(event)))
            else:
                click.echo("listening", err=True)
            if seen == count:
                break
    if before is not None:
        result = workspace.lab_counters(since=before, flows=flows)
        _told(context, result, as_json=as_json, line=True)
    return 0


@command.command("capture")
@click.argument("node", shell_complete=complete("node"))
@click.option("--tag", metavar="TAG", help="Only frames with this tag, a number or a group.")
@click.option(
    "--seconds",
    type=click.FloatRange(0, 3600),
    default=10.0,
    show_default=True,
    help="When to end.",
)
@click.option(
    "--count", type=click.IntRange(1, 100_000), default=1000, show_default=True,
    help="After so many frames.",
)  # fmt: skip
@click.option("--out", metavar="FILE", help="Keep the frames, as a pcap file.")
@click.option("--all", "everything", is_flag=True, help="Every frame, not the tags alone.")
@as_json
@pass_context
def capture(
    context: Context, node: str, tag: str | None, seconds: float, count: int, out: str | None,
    everything: bool, as_json: bool,
) -> int:  # fmt: skip
    """Tags seen in frames on the links of a node."""
    file = None if out is None else context.unlinked(out)
    result = context.workspace().lab_capture(node, tag=tag, seconds=seconds, count=count, file=file)
    finish(context, result, as_json=as_json, everything=everything)
    return 0


@command.command("shell", context_settings={"ignore_unknown_options": True})
@click.argument("name", shell_complete=complete("node"))
@click.argument("words", nargs=-1, metavar="[COMMAND...]", type=click.UNPROCESSED)
@pass_context
def shell(context: Context, name: str, words: tuple[str, ...]) -> int:
    """A shell, or one command, on a node or at an endpoint of the lab."""
    from oaktag.lab.namespaces import with_tools

    before = context.workspace().lab_entering(name)
    wanted = words or (os.environ.get("SHELL", "sh"),)
    return subprocess.run([*before, *wanted], env=with_tools()).returncode


@command.command("down")
@as_json
@pass_context
def down(context: Context, as_json: bool) -> int:
    """Take the network away."""
    finish(context, context.workspace().lab_down(), as_json=as_json)
    return 0
