"""A listener in a lab, and the node that asks it: run in the lab's namespaces, with what
is to be told on the standard input; ``lab_access`` starts it.

The sockets of the two are in namespaces of their own, and what they say crosses the lab's network
of feeds as it would another one.
"""

from __future__ import annotations

import asyncio
import json
import secrets
import socket
import sys
import time
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.session_records import Kind
from oaktag.errors import OakTagError
from oaktag.lab.namespaces import PLACE, inside
from oaktag.lab.plan import REGISTRY
from oaktag.lab.wiring import feed_address
from oaktag.operations.listening import Listening
from oaktag.operations.model import Model
from oaktag.protocols.radius import Given, asked_accounting, asked_login, replied
from oaktag.sources.radius_server import Client, asked
from oaktag.workspace.folder import Folder
from oaktag.workspace.listen_part import Answered

#: Attributes of what a node says (RFC 2865; RFC 2866).
_USER, _NODE, _SESSION = 1, 32, 44


async def told(folder: Path, request: dict[str, Any]) -> dict[str, Any]:
    """Tell of log-ins or log-offs, and what is kept then."""
    root = folder / "listener"
    files = {name: (root / name).read_bytes() for name in request["files"]}
    model = Model.read(Folder(root, files, alone=True), request["day"])
    # Where it listens, and who may tell, is the lab's; what is answered is the workspace's.
    config = model.files.config._replace(store="")
    model = Model(model.files._replace(config=config), model.today, model)
    secret = secrets.token_bytes(24)
    listening = Listening(root, model, [Client(Prefix(4, 0, 0), secret)])
    with inside(REGISTRY):
        address = feed_address(-1)
        ports = {
            what: (await listening.listener.open(what, address, 0))[1]
            for what in ("login", "accounting")
        }
    working = asyncio.create_task(listening.listener.work())
    try:
        answers = [
            await _Node(request["spaces"][s["node"]], secret, ports, config.listen.answer).tells(
                request["what"], s
            )
            for s in request["sessions"]
        ]
    finally:
        working.cancel()
        await asyncio.gather(working, return_exceptions=True)
        await listening.listener.finish()
        listening.listener.close()
        now, store = time.time_ns() // 1000, listening.store
        people = [
            [s.endpoint, str(s.address), s.since, s.node, not s.at(now, store.timeout),
             dict(s.told)]
            for s in store.newest(now)
        ]  # fmt: skip
        store.close()
    return {"answers": answers, "people": people}


class _Node:
    """An access node of the lab, as far as it asks for groups and tells of sessions."""

    def __init__(
        self, space: str, secret: bytes, ports: dict[str, int], answer: Sequence[Answered]
    ) -> None:
        self.space, self.secret, self.ports, self.answer = space, secret, ports, answer

    async def tells(self, what: str, session: dict[str, Any]) -> dict[str, Any]:
        """Ask for the group of one who logs in and tell of the session, or that it is over."""
        row = {**session, "accepted": True, "group": None, "tag": None, "acknowledged": False}
        named = {_USER: session["endpoint"], _NODE: session["node"]}
        kind: Kind = "stop"
        if what == "log-in":
            kind = "start"
            login = asked_login(self.secret, named)
            said = await self._ask("login", login.RequestPacket(), partial(replied, login))
            if said is None:
                raise OakTagError(f"{session['node']}: nobody answers the log-in")
            row["accepted"] = said[0]
            row |= self._given(said[1])
        if row["accepted"]:
            named[_SESSION] = session["session"]
            address = parse_prefix(session["address"])
            record = asked_accounting(self.secret, kind, named, address)
            kept = await self._ask("accounting", record.RequestPacket(), partial(replied, record))
            row["acknowledged"] = kept is not None
        return row

    def _given(self, given: list[Given]) -> dict[str, Any]:
        """The group and the tag in an answer."""
        found: dict[str, Any] = {}
        for number, vendor, value in self.answer:
            held = next((g.value for g in given if (g.number, g.vendor) == (number, vendor)), None)
            if held is not None:
                found[value] = int(held) if value == "tag" else held
        return found

    async def _ask(self, what: str, data: bytes, read: Any) -> Any:
        with inside(self.space):
            one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        with one:
            one.connect((feed_address(-1), self.ports[what]))
            return await asked(one, data, read)


def main() -> int:
    """Do what the standard input says."""
    try:
        request = json.load(sys.stdin)
        print(json.dumps(asyncio.run(told(PLACE, request))))
    except OakTagError as error:
        print(error, file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
