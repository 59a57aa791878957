"""The cheapest set of changes after which nothing leaks and nothing that was exact fares worse.

Rules kept here (semantics, section 6): add a feed, let a capable link or node carry tags, let a
capable node mark or become a point, widen a scope, a direction or ``inside``; exact, as an
integer program, with its cost. As asked, nothing may break either, or new breaks may be borne.

One binary variable stands for each possible change. A set of changes is tried by running reach
on the changed network; each row that is wrong there gives a constraint: of the changes that the
row can depend on, some must be chosen otherwise. A constraint says as little as it can: it
leaves out all changes that, made or not, leave the row as wrong (``prospects``). The program is
solved again until nothing is wrong: its solution is then the cheapest, for every constraint
holds in every network without that wrong row.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np

from oaktag.core.bindings import Binding
from oaktag.core.network import REGISTRY, Feed, Network, Point
from oaktag.core.placement import Host
from oaktag.core.prospects import Prospects
from oaktag.core.reach import Between, Reach, State

Measure = Literal[
    "feed", "link carries", "node carries", "node marks", "point", "scope", "direction", "inside"
]
Row = tuple[tuple[str, int], tuple[str, int], tuple[str, ...], tuple[str, ...]]
#: Changes chosen, of which one must go, and changes not chosen, of which one must come: or both.
Cut = tuple[frozenset[int], frozenset[int]]
#: After so many new constraints the program is solved again.
MOST_NEW = 40


class Change(NamedTuple):
    """One possible change: what it is done to, and its price."""

    kind: Measure
    what: str
    price: int
    to: str = ""


@dataclass(frozen=True, slots=True)
class Mended:
    """What the search found.

    ``changes`` are the cheapest, if ``proved``; else the best that was found before time ended, and
    no set can cost less than ``bound``. ``hopeless`` are rows that no change can mend, each once,
    ``left`` those that the changes do not mend, ``broken`` those that were exact and fare worse;
    ``tried`` counts the networks on which reach was run.
    """

    changes: tuple[Change, ...] | None
    cost: int
    proved: bool
    bound: float
    hopeless: tuple[Row, ...]
    left: tuple[Row, ...]
    broken: tuple[Row, ...]
    tried: int


def possible(network: Network, learned: Mapping[str, Sequence[Binding]]) -> list[Change]:
    """All changes that the files name, all feeds that could bring something, and all that points
    could judge besides."""
    found: list[Change] = []
    for node in network.nodes.values():
        prices = dict(node.can)
        if "carry" in prices and not node.carries:
            found.append(Change("node carries", node.name, prices["carry"]))
        if "mark" in prices and not node.marks:
            found.append(Change("node marks", node.name, prices["mark"]))
        if "point" in prices and not node.points:
            found.append(Change("point", node.name, prices["point"]))
    for number, link in enumerate(network.links):
        if dict(link.can).get("carry") is not None and not link.carries:
            found.append(Change("link carries", link.name, dict(link.can)["carry"], str(number)))
    prices = dict(network.prices)
    held = {(f.sender, f.receiver) for f in network.feeds if f.up and not (f.prefixes or f.tags)}
    for sender in (REGISTRY, *network.nodes):
        speaks = sender == REGISTRY or learned.get(sender) or network.nodes[sender].relays
        for receiver in network.nodes.values() if speaks and "feed" in prices else ():
            listens = receiver.points or receiver.marks or receiver.relays or receiver.can
            if listens and sender != receiver.name and (sender, receiver.name) not in held:
                found.append(Change("feed", sender, prices["feed"], receiver.name))
    for point in network.points.values():
        if point.mode == "off":
            continue
        if point.scope.kind != "all" and "scope" in prices:
            found.append(Change("scope", point.id, prices["scope"]))
        if (point.origins, point.targets) != (None, None) and "direction" in prices:
            found.append(Change("direction", point.id, prices["direction"]))
        if not point.inside and "inside" in prices:
            found.append(Change("inside", point.id, prices["inside"]))
    return found


def changed(network: Network, changes: Sequence[Change]) -> Network:
    """The network with the changes made."""
    nodes, links, feeds = dict(network.nodes), list(network.links), list(network.feeds)
    for change in changes:
        match change.kind:
            case "feed":
                feeds.append(Feed(f"{change.what}>{change.to}", change.what, change.to))
            case "link carries":
                links[int(change.to)] = links[int(change.to)]._replace(carries=True)
            case "point":
                made = Point(change.what, inside=True, location=nodes[change.what].location)
                nodes[change.what] = nodes[change.what]._replace(points=(made,))
            case "node carries":
                nodes[change.what] = nodes[change.what]._replace(carries=True)
            case "node marks":
                nodes[change.what] = nodes[change.what]._replace(marks=True)
            case "scope" | "direction" | "inside":
                node = nodes[network.points[change.what].node]
                points = tuple(
                    p.widened(change.kind) if p.id == change.what else p for p in node.points
                )
                nodes[node.name] = node._replace(points=points)
    made_network = Network(
        list(nodes.values()), list(network.segments.values()), links, feeds, checked=False
    )
    made_network.prices = network.prices
    return made_network


def mend(
    choices: Sequence[Change],
    build: Callable[[Sequence[Change]], State],
    hosts: Sequence[Host],
    prospects: Prospects,
    *,
    breaks: bool,
    even_if_breaks: bool,
    late: Callable[[], bool],
    progress: Callable[[str], None] | None = None,
) -> Mended:
    """The cheapest of the choices after which no row leaks (or breaks, as asked).

    Args:
        choices: all possible changes.
        build: the state of the network with some of them made.
        hosts: everybody who is somewhere.
        prospects: what becomes of a row, whatever some of the changes do.
        breaks: whether nothing may break either.
        even_if_breaks: whether what was exact may break.
        late: whether the search shall end, with a bound.
        progress: told how far it is.
    """
    search = _Search(choices, build, hosts, prospects, breaks, even_if_breaks, late, progress)
    return search.run()


class Wrong(NamedTuple):
    """A row that is wrong: what of it, and between whom."""

    row: Row
    kind: Literal["leak", "break", "worse"]
    between: Between


@dataclass(slots=True)
class _Search:
    """Constraints by row, as they are learned, and rows that nothing mends."""

    choices: Sequence[Change]
    build: Callable[[Sequence[Change]], State]
    hosts: Sequence[Host]
    prospects: Prospects
    breaks: bool
    even_if_breaks: bool
    late: Callable[[], bool]
    progress: Callable[[str], None] | None
    #: Of rows that must not be wrong; and of those that were exact, which count whatever else.
    cuts: dict[Row, set[Cut]] = field(default_factory=dict)
    kept: set[Cut] = field(default_factory=set)
    hopeless: dict[Row, None] = field(default_factory=dict)
    exact: set[Row] = field(default_factory=set)
    #: Rows that some set of changes mends that makes nothing exact worse.
    mendable: set[Row] = field(default_factory=set)
    known: dict[tuple[int, ...], list[Wrong]] = field(default_factory=dict)
    bound: float = 0.0

    def run(self) -> Mended:
        """Search."""
        first = list(self._rows(()))
        self.exact = {row for row, *_ in first} - {r for r, b in first if b.outcome.code}
        self.known[()] = [w for r, b in first if (w := self._wrong(r, b))]
        while not self.late():
            solved = self._solve([*self.kept, *(c for of in self.cuts.values() for c in of)])
            if solved is None:
                if self._give_up_rows():
                    continue
                break
            chosen, self.bound = solved
            wrong = [w for w in self._tried(chosen) if w.row not in self.hopeless]
            if not wrong:
                return self._found(chosen, proved=True)
            self._learn(chosen, wrong)
        return self._best()

    def _solve(self, cuts: Sequence[Cut]) -> tuple[tuple[int, ...], float] | None:
        return solve([c.price for c in self.choices], cuts)

    # -- trying ----------------------------------------------------------------------------------

    def _rows(self, chosen: tuple[int, ...]) -> Iterator[tuple[Row, Between]]:
        state = self.build([self.choices[c] for c in chosen])
        classes = state.classes(self.hosts)
        for between in Reach(state, classes, classes).by_class():
            links = tuple(k.name for k in between.path.links)
            ends = [(h.segment or h.node, h.group) for h in (between.a.host, between.b.host)]
            yield (ends[0], ends[1], between.path.nodes, links), between

    def _wrong(self, row: Row, between: Between) -> Wrong | None:
        outcome = between.outcome
        if outcome.leaks:
            return Wrong(row, "leak", between)
        if outcome.breaks and (self.breaks or (row in self.exact and not self.even_if_breaks)):
            return Wrong(row, "break", between)
        if outcome.code and row in self.exact and not self.even_if_breaks:
            return Wrong(row, "worse", between)
        return None

    def _tried(self, chosen: tuple[int, ...]) -> list[Wrong]:
        """What is wrong with some changes made."""
        if chosen not in self.known:
            if self.progress is not None:
                cost = sum(self.choices[c].price for c in chosen)
                self.progress(f"{len(self.known)} networks tried, cost {cost}")
            self.known[chosen] = [w for r, b in self._rows(chosen) if (w := self._wrong(r, b))]
        return self.known[chosen]

    def _learn(self, chosen: tuple[int, ...], wrong: Sequence[Wrong]) -> None:
        """Constraints of rows that are wrong: of those that say the same, one."""
        told: set[object] = set()
        for one in wrong:
            if len(told) >= MOST_NEW:
                break
            a, b = one.between.a, one.between.b
            alike = (
                a.host.segment,
                b.host.segment,
                tuple(a.tags),
                tuple(b.tags),
                one.row[2:],
                one.kind,
            )
            if alike in told:
                continue
            told.add(alike)
            cut = self._cut(one, frozenset(chosen))
            if one.row in self.exact:
                self.kept.add(cut)
            else:
                self.cuts.setdefault(one.row, set()).add(cut)

    def _cut(self, wrong: Wrong, chosen: frozenset[int]) -> Cut:
        """What must be otherwise lest a row be wrong: as few changes as can be."""
        prospect = self.prospects.of(wrong.between.a, wrong.between.b, wrong.between.path)
        related = prospect.related(wrong.kind)
        inside, maybe = set(chosen & related), set[int]()
        if prospect.surely(wrong.kind, inside, maybe):
            for change in sorted(related, key=lambda c: (c not in inside, -self.choices[c].price)):
                freed = maybe | {change}
                if prospect.surely(wrong.kind, inside - {change}, freed):
                    maybe = freed
                    inside.discard(change)
        return frozenset(inside), frozenset(related - chosen - maybe)

    # -- what cannot be mended -------------------------------------------------------------------

    def _give_up_rows(self) -> bool:
        """All constraints together cannot be met: whether some rows alone cannot, or only several
        rows each of which alone can."""
        given_up = False
        by_cuts: dict[frozenset[Cut], list[Row]] = {}
        for row, held in self.cuts.items():
            by_cuts.setdefault(frozenset(held), []).append(row)
        for cuts, rows in by_cuts.items():
            if self._solve([*self.kept, *cuts]) is None:
                self._give_up(rows)
                given_up = True
        for row in list(self.cuts):
            while row in self.cuts and row not in self.mendable and not self.late():
                solved = self._solve([*self.kept, *self.cuts[row]])
                if solved is None:
                    self._give_up([row])
                    given_up = True
                    break
                wrong = self._tried(solved[0])
                mine = [w for w in wrong if w.row == row or w.row in self.exact]
                if not mine:
                    self.mendable |= self.cuts.keys() - {w.row for w in wrong}
                    break
                self._learn(solved[0], mine)
        return given_up

    def _give_up(self, rows: Sequence[Row]) -> None:
        for row in rows:
            self.hopeless[row] = None
            self.cuts.pop(row, None)

    # -- what was found --------------------------------------------------------------------------

    def _found(self, chosen: tuple[int, ...], *, proved: bool) -> Mended:
        made = tuple(self.choices[c] for c in chosen)
        left = dict.fromkeys(w.row for w in self._tried(chosen) if w.row not in self.hopeless)
        broken: dict[Row, None] = {}
        if self.even_if_breaks and chosen:
            now = self._rows(chosen)
            broken = {r: None for r, b in now if b.outcome.code and r in self.exact}
        return Mended(
            made, sum(c.price for c in made), proved, self.bound, tuple(self.hopeless),
            tuple(left), tuple(broken), len(self.known),
        )  # fmt: skip

    def _best(self) -> Mended:
        """The best that was tried: nothing exact fares worse, and the fewest rows are wrong."""
        sound = {
            chosen: len({w.row for w in wrong})
            for chosen, wrong in self.known.items()
            if not any(w.row in self.exact for w in wrong)
        }
        best = min(
            sound, key=lambda c: (sound[c], sum(self.choices[n].price for n in c)), default=()
        )
        if not self.late() or not best:
            none = tuple(self.hopeless)
            return Mended(None, 0, not self.late(), self.bound, none, (), (), len(self.known))
        return self._found(best, proved=False)


def solve(prices: Sequence[int], cuts: Sequence[Cut]) -> tuple[tuple[int, ...], float] | None:
    """The cheapest choice that meets every cut: one more of the second or one less of the first."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import lil_array

    if not cuts:
        return (), 0.0
    if any(not inside and not out for inside, out in cuts):
        return None
    rows = lil_array((len(cuts), len(prices)))
    least = np.zeros(len(cuts))
    for number, (inside, out) in enumerate(sorted(cuts, key=_sorted)):
        for c in out:
            rows[number, c] = 1
        for c in inside:
            rows[number, c] = -1
        least[number] = 1 - len(inside)
    solved = milp(
        np.array(prices, dtype=float), integrality=np.ones(len(prices), dtype=np.int64),
        bounds=Bounds(0, 1), constraints=LinearConstraint(rows.tocsc(), least, np.inf),
    )  # fmt: skip
    if not solved.success:
        return None
    return tuple(int(c) for c in np.flatnonzero(solved.x > 0.5)), float(solved.fun)


def _sorted(cut: Cut) -> tuple[list[int], list[int]]:
    return sorted(cut[0]), sorted(cut[1])
