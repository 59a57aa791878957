"""The answers, one class a command. Each field is what ``docs/json.md`` and the JSON Schema of the
command say of it; rows are plain dicts of these fields."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar, Literal

from oaktag.operations.result import ABSENT, Result, Row

if TYPE_CHECKING:
    import pandas as pd

Action = Literal["allow", "deny"]
Rows = list[Row]


# -- who and what --------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False, repr=False)
class Checked(Result):
    """Findings of ``check`` or ``review``: those that count, and those that are accepted."""

    command: str
    findings: Rows
    accepted: Rows
    shown_by: ClassVar[str] = "findings"
    table: ClassVar[str] = "findings"


@dataclass(frozen=True, eq=False, repr=False)
class Attributes(Result):
    """Which attributes there are, and values of some."""

    attributes: Rows
    held: Rows = field(metadata={"name": "values"})
    command: ClassVar[str] = "attributes"
    shown_by: ClassVar[str] = "attributes"

    @property
    def table(self) -> str:  # type: ignore[override]
        """Values where they were asked for, else attributes."""
        return "values" if self.held else "attributes"


@dataclass(frozen=True, eq=False, repr=False)
class GroupList(Result):
    """Groups with tags, members, bindings; numbers that would be issued."""

    groups: Rows
    unassigned: int
    offered: Rows
    sets: Rows
    command: ClassVar[str] = "groups"
    shown_by: ClassVar[str] = "groups"
    table: ClassVar[str] = "groups"


@dataclass(frozen=True, eq=False, repr=False)
class Members(Result):
    """Endpoints with their group and why, and every group in numbers; or who moved, what a rule
    takes and loses, who has no standing binding."""

    endpoints: Rows = field(default=ABSENT)
    groups: Rows = field(default=ABSENT)
    moved: Rows = field(default=ABSENT)
    takes: Rows = field(default=ABSENT)
    loses: Rows = field(default=ABSENT)
    withheld: Rows = field(default=ABSENT)
    command: ClassVar[str] = "members"
    shown_by: ClassVar[str] = "members"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The rows that this answer has."""
        names = ("endpoints", "moved", "takes", "withheld")
        return next(n for n in names if getattr(self, n) is not ABSENT)


@dataclass(frozen=True, eq=False, repr=False)
class Explained(Result):
    """All that is known about one thing: an endpoint, address, prefix, group or set (``kind``)."""

    what: str
    kind: str
    endpoint: Row = field(default=ABSENT)
    attributes: Rows = field(default=ABSENT)
    places: Rows = field(default=ABSENT)
    prefix: str = field(default=ABSENT)
    segment: str | None = field(default=ABSENT)
    endpoints: list[str] = field(default=ABSENT)
    inside: Rows = field(default=ABSENT)
    group: str = field(default=ABSENT)
    tag: int = field(default=ABSENT)
    hexadecimal: str = field(default=ABSENT)
    members: list[str] = field(default=ABSENT)
    sets: list[str] = field(default=ABSENT)
    groups: list[str] = field(default=ABSENT)
    bindings: Rows = field(default=ABSENT)
    addressed: Rows = field(default=ABSENT)
    policies: Rows = field(default=ABSENT)
    command: ClassVar[str] = "explain"
    shown_by: ClassVar[str] = "explain"
    table: ClassVar[str] = "bindings"


@dataclass(frozen=True, eq=False, repr=False)
class BindingList(Result):
    """Bindings in force at the registry or a node; those of addresses asked of; what a node lacks;
    both ends of a feed."""

    at: str
    bindings: Rows
    found: Rows = field(default=ABSENT)
    missing: Rows = field(default=ABSENT)
    feed: str = field(default=ABSENT)
    sender: str = field(default=ABSENT)
    up: bool = field(default=ABSENT)
    ends: Rows = field(default=ABSENT)
    command: ClassVar[str] = "bindings"
    shown_by: ClassVar[str] = "bindings"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The rows that were asked for."""
        names = ("found", "missing", "ends")
        return next((n for n in names if getattr(self, n) is not ABSENT), "bindings")


# -- the matrix ----------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False, repr=False)
class MatrixView(Result):
    """Cells of the matrix, the distinct contents that they share, and groups that are alike."""

    sources: Rows
    destinations: Rows
    service: str | None
    only: str | None
    forms: Rows
    cells: Rows
    rows: list[list[str]]
    columns: list[list[str]]
    command: ClassVar[str] = "matrix"
    shown_by: ClassVar[str] = "matrix"
    table: ClassVar[str] = "cells"

    def frame(self) -> pd.DataFrame:
        """One line a cell, with what it allows in words."""
        made = super().frame()
        words = {form["form"]: form["allows"] for form in self.forms}
        for form, text in (("form", "allows"), ("would_form", "would_allow")):
            made[text] = made[form].map(words)
        return made


@dataclass(frozen=True, eq=False, repr=False)
class Cell(Result):
    """One cell: its lines in order, their entries, and what they come to as disjoint boxes. Of sets
    ``alike`` has the cells of the same lines together, with their ``pairs``."""

    source: Row
    destination: Row
    lines: Rows
    entries: Rows
    default: Action
    default_decides: bool
    observed_default: Action | None
    allows: str
    would_allow: str
    boxes: Rows
    alike: Rows = field(default=ABSENT)
    command: ClassVar[str] = "cell"
    shown_by: ClassVar[str] = "cell"
    table: ClassVar[str] = "boxes"


@dataclass(frozen=True, eq=False, repr=False)
class Decision(Result):
    """What one cell says about the packets of a service; ``line`` is None for the default, and
    where packets differ the ``action`` is ``mixed`` and ``parts`` has each. Of sets ``cells`` has
    each pair."""

    source: Row
    destination: Row
    service: str
    packet: Row
    action: Literal["allow", "deny", "mixed"]
    would: Literal["allow", "deny", "mixed"]
    line: Row | None
    would_line: Row | None
    permission: str | None
    entry: str | None
    addressed: Rows
    parts: Rows = field(default=ABSENT)
    cells: Rows = field(default=ABSENT)
    command: ClassVar[str] = "decide"
    shown_by: ClassVar[str] = "decide"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The cells of sets, else the parts of one."""
        return "parts" if self.cells is ABSENT else "cells"


@dataclass(frozen=True, eq=False, repr=False)
class Callers(Result):
    """Who may reach a destination (``callers``), or what a source may reach (``callees``)."""

    command: str
    service: str
    destination: Row = field(default=ABSENT)
    source: Row = field(default=ABSENT)
    callers: Rows = field(default=ABSENT)
    callees: Rows = field(default=ABSENT)
    shown_by: ClassVar[str] = "callers"

    @property
    def table(self) -> str:  # type: ignore[override]
        """Of the name of the command."""
        return self.command


@dataclass(frozen=True, eq=False, repr=False)
class Described(Result):
    """A group's policy in sentences, each with the lines that say so."""

    group: str
    tag: int
    sentences: Rows
    command: ClassVar[str] = "describe"
    shown_by: ClassVar[str] = "describe"
    table: ClassVar[str] = "sentences"


@dataclass(frozen=True, eq=False, repr=False)
class Around(Result):
    """What comes into a set of groups, passes inside it, and goes out; and between which groups
    nothing but the default speaks."""

    set: str
    groups: list[str]
    comes_in: Rows
    passes_inside: Rows
    goes_out: Rows
    default: Action
    by_default: dict[str, list[str]]
    command: ClassVar[str] = "around"
    shown_by: ClassVar[str] = "around"
    table: ClassVar[str] = "comes_in"


@dataclass(frozen=True, eq=False, repr=False)
class Expected(Result):
    """Whether each expectation and each row of ``keep_open`` holds."""

    expectations: Rows
    keep_open: Rows
    command: ClassVar[str] = "expect"
    shown_by: ClassVar[str] = "expect"
    table: ClassVar[str] = "expectations"

    @property
    def holds(self) -> bool:
        """Whether all of them hold."""
        return all(row["holds"] for row in (*self.expectations, *self.keep_open))


@dataclass(frozen=True, eq=False, repr=False)
class Comparison(Result):
    """What differs between two versions, from the guards to the lists and the network."""

    guards: Rows
    renamed: Rows
    cells: Rows
    endpoints: Rows
    expectations: Rows
    points: Rows
    network: Rows
    not_followed: str
    lines: Rows = field(default=ABSENT)
    command: ClassVar[str] = "compare"
    shown_by: ClassVar[str] = "compare"
    table: ClassVar[str] = "cells"


@dataclass(frozen=True, eq=False, repr=False)
class Verified(Result):
    """Check, review, expect and reach in one, and what was not looked at."""

    parts: Rows
    findings: Rows
    failed: Rows
    causes: Rows
    not_looked_at: list[str]
    command: ClassVar[str] = "verify"
    shown_by: ClassVar[str] = "verify"
    table: ClassVar[str] = "parts"

    @property
    def well(self) -> bool:
        """Whether all parts are well."""
        return all(part["well"] for part in self.parts)


@dataclass(frozen=True, eq=False, repr=False)
class Change(Result):
    """A change of files: the diff, all that it does, and whether it was written."""

    command: str
    files: list[str]
    diff: str
    written: bool
    cells: Rows
    endpoints: Rows
    expectations: Rows
    network: Rows
    not_followed: str
    hidden_by: Rows
    numbers: dict[str, int] = field(default=ABSENT)
    already: str | None = field(default=ABSENT)
    others: Rows = field(default=ABSENT)
    alone: Row | None = field(default=ABSENT)
    shown_by: ClassVar[str] = "change"
    table: ClassVar[str] = "cells"


# -- lists, reach, the lab -----------------------------------------------------------------------


@dataclass(frozen=True, eq=False, repr=False)
class Compiled(Result):
    """The lists that were written, and the file of keys beside them."""

    points: Rows
    key_file: str = field(metadata={"name": "keys"})
    command: ClassVar[str] = "compile"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"


@dataclass(frozen=True, eq=False, repr=False)
class Proved(Result):
    """Whether each list that was read back is equal to the matrix."""

    points: Rows
    command: ClassVar[str] = "prove"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"

    @property
    def equal(self) -> bool:
        """Whether all of them are."""
        return all(point["equal"] for point in self.points)


@dataclass(frozen=True, eq=False, repr=False)
class Reached(Result):
    """How packets fare between segments and groups, and why; whole up to 200,000 rows."""

    flows: Rows
    summary: Row
    unplaced: list[str]
    endpoints: Rows = field(default=ABSENT)
    command: ClassVar[str] = "reach"
    shown_by: ClassVar[str] = "reach"
    table: ClassVar[str] = "flows"

    @property
    def wrong(self) -> int:
        """How many rows leak, break, lose their answers or are cut off, beside what is accepted."""
        effects: dict[str, int] = self.summary["effects"]
        wrong = sum(n for effect, n in effects.items() if effect != "exact")
        return wrong + len(self.summary["cut_off"])


@dataclass(frozen=True, eq=False, repr=False)
class Failures(Result):
    """What each single failure does, the worst first."""

    failures: Rows
    opens_most: Row | None
    command: ClassVar[str] = "reach failures"
    shown_by: ClassVar[str] = "failures"
    table: ClassVar[str] = "failures"


@dataclass(frozen=True, eq=False, repr=False)
class Mended(Result):
    """The cheapest changes after which nothing leaks, with the diff and what it does."""

    choices: int
    changes: Rows | None
    cost: float | None
    proved: bool
    bound: float | None
    tried: int
    hopeless: list[str]
    left: list[str]
    broken: list[str]
    files: list[str]
    diff: str
    written: bool
    cells: Rows
    endpoints: Rows
    expectations: Rows
    network: Rows
    not_followed: str
    hidden_by: Rows
    command: ClassVar[str] = "reach mend"
    shown_by: ClassVar[str] = "mend"
    table: ClassVar[str] = "changes"


@dataclass(frozen=True, eq=False, repr=False)
class Traced(Result):
    """A packet's way over every path, hop by hop; ``hops`` and ``verdict`` are of the worst."""

    source: str
    destination: str
    service: str
    paths: Rows
    hops: Rows
    verdict: str
    effect: str | None
    command: ClassVar[str] = "trace"
    shown_by: ClassVar[str] = "trace"
    table: ClassVar[str] = "hops"


@dataclass(frozen=True, eq=False, repr=False)
class Drift(Result):
    """What nodes report and what is intended, where the two differ."""

    drift: Rows
    silent: list[str]
    command: ClassVar[str] = "drift"
    shown_by: ClassVar[str] = "drift"
    table: ClassVar[str] = "drift"


@dataclass(frozen=True, eq=False, repr=False)
class LabUp(Result):
    """The lab that is up."""

    nodes: int
    hosts: int
    links: int
    tunnels: int
    points: list[str]
    hours: float
    command: ClassVar[str] = "lab up"
    shown_by: ClassVar[str] = "lab"


@dataclass(frozen=True, eq=False, repr=False)
class LabProbed(Result):
    """What packets did without lists and with them."""

    probes: Rows
    summary: dict[str, int]
    feeds: Rows
    counters: Rows
    command: ClassVar[str] = "lab probe"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "probes"

    @property
    def odd(self) -> bool:
        """Whether a probe fared otherwise than meant, or counters do not agree."""
        wrong = any(probe["verdict"] != "as meant" for probe in self.probes)
        return wrong or not all(row["agree"] for row in self.counters)


@dataclass(frozen=True, eq=False, repr=False)
class LabState(Result):
    """The reports of nodes that were written."""

    folder: str
    files: list[str]
    command: ClassVar[str] = "lab state"
    shown_by: ClassVar[str] = "lab"


@dataclass(frozen=True, eq=False, repr=False)
class LabDown(Result):
    """Whether a lab was up."""

    was_up: bool
    command: ClassVar[str] = "lab down"
    shown_by: ClassVar[str] = "lab"


@dataclass(frozen=True, eq=False, repr=False)
class Reference(Result):
    """Keys of the files: what each means, its values, its default, an example."""

    key_list: Rows = field(metadata={"name": "keys"})
    command: ClassVar[str] = "help"
    shown_by: ClassVar[str] = "reference"
    table: ClassVar[str] = "keys"
