"""``expect --card``: a card of tests, the fewest packets between real endpoints that tell the lists
from those of the matrix with any one line changed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar, NamedTuple

from oaktag.core.addresses import address_text
from oaktag.core.packets import Packet
from oaktag.core.placement import Host, meet
from oaktag.core.reach import Reach, inside
from oaktag.core.service_text import packet_text
from oaktag.core.telling import Change, Kind, Telling, changes, fewest
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many cells are looked at.
MOST_CELLS = 250_000
KINDS = {"without": "taken out", "enforced": "enforced"}


@dataclass(frozen=True, eq=False, repr=False)
class Card(Result):
    """Tests to be tried by hand or in the lab, what each tells, and what none can tell."""

    tests: list[Row]
    untold: list[Row]
    command: ClassVar[str] = "expect card"
    shown_by: ClassVar[str] = "card"
    table: ClassVar[str] = "tests"


class Test(NamedTuple):
    """One packet between two hosts, of a kind that tells some changes."""

    source: Host
    destination: Host
    packet: Packet
    kind: Kind


def card(model: Model) -> Card:
    """The fewest tests, and the changes that no packet between endpoints tells, with the reason.

    Raises:
        UsageError: there are too many cells.
    """
    found, untold = tests_of(model)
    rows: list[Row] = []
    for number, test in enumerate(found, 1):
        form = model.matrix.forms[model.matrix.form(test.kind.source, test.kind.destination)]
        rows.append(
            {
                "number": number,
                "source": _end(model, test.source), "destination": _end(model, test.destination),
                "service": _service(model, test.packet), "packet": packet_text(*test.packet),
                "passes": bool(form >> model.atoms.atom(test.packet) & 1),
                "tells": [_change(model, c) for c in sorted(test.kind.tells, key=lambda c: c.line)],
            }
        )  # fmt: skip
    return Card(tests=rows, untold=untold)


def tests_of(model: Model) -> tuple[list[Test], list[Document]]:
    """The tests, and of each change that none tells the line and the reason."""
    size = len(model.groups)
    if size**2 > MOST_CELLS:
        raise UsageError(f"these are {size**2:,} cells; a card is made of up to {MOST_CELLS:,}")
    ends = _ends(model)
    telling = Telling(model.matrix)
    kinds: list[Kind] = []
    for (s, d), pairs in sorted(ends.items()):
        families = sum(model.atoms.of_family(family) for family in pairs)
        kinds += telling.kinds(s, d, families)
    chosen = sorted(fewest(kinds), key=lambda kind: (kind.source, kind.destination, kind.mask))
    tests = []
    for kind in chosen:
        pairs = ends[kind.source, kind.destination]
        family = next(f for f in sorted(pairs) if kind.mask & model.atoms.of_family(f))
        tests.append(Test(*pairs[family], model.atoms.packet(kind.mask, family), kind))
    told = {change for kind in chosen for change in kind.tells}
    untold = [
        _change(model, change) | {"why": _why(model, telling, change)}
        for change in changes(model.matrix)
        if change not in told
    ]
    return tests, untold


def _ends(model: Model) -> dict[tuple[int, int], dict[int, tuple[Host, Host]]]:
    """Cell → family → two endpoints between which packets fare exactly as the matrix says, because
    a point judges them."""
    state = model.state
    classes = state.classes(model.hosts.take(model.hosts.endpoint >= 0))
    found: dict[tuple[int, int], dict[int, tuple[Host, Host]]] = {}
    spare: dict[tuple[int, int], dict[int, tuple[Host, Host]]] = {}
    for a, b, path, outcome, _ in Reach(state, classes, classes).by_class():
        # Where there are several paths, a packet may take one that nobody guards.
        alone = inside(a.host, b.host) or state.paths.count(a.host.node, b.host.node) == 1
        held = (found if alone else spare).setdefault((a.host.group, b.host.group), {})
        if a.host.family in held or outcome.code or outcome.open_for_answers:
            continue
        met = state.meetings(a, b, path)
        if any(m.judged and m.judge.enforces and m.why is None for m in met):
            pairs = ((x, y) for x in a.hosts for y in b.hosts if meet(x, y))
            if (ends := next(pairs, None)) is not None:
                held[a.host.family] = ends
    both = {cell: {**spare.get(cell, {}), **found.get(cell, {})} for cell in {**spare, **found}}
    return {cell: ends for cell, ends in both.items() if ends}


def _why(model: Model, telling: Telling, change: Change) -> str:
    cells = {
        cell
        for row in model.matrix.rows
        if row.line == change.line
        for cell in model.matrix.cells(row)
    }
    differ = sorted(cell for cell in cells if change in telling.otherwise(*cell))
    if not differ:
        return "no decision depends on it: oaktag review says why"
    names = [model.groups.all[g].id for g in differ[0]]
    more = f", nor of the {len(differ) - 1} other cells that it decides" if differ[1:] else ""
    return f"no two endpoints of {names[0]} and {names[1]} meet where a point judges them{more}"


def _change(model: Model, change: Change) -> Document:
    place = model.lines[change.line].location
    return {"file": place.file, "line": place.line, "change": KINDS[change.kind]}


def _end(model: Model, host: Host) -> Document:
    return {
        "endpoint": model.files.endpoints.ids[host.endpoint],
        "address": address_text(host.family, host.address),
        "group": model.groups.all[host.group].id, "segment": host.segment or host.node,
    }  # fmt: skip


def _service(model: Model, packet: Packet) -> str:
    """What to try, as it is typed into ``decide`` and ``lab probe``."""
    name = {6: "tcp", 17: "udp"}.get(packet.protocol)
    if name is not None:
        return f"{packet.destination_port}/{name}"
    return model.text(1 << model.atoms.atom(packet))


def asked(found: list[Test]) -> Iterator[tuple[tuple[Host, Host], int]]:
    """The two hosts of each test, and the packets that serve."""
    for test in found:
        yield (test.source, test.destination), test.kind.mask
