"""``oaktag listen``."""

from __future__ import annotations

import json
import sys
from typing import Any

import click

from oaktag.cli.context import Context, pass_context
from oaktag.letters import shown, shown_json
from oaktag.report.words import count


@click.command("listen")
@click.option(
    "--metrics", metavar="ADDRESS", default="",
    help="Let Prometheus read the counts at this address and port, as 127.0.0.1:9100.",
)  # fmt: skip
@click.option(
    "--json", "as_json", is_flag=True,
    help="One JSON document a line, also on a terminal; elsewhere it is so anyway.",
)  # fmt: skip
@pass_context
def command(context: Context, metrics: str, as_json: bool) -> int:
    """Take in who logs in and who has which address (RADIUS), keep it in the store, and answer
    log-ins with group and tag. It ends when it is asked to (Ctrl-C)."""
    from oaktag.operations.listening import listen

    def tell(told: dict[str, Any]) -> None:
        if as_json or not sys.stdout.isatty():
            click.echo(shown_json(json.dumps(told, ensure_ascii=False)))
        else:
            click.echo(shown(in_words(told)))
        sys.stdout.flush()

    listen(context.folder, tell, metrics)
    return 0


def in_words(told: dict[str, Any]) -> str:
    """What goes on, as a line."""
    match told["event"]:
        case "listening":
            at = ", ".join(f"{a['what']} at {a['address']} port {a['port']}" for a in told["at"])
            return f"listening: {at}; kept in {told['store']}"
        case "counts":
            held = ", ".join(f"{what} {number:,}" for what, number in told["counts"].items())
            waiting = f"; {told['waiting']:,} wait" if told["waiting"] else ""
            return f"{told['time'][11:19]}  {held}{waiting}"
        case "moved":
            groups = f"{told['was'] or 'no group'} → {told['is'] or 'no group'}"
            return f"{told['endpoint']} at {told['node']}: {groups}: {told['answer']}"
        case "trouble":
            return f"trouble: {told['what']}"
        case "reloaded":
            return "the folder has changed: read again"
    kept = told["counts"].get("records kept", 0)
    return f"ended: {count(kept, 'record')} kept"
