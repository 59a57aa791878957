"""Plain tables of the matrix: entries, permissions, lines. Both the matrix and the proof read them.

Rules kept here (semantics, section 4): what a line is, when it counts, and its key, a hash of
layer, content and the ordinal among identical lines, so that a line inserted above changes none,
and the name of a group neither.
"""

from __future__ import annotations

from collections.abc import Mapping
from hashlib import blake2b
from typing import Literal, NamedTuple

from oaktag.core.packets import EVERYTHING, Box
from oaktag.core.services import parse_service
from oaktag.located import Location

EntryAction = Literal["allow", "deny", "pass"]
Action = Literal["allow", "deny"]
Mode = Literal["enforce", "observe", "off"]
Way = Literal["to", "both"]
Order = Literal["specific-first", "broad-first", "as-listed"]

SYSLOG_SEVERITIES = (
    "emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug",
)  # RFC 5424, section 6.2.1  # fmt: skip


class Entry(NamedTuple):
    """Allow, deny or pass on, for some packets."""

    action: EntryAction
    boxes: tuple[Box, ...]
    text: str
    log: str | None = None
    answer: bool = False
    location: Location = Location("permissions.yaml")

    @classmethod
    def of(cls, action: EntryAction, *services: str) -> Entry:
        """An entry for services in their written forms.

        Raises:
            UsageError: one is none.
        """
        boxes = tuple(box for service in services for box in parse_service(service))
        return cls(action, boxes, ", ".join(services))


class Permission(NamedTuple):
    """A named, ordered list of entries; ``otherwise`` closes it."""

    name: str
    entries: tuple[Entry, ...]
    otherwise: EntryAction | None = None
    location: Location = Location("permissions.yaml")

    @property
    def steps(self) -> tuple[Entry, ...]:
        """The entries, and the closing one for everything where there is one."""
        if self.otherwise is None:
            return self.entries
        closing = Entry(self.otherwise, (EVERYTHING,), "otherwise", location=self.location)
        return (*self.entries, closing)


class Line(NamedTuple):
    """One row of a matrix file.

    ``source`` and ``destination`` are words (group, set, ``untagged``, ``*``; as destination
    also ``itself``); ``permission`` indexes the permissions; ``expires`` is the last day it
    counts, as a proleptic ordinal (UTC).
    """

    source: str
    destination: str
    permission: int
    layer: int = 0
    location: Location = Location("")
    mode: Mode = "enforce"
    way: Way = "to"
    expires: int | None = None
    owner: str = ""
    note: str = ""

    def counts(self, today: int) -> bool:
        """Whether the line is read at all on the day."""
        return self.mode != "off" and (self.expires is None or today <= self.expires)


class Policy(NamedTuple):
    """All that a matrix is made of, beside the groups."""

    lines: tuple[Line, ...]
    permissions: tuple[Permission, ...]
    layers: tuple[str, ...] = ("",)
    default: Action = "deny"
    observed_default: Action | None = None
    order: Order = "specific-first"


def line_keys(policy: Policy, tags: Mapping[str, int]) -> list[str]:
    """A key of 16 hexadecimal digits for each line, stable while other lines come and go.

    Groups of ``tags`` are known by their tags, which stay where a group is renamed.
    """
    said = {name: f"\x1e{tag}" for name, tag in tags.items()}
    seen: dict[str, int] = {}
    keys: list[str] = []
    for line in policy.lines:
        content = "\x1f".join(
            (
                policy.layers[line.layer],
                said.get(line.source, line.source), said.get(line.destination, line.destination),
                policy.permissions[line.permission].name, line.mode, line.way, str(line.expires),
            )
        )  # fmt: skip
        ordinal = seen.get(content, 0)
        seen[content] = ordinal + 1
        keys.append(blake2b(f"{content}\x1f{ordinal}".encode(), digest_size=8).hexdigest())
    return keys
