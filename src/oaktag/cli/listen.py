"""``oaktag listen``."""

from __future__ import annotations

import json
import os
import signal
import sys
from collections.abc import Iterator
from contextlib import suppress
from queue import Full, Queue
from threading import Thread
from typing import Any

import click

from oaktag.cli.context import Context, pass_context
from oaktag.letters import shown, shown_json
from oaktag.report.words import count

#: So many lines wait to be printed, and at the end for so long, in seconds.
WAITING, PATIENCE = 1000, 2.0
STDOUT = 1


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

    telling = _Telling(as_json=as_json or not sys.stdout.isatty())
    try:
        listen(context.folder, telling.tell, metrics)
    finally:
        telling.end()
    return 0


class _Telling:
    """Prints what goes on, on a thread of its own: whoever does not read it keeps nobody waiting.
    What waits too long is left out, and that is told."""

    def __init__(self, *, as_json: bool) -> None:
        self.as_json = as_json
        self._lines: Queue[dict[str, Any] | None] = Queue(WAITING)
        self._left = 0
        self._thread = Thread(target=self._print, daemon=True)
        self._thread.start()

    def tell(self, told: dict[str, Any]) -> None:
        """Print it, soon."""
        try:
            self._lines.put_nowait({**told, "left_out": self._left} if self._left else told)
            self._left = 0
        except Full:
            self._left += 1

    def end(self) -> None:
        """Wait a while until all is printed."""
        with suppress(Full):
            self._lines.put(None, timeout=PATIENCE)
            self._thread.join(PATIENCE)

    def _print(self) -> None:
        while (told := self._lines.get()) is not None:
            data = "".join(f"{line}\n" for line in self._words(told)).encode()
            try:
                # Not by sys.stdout: who waits there at the end keeps the process from ending.
                while data:
                    data = data[os.write(STDOUT, data) :]
            except BrokenPipeError:
                # Nobody will ever read it: as with other commands, that is the end.
                os.kill(os.getpid(), signal.SIGTERM)
                return
            except OSError:
                self._left += 1  # as where the disk of a log is full: records are kept all the same

    def _words(self, told: dict[str, Any]) -> Iterator[str]:
        if self.as_json:
            yield shown_json(json.dumps(told, ensure_ascii=False))
            return
        if left := told.get("left_out"):
            yield f"trouble: {count(left, 'line')} left out: nobody read them"
        yield shown(in_words(told))


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
