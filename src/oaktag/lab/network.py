"""The network of a lab in being: of the one plan it makes the other, in place.

What stays in both plans is not touched. First comes what is new, then routes lead over it, then
bindings travel, and each point gets its list and its tables in one transaction; what is gone goes
last. Flows that a new list denies are ended.
"""

from __future__ import annotations

import socket
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from typing import Any

from oaktag.core.accesslist import AccessList
from oaktag.core.acting import act
from oaktag.core.addresses import Range, parse_address, parse_prefix
from oaktag.core.bindings import Binding, Lookup
from oaktag.dialects import DIALECTS, nftables, nftables_dump, nftables_live
from oaktag.errors import OakTagError
from oaktag.lab import marks, wiring
from oaktag.lab.feeds import Exchange
from oaktag.lab.flows import Flow, end, flows
from oaktag.lab.namespaces import inside, load, run
from oaktag.lab.plan import REGISTRY, LabHost, LabPlan, Probe, Row, Turned, turned
from oaktag.lab.wiring import Numbers, Orders

#: Seconds until all bindings must have arrived.
PATIENCE = 30.0
#: The protocols of probes that have a port to be sent from.
PORTED = {"tcp": socket.IPPROTO_TCP, "udp": socket.IPPROTO_UDP}
KINDS = ("nodes", "hosts", "links", "feeds", "points")


class LabNetwork:
    """A network of namespaces.

    Attributes:
        plan: what it is made as.
        loaded: the text of each list that was loaded.
    """

    def __init__(self) -> None:
        self.plan = LabPlan()
        self._guests: dict[str, LabHost] = {}
        self.loaded: dict[str, str] = {}
        self._ranges: dict[str, list[Range]] = {}
        self._rows: dict[str, frozenset[Row]] = {}
        self._learnt: dict[str, tuple[int, int]] = {}
        self._marked: dict[str, list[Range]] = {}
        self._tables: dict[str, str] = {}
        self._numbers = {kind: Numbers() for kind in KINDS}
        self._exchange = Exchange(self._place)
        self._versions: dict[str, int] = {}

    # -- names -----------------------------------------------------------------------------------

    def node(self, name: str) -> str:
        """The namespace of a node."""
        return f"n{self._numbers['nodes'][name]}"

    def space(self, name: str) -> str:
        """The namespace of a host or a node."""
        if name in self.plan.hosts or name in self._guests:
            return f"h{self._numbers['hosts'][name]}"
        return self.node(name)

    def addresses(self, name: str) -> list[str]:
        """The addresses of a host or a node, without lengths."""
        held = self.plan.hosts.get(name) or self.plan.nodes[name]
        return [a.split("/")[0] for a in held.addresses]

    def devices(self, node: str) -> dict[str, tuple[str, bool]]:
        """The devices on which a node's links can be listened to: the link, and whether tags stand
        in the frames there."""
        found: dict[str, tuple[str, bool]] = {}
        for name, link in self.plan.links.items():
            if node in (link.a, link.b):
                number = self._numbers["links"][name]
                found[f"{'u' if link.carries else 'l'}{number}"] = name, link.carries
        return found

    def _place(self, name: str) -> tuple[str, str]:
        if name == REGISTRY:
            return REGISTRY, wiring.feed_address(-1)
        return self.node(name), wiring.feed_address(self._numbers["nodes"][name])

    # -- from one plan to the other ----------------------------------------------------------------

    async def become(self, plan: LabPlan, *, lists: bool, restore: bool = False) -> dict[str, Any]:
        """Make it the network of another plan.

        Args:
            plan: what it is to be.
            lists: whether points get their lists; without, those that hold one lose it.
            restore: whether points whose list is not as it was loaded get it again.

        Returns:
            of each kind what has come, is gone or is another by now; how many flows were ended; of
            nodes that know otherwise how many bindings came, and how many are gone.

        Raises:
            OakTagError: a program of the system refuses, or bindings do not arrive.
        """
        was = self.plan
        touched = {p for p in self.loaded if restore and self.touched(p, beside=False)}
        ways = {kind: turned(getattr(was, kind), getattr(plan, kind)) for kind in KINDS}
        come, go = Orders(), Orders()
        if not was.nodes:
            wiring.registry(come)
        self._nodes(plan, ways["nodes"], come, go)
        self._links(plan, ways["links"], come, go)
        self._hosts(plan, ways["hosts"], come, go)
        self._routes(plan, ways["links"], come)
        come.run()
        self.plan = plan
        ruled: dict[str, list[Callable[[], None]]] = {}
        for name in (*ways["nodes"].come, *ways["nodes"].other):
            node, before = plan.nodes[name], was.nodes.get(name)
            if before is None or (node.marks, node.carries) != (before.marks, before.carries):
                self._versions.pop(name, None)  # for it may mark by now, or no longer
                text = marks.rules(marks=node.marks, carries=node.carries)
                ruled.setdefault(name, []).append(partial(load, text))
        self._give(ruled)
        await self._feeds(was, plan, ways["feeds"])
        wanted = {n: p.text for n, p in plan.points.items()} if lists else {}
        ended = self._lists(was, wanted, touched)
        go.run()
        for name in ways["nodes"].gone:
            self._numbers["nodes"].take(name, self._numbers["nodes"][name])
            self._exchange.forget(name)
            self._ranges.pop(name, None)
            self._rows.pop(name, None)
            self._marked.pop(name, None)
            self._versions.pop(name, None)
        kinds = {kind: way._asdict() for kind, way in ways.items()}
        restored = sorted(touched & wanted.keys())
        return {**kinds, "ended": ended, "tables": self._learnt, "restored": restored}

    def _nodes(self, plan: LabPlan, way: Turned, come: Orders, go: Orders) -> None:
        numbers = self._numbers["nodes"]
        for name in way.come:
            wiring.node_comes(come, numbers.give(name))
        for name in (*way.come, *way.other):
            before = self.plan.nodes.get(name)
            was, now = before.addresses if before else [], plan.nodes[name].addresses
            number = numbers[name]
            wiring.own_addresses(come, number, "del", [a for a in was if a not in now])
            wiring.own_addresses(come, number, "add", [a for a in now if a not in was])
        for name in way.gone:
            wiring.node_goes(go, numbers[name])

    def _links(self, plan: LabPlan, way: Turned, come: Orders, go: Orders) -> None:
        numbers, nodes = self._numbers["links"], self._numbers["nodes"]
        for name in (*way.gone, *way.other):
            link, number = self.plan.links[name], numbers[name]
            if link.a in plan.nodes or link.b in plan.nodes:
                wiring.link_goes(go, number, (nodes[link.a], nodes[link.b]), link)
        for name in (*way.come, *way.other):
            link = plan.links[name]
            before = numbers[name] if name in way.other else None
            wiring.link_comes(come, numbers.give(name), (nodes[link.a], nodes[link.b]), link)
            if before is not None:
                numbers.take(name, before)
        for name in way.gone:  # what comes before it goes cannot have its number
            numbers.take(name, numbers[name])

    def _hosts(self, plan: LabPlan, way: Turned, come: Orders, go: Orders) -> None:
        numbers, nodes = self._numbers["hosts"], self._numbers["nodes"]
        for name in way.gone:
            wiring.host_goes(go, numbers[name], nodes[self.plan.hosts[name].node])
        for name in way.come:
            host = plan.hosts[name]
            wiring.host_comes(come, numbers.give(name), nodes[host.node], host)
        for name in way.gone:
            numbers.take(name, numbers[name])
        for name in way.other:  # at the same node: another one would be of another name
            before, now = self.plan.hosts[name], plan.hosts[name]
            at = numbers[name], nodes[now.node]
            wiring.addressed(come, *at, before.addresses, now.addresses)

    def _routes(self, plan: LabPlan, links: Turned, come: Orders) -> None:
        remade = {*links.come, *links.other}
        for name, node in plan.nodes.items():
            before = self.plan.nodes[name].routes if name in self.plan.nodes else {}
            number = self._numbers["nodes"][name]
            for prefix, link in node.routes.items():
                if before.get(prefix) != link or link in remade:
                    side = 1 if plan.links[link].a == name else 0
                    at = self._numbers["links"][link]
                    wiring.route_leads(come, number, prefix, at, side)
            for prefix in before.keys() - node.routes.keys():
                wiring.route_goes(come, number, prefix)

    @contextmanager
    def guests(self, hosts: Mapping[str, LabHost]) -> Iterator[None]:
        """Hosts that are there besides those of the plan, for as long as this goes on."""
        numbers, nodes = self._numbers["hosts"], self._numbers["nodes"]
        come, go = Orders(), Orders()
        for name, host in hosts.items():
            number = numbers.give(name)
            wiring.host_comes(come, number, nodes[host.node], host)
            wiring.host_goes(go, number, nodes[host.node])
        try:
            come.run()
            self._guests = dict(hosts)
            yield
        finally:
            self._guests = {}
            try:
                go.run()
            finally:
                for name in hosts:
                    numbers.take(name, numbers[name])

    async def _feeds(self, was: LabPlan, plan: LabPlan, way: Turned) -> None:
        exchange, numbers = self._exchange, self._numbers["feeds"]
        for name in (*way.gone, *way.other):
            await exchange.stop(name)
            numbers.take(name, numbers[name])
        exchange.learn(REGISTRY, plan.registry, relays=True)
        for name, node in plan.nodes.items():
            exchange.learn(name, node.learns, relays=node.relays)
        for name in (*way.come, *way.other):
            await exchange.start(name, plan.feeds[name], numbers.give(name))
        if not await exchange.settled(PATIENCE):
            late = ", ".join(n for n, f in exchange.feeds.items() if not f.settled)
            raise OakTagError(f"not all bindings arrived in {PATIENCE:g} s by {late}")

    # -- lists and tables ------------------------------------------------------------------------

    def _lists(self, was: LabPlan, wanted: dict[str, str], touched: Collection[str] = ()) -> int:
        """Bring lists and tables up to date, each point's in one transaction; those that somebody
        has touched are loaded whole. End what is now denied, and return how many flows that are."""
        orders: dict[str, list[Callable[[], None]]] = {}
        gone = {
            p for p in self.loaded
            if p not in wanted or self.plan.points[p].node != was.points[p].node
        }  # fmt: skip
        for point in sorted(gone):
            table = self._tables.pop(point)
            if was.points[point].node in self.plan.nodes:
                drop = partial(load, f"delete table inet {table}\n")
                orders.setdefault(was.points[point].node, []).append(drop)
        judging: set[str] = set()
        ranges, self._learnt = dict(self._ranges), {}
        alike: dict[frozenset[Row], list[Range]] = {}
        for name in self.plan.nodes:
            known = self._exchange.known(name)
            if self._versions.get(name) == known.version:
                continue
            rows = frozenset(known.rows())
            old = self._rows.get(name, frozenset())
            self._learnt[name] = len(rows - old), len(old - rows)
            self._rows[name] = rows
            if rows not in alike:
                alike[rows] = ranges_of(rows, self.plan.order)
            self._ranges[name] = alike[rows]
            self._versions[name] = known.version
        for name, node in self.plan.nodes.items():
            # Who comes in here is on one of its own segments.
            fresh = _on(self._ranges[name], node.grounds) if node.marks else []
            for text in nftables_live.remark(marks.TABLE, self._marked.get(name, []), fresh):
                orders.setdefault(name, []).append(partial(load, text))
            self._marked[name] = fresh
        for point, text in wanted.items():
            name = self.plan.points[point].node
            before = None if point in gone or point in touched else self.loaded.get(point)
            if before == text and name not in self._learnt:
                continue
            tags = was.points[point].tags if before is not None else []
            held = point, before, text, ranges.get(name, []), tags
            orders.setdefault(name, []).append(partial(self._load, *held))
            judging.add(name)
        self._give(orders)
        self.loaded = wanted
        return self._end(judging)

    def _give(self, orders: dict[str, list[Callable[[], None]]]) -> None:
        """Do things in the namespaces of nodes."""

        def one(item: tuple[str, list[Callable[[], None]]]) -> None:
            with inside(self.node(item[0])):
                for order in item[1]:
                    order()

        with ThreadPoolExecutor(4) as pool:
            list(pool.map(one, orders.items()))

    def _load(
        self, point: str, before: str | None, text: str, was: list[Range], tags: list[int]
    ) -> None:
        """Give a point, in whose node's namespace we are, its list and tables: in one transaction;
        where that is too large for one, beside the old one, which one transaction replaces."""
        now = self.plan.points[point]
        ranges, table = self._ranges[now.node], nftables.table_name(point)
        old = self._tables.get(point)
        if before is not None and old is not None:
            kept, keeps = (nftables_live.keeps_frames(held) for held in (before, text))
            few = len(ranges) + len(was) <= nftables_live.FEW
            rebound = (
                nftables_live.refill(old, was, ranges, now.tags, kept=kept, keeps=keeps)
                if few
                else nftables_live.rebind(old, was, ranges, tags, now.tags, kept=kept, keeps=keeps)
            )
            try:
                load(nftables_live.change(old, before, text, rebound))
            except OakTagError as error:
                if "Message too long" not in str(error):
                    raise
            else:
                return
        if old == table:
            table += "_"
        *parts, last = nftables_live.load(table, text, ranges, now.tags)
        for part in parts:
            load(part)
        # Whoever took it away by hand: what is not there cannot be deleted.
        load(last + (f"table inet {old}\ndelete table inet {old}\n" if old is not None else ""))
        self._tables[point] = table

    def _end(self, nodes: Collection[str]) -> int:
        """End the flows that some nodes know and a point there denies by now."""
        ended = 0
        for name in sorted(nodes):
            lists = self.lists_at(name).values()
            with inside(self.node(name)):
                gone = [f for f in flows() if any(_denied(f, held) for held in lists)]
                end(gone)
            ended += len(gone)
        return ended

    def lists_at(self, node: str) -> dict[str, AccessList]:
        """The lists that the points of a node hold, with the bindings that they go by now."""
        bound = tuple(self._ranges[node])
        return {
            point: replace(
                DIALECTS["nftables"].read(text), source_bindings=bound, destination_bindings=bound
            )
            for point, text in self.loaded.items()
            if self.plan.points[point].node == node
        }

    def forget(self, probes: Iterable[Probe]) -> None:
        """Let all nodes forget the flows of earlier probes from the same ports, either way."""
        ways = {
            (
                PORTED[p.protocol],
                _end(p.source_address, p.source_port),
                _end(p.destination_address, p.port),
            )
            for p in probes
            if p.source_port
        }
        ways |= {(protocol, two, one) for protocol, one, two in ways}
        for name in self.plan.nodes if ways else ():
            with inside(self.node(name)):
                end([flow for flow in flows() if _way(flow) in ways])

    # -- what is there ---------------------------------------------------------------------------

    def knows(self, node: str) -> list[Row]:
        """All bindings that a node knows, those that lose included."""
        return sorted(self._exchange.known(node).rows(), key=str)

    def brought(self) -> dict[str, int]:
        """How many bindings each feed has brought."""
        return {
            name: len(self._exchange.known(feed.receiver).heard.get(name, {}))
            for name, feed in self.plan.feeds.items()
        }

    def holds(self, point: str, *, beside: bool = True) -> str:
        """The text of the list that the kernel holds for a point, and behind it every table that
        somebody else has put there: packets meet these as well."""
        table, node = self._tables[point], self.plan.points[point].node
        ours = {f"inet {self._tables[p]}" for p in self._tables if self.plan.points[p].node == node}
        ours.add(f"inet {marks.TABLE}")
        with inside(self.node(node)):
            every = [
                line.removeprefix("table ") for line in run(["nft", "list", "tables"]).splitlines()
            ]
            if f"inet {table}" not in every:
                return f"# the table {table} of the point {point} is gone\n"
            dump = run(["nft", "-n", "-s", "list", "table", "inet", table])
            others = [
                run(["nft", "-n", "-s", "list", "table", *other.split()])
                for other in every
                if beside and other not in ours
            ]
        named = dump.replace(table, nftables.table_name(point), 1)
        return nftables_dump.as_written(point, named, self.loaded[point]) + "".join(others)

    def touched(self, point: str, *, beside: bool = True) -> bool:
        """Whether the kernel holds another list than was loaded, with the bindings of now; or, with
        ``beside``, tables of somebody else."""
        meant = self.lists_at(self.plan.points[point].node)[point]
        return self.holds(point, beside=beside) != nftables.write(meant)

    def counts(self, point: str) -> dict[str, dict[str, int]]:
        """Packets of every cell of a point: destination tag → source tag → count."""
        table = self._tables[point]
        with inside(self.node(self.plan.points[point].node)):
            return nftables_live.cell_counts(run(["nft", "-j", "list", "table", "inet", table]))

    async def close(self) -> None:
        """End its feeds."""
        await self._exchange.close()


def ranges_of(rows: Iterable[Row], order: list[str]) -> list[Range]:
    """Bindings as disjoint ranges, those in force."""
    bindings = [Binding(parse_prefix(p), tag, source, since) for p, tag, source, since in rows]
    return list(Lookup(bindings, order).ranges)


def _on(ranges: list[Range], grounds: list[str]) -> list[Range]:
    """The ranges with addresses on some prefixes."""
    prefixes = [parse_prefix(ground) for ground in grounds]
    return [
        r for r in ranges
        if any(p.family == r.family and p.start <= r.end and r.start <= p.end for p in prefixes)
    ]  # fmt: skip


def _end(address: str, port: int) -> tuple[int, int, int]:
    return *parse_address(address), port


def _way(flow: Flow) -> tuple[int, tuple[int, int, int], tuple[int, int, int]]:
    """Protocol and both ends of the packet that opened a flow."""
    _, protocol, source_port, destination_port = flow.packet
    return protocol, _end(flow.source, source_port), _end(flow.destination, destination_port)


def _denied(flow: Flow, held: AccessList) -> bool:
    """Whether a list that lets known flows pass would not let this one open."""
    if not held.stateful:
        return False
    source, destination = (parse_address(a)[1] for a in (flow.source, flow.destination))
    return act(held, flow.packet, source, destination, flow.frame).action == "deny"
