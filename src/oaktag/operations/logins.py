"""Who logs in, and to which group that brings them: the rules of the workspace, with what the
request tells as attributes ``session.NAME``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from oaktag.core.assignment import Assignment
from oaktag.operations.model import Model
from oaktag.protocols.radius import Given, Login
from oaktag.workspace.inventory import Names

#: Of so many that ask alike the answer is kept.
KEPT = 50_000


class Placed(NamedTuple):
    """Who somebody is, and the group and tag that they have there; none where no rule matches."""

    endpoint: str
    group: str
    tag: int


class Logins:
    """Answers log-ins by one version of the workspace."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self._names = Names(model.files.endpoints.index)
        self._nodes = {
            str(prefix).partition("/")[0]: node.name
            for node in model.network.nodes.values()
            for prefix in node.addresses
        }
        self.placed = lru_cache(maxsize=KEPT)(self._placed)

    def node(self, told: str) -> str:
        """The node of the network that is meant by its name or an address of its own; else what is
        told."""
        return self._nodes.get(told, told)

    def answer(self, asked: Login, sender: str) -> tuple[Sequence[Given], bool]:
        """What one who logs in is given, and whether they are accepted."""
        listen = self.model.files.config.listen
        told = (*asked.told, ("node", self.node(asked.node or sender)))
        placed = next((p for n in asked.names if (p := self.placed(n, told)) is not None), None)
        if placed is None:
            return (), not listen.reject_unknown
        return self.given(placed), True

    def given(self, placed: Placed) -> list[Given]:
        """The attributes that tell of a group."""
        said: Mapping[str, str | int] = {"group": placed.group, "tag": placed.tag}
        found: list[Given] = []
        for number, vendor, value in self.model.files.config.listen.answer:
            held = said[value]
            # Attributes of everybody are text; the vendor says what its own are.
            found.append(Given(number, vendor, held if vendor else str(held)))
        return found

    def _placed(self, name: str, told: tuple[tuple[str, str], ...]) -> Placed | None:
        """Where somebody is put, of whom a session tells; None where nobody is meant, or no rule
        matches."""
        model = self.model
        endpoint = self._names.of(name)
        if endpoint is None:
            return None
        endpoints, config = model.files.endpoints, model.files.config
        facts = {f"session.{key}": value for key, value in told}
        row = endpoints.index[endpoint]
        alone = endpoints.with_session(row, facts, config.corrections or "")
        pins = [pin for pin in model.given.pins if pin.endpoint == endpoint]
        assignment = Assignment(alone, model.given.rules, pins, model.groups.index)
        group = int(assignment.group[0])
        if group < 0:
            return None
        return Placed(endpoint, model.groups.all[group].id, model.groups.tag(group))
