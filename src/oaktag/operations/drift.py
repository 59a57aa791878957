"""``drift`` and ``reach --observed``: what nodes report against what is intended."""

from __future__ import annotations

from collections.abc import Iterator
from hashlib import sha256
from pathlib import Path

from oaktag.core.accesslist import AccessList
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.failures import worst
from oaktag.core.judging import Judge
from oaktag.core.observed import HeldJudge, ObservedKnowledge
from oaktag.core.packets import boxes_of
from oaktag.core.reach import State
from oaktag.dialects import nftables
from oaktag.errors import UnreadableList, UsageError
from oaktag.operations.documents import Document, document
from oaktag.operations.failures import told
from oaktag.operations.lists import list_text
from oaktag.operations.model import Model
from oaktag.workspace.observed_file import HeldList, Report, read_reports

SHOWN = 20


class Observed:
    """A model together with what its nodes report."""

    def __init__(self, model: Model, folder: Path) -> None:
        self.reports = read_reports(folder, model.network.nodes)
        self.unread: dict[str, str] = {}
        lists: dict[str, AccessList] = {}
        for held in self.lists():
            if held.point not in model.network.points:
                raise UsageError(f"a node reports the point {held.point!r}, which there is none of")
            if held.text is not None:
                try:
                    lists[held.point] = nftables.read(held.text)
                except UnreadableList as error:
                    self.unread[held.point] = str(error)
        boxes = [
            box
            for tree in lists.values()
            for chain in tree.chains.values()
            for entry in chain
            if entry.region is not None
            for box in boxes_of(entry.region)
        ]
        self.trees = lists
        self.model = model.cut_along(boxes)

    def lists(self) -> Iterator[HeldList]:
        """What every point says of its list."""
        for report in self.reports.values():
            yield from report.points

    def state(self, node: str | None = None, kind: str | None = None) -> State:
        """The network as reported; or as intended but for one node's bindings or lists."""
        model = self.model
        tables: dict[str, Lookup] = {}
        judges: dict[str, Judge] = dict(model.state.judges)
        for report in self.reports.values():
            if node not in (None, report.node):
                continue
            if report.bindings is not None and kind in (None, "bindings"):
                tables[report.node] = Lookup(
                    [Binding(p, tag, source) for p, tag, source in report.bindings],
                    model.files.config.binding_order,
                )
            for held in report.points if kind in (None, "lists") else ():
                point = model.network.points[held.point]
                if held.mode is not None:
                    point = point._replace(mode=held.mode)  # type: ignore[arg-type]
                tree = self.trees.get(held.point)
                judges[held.point] = (
                    HeldJudge(point, model.matrix, tree) if tree is not None
                    else Judge(point, model.matrix, model.scope(point))
                )  # fmt: skip
        knowledge = ObservedKnowledge(model.knowledge, tables)
        return State(model.matrix, model.network, model.paths, knowledge, judges)


def drift(model: Model, folder: Path) -> Document:
    """What differs between what is intended and what nodes report, and what it does to traffic.

    Raises:
        UsageError: there are no reports.
        WorkspaceError: the reports cannot be read.
    """
    seen = Observed(model, folder)
    intended = worst(seen.model.state.flows(seen.model.hosts, seen.model.hosts))
    rows: list[Document] = []
    for report in seen.reports.values():
        for kind, found in (
            ("bindings", list(_bindings(seen.model, report))),
            ("lists", list(_lists(model, seen, report))),
        ):
            if not found:
                continue
            after = worst(seen.state(report.node, kind).flows(seen.model.hosts, seen.model.hosts))
            turned = [
                f for ends, f in after.items()
                if f.effect != "exact" and intended[ends].effect == "exact"
            ]  # fmt: skip
            leaks = [f for f in turned if f.effect == "leak"]
            rows.append(
                {
                    "node": report.node, "kind": kind, "differences": found, "leaks": len(leaks),
                    "breaks": len(turned) - len(leaks),
                    "example": told(model, (leaks or turned)[0]) if turned else "",
                }
            )  # fmt: skip
        rest = [*_feeds(model, report), *_names(model, report)]
        if rest:
            rows.append({"node": report.node, "kind": "feeds and names", "differences": rest,
                         "leaks": 0, "breaks": 0, "example": ""})  # fmt: skip
    rows.sort(key=lambda r: (-r["leaks"], -r["breaks"], r["node"], r["kind"]))
    silent = [n for n in model.network.nodes if n not in seen.reports]
    return document("drift", drift=rows, silent=silent)


def _bindings(model: Model, report: Report) -> Iterator[Document]:
    if report.bindings is None:
        return
    known = model.knowledge.at(report.node)
    meant = {known.bindings[n].prefix: known.bindings[n].tag for n in known.winners}
    table = Lookup([Binding(p, tag, s) for p, tag, s in report.bindings],
                   model.files.config.binding_order)  # fmt: skip
    held = {table.bindings[n].prefix: table.bindings[n].tag for n in table.winners}
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
        point = model.network.points[held.point]
        if held.mode is not None and held.mode != point.mode:
            yield {"what": "other mode", "about": held.point, "meant": point.mode,
                   "held": held.mode}  # fmt: skip
        digest = held.sha256
        if held.text is not None:
            digest = sha256(held.text.encode()).hexdigest()
        if digest is None:
            continue
        meant = sha256(list_text(model, point).encode()).hexdigest()
        if digest != meant:
            known = "" if held.text is not None else " (only its hash is reported)"
            unread = f"; {seen.unread[held.point]}" if held.point in seen.unread else ""
            yield {"what": "other list", "about": held.point, "meant": meant[:12],
                   "held": f"{digest[:12]}{known}{unread}"}  # fmt: skip


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
