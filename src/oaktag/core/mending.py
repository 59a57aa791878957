"""The cheapest set of changes after which nothing leaks (and, as asked, nothing breaks).

Rules kept here (semantics, section 6): add a feed, let a capable link or node carry tags, let a
capable node mark or become a point, widen a scope; exact, as an integer program, with its cost.

One binary variable stands for each possible change. A set of changes is tried by running reach on
the changed network; each row that is still wrong gives a constraint: of the changes that the row
can depend on, some must be chosen otherwise than now. The program is solved again until nothing is
wrong: its solution is then the cheapest, for every constraint holds in every network without that
wrong row. Changes that make something worse, or that help only together, need no rule of their own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np

from oaktag.core.bindings import Binding
from oaktag.core.network import REGISTRY, Feed, Network, Point, Scope
from oaktag.core.placement import Host
from oaktag.core.reach import Flow, Reach, State

Kind = Literal["feed", "link carries", "node carries", "node marks", "point", "scope"]


class Change(NamedTuple):
    """One possible change: what it is done to, and its price."""

    kind: Kind
    what: str
    price: int
    to: str = ""


@dataclass(frozen=True, slots=True)
class Mended:
    """What the search found.

    ``changes`` are the cheapest, if ``proved``; else the search ended first, and no set of them
    can cost less than ``bound``. ``hopeless`` are rows that no change can mend, each once;
    ``tried`` counts the networks on which reach was run.
    """

    changes: tuple[Change, ...] | None
    cost: int
    proved: bool
    bound: float
    hopeless: tuple[Flow, ...]
    tried: int


def possible(network: Network, learned: dict[str, Sequence[Binding]]) -> list[Change]:
    """All changes that the files name, all feeds that could bring something, and all scopes."""
    found: list[Change] = []
    for node in network.nodes.values():
        prices = dict(node.can)
        if "carry" in prices and not node.carries:
            found.append(Change("node carries", node.name, prices["carry"]))
        if "mark" in prices and not node.marks:
            found.append(Change("node marks", node.name, prices["mark"]))
        if "point" in prices and not node.points:
            found.append(Change("point", node.name, prices["point"]))
    for link in network.links:
        if dict(link.can).get("carry") is not None and not link.carries:
            found.append(Change("link carries", link.name, dict(link.can)["carry"]))
    prices = dict(network.prices)
    held = {(f.sender, f.receiver) for f in network.feeds if f.up and not (f.prefixes or f.tags)}
    for sender in (REGISTRY, *network.nodes):
        speaks = sender == REGISTRY or learned.get(sender) or network.nodes[sender].relays
        for receiver in network.nodes.values() if speaks and "feed" in prices else ():
            listens = receiver.points or receiver.marks or receiver.relays or receiver.can
            if listens and sender != receiver.name and (sender, receiver.name) not in held:
                found.append(Change("feed", sender, prices["feed"], receiver.name))
    for point in network.points.values():
        if point.scope.kind != "all" and "scope" in prices:
            found.append(Change("scope", point.id, prices["scope"]))
    return found


def changed(network: Network, changes: Sequence[Change]) -> Network:
    """The network with the changes made."""
    nodes, links, feeds = dict(network.nodes), list(network.links), list(network.feeds)
    for change in changes:
        if change.kind == "feed":
            feeds.append(Feed(f"{change.what}>{change.to}", change.what, change.to))
        elif change.kind == "link carries":
            links = [k._replace(carries=True) if k.name == change.what else k for k in links]
        elif change.kind == "scope":
            node = nodes[network.points[change.what].node]
            points = tuple(
                p._replace(scope=Scope()) if p.id == change.what else p for p in node.points
            )
            nodes[node.name] = node._replace(points=points)
        elif change.kind == "point":
            made = Point(change.what, inside=True, location=nodes[change.what].location)
            nodes[change.what] = nodes[change.what]._replace(points=(made,))
        else:
            node = nodes[change.what]
            carries, marks = change.kind == "node carries", change.kind == "node marks"
            nodes[change.what] = node._replace(
                carries=node.carries or carries, marks=node.marks or marks
            )
    made_network = Network(list(nodes.values()), list(network.segments.values()), links, feeds)
    made_network.prices = network.prices
    return made_network


def mend(
    choices: Sequence[Change],
    build: Callable[[Sequence[Change]], State],
    hosts: Sequence[Host],
    bindings: Callable[[str], Sequence[Binding]],
    *,
    breaks: bool,
    late: Callable[[], bool],
    progress: Callable[[str], None] | None = None,
) -> Mended:
    """The cheapest of the choices after which no row leaks (or breaks, as asked).

    Args:
        choices: all possible changes.
        build: the state of the network with some of them made.
        hosts: everybody who is somewhere.
        bindings: what the registry or a node could send over a feed.
        breaks: whether nothing may break either.
        late: whether the search shall end, with a bound.
        progress: told how far it is.
    """
    search = _Search(choices, build, hosts, bindings, breaks, late, progress)
    while True:
        solved = search.solve()
        if solved is None:
            if search.give_up_rows():
                continue
            return search.found(None, proved=not search.late)
        chosen, bound = solved
        search.bound = bound
        if not search.try_out(chosen):
            return search.found(chosen, proved=True)
        if search.late:
            return search.found(None, proved=False)


Row = tuple[object, object, object]
#: After so many new constraints the program is solved again.
MOST_NEW = 400


class _Search:
    """Constraints by row, as they are learned, and rows that nothing mends."""

    def __init__(
        self,
        choices: Sequence[Change],
        build: Callable[[Sequence[Change]], State],
        hosts: Sequence[Host],
        bindings: Callable[[str], Sequence[Binding]],
        breaks: bool,
        late: Callable[[], bool],
        progress: Callable[[str], None] | None,
    ) -> None:
        self.choices = choices
        self.build = build
        self.hosts = hosts
        self.bindings = bindings
        self.breaks = breaks
        self._late = late
        self.progress = progress
        self.cuts: dict[Row, dict[Cut, None]] = {}
        self.hopeless: dict[Row, Flow] = {}
        self.last: dict[Row, Flow] = {}
        self.tried = 0
        self.bound = 0.0

    @property
    def late(self) -> bool:
        """Whether time is up."""
        return self._late()

    def solve(self) -> tuple[tuple[int, ...], float] | None:
        """The cheapest choice that meets all constraints of rows that are not hopeless."""
        every = dict.fromkeys(cut for held in self.cuts.values() for cut in held)
        return _solve(self.choices, list(every))

    def try_out(self, chosen: tuple[int, ...], only: Row | None = None) -> set[Row]:
        """Run reach with some changes made; learns from rows that are wrong, and returns these.

        Of very many it takes those that say something new, up to a limit: any of them will do to
        solve the program again; one more in the answer stands for those not looked at. Rows that
        turn out to be hopeless are among them: without their constraints something cheaper may do.
        ``only`` asks of the ends of one row.
        """
        if self.progress is not None:
            cost = sum(self.choices[c].price for c in chosen)
            self.progress(f"{self.tried} networks tried, cost {cost}")
        state = self.build([self.choices[c] for c in chosen])
        self.tried += 1
        wrong: dict[Row, None] = {}
        fresh: set[Cut] = set()
        whole = True
        for found in _wrong(state, self.hosts, only, breaks=self.breaks):
            if len(fresh) >= MOST_NEW or (found is None and self.late):
                whole = False
                break
            if found is None:
                continue
            a, b, flow = found
            row: Row = (flow.source, flow.destination, flow.path and flow.path.nodes)
            if row in self.hopeless:
                continue
            related = _related(self.choices, flow, a, b, self.bindings, state.network)
            cut = (
                tuple(c for c in related if c in chosen),
                tuple(c for c in related if c not in chosen),
            )
            if cut in fresh and row not in self.cuts and any(cut):
                whole = False  # another row says the same
                continue
            fresh.add(cut)
            self.cuts.setdefault(row, {})[cut] = None
            self.last[row] = flow
            wrong[row] = None
        for row in wrong:
            self._weigh(row)
        if not whole:
            return {*wrong, ("not", "all", None)}
        return {row for row in wrong if row not in self.hopeless or chosen}

    def _weigh(self, row: Row) -> bool:
        """Whether a row is hopeless: its constraints alone cannot be met."""
        held = self.cuts[row]
        if len(held) == 1 and any(next(iter(held))):
            return False
        if _solve(self.choices, list(self.cuts[row])) is not None:
            return False
        self.hopeless[row] = self.last[row]
        del self.cuts[row]
        return True

    def give_up_rows(self) -> bool:
        """All constraints together cannot be met: try each row alone; whether one is hopeless."""
        for row in list(self.cuts):
            while row in self.cuts and not self.late:
                solved = _solve(self.choices, list(self.cuts[row]))
                if solved is None or row not in self.try_out(solved[0], row):
                    break
            if row in self.hopeless:
                return True
        return False

    def found(self, chosen: tuple[int, ...] | None, *, proved: bool) -> Mended:
        """The answer."""
        made = None if chosen is None else tuple(self.choices[c] for c in chosen)
        bound = float("inf") if proved and made is None else self.bound
        return Mended(
            made, sum(c.price for c in made or ()), proved, bound, tuple(self.hopeless.values()),
            self.tried,
        )  # fmt: skip


#: Changes chosen, of which one must go, and changes not chosen, of which one must come: or both.
Cut = tuple[tuple[int, ...], tuple[int, ...]]


def _solve(choices: Sequence[Change], cuts: Sequence[Cut]) -> tuple[tuple[int, ...], float] | None:
    """The cheapest choice that meets every cut: of ``out`` one more, or of ``inside`` one less."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import lil_array

    if not cuts:
        return (), 0.0
    if any(not inside and not out for inside, out in cuts):
        return None
    rows = lil_array((len(cuts), len(choices)))
    least = np.zeros(len(cuts))
    for number, (inside, out) in enumerate(cuts):
        for c in out:
            rows[number, c] = 1
        for c in inside:
            rows[number, c] = -1
        least[number] = 1 - len(inside)
    prices = np.array([c.price for c in choices], dtype=float)
    solved = milp(
        prices, integrality=np.ones(len(choices), dtype=np.int64), bounds=Bounds(0, 1),
        constraints=LinearConstraint(rows.tocsc(), least, np.inf),
    )  # fmt: skip
    if not solved.success:
        return None
    return tuple(int(c) for c in np.flatnonzero(solved.x > 0.5)), float(solved.fun)


def _wrong(
    state: State, hosts: Sequence[Host], only: Row | None, *, breaks: bool
) -> Iterator[tuple[Host, Host, Flow] | None]:
    """Every row that is wrong, between two classes of hosts; None before each source."""
    classes = state.classes(hosts)
    ones = [c for c in classes if only is None or _end(c.host) == only[0]]
    twos = [c for c in classes if only is None or _end(c.host) == only[1]]
    last: Host | None = None
    for row in Reach(state, ones, classes if only is None else twos).by_class():
        a, b, outcome = row.a.host, row.b.host, row.outcome
        if a is not last:
            last = a
            yield None
        if outcome.leaks or (breaks and outcome.breaks):
            family = a.family
            yield a, b, Flow(
                _end(a), _end(b), row.path, "unenforced", None, (), {family: outcome.leaks},
                {family: outcome.breaks},
            )  # fmt: skip


def _end(host: Host) -> tuple[str, int]:
    return host.segment or host.node, host.group


def _related(
    choices: Sequence[Change],
    flow: Flow,
    a: Host,
    b: Host,
    bindings: Callable[[str], Sequence[Binding]],
    network: Network,
) -> list[int]:
    """The changes that a row can depend on."""
    if flow.path is None:
        return []
    nodes, names = flow.path.nodes, {k.name for k in flow.path.links}
    may = {kind: {c.what for c in choices if c.kind == kind} for kind in ("point", "node marks")}
    judging = {n for n in nodes if network.nodes[n].points or n in may["point"]}
    if not judging:
        return []
    telling = set(judging)
    if network.nodes[nodes[0]].marks or nodes[0] in may["node marks"]:
        telling.add(nodes[0])
    return [
        n
        for n, change in enumerate(choices)
        if (
            (change.kind == "link carries" and change.what in names)
            or (change.kind == "node carries" and change.what in nodes[1:-1])
            or (change.kind == "node marks" and change.what == nodes[0])
            or (change.kind == "point" and change.what in nodes)
            or (change.kind == "scope" and network.points[change.what].node in nodes)
            or (change.kind == "feed" and _matters(change, telling, (a, b), bindings, network))
        )
    ]  # fmt: skip


def _matters(
    change: Change,
    nodes: set[str],
    ends: tuple[Host, Host],
    bindings: Callable[[str], Sequence[Binding]],
    network: Network,
) -> bool:
    """Whether a feed can tell one of the nodes, or one that relays, of one of the ends."""
    if change.to not in nodes and not network.nodes[change.to].relays:
        return False
    if change.what != REGISTRY and network.nodes[change.what].relays:
        return True
    return any(
        b.prefix.family == h.family and b.prefix.start <= h.address <= b.prefix.end
        for b in bindings(change.what)
        for h in ends
    )
