"""``listen``: take in who logs in, keep it, answer by the rules, follow the folder as it changes.

What is told goes to one who shows it: a dict a time, each with ``event``.
"""

from __future__ import annotations

import asyncio
import signal
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oaktag.core.groups import UNTAGGED
from oaktag.core.session_records import Record, Spell
from oaktag.errors import NotPossibleHere, OakTagError, UsageError, WorkspaceError
from oaktag.operations.logins import Logins, Placed
from oaktag.operations.model import Model
from oaktag.workspace.config_file import Config
from oaktag.workspace.times import instant_text
from oaktag.workspace.whereabouts import url_of

if TYPE_CHECKING:
    from oaktag.sources.radius_server import Client

#: What is told of what goes on.
Tell = Callable[[dict[str, Any]], None]
#: A folder that cannot be read is tried again after so many seconds.
AGAIN = 5.0
#: The name of a node in what it is asked (RFC 2865): the user, and the session (RFC 2866).
_USER, _SESSION = 1, 44


def listen(root: Path, tell: Tell, metrics: str = "") -> None:
    """Listen until the process is asked to end (SIGINT, SIGTERM).

    Args:
        root: the workspace's folder.
        tell: called with what goes on.
        metrics: the address and port at which counts can be read (Prometheus), if at any.

    Raises:
        UsageError: the workspace says not who may tell, or a secret is missing.
        NotPossibleHere: a package is missing.
        OakTagError: a port cannot be had, or the store cannot be reached.
    """
    try:
        import pyrad  # noqa: F401
        import sqlalchemy  # noqa: F401
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"listening needs the package {error.name}: pip install 'oaktag[live]'"
        ) from None
    model = Model.read(root)
    config = model.files.config
    if not config.listen.clients:
        raise UsageError(
            "nobody may tell anything: oaktag.yaml says listen: {clients: [{address: …, secret: "
            "{env: …}}]}"
        )
    asyncio.run(Listening(root, model, _clients(config), tell).run(metrics))


def _clients(config: Config) -> list[Client]:
    """Who may tell and ask, with their secrets."""
    from oaktag.sources.radius_server import Client

    return [Client(c.prefix, c.secret.read()) for c in config.listen.clients]


class Listening:
    """A listener of a workspace: what it takes in goes into its store."""

    def __init__(
        self,
        root: Path,
        model: Model,
        clients: Sequence[Client],
        tell: Tell | None = None,
    ) -> None:
        from oaktag.sources.radius_server import Listener
        from oaktag.store import Store

        config = model.files.config
        self.root, self.tell = root, tell or (lambda _: None)
        self.logins = Logins(model)
        self.store = Store(url_of(root, config.store), root, config.session_timeout, write=True)
        self.listener = Listener(
            clients, self.keep, lambda asked, sender: self.logins.answer(asked, sender),
            self.complain,
        )  # fmt: skip
        self.number = 0
        #: What was wrong with the folder, and when it is tried to read it again.
        self.wrong, self.again = "", 0.0

    def complain(self, told: str) -> None:
        """Tell of what does not go as it should."""
        self.tell({"event": "trouble", "what": told})

    def keep(self, records: Sequence[Record], arrived: int) -> None:
        """Keep records, by the names that the network has for their nodes."""
        named = [r._replace(node=self.logins.node(r.node)) for r in records]
        self.store.take(named, "radius", arrived)

    # -- while it runs ---------------------------------------------------------------------------

    async def run(self, metrics: str) -> None:
        """Listen until asked to end."""
        config = self.logins.model.files.config
        ended = asyncio.Event()
        loop = asyncio.get_running_loop()
        for one in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(one, ended.set)
        where: list[dict[str, Any]] = []
        shown: Callable[[], None] | None = None
        try:
            for kind, port in (
                ("accounting", config.listen.accounting),
                ("login", config.listen.login),
            ):
                for address in config.listen.at:
                    at = await self.listener.open(kind, address, port)
                    where.append({"what": kind, "address": at[0], "port": at[1]})
            if metrics:
                from oaktag.sources.metrics import served

                shown, at = served(metrics, self.counts)
                where.append({"what": "metrics", "address": at[0], "port": at[1]})
            self.tell({"event": "listening", "at": where, "store": self.store.where})
            working = asyncio.create_task(self.listener.work())
            following = asyncio.create_task(self.follow())
            waiting = asyncio.create_task(ended.wait())
            tasks = {waiting, working, following}
            done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
            await self.listener.finish()
            for task in done - {waiting}:  # it should not have ended by itself
                task.result()
        finally:
            self.listener.close()
            if shown is not None:
                shown()
            self.store.close()
        self.tell({"event": "ended", **self.counts()})

    def counts(self) -> dict[str, Any]:
        """How much of everything there was."""
        return {
            "waiting": self.listener.waiting,
            "counts": dict(sorted(self.listener.counts.items())),
        }

    async def follow(self) -> None:
        """Tell of it each second, and read the folder again when it has changed."""
        before = self.counts()
        while True:
            await asyncio.sleep(1)
            now = self.counts()
            if now != before:
                self.tell({"event": "counts", "time": instant_text(time.time_ns() // 1000), **now})
                before = now
            if time.monotonic() >= self.again and self.logins.model.files.folder.stale():
                await self.reload()

    async def reload(self) -> None:
        """Go by the folder as it is now, if it can be read; and tell nodes of sessions that are in
        another group by it."""
        was = self.logins
        try:
            model = await asyncio.to_thread(Model.read, self.root)
            clients = _clients(model.files.config)
        except (WorkspaceError, OakTagError) as error:
            told = str(error).splitlines()[0]
            if told != self.wrong:
                self.complain(f"the folder cannot be read, and stays as it was: {told}")
            self.wrong = told
            self.again = time.monotonic() + AGAIN
            return
        self.logins, self.wrong = Logins(model), ""
        self.listener.clients = clients
        self.tell({"event": "reloaded"})
        old, new = (logins.model.files.config.listen for logins in (was, self.logins))
        if old[:3] != new[:3]:
            self.complain("other addresses or ports to listen at count when listen is begun anew")
        spells = await asyncio.to_thread(self.store.newest, time.time_ns() // 1000)
        moment, timeout = time.time_ns() // 1000, self.store.timeout
        moved = [
            (spell, now)
            for spell in spells
            if spell.at(moment, timeout) and (now := self.moved(was, spell)) is not None
        ]
        async with asyncio.TaskGroup() as group:
            for spell, given in moved:
                group.create_task(self.change(spell, *given))

    def moved(self, was: Logins, spell: Spell) -> tuple[str, str] | None:
        """The groups of a session before and now; None where they are the same."""
        told = (*spell.told, ("node", spell.node))
        before, after = (logins.placed(spell.endpoint, told) for logins in (was, self.logins))
        if before == after:
            return None
        return before.group if before else "", after.group if after else ""

    async def change(self, spell: Spell, before: str, after: str) -> None:
        """Tell a node that a session has another group, and what became of that."""
        from oaktag.protocols.radius import change, end
        from oaktag.sources.radius_server import ask_change

        told = (*spell.told, ("node", spell.node))
        placed = self.logins.placed(spell.endpoint, told)
        row = {
            "event": "moved", "endpoint": spell.endpoint, "node": spell.node,
            "session": spell.session, "was": before, "is": after,
        }  # fmt: skip
        node = self.logins.model.network.nodes.get(spell.node)
        at = [str(p).partition("/")[0] for p in node.addresses] if node else [spell.node]
        try:
            secrets = [(a, s) for a in at if (s := self.listener.secret_of(a)) is not None]
        except ValueError:
            secrets = []
        if not secrets:
            self.tell({**row, "answer": "not sent: no address of the node has a secret"})
            return
        self.number = (self.number + 1) % 256
        named = {_USER: spell.endpoint, _SESSION: spell.session}
        listen = self.logins.model.files.config.listen
        if placed is None and listen.reject_unknown:
            # Who is in no group by now would not be let in.
            packet = end(self.number, secrets[0][1], named)
        else:
            given = self.logins.given(placed or Placed(spell.endpoint, UNTAGGED, 0))
            packet = change(self.number, secrets[0][1], named, given)
        port = listen.changes
        answer = await ask_change(packet, secrets[0][0], port)
        self.listener.counts[f"changes: {answer}"] += 1
        self.tell({**row, "answer": answer})
