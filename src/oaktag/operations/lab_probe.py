"""Probes of a lab: what the matrix means, what we say the network does, and what packets meet.

Rules kept here (semantics, section 6): a packet passes if each enforcing point allows it; TCP, UDP
and echo requests have an answer. Arrival and answer are two things. Where the kernel does otherwise
than ``trace`` and ``reach`` say, that is a defect of ours.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

from oaktag.core.addresses import address_text
from oaktag.core.judging import Sight
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.population import Class
from oaktag.core.tracing import Hop, walk
from oaktag.operations.json_parts import Document
from oaktag.operations.lab_trials import Trial
from oaktag.operations.lists import points_of
from oaktag.operations.model import Model

Fared = Literal["arrives and is answered", "arrives, the answer is lost", "does not arrive"]
FARED: tuple[Fared, ...] = (
    "arrives and is answered", "arrives, the answer is lost", "does not arrive",
)  # fmt: skip
#: Packets per cell of a point: (destination tag, source tag) → count.
Counts = dict[str, dict[tuple[int, int], int]]


class Told(NamedTuple):
    """What we say of a probe: how it fares, and the point that drops it, or its answer; ``shared``:
    this goes by flows that points share, which a lab's do not; ``cut_off``: no path leads it;
    ``listed``: points hold their lists."""

    fares: Fared
    at: str
    shared: bool = False
    cut_off: bool = False
    listed: bool = True


class Telling:
    """What ``trace`` says of probes, along the paths that a lab's routes lead them.

    Args:
        model: the workspace that the lab is made as.
        lists: whether its points hold lists.
    """

    def __init__(self, model: Model, *, lists: bool) -> None:
        self.model = model
        self.lists = lists
        self._classes: dict[Host, Class] = {}

    def class_of(self, host: Host) -> Class:
        """A host as the state has it, alone."""
        if host not in self._classes:
            self.known([host])
        return self._classes[host]

    def known(self, hosts: Iterable[Host]) -> list[Class]:
        """The classes of some hosts, which are known by themselves from then on."""
        found = self.model.state.classes(hosts)
        for one in found:
            self._classes.update({host: Class(host, one.tags, (host,)) for host in one.hosts})
        return found

    def way(self, a: Host, b: Host) -> Path | None:
        """The path that a lab's routes lead a packet: at each node the first of the best."""
        nodes, links = [a.node], []
        while nodes[-1] != b.node:
            rest = next(self.model.paths.between(nodes[-1], b.node), None)
            if rest is None:
                return None
            nodes.append(rest.nodes[1])
            links.append(rest.links[0])
        return Path(tuple(nodes), tuple(links))

    def tell_all(self, trials: Sequence[Trial]) -> list[Told]:
        """How each of many probes fares."""
        self.known(dict.fromkeys(end for t in trials for end in (t.source, t.destination)))
        return [self.tell(trial) for trial in trials]

    def tell(self, trial: Trial) -> Told:
        """How a probe fares."""
        a, b, packet = trial.source, trial.destination, trial.packet
        out, back = self.way(a, b), self.way(b, a)
        if out is None or back is None:
            return Told(FARED[2], "", cut_off=True)
        if not self.lists:
            return Told(FARED[0], "", listed=False)
        one, two = self.class_of(a), self.class_of(b)
        at = _drop(walk(self.model.state, one, two, out, packet))
        if at:
            return Told(FARED[2], at)
        hops = walk(self.model.state, two, one, back, packet.exchanged(), out)
        crossed = {p for node in out.nodes for p in self._points_at(node)}
        shared = any(h.deed == "let pass" and h.answer and h.point not in crossed for h in hops)
        lost = _drop(hops)
        return Told(
            "arrives, the answer is lost" if lost else "arrives and is answered", lost, shared
        )

    def _points_at(self, node: str) -> list[str]:
        return [p.id for p in self.model.network.nodes[node].points]

    def judged(self, trial: Trial) -> Iterator[tuple[str, Sight]]:
        """The points whose lists a probe meets with a cell they hold, up to the one that drops
        it."""
        path = self.way(trial.source, trial.destination)
        if path is None:
            return
        a, b = self.class_of(trial.source), self.class_of(trial.destination)
        for met in self.model.state.meetings(a, b, path):
            judge = met.judge
            if not met.judged:
                continue
            if judge.holds(met.sight):
                yield judge.point.id, met.sight
            passes = judge.allowed(met.sight) >> self.model.atoms.atom(trial.packet) & 1
            if judge.enforces and not passes:
                return

    def answering(self, trial: Trial) -> Iterator[tuple[str, Sight]]:
        """The points that judge its answer with a cell they hold, for they know nothing of the way
        out; how many packets of it they count depends on how it is sent."""
        a, b = trial.source, trial.destination
        out, back = self.way(a, b), self.way(b, a)
        if out is None or back is None:
            return
        crossed = self.model.state.flows_kept(out)
        for met in self.model.state.meetings(self.class_of(b), self.class_of(a), back):
            if met.judged and met.judge.state not in crossed and met.judge.holds(met.sight):
                yield met.judge.point.id, met.sight


def _drop(hops: Sequence[Hop]) -> str:
    """The point that drops a packet, if one does."""
    return hops[-1].point or "" if hops and hops[-1].deed == "deny" else ""


def fared(arrived: bool, answered: bool) -> Fared:
    """How a probe fared. What is answered has arrived, seen or not."""
    return FARED[0] if answered else FARED[1] if arrived else FARED[2]


@dataclass(frozen=True, slots=True)
class Outcome:
    """One probe and all that is known of it."""

    trial: Trial
    told: Told
    seen: Fared
    baseline: bool | None = None
    lost_at: str = ""
    reached: bool = True
    accepted: bool = False

    @property
    def disagrees(self) -> bool:
        """Whether packets did otherwise than we say, or ``reach`` says another thing than ``trace``
        (not ``reached``)."""
        return not self.reached or (self.seen != self.told.fares and not self.told.shared)

    @property
    def verdict(self) -> str:
        """What is said of it first."""
        return "accepted" if self.accepted else self.wrong

    @property
    def wrong(self) -> str:
        """The same, whether the workspace accepts it or not."""
        if not self.trial.meant:
            if self.seen == FARED[2]:
                return "as meant"
            return "passes though denied" if self.told.listed else "no list yet"
        if self.seen == FARED[0]:
            return "as meant"
        if self.told.cut_off:
            return "cut off"
        if self.baseline is False:
            return "never worked"
        return "the answer is lost" if self.seen == FARED[1] else "blocked though allowed"

    def row(self, model: Model) -> Document:
        """It as JSON."""
        trial = self.trial
        return {
            "for": trial.why,
            "source": end_of(model, trial.source),
            "destination": end_of(model, trial.destination),
            "protocol": trial.probe.protocol,
            "port": trial.probe.port,
            "source_port": trial.probe.source_port,
            "meant": "allow" if trial.meant else "deny",
            "told": self.told.fares,
            "fares": self.seen,
            "lost_at": self.lost_at or self.told.at if self.seen != FARED[0] else "",
            "baseline": self.baseline,
            "verdict": self.verdict,
            "agrees": not self.disagrees,
        }  # fmt: skip


def end_of(model: Model, host: Host) -> Document:
    """One end of a probe."""
    ids = model.files.endpoints.ids
    endpoint = ids[host.endpoint] if host.endpoint >= 0 else host.node if host.own else None
    return {
        "endpoint": endpoint,
        "address": address_text(host.family, host.address),
        "segment": host.segment,
        "group": model.groups.all[host.group].id,
    }


def key_of(row: Document) -> tuple[Any, ...]:
    """What tells a probe in several runs."""
    ends = row["source"]["address"], row["destination"]["address"]
    return (*ends, row["protocol"], row["port"], row.get("source_port", 0))


# -- counters ------------------------------------------------------------------------------------


def counts_of(said: dict[str, dict[str, dict[str, int]]]) -> Counts:
    """Counters as the keeper tells them."""
    return {
        point: {(int(d), int(s)): n for d, row in held.items() for s, n in row.items()}
        for point, held in said.items()
    }


def counters(
    model: Model, telling: Telling, sent: Sequence[Trial], before: Counts, after: Counts
) -> list[Document]:
    """For each stateful point, whether its cells counted just the probes that it had to judge;
    others count every packet, not the first of a flow. Cells that count answers are left out."""
    expected: dict[str, Counter[tuple[int, int]]] = {p.id: Counter() for p in points_of(model)}
    unsure: set[tuple[str, int, int]] = set()
    for trial in sent:
        for point_id, sight in telling.judged(trial):
            expected[point_id][sight.destination, sight.source] += 1
        for point_id, sight in telling.answering(trial):
            unsure.add((point_id, sight.destination, sight.source))
    rows: list[Document] = []
    for point in points_of(model):
        if not point.stateful or point.id not in after:
            continue
        wanted, was = expected[point.id], before.get(point.id, {})
        real = {c: n - was.get(c, 0) for c, n in after[point.id].items()}
        differ = sorted(
            c for c in {*wanted, *real}
            if wanted[c] != real.get(c, 0) and (point.id, *c) not in unsure
        )  # fmt: skip
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
