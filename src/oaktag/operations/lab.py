"""``lab``: the workspace's network from namespaces, its lists loaded, and probes sent."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path as FilePath
from typing import ClassVar, NamedTuple

from oaktag.core.addresses import WIDTH, address_text
from oaktag.core.bindings import Binding
from oaktag.core.judging import Sight
from oaktag.core.network import REGISTRY, Point
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.registry import learned_bindings
from oaktag.errors import OakTagError
from oaktag.lab.handle import HOURS, Lab
from oaktag.lab.plan import LabFeed, LabHost, LabLink, LabNode, LabPlan, LabPoint, Probe
from oaktag.operations.expect import hosts_of
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import dialect_of, list_of, list_text, points_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.textfile import write_text


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

    probes: list[Row]
    summary: dict[str, int]
    feeds: list[Row]
    counters: list[Row]
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


ECHO = {4: Packet(4, 1, 8, 0), 6: Packet(6, 58, 128, 0)}
PROTOCOLS = {6: "tcp", 17: "udp"}
#: Packets that stand for a cell that denies: what people try first.
TRIED = (443, 22)


class Trial(NamedTuple):
    """A probe, why it is sent, and what the matrix means for it."""

    why: str
    source: Host
    destination: Host
    packet: Packet
    probe: Probe
    meant: bool


def lab_of(model: Model) -> Lab:
    """The lab of this workspace, running or not."""
    return Lab(model.files.root)


def up(model: Model, hours: float = HOURS) -> LabUp:
    """Build the network without any list; it ends by itself after some hours.

    Raises:
        NotPossibleHere: in one sentence, what this machine lacks.
    """
    plan = plan_of(model, trials(model))
    lab_of(model).start(plan, hours)
    return LabUp(
        nodes=len(plan.nodes),
        hosts=len(plan.hosts),
        links=len(plan.links),
        tunnels=sum(link.carries for link in plan.links),
        points=[p.name for p in plan.points],
        hours=hours,
    )


def down(model: Model) -> LabDown:
    """Take the network away."""
    return LabDown(was_up=lab_of(model).stop())


def probe(model: Model) -> LabProbed:
    """Send every probe before any list is loaded and after, and compare with what is meant.

    Raises:
        OakTagError: no lab is up.
    """
    lab, sent = lab_of(model), trials(model)
    probes = [asdict(t.probe) for t in sent]
    lab.ask("unload")
    before = lab.ask("probe", probes=probes, meant=[True] * len(sent))["answered"]
    arrived = lab.ask("load")["arrived"]
    after = lab.ask("probe", probes=probes, meant=[t.meant for t in sent])["answered"]
    counted = lab.ask("counters")["cells"]
    rows = [
        _row(model, trial, worked, passed)
        for trial, worked, passed in zip(sent, before, after, strict=True)
    ]
    said = LabProbed(
        probes=rows,
        summary=dict(Counter(r["verdict"] for r in rows)),
        feeds=[
            {"feed": f.name, "bindings": n}
            for f, n in zip((f for f in model.network.feeds if f.up), arrived, strict=True)
        ],
        counters=_counters(model, sent, counted),
    )
    lab.keep(said.as_json())
    return said


def write_state(model: Model, folder: FilePath) -> LabState:
    """Write what the lab's nodes report of themselves, in the form that ``drift`` reads.

    Raises:
        OakTagError: no lab is up, or its lists are not loaded.
    """
    lab = lab_of(model)
    state = lab.ask("state")
    if not state["loaded"]:
        raise OakTagError("the lab's points hold no list yet; oaktag lab probe loads them")
    counted = lab.ask("counters")["cells"]
    files: list[str] = []
    for node, rows in zip(model.network.nodes.values(), state["known"], strict=True):
        report = {
            "form": 1,
            "node": node.name,
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            "bindings": [{"prefix": p, "tag": tag, "source": s} for p, tag, s, _ in rows],
            "points": [
                {
                    "point": p.id, "mode": p.mode,
                    "sha256": sha256(list_text(model, p).encode()).hexdigest(),
                }
                for p in node.points
            ],
            "feeds": [
                {"feed": f.name, "state": "up"}
                for f in model.network.feeds if f.up and f.receiver == node.name
            ],
            "groups": {str(model.groups.tag(i)): g.id for i, g in enumerate(model.groups.all) if i},
            "counters": [
                {"point": p.id, "source": int(s), "destination": int(d), "packets": n}
                for p in node.points
                for d, row in counted.get(p.id, {}).items() for s, n in row.items()
            ],
        }  # fmt: skip
        name = f"{node.name}.json"
        write_text(folder / name, json.dumps(report, indent=1) + "\n")
        files.append(name)
    return LabState(folder=str(folder), files=files)


def last_probe(model: Model) -> Document:
    """What the last ``probe`` of the lab that is up has found.

    Raises:
        OakTagError: no lab is up, or none was sent.
    """
    return lab_of(model).kept()


def _row(model: Model, trial: Trial, before: bool, after: bool) -> Document:
    if not before:
        verdict = "never worked"
    elif after == trial.meant:
        verdict = "as meant"
    else:
        verdict = "passes though denied" if after else "blocked though allowed"
    return {
        "for": trial.why,
        "source": _end(model, trial.source),
        "destination": _end(model, trial.destination),
        "protocol": trial.probe.protocol,
        "port": trial.probe.port,
        "meant": "allow" if trial.meant else "deny",
        "before": before,
        "after": after,
        "verdict": verdict,
    }  # fmt: skip


def _end(model: Model, host: Host) -> Document:
    return {
        "endpoint": model.files.endpoints.ids[host.endpoint],
        "address": address_text(host.family, host.address),
        "segment": host.segment,
        "group": model.groups.all[host.group].id,
    }


def _counters(
    model: Model, sent: list[Trial], counted: dict[str, dict[str, dict[str, int]]]
) -> list[Document]:
    """For each point, whether its cells counted just the probes that it had to judge."""
    rows: list[Document] = []
    expected: dict[str, Counter[tuple[int, int]]] = {p.id: Counter() for p in points_of(model)}
    for trial in sent:
        for point_id, sight in _judged(model, trial):
            expected[point_id][sight.destination, sight.source] += 1
    for point in points_of(model):
        if not point.stateful:
            continue  # it counts every packet, not the first of a flow
        wanted = expected[point.id]
        real = {(int(d), int(s)): n for d, row in counted[point.id].items() for s, n in row.items()}
        differ = sorted(c for c in {*wanted, *real} if wanted[c] != real.get(c, 0))
        rows.append(
            {
                "point": point.id,
                "packets": sum(real.values()),
                "agree": not differ,
                "differ": [
                    {
                        "source": model.groups.name(s), "destination": model.groups.name(d),
                        "expected": wanted[d, s], "counted": real.get((d, s), 0),
                    }
                    for d, s in differ
                ],
            }
        )  # fmt: skip
    return rows


def _judged(model: Model, trial: Trial) -> Iterator[tuple[str, Sight]]:
    """The points whose lists a probe meets with a cell they hold, up to the one that drops it."""
    path = _way(model, trial)
    if path is None:
        return
    (a,), (b,) = (model.state.classes([h]) for h in (trial.source, trial.destination))
    for met in model.state.meetings(a, b, path):
        judge = met.judge
        if not met.judged:
            continue
        if judge.holds(met.sight):
            yield judge.point.id, met.sight
        passes = judge.allowed(met.sight) >> model.atoms.atom(trial.packet) & 1
        if judge.enforces and not passes:
            return


def _way(model: Model, trial: Trial) -> Path | None:
    """The path that the lab's routes lead a probe: at each node the first of the best."""
    nodes, links = [trial.source.node], []
    while nodes[-1] != trial.destination.node:
        rest = next(model.paths.between(nodes[-1], trial.destination.node), None)
        if rest is None:
            return None
        nodes.append(rest.nodes[1])
        links.append(rest.links[0])
    return Path(tuple(nodes), tuple(links))


# -- which probes ----------------------------------------------------------------------------


def trials(model: Model) -> list[Trial]:
    """Probes for every expectation, and for every cell between groups that are somewhere."""
    made: dict[tuple[Probe, str], Trial] = {}
    for expectation in (*model.files.expectations, *model.files.keep_open):
        mask = model.atoms.mask(expectation.boxes) or model.atoms.full
        why = str(expectation.location)
        pairs = _pairs(
            hosts_of(model, expectation.source), hosts_of(model, expectation.destination)
        )
        for number, pair in enumerate(pairs):
            for packet in _packets(model, pair[0].family, mask)[: 1 if number else 3]:
                _add(model, made, why, pair, packet)
    seen: set[tuple[object, ...]] = set()
    for s in range(1, len(model.groups)):
        for d in range(1, len(model.groups)):
            of = [[h for h in model.hosts if h.group == g] for g in (s, d)]
            form = model.matrix.forms[model.matrix.form(s, d)]
            for number, pair in enumerate(_pairs(*of)):
                family = pair[0].family
                # Each cell once in each family, and each two segments once for some cell.
                ways = {(s, d, family), (pair[0].segment, pair[1].segment, family)}
                if ways <= seen:
                    continue
                seen |= ways
                packets = _packets(model, family, form)[:1]
                if number == 0:  # what is denied costs patience: once a cell is enough
                    packets += _packets(model, family, model.atoms.full & ~form)[:1]
                for packet in packets:
                    _add(model, made, "the cell", pair, packet)
    return _numbered(list(made.values()))


def _numbered(sent: list[Trial]) -> list[Trial]:
    """The probes with the numbers of their hosts in the lab."""
    number = {place: n for n, place in enumerate(_taking_part(sent))}
    return [
        t._replace(
            probe=replace(
                t.probe, source=number[_place(t.source)], destination=number[_place(t.destination)]
            )
        )
        for t in sent
    ]


def _add(
    model: Model,
    made: dict[tuple[Probe, str], Trial],
    why: str,
    pair: tuple[Host, Host],
    packet: Packet,
) -> None:
    a, b = pair
    echo = packet.protocol not in PROTOCOLS
    probe = Probe(
        a.endpoint, address_text(a.family, a.address),
        b.endpoint, address_text(b.family, b.address),
        "icmp" if echo else PROTOCOLS[packet.protocol], 0 if echo else packet.destination_port,
    )  # fmt: skip
    if (probe, "") in made:
        return
    form = model.matrix.forms[model.matrix.form(a.group, b.group)]
    meant = bool(form >> model.atoms.atom(packet) & 1)
    made[probe, ""] = Trial(why, a, b, packet, probe, meant)


def _pairs(sources: list[Host], destinations: list[Host]) -> list[tuple[Host, Host]]:
    """One pair for each two segments and family, of two endpoints that are known."""
    found: dict[tuple[object, ...], tuple[Host, Host]] = {}
    for a in sources:
        for b in destinations:
            if a.family == b.family and -1 < a.endpoint != b.endpoint > -1:
                found.setdefault((a.segment, b.segment, a.family), (a, b))
    return list(found.values())


def _packets(model: Model, family: int, mask: int) -> list[Packet]:
    """Packets of a set that a probe can send: well-known ports, the set's own ports, an echo."""
    ports = [(6, p) for p in TRIED]
    for region in model.atoms.regions(mask & model.atoms.of_family(family)):
        for low, high in region.protocols:
            ports += [
                (number, ends[0])
                for number in PROTOCOLS
                if low <= number <= high
                for ends in region.destinations
                if ends[1] - ends[0] < 1000 and ends[0]
            ]
    candidates = [Packet(family, number, 50_000, port) for number, port in ports] + [ECHO[family]]
    held = [p for p in dict.fromkeys(candidates) if mask >> model.atoms.atom(p) & 1]
    return held[:3]


# -- the plan --------------------------------------------------------------------------------


def _place(host: Host) -> tuple[int, str]:
    """An endpoint at a node: one host of the lab."""
    return host.endpoint, host.node


def _taking_part(sent: list[Trial]) -> list[tuple[int, str]]:
    """Who sends or gets a probe: the lab's hosts, in their order."""
    return sorted({_place(h) for t in sent for h in (t.source, t.destination)})


def plan_of(model: Model, sent: list[Trial]) -> LabPlan:
    """The lab that the workspace describes."""
    network = model.network
    number = {name: n for n, name in enumerate(network.nodes)}
    learned = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, network, model.places
    )
    nodes = [
        LabNode(
            node.name, [str(a) for a in node.addresses], node.marks, node.carries,
            _routes(model, node.name), [_binding(b) for b in learned[node.name]],
        )
        for node in network.nodes.values()
    ]  # fmt: skip
    of: dict[tuple[int, str], list[Host]] = {}
    for host in model.hosts:
        of.setdefault(_place(host), []).append(host)
    hosts = [
        LabHost(
            model.files.endpoints.ids[place[0]],
            number[place[1]],
            [f"{address_text(x.family, x.address)}/{WIDTH[x.family]}" for x in of[place]],
        )
        for place in _taking_part(sent)
    ]  # fmt: skip
    feeds = [
        LabFeed(
            -1 if f.sender == REGISTRY else number[f.sender],
            number[f.receiver],
            [_binding(b) for b in model.knowledge.brought_by(f)],
        )
        for f in network.feeds
        if f.up
    ]
    listening = sorted(
        {(t.probe.destination, t.probe.protocol, t.probe.port) for t in sent if t.probe.port}
    )
    return LabPlan(
        nodes,
        hosts,
        [LabLink(number[k.a], number[k.b], k.carries) for k in network.links],
        feeds,
        [_point(model, p, number[p.node]) for p in points_of(model)],
        list(model.files.config.binding_order),
        listening,
    )


def _point(model: Model, point: Point, node: int) -> LabPoint:
    held = list_of(model, point)
    return LabPoint(point.id, node, dialect_of(point).write(held), sorted(held.blocks))


def _binding(binding: Binding) -> tuple[str, int, str, int | None]:
    return str(binding.prefix), binding.tag, binding.source, binding.since


def _routes(model: Model, node: str) -> list[tuple[str, int]]:
    """Where a node sends what is for the segments and addresses of others: along least cost."""
    network = model.network
    links = {id(link): n for n, link in enumerate(network.links)}
    routes: list[tuple[str, int]] = []
    wanted = [(s.node, p) for s in network.segments.values() for p in s.prefixes]
    wanted += [(n.name, a) for n in network.nodes.values() for a in n.addresses]
    for there, prefix in wanted:
        path = next(model.paths.between(node, there), None)
        if path is not None and path.links:
            routes.append((str(prefix), links[id(path.links[0])]))
    return routes
