"""Which packets a lab sends: for every expectation, and for every cell between groups of somebody.

What is denied is tried with what the destination offers: the services that others may use there.
What cannot be tried is listed, with the reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, field, replace
from itertools import chain, islice, product, repeat
from typing import Any, NamedTuple

from oaktag.core.addresses import address_text, may_be_a_host
from oaktag.core.packets import ECHO, FAMILIES, ICMP_OF, Packet, Region
from oaktag.core.paths import MOST_PATHS
from oaktag.core.placement import Host, meet, node_hosts
from oaktag.core.question_words import End
from oaktag.errors import UsageError
from oaktag.lab.plan import LabHost, Probe
from oaktag.operations.card import asked, tests_of
from oaktag.operations.ends import hosts_of
from oaktag.operations.lab_plan import Beings, lab_host
from oaktag.operations.model import Model
from oaktag.workspace.expectations_file import Expectation

PROTOCOLS = {6: "tcp", 17: "udp"}
#: Source ports that the system gives (ip(7), ip_local_port_range), and one of them.
GIVEN, USUAL = (32_768, 60_999), 50_000
#: Ranges of so many ports name no service.
WIDE = 1000
#: What is sent where the destination offers nothing and any port will do.
ANY = 443
#: Of an expectation so many packets are tried between its first two ends, and one between others;
#: of a question so many between the first two of each family.
FIRST, ASKED = 3, 12
#: So many probes are sent for cells.
MOST = 4000


class Trial(NamedTuple):
    """A probe, why it is sent, and whether the matrix means it to pass."""

    why: str
    source: Host
    destination: Host
    packet: Packet
    probe: Probe
    meant: bool


@dataclass(slots=True)
class Trials:
    """What is sent, and what is not: why it would have been, and the reason. Guests are in the lab
    for these trials alone, by name."""

    sent: list[Trial] = field(default_factory=list)
    omitted: list[tuple[str, str]] = field(default_factory=list)
    guests: dict[str, LabHost] = field(default_factory=dict)

    def only(self, numbers: Sequence[int]) -> Trials:
        """Some of them."""
        return replace(self, sent=[self.sent[n] for n in numbers])

    def request(self) -> dict[str, Any]:
        """What a lab is asked to send, and whom to let in for it."""
        guests = {name: asdict(host) for name, host in self.guests.items()}
        return {"probes": [asdict(t.probe) for t in self.sent], "guests": guests}


class Trying:
    """Makes trials of a workspace."""

    def __init__(self, model: Model, beings: Beings) -> None:
        self.model = model
        self.beings = beings
        self.made = Trials()
        self._known: set[Probe] = set()
        self._through: dict[tuple[str, str], bool] = {}
        self._packets: dict[tuple[int, int, int, bool], list[Packet]] = {}
        self._offers: dict[tuple[int, int], list[Packet]] = {}
        every = [host for being in beings.every.values() for host in being.hosts]
        own = node_hosts(model.groups, model.network, model.registry)
        #: Nodes whose points judge what they send are sources too; all nodes with points are asked.
        self._at = _by_group([*every, *filter(self._judged_at_home, own)])
        self._toward = _by_group([*every, *own])

    def every(self) -> Trials:
        """For every expectation and cell."""
        for expectation in (*self.model.files.expectations, *self.model.files.keep_open):
            self._expectation(expectation)
        self._cells()
        return self.made

    def asked(self, source: End, destination: End, mask: int, what: str) -> Trials:
        """For one question: packets of a set between two ends.

        Raises:
            UsageError: none of them can be sent, with the reason.
        """
        sides = [self._there(end) for end in (source, destination)]
        self.made.guests = {name: lab_host(being) for name, being in self.beings.guests.items()}
        told = f"{source.word} to {destination.word}"
        seen: set[int] = set()
        for pair in _pairs(*sides):
            most = 1 if pair[0].family in seen else ASKED
            if self._some(told, pair, self._sendable(pair, mask)[:most]):
                seen.add(pair[0].family)
        if not self.made.sent:
            reason = self._why_not(source, destination, sides) or f"no packet of {what} can be sent"
            raise UsageError(f"{told} cannot be tried: {reason}")
        return self.made

    def card(self) -> Trials:
        """For each test of the card; what cannot be sent from here is told."""
        tests, _ = tests_of(self.model)
        for number, (pair, mask) in enumerate(asked(tests), 1):
            why = f"test {number} of the card"
            there = all(self.beings.name_of(host) is not None for host in pair)
            if not there or not self._some(why, pair, self._sendable(pair, mask)[:1]):
                told = (
                    "no such packet can be sent" if there else "one of its ends is not in the lab"
                )
                self.made.omitted.append((why, told))
        return self.made

    # -- what is tried ---------------------------------------------------------------------------

    def _expectation(self, expectation: Expectation) -> None:
        atoms = self.model.atoms
        asked = atoms.mask(expectation.boxes) if expectation.boxes else atoms.full
        why = str(expectation.location)
        ends = expectation.source, expectation.destination
        sides = [self._present(hosts_of(self.model, end)) for end in ends]
        done: set[int] = set()
        for number, pair in enumerate(filter(self._crosses, _pairs(*sides))):
            mask = atoms.full if expectation.kind in ("none", "exactly") else asked
            most = 1 if number else FIRST
            packets = self._sendable(pair, mask & asked or mask)[:most]
            if expectation.kind in ("none", "exactly"):
                packets += self._denied(pair)[:most]
            if self._some(why, pair, packets):
                done.add(pair[0].family)
        for family in {4, 6} - done:
            reason = (
                self._why_not(*ends, sides, family) or "only TCP, UDP and echo requests can be sent"
            )
            self.made.omitted.append((f"{why}, IPv{family}", reason))

    def _cells(self) -> None:
        """Each cell once in each family, and each two segments once for some cell: what is allowed
        and what is denied; of segments what is denied only where nothing is allowed, for it costs
        patience. Toward a node's own address its points judge nothing without ``own``."""
        passing, tried = set[tuple[object, ...]](), set[tuple[object, ...]]()
        before, left = len(self.made.sent), 0
        for pair, fresh in chain(
            zip(self._of_cells(), repeat(True)), zip(self._of_segments(), repeat(False))
        ):
            ways = _place(pair[0]), _place(pair[1]), pair[0].family
            if not fresh and ways in passing:
                continue
            if len(self.made.sent) - before >= MOST:
                left += 1
                continue
            packets = self._allowed(pair)[:1]
            if packets:
                passing.add(ways)
            if self._judged_at_home(pair[1]) and (fresh or not (packets or ways in tried)):
                packets += self._denied(pair)[:1]
            tried.add(ways)
            self._some("the cell", pair, packets)
        if left:
            told = f"{MOST:,} probes are sent for cells"
            self.made.omitted.append((f"{left:,} more pairs of segments or groups", told))

    def _of_cells(self) -> Iterator[tuple[Host, Host]]:
        """Two hosts for each cell and family, spread over the segments where its groups are."""
        for s, sources in sorted(self._at.items()):
            for d, destinations in sorted(self._toward.items()):
                for family in FAMILIES:
                    ones, twos = sources.get(family, []), destinations.get(family, [])
                    for n in range(len(ones) * len(twos)):
                        a, b = ones[(d + n) % len(ones)], twos[(s + n // len(ones)) % len(twos)]
                        if meet(a, b) and a.address != b.address and self._crosses((a, b)):
                            yield a, b
                            break

    def _of_segments(self) -> Iterator[tuple[Host, Host]]:
        """Two hosts for each two segments and family: two between which something is allowed, where
        there are such."""
        sides = [_by_place(held) for held in (self._at, self._toward)]
        for (_, family), sources in sides[0].items():
            for (_, of), destinations in sides[1].items():
                if family != of:
                    continue
                pairs = self._between(sources, destinations)
                first = next(pairs, None)
                if first is not None:
                    apt = (p for p in chain([first], pairs) if self._allowed(p))
                    yield next(apt, first)

    def _between(
        self, sources: dict[int, list[Host]], destinations: dict[int, list[Host]]
    ) -> Iterator[tuple[Host, Host]]:
        """Two hosts of each two groups at two places."""
        for ones in sources.values():
            for twos in destinations.values():
                for a, b in product(ones, twos):
                    if meet(a, b) and a.address != b.address and self._crosses((a, b)):
                        yield a, b
                        break

    def _crosses(self, pair: tuple[Host, Host]) -> bool:
        """Whether one of two is in the part of the network that the lab is of, or what they send
        each other passes a point there, or would if it had a way."""
        part, ends = self.model.files.part, (pair[0].node, pair[1].node)
        if part is None or not all(node in part.stands_for for node in ends):
            return True
        if ends not in self._through:
            nodes = self.model.network.nodes
            ways = list(islice(self.model.paths.between(*ends), MOST_PATHS))
            self._through[ends] = not ways or any(nodes[n].points for w in ways for n in w.nodes)
        return self._through[ends]

    def _judged_at_home(self, host: Host) -> bool:
        """Whether what a host sends or gets may be dropped at its very end: what a node itself
        sends and gets is judged only where a point there guards it."""
        if not host.own:
            return True
        return any(p.own and p.mode != "off" for p in self.model.network.nodes[host.node].points)

    def _some(self, why: str, pair: tuple[Host, Host], packets: Iterable[Packet]) -> bool:
        sent = False
        for packet in packets:
            self._add(why, pair, packet)
            sent = True
        return sent

    def _add(self, why: str, pair: tuple[Host, Host], packet: Packet) -> None:
        a, b = pair
        names = self.beings.name_of(a), self.beings.name_of(b)
        assert names[0] is not None and names[1] is not None
        echo = packet.protocol not in PROTOCOLS
        probe = Probe(
            names[0], address_text(a.family, a.address),
            names[1], address_text(b.family, b.address),
            "icmp" if echo else PROTOCOLS[packet.protocol], 0 if echo else packet.destination_port,
            0 if echo or packet.source_port == USUAL else packet.source_port,
        )  # fmt: skip
        if probe in self._known:
            return
        self._known.add(probe)
        form = self.model.matrix.forms[self.model.matrix.form(a.group, b.group)]
        meant = bool(form >> self.model.atoms.atom(packet) & 1)
        self.made.sent.append(Trial(why, a, b, packet, probe, meant))

    def _present(self, hosts: Iterable[Host]) -> list[Host]:
        return [h for h in hosts if self.beings.name_of(h) is not None]

    def _there(self, end: End) -> list[Host]:
        """Who of an end is in the lab; of one endpoint or address whoever is not is invited."""
        hosts = hosts_of(self.model, end)
        found = self._present(hosts)
        if not found and end.kind in ("endpoint", "address"):
            for host in _some_of_each(hosts):
                self.beings.invite(host)
            found = self._present(hosts)
        return found

    def _why_not(
        self, source: End, destination: End, every: list[list[Host]], family: int | None = None
    ) -> str:
        """Why nothing is sent between two ends; ``family``: of one family alone."""
        sides = [[h for h in side if family in (None, h.family)] for side in every]
        for end, side in zip((source, destination), sides, strict=True):
            if not side:
                hosts = [h for h in hosts_of(self.model, end) if family in (None, h.family)]
                if family is not None and not hosts and hosts_of(self.model, end):
                    return f"nobody of {end.word} has an address of IPv{family}"
                if end.kind == "address" and not hosts:
                    here = may_be_a_host(*end.address)
                    return f"{end.word} is {'on no segment' if here else 'no address for a host'}"
                told = {self.beings.absent[h] for h in hosts if h in self.beings.absent}
                return f"nobody of {end.word} is there" + "".join(f" ({t})" for t in sorted(told))
        if not _pairs(*sides):
            alike = {h.family for h in sides[0]} & {h.family for h in sides[1]}
            return "both ends are one host" if alike else "the ends share no address family"
        if not any(map(self._crosses, _pairs(*sides))):
            return "they meet beside the part of the network that the lab is of"
        return ""

    # -- with which packets ----------------------------------------------------------------------

    def _sendable(self, pair: tuple[Host, Host], mask: int) -> list[Packet]:
        """Packets of a set that can be sent, what the destination offers first."""
        family, atoms = pair[0].family, self.model.atoms
        offered = [p for p in self._offered(pair[1].group, family) if mask >> atoms.atom(p) & 1]
        regions = atoms.regions(mask & atoms.of_family(family))
        return list(dict.fromkeys([*offered, *_of(regions, family)]))

    def _allowed(self, pair: tuple[Host, Host]) -> list[Packet]:
        """What a cell allows, what its destination offers first."""
        return self._of_cell(pair, denied=False)

    def _denied(self, pair: tuple[Host, Host]) -> list[Packet]:
        """What a cell denies of what its destination offers; else anything that it denies."""
        return self._of_cell(pair, denied=True)

    def _of_cell(self, pair: tuple[Host, Host], *, denied: bool) -> list[Packet]:
        key = pair[0].group, pair[1].group, pair[0].family, denied
        if key not in self._packets:
            matrix, full = self.model.matrix, self.model.atoms.full
            form = matrix.forms[matrix.form(*key[:2])]
            self._packets[key] = self._sendable(pair, full & ~form if denied else form)
        return self._packets[key]

    def _offered(self, group: int, family: int) -> list[Packet]:
        """The services that anybody may use at a group, as packets: those that name ports."""
        if (group, family) not in self._offers:
            matrix, atoms = self.model.matrix, self.model.atoms
            forms = {matrix.form(s, group) for s in range(len(self.model.groups))}
            found: dict[Packet, None] = {}
            for form in sorted(forms):
                for region in atoms.regions(matrix.forms[form] & atoms.of_family(family)):
                    found.update(dict.fromkeys(_of([region], family, narrow=True)))
            self._offers[group, family] = list(found)
        return self._offers[group, family]


def _of(regions: Iterable[Region], family: int, *, narrow: bool = False) -> Iterator[Packet]:
    """A packet of each region and protocol that can be sent; ``narrow``: where it names ports."""
    echo = Packet(family, ICMP_OF[family], ECHO[family][0], 0)
    for region in regions:
        if family not in region.families:
            continue
        for number in PROTOCOLS:
            if _has(region.protocols, number) and (port := _port(region, narrow=narrow)):
                yield Packet(family, number, _source(region), port)
        if (
            not narrow and _has(region.protocols, echo.protocol)
            and _has(region.sources, echo.source_port) and _has(region.destinations, 0)
        ):  # fmt: skip
            yield echo


def _port(region: Region, *, narrow: bool) -> int:
    """A port to send to; 0: there is none."""
    for low, high in region.destinations:
        if high and not (narrow and high - low >= WIDE):
            return ANY if low <= ANY <= high and high - low >= WIDE else max(low, 1)
    return 0


def _source(region: Region) -> int:
    """A port to send from: ``USUAL`` where any that the system gives will do."""
    if any(low <= GIVEN[0] and GIVEN[1] <= high for low, high in region.sources):
        return USUAL
    return region.sources[0][1]


def _has(ranges: Iterable[tuple[int, int]], number: int) -> bool:
    return any(low <= number <= high for low, high in ranges)


def _pairs(sources: list[Host], destinations: list[Host]) -> list[tuple[Host, Host]]:
    """One pair for each two segments and family."""
    found: dict[tuple[object, ...], tuple[Host, Host]] = {}
    toward = _some_of_each(destinations)
    for a in _some_of_each(sources):
        for b in toward:
            if meet(a, b) and a.address != b.address:
                found.setdefault((_place(a), _place(b), a.family), (a, b))
    return list(found.values())


def _by_group(hosts: Iterable[Host]) -> dict[int, dict[int, list[Host]]]:
    """Hosts by group and family."""
    found: dict[int, dict[int, list[Host]]] = {}
    for host in hosts:
        found.setdefault(host.group, {}).setdefault(host.family, []).append(host)
    return found


def _by_place(
    held: dict[int, dict[int, list[Host]]],
) -> dict[tuple[str, int], dict[int, list[Host]]]:
    """Of each segment and family two hosts of each group, for nobody sends to himself."""
    found: dict[tuple[str, int], dict[int, list[Host]]] = {}
    for group, families in held.items():
        for family, hosts in families.items():
            for host in _some_of_each(hosts):
                found.setdefault((_place(host), family), {}).setdefault(group, []).append(host)
    return found


def _some_of_each(hosts: list[Host]) -> list[Host]:
    """Two hosts of each segment and family, for nobody sends to himself."""
    found: dict[tuple[object, ...], list[Host]] = {}
    for host in hosts:
        held = found.setdefault((_place(host), host.family), [])
        if len(held) < 2 and all(h.endpoint != host.endpoint or h.endpoint < 0 for h in held):
            held.append(host)
    return [host for held in found.values() for host in held]


def _place(host: Host) -> str:
    return host.node if host.own else host.segment or host.node
