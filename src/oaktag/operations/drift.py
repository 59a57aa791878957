"""``drift`` and ``reach --observed``: what nodes report against what is intended.

What is not known is never taken to be harmless: a list that cannot be read, or of which only
another hash is reported, is taken to let everything pass.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import ClassVar

from oaktag.core.accesslist import AccessList
from oaktag.core.addressed import named_by
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.failures import worst
from oaktag.core.judging import Judge
from oaktag.core.network import Feed
from oaktag.core.observed import HeldJudge, ObservedKnowledge, open_list
from oaktag.core.packets import boxes_of
from oaktag.core.placement import Host, node_hosts
from oaktag.core.reach import Flow, State
from oaktag.errors import UnreadableList
from oaktag.operations.failures import told
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import able_of, dialect_of, endings, list_text
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.observed_file import HeldList, Report, read_reports


@dataclass(frozen=True, eq=False, repr=False)
class Drift(Result):
    """What nodes report and what is intended, where the two differ."""

    drift: list[Row]
    silent: list[str]
    command: ClassVar[str] = "drift"
    table: ClassVar[str] = "drift"


SHOWN = 20
KINDS = ("bindings", "lists", "feeds")


class Observed:
    """A model together with what its nodes report.

    Attributes:
        unread: point → why its list cannot be read.
        strange: reported points that the workspace has not, by node.
    """

    def __init__(self, model: Model, folder: Path) -> None:
        self.reports = read_reports(folder, model.network.nodes, endings(model))
        self.unread: dict[str, str] = {}
        self.strange: dict[str, list[str]] = {}
        self.trees: dict[str, AccessList] = {}
        for node, held in self.lists():
            point = model.network.points.get(held.point)
            if point is None or point.node != node:
                self.strange.setdefault(node, []).append(held.point)
                continue
            try:
                tree = _held(model, held)
            except UnreadableList as error:
                self.unread[held.point] = str(error)
                tree = open_list(held.point)
            if tree is not None:
                self.trees[held.point] = tree
        boxes = [
            box
            for tree in self.trees.values()
            for chain in tree.chains.values()
            for entry in chain
            if entry.region is not None
            for box in boxes_of(entry.region)
        ]
        self.model = model.cut_along(boxes)
        self.tables = {
            report.node: Lookup(
                [Binding(p, tag, source) for p, tag, source in report.bindings],
                model.files.config.binding_order,
            )
            for report in self.reports.values()
            if report.bindings is not None
        }
        self._judges = {
            name: HeldJudge(
                model.network.points[name], self.model.matrix, tree, model.network.inside_pairs
            )
            for name, tree in self.trees.items()
        }
        # Everybody stands for himself also where only a report tells him from his neighbours.
        told_by = [*self.tables.values()]
        for judge in self._judges.values():
            told_by += [*judge.tables(told_by[0] if told_by else model.registry), *judge.marks]
        self.hosts = self.model.hosts = self.model.hosts_told(told_by)
        #: Those and the addresses of nodes that guard themselves.
        self.toward = self.hosts.and_also(list(self._homes()))

    def _homes(self) -> Iterator[Host]:
        model = self.model
        for host in node_hosts(model.groups, model.network, model.registry):
            if any(p.own and p.mode != "off" for p in model.network.nodes[host.node].points):
                yield host

    def lists(self) -> Iterator[tuple[str, HeldList]]:
        """What every point says of its list, by node."""
        for report in self.reports.values():
            for held in report.points:
                yield report.node, held

    def down(self, report: Report) -> list[Feed]:
        """Feeds that are meant to be up, and that their receiver says are down."""
        return [
            f
            for f in self.model.network.feeds
            if f.receiver == report.node and f.up and report.feeds.get(f.name) == "down"
        ]

    def state(self, node: str | None = None, kind: str | None = None) -> State:
        """The network as reported; or as intended but for one kind of what one node reports."""
        model = self.model
        tables: dict[str, Lookup] = {}
        judges: dict[str, Judge] = dict(model.state.judges)
        lost: list[Feed] = []
        for report in self.reports.values():
            if node not in (None, report.node):
                continue
            if report.node in self.tables and kind in (None, "bindings"):
                tables[report.node] = self.tables[report.node]
            if kind in (None, "feeds") and report.bindings is None:
                lost += self.down(report)  # else its bindings say what became of it
            for held in report.points if kind in (None, "lists") else ():
                if held.point in self.strange.get(report.node, ()):
                    continue
                judges[held.point] = self._judge(held)
        knowledge = model.knowledge
        if lost:
            knowledge = knowledge.less(model.network, lost)
        observed = ObservedKnowledge(knowledge, tables)
        return State(model.matrix, model.network, model.paths, observed, judges)

    def _judge(self, held: HeldList) -> Judge:
        model = self.model
        point = model.network.points[held.point]
        if held.mode is not None:
            point = point._replace(mode=held.mode)  # type: ignore[arg-type]
        if held.point in self.trees:
            return HeldJudge(
                point, model.matrix, self.trees[held.point], model.network.inside_pairs
            )
        return Judge(point, model.matrix, model.scope(point))


def _held(model: Model, held: HeldList) -> AccessList | None:
    """The list that a point holds; None where it says nothing of it, or that it is the one meant.

    Raises:
        UnreadableList: nobody can say what it holds.
    """
    if held.text is not None:
        point = model.network.points[held.point]
        if not dialect_of(model, point).reads and held.text == list_text(model, point):
            return None
        tree = dialect_of(model, point).read(held.text)
        if tree.point != held.point:
            raise UnreadableList(2, f"this is the list of {tree.point}")
        if not able_of(model, point).tables:
            tree = named_by(tree, model.knowledge.at(point.node).ranges)
        return tree
    if held.sha256 is None:
        return None
    point = model.network.points[held.point]
    meant = "" if point.mode == "off" else list_text(model, point)
    if held.sha256 == sha256(meant.encode()).hexdigest():
        return None
    raise UnreadableList(1, "only its hash is reported, which is not that of the list meant")


def drift(model: Model, folder: Path) -> Drift:
    """What differs between what is intended and what nodes report, and what it does to traffic.

    Raises:
        UsageError: there are no reports.
        WorkspaceError: the reports cannot be read.
    """
    seen = Observed(model, folder)
    intended = worst(seen.model.state.flows(seen.hosts, seen.toward))
    rows: list[Document] = []
    for report in seen.reports.values():
        found = {
            "bindings": list(_bindings(seen, report)),
            "lists": list(_lists(model, seen, report)),
            "feeds": list(_feeds(model, report)),
            "names": list(_names(model, report)),
        }
        for kind, differences in found.items():
            if not differences:
                continue
            turned: list[Flow] = []
            if kind in KINDS:
                after = worst(seen.state(report.node, kind).flows(seen.hosts, seen.toward))
                turned = [
                    f for ends, f in after.items()
                    if f.effect != "exact" and intended[ends].effect == "exact"
                ]  # fmt: skip
            counts = {e: [f for f in turned if f.effect == e] for e in ("leak", "break", "one-way")}
            first = next((of[0] for of in counts.values() if of), None)
            rows.append(
                {
                    "node": report.node, "kind": kind, "differences": differences,
                    "leaks": len(counts["leak"]), "breaks": len(counts["break"]),
                    "one_way": len(counts["one-way"]),
                    "known": not any(p.point in seen.unread for p in report.points)
                    or kind != "lists",
                    "example": told(model, first) if first else "",
                }
            )  # fmt: skip
    rows.sort(
        key=lambda r: (r["known"], -r["leaks"], -r["breaks"], -r["one_way"], r["node"], r["kind"])
    )
    silent = [n for n in model.network.nodes if n not in seen.reports]
    return Drift(drift=rows, silent=silent)


def _bindings(seen: Observed, report: Report) -> Iterator[Document]:
    model = seen.model
    if report.bindings is None:
        return
    known, table = model.knowledge.at(report.node), seen.tables[report.node]
    meant = {b.prefix: b.tag for b in known.in_force}
    held = {b.prefix: b.tag for b in table.in_force}
    for prefix in sorted({*meant, *held}):
        was, now = meant.get(prefix), held.get(prefix)
        if was != now:
            what = "missing" if now is None else "extra" if was is None else "wrong tag"
            yield {
                "what": what, "about": str(prefix),
                "meant": "" if was is None else model.groups.name(was),
                "held": "" if now is None else model.groups.name(now),
            }  # fmt: skip


def _lists(model: Model, seen: Observed, report: Report) -> Iterator[Document]:
    for held in report.points:
        if held.point in seen.strange.get(report.node, ()):
            where = model.network.points.get(held.point)
            meant = "" if where is None else f"at {where.node}"
            yield {"what": "a point not meant here", "about": held.point, "meant": meant,
                   "held": held.mode or "reported"}  # fmt: skip
            continue
        point = model.network.points[held.point]
        if held.mode is not None and held.mode != point.mode:
            yield {"what": "other mode", "about": held.point, "meant": point.mode,
                   "held": held.mode}  # fmt: skip
        digest = held.sha256
        if held.text is not None:
            digest = sha256(held.text.encode()).hexdigest()
        if digest is None:
            continue
        wanted = "" if point.mode == "off" else list_text(model, point)
        meant = sha256(wanted.encode()).hexdigest()
        if digest != meant:
            unread = seen.unread.get(held.point)
            said = f"; not known, so taken to let everything pass: {unread}" if unread else ""
            yield {"what": "other list", "about": held.point, "meant": meant[:12],
                   "held": f"{digest[:12]}{said}"}  # fmt: skip


def _feeds(model: Model, report: Report) -> Iterator[Document]:
    for feed in model.network.feeds:
        state = report.feeds.get(feed.name)
        meant = "up" if feed.up else "down"
        if feed.receiver == report.node and state not in (None, meant):
            yield {"what": f"feed {state}", "about": feed.name, "meant": meant, "held": state}


def _names(model: Model, report: Report) -> Iterator[Document]:
    for tag, name in report.groups.items():
        index = model.groups.by_tag.get(tag)
        meant = "" if index is None else model.groups.all[index].id
        if meant != name:
            yield {"what": "named differently", "about": str(tag), "meant": meant, "held": name}
