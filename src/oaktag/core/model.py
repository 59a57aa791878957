"""One workspace, computed as far as it is asked, without any file: endpoints → assignment →
bindings → matrix → knowledge → reach. Each piece is computed once.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from copy import copy
from functools import cached_property
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, Self, TypeVar

from oaktag.core.arrays import np
from oaktag.core.assignment import Assignment, Pin, Rule
from oaktag.core.bindings import BINDING_SOURCES, Bindings, Lookup
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import Groups
from oaktag.core.lines import Entry, Line, Policy, line_keys
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point
from oaktag.core.packets import Atoms, Box, exchanged

if TYPE_CHECKING:  # imported where they are needed: an answer about a cell needs no network
    from oaktag.core.accesslist import AccessList
    from oaktag.core.addresses import Range
    from oaktag.core.compiler import Blocks
    from oaktag.core.knowledge import Knowledge
    from oaktag.core.paths import Paths
    from oaktag.core.placement import Host, Hosts
    from oaktag.core.proof import Refuted
    from oaktag.core.proof_lines import Lines
    from oaktag.core.proof_stretches import Inside
    from oaktag.core.proof_ways import Addresses
    from oaktag.core.reach import State
    from oaktag.core.registry import PrefixPin
    from oaktag.core.sessions import Places, Session


class Given(NamedTuple):
    """What a workspace says on its day: ``boxes`` are packets that are asked about besides those of
    the policy's entries; ``binding_order`` names the sources of bindings, the strongest first;
    ``today`` is a proleptic ordinal, UTC (0: before anything expires); ``besides`` is what nodes
    know that stand for more than themselves, in place of what they would learn.
    """

    groups: Groups
    policy: Policy
    endpoints: Endpoints = Endpoints()
    rules: Sequence[Rule] = ()
    pins: Sequence[Pin] = ()
    prefix_pins: Sequence[PrefixPin] = ()
    sessions: Sequence[Session] = ()
    network: Network = Network()
    binding_order: Sequence[str] = BINDING_SOURCES
    boxes: Sequence[Box] = ()
    today: int = 0
    besides: Mapping[str, Bindings] = {}

    def same(self, other: Given, names: Sequence[str]) -> bool:
        """Whether another says the same of some things. What is large is compared by identity."""
        large = ("groups", "endpoints", "rules", "sessions", "network")
        return all(
            one is two or (name not in large and one == two)
            for name in names
            for one, two in [(getattr(self, name), getattr(other, name))]
        )


#: What pieces follow from: who there is, and with it what the network knows of where they are.
#: No line of the matrix changes either.
PEOPLE = "groups", "endpoints", "rules", "pins"
PLACES = *PEOPLE, "prefix_pins", "sessions", "network", "binding_order"
Piece = TypeVar("Piece")


class _Piece(Generic[Piece]):
    """A piece of a model that is computed once for all that are alike in what it follows from."""

    def __init__(self, made: Callable[[Any], Piece], follows: tuple[str, ...] = ()) -> None:
        self.made, self.follows = made, follows
        self.__doc__ = made.__doc__

    def __get__(self, model: Model | None, owner: type) -> Piece:
        if model is None:
            return self  # type: ignore[return-value]
        held = model.pieces[self.follows]
        if self.made.__name__ not in held:
            held[self.made.__name__] = self.made(model)
        piece: Piece = held[self.made.__name__]
        return piece


def _of_people(made: Callable[[Any], Piece]) -> _Piece[Piece]:
    return _Piece(made, PEOPLE)


def _of_places(made: Callable[[Any], Piece]) -> _Piece[Piece]:
    return _Piece(made, PLACES)


class Model:
    """The pieces of one workspace on one day.

    Args:
        given: what it says.
        like: another version, of which all is taken that is the same.
    """

    def __init__(self, given: Given, like: Model | None = None) -> None:
        self.given = given
        self.pieces: dict[tuple[str, ...], dict[str, Any]] = {
            follows: like.pieces[follows] if like and like.given.same(given, follows) else {}
            for follows in (PEOPLE, PLACES)
        }

    def same_people(self, other: Model) -> bool:
        """Whether another version is known to have the same members of the same groups."""
        return self.pieces[PEOPLE] is other.pieces[PEOPLE]

    def same_places(self, other: Model) -> bool:
        """Whether another version is known to have everybody at the same places of a network that
        knows of them the same."""
        return self.pieces[PLACES] is other.pieces[PLACES]

    @property
    def today(self) -> int:
        """The day, as a proleptic ordinal, UTC."""
        return self.given.today

    @property
    def groups(self) -> Groups:
        """All groups; index 0 is ``untagged``."""
        return self.given.groups

    @property
    def network(self) -> Network:
        """Nodes, segments, links, feeds and points."""
        return self.given.network

    @property
    def lines(self) -> tuple[Line, ...]:
        """The lines of all layers, in file order."""
        return self.given.policy.lines

    @property
    def prefix_pins(self) -> Sequence[PrefixPin]:
        """Pins of prefixes that count."""
        return self.given.prefix_pins

    @_of_people
    def assignment(self) -> Assignment:
        """Who is in which group."""
        given = self.given
        return Assignment(given.endpoints, given.rules, given.pins, self.groups.index)

    @_of_places
    def places(self) -> Places:
        """Every address of every endpoint: of the inventory, of sessions, or assumed."""
        from oaktag.core.sessions import places

        return places(self.given.endpoints, self.given.sessions)

    @_of_places
    def registry_bindings(self) -> Bindings:
        """All bindings that the registry holds, losers included."""
        from oaktag.core.registry import registry_bindings

        return registry_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )

    @_of_places
    def registry(self) -> Lookup:
        """The registry's bindings in force."""
        return Lookup(self.registry_bindings, self.given.binding_order)

    @_of_places
    def learned(self) -> dict[str, Bindings]:
        """What each node learns itself."""
        from oaktag.core.registry import learned_bindings

        learned = learned_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )
        return {**learned, **self.given.besides}

    @_of_places
    def knowledge(self) -> Knowledge:
        """What every node knows."""
        from oaktag.core.knowledge import Knowledge

        return Knowledge(
            self.network, self.registry_bindings, self.learned, self.given.binding_order
        )

    @cached_property
    def atoms(self) -> Atoms:
        """The packet space, cut along every entry and every expectation."""
        return self._atoms(self.boxes())

    def _atoms(self, boxes: Sequence[Box]) -> Atoms:
        """Atoms along the boxes, and along their exchanged forms where a point is stateless."""
        stateless = any(not point.stateful for point in self.network.points.values())
        return Atoms([*boxes, *exchanged(boxes)] if stateless else boxes)

    def cut_along(self, boxes: Sequence[Box]) -> Self:
        """The same workspace with the packet space cut along some boxes as well."""
        finer = copy(self)
        for made in ("state", "blocks"):
            finer.__dict__.pop(made, None)
        finer.recut(self, self._atoms([*self.boxes(), *boxes]))
        return finer

    def recut(self, other: Model, atoms: Atoms) -> None:
        """Take the matrix of a model of the same lines, over other atoms."""
        self.atoms = atoms
        self.matrix = other.matrix.recut(atoms)

    def boxes(self) -> list[Box]:
        """All boxes that entries speak of, and all that are asked about."""
        entries = [e for p in self.given.policy.permissions for e in p.steps]
        return [*(b for e in entries for b in e.boxes), *self.given.boxes]

    @cached_property
    def matrix(self) -> Matrix:
        """All decisions."""
        return Matrix(self.groups, self.given.policy, self.atoms, self.today)

    @cached_property
    def keys(self) -> list[str]:
        """The key of each line."""
        tags = {name: tag for tag, name in self.groups.named.items()}
        return line_keys(self.given.policy, tags)

    @_of_places
    def paths(self) -> Paths:
        """Least-cost paths."""
        from oaktag.core.paths import Paths

        return Paths(self.network)

    @_of_places
    def _placed(self) -> tuple[Hosts, Places]:
        from oaktag.core.placement import place_endpoints

        return place_endpoints(
            self.groups, self.assignment, self.network, self.registry, self.places
        )

    @property
    def nowhere(self) -> Places:
        """Addresses of endpoints that are on no segment."""
        return self._placed[1]

    @property
    def known_hosts(self) -> Hosts:
        """Endpoints that are on a segment, whole networks as one host each."""
        return self._placed[0]

    @property
    def wide(self) -> list[Host]:
        """Endpoints that are whole networks, each where it is at home."""
        placed = self._placed[0]
        return [placed[row] for row in placed.ends]

    @_of_places
    def hosts(self) -> Hosts:
        """Everybody who is somewhere: endpoints, and unknown hosts of segments with a default."""
        return self.hosts_told(())

    @_of_places
    def ends(self) -> Hosts:
        """Everybody who can be an end: who is somewhere, and nodes that are in a group and guard
        themselves (``group:`` and ``own``), by their own addresses."""
        from oaktag.core.placement import node_hosts

        nodes = node_hosts(self.groups, self.network, self.registry, points=False)
        guarding = {
            n.name
            for n in self.network.nodes.values()
            if n.group is not None and any(p.own and p.mode != "off" for p in n.points)
        }
        return self.hosts.and_also([h for h in nodes if h.node in guarding])

    def hosts_told(self, by: Sequence[Lookup]) -> Hosts:
        """The same, with those told apart that only some more tables do not treat alike."""
        from oaktag.core.placement import part_networks, place_unknown

        known = self._placed[0]
        tables = self.tables(by)
        unknown = place_unknown(self.groups, self.network, self.registry, tables, known)
        parts = part_networks(
            self.groups, self.assignment, self.network, self.registry, tables, known
        )
        return parts.and_also(unknown)

    def tables(self, more: Sequence[Lookup] = ()) -> list[Lookup]:
        """The different tables of bindings of all nodes, and some more."""
        every = [*map(self.knowledge.at, self.network.nodes), *more]
        return list({id(table): table for table in every}.values())

    def newcomers(self, segment: str) -> list[Host]:
        """Hosts that nobody knows on a segment, whether it has a default tag or not: of all
        addresses that every table treats alike one."""
        from oaktag.core.placement import place_unknown

        tables = self.tables()
        found: dict[tuple[int, ...], Host] = {}
        for host in place_unknown(
            self.groups, self.network, self.registry, tables, self.known_hosts, [segment]
        ):
            tags = (table.tag(host.family, host.address) for table in (self.registry, *tables))
            found.setdefault((host.family, *tags), host)
        return list(found.values())

    @_of_places
    def hosts_at(self) -> dict[tuple[str, int], list[Host]]:
        """Everybody by segment and group."""
        found: dict[tuple[str, int], list[Host]] = {}
        for host in self.hosts:
            found.setdefault((host.segment or host.node, host.group), []).append(host)
        return found

    def scope(self, point: Point) -> tuple[list[int], list[int]]:
        """The groups whose cells a point holds, as sources and as destinations."""
        from oaktag.core.network import own_addresses
        from oaktag.core.scopes import scope_of

        own = own_addresses(point, self.network)
        tags = {self.registry.tag(s.family, s.start) for s in own}
        return scope_of(
            point, self.groups, self.network, self.paths, self._placed_groups, self._unstable,
            {self.groups.by_tag.get(tag, 0) for tag in tags},
        )  # fmt: skip

    @_of_places
    def _placed_groups(self) -> dict[str, set[int]]:
        """The groups of all hosts on each segment, known or unknown."""
        hosts, count = self.hosts, len(self.groups)
        placed: dict[str, set[int]] = {}
        for key in np.unique(hosts.segment * count + hosts.group).tolist():
            segment, group = divmod(key, count)
            if segment >= 0:
                placed.setdefault(hosts.segments[segment], set()).add(group)
        return placed

    def allowed(self, source: str, destination: str) -> str:
        """What a source group may do to a destination group now, as services.

        Raises:
            KeyError: there is no such group.
        """
        from oaktag.core.service_text import set_text

        index = self.groups.index
        pieces = self.matrix.pieces(index[source], index[destination], "action")
        return set_text(self.atoms, sum(p.mask for p in pieces if p.action == "allow"))

    def list_of(self, point: Point) -> AccessList:
        """The access list of a point, as a tree.

        Raises:
            UnwritableEntry: it is over the point's capacity.
        """
        return self.list_in(point, self.scope(point))

    def list_in(self, point: Point, scope: tuple[list[int], list[int]]) -> AccessList:
        """The access list that a point would have if it held the cells of some groups, as sources
        and as destinations.

        Raises:
            UnwritableEntry: these are too many cells.
        """
        from oaktag.core.compiler import compile_point

        return compile_point(point, self.blocks, self.network, self.known(point.node), scope)

    def known(self, node: str) -> tuple[Range, ...]:
        """What a node knows, as disjoint ranges; the same object for nodes that know the same."""
        return self.knowledge.at(node).ranges

    def entries_of(self, protocols: frozenset[int]) -> dict[int, Entry]:
        """Entries that name one of some protocols alone, on IPv6, by their permission."""
        if protocols not in self._entries_of:
            self._entries_of[protocols] = {
                number: entry
                for number, permission in enumerate(self.given.policy.permissions)
                for entry in permission.steps
                for box in entry.boxes
                if box.family in (0, 6) and box.protocols[0] == box.protocols[1] in protocols
            }
        return self._entries_of[protocols]

    @cached_property
    def _entries_of(self) -> dict[frozenset[int], dict[int, Entry]]:
        return {}

    @cached_property
    def blocks(self) -> Blocks:
        """Cells as points hold them, for lists."""
        from oaktag.core.compiler import Blocks

        return Blocks(self.matrix, self.keys)

    def refute(self, point: Point, held: AccessList) -> Refuted | None:
        """A packet of which a list says another thing than the matrix; None proves them equal."""
        from oaktag.core.proof import Meant, prove

        scope = self.scope(point)
        meant = Meant(
            point, self.proof_lines, self._meant_addresses(point), frozenset(scope[0]),
            frozenset(scope[1]), self.keys,
        )  # fmt: skip
        return prove(held, meant)

    @cached_property
    def proof_lines(self) -> Lines:
        """What the lines come to, for the proof alone."""
        from oaktag.core.proof_lines import Lines

        stateless = any(not point.stateful for point in self.network.points.values())
        return Lines(self.groups, self.given.policy, self.today, stateless=stateless)

    def _meant_addresses(self, point: Point) -> Addresses:
        """What is meant of addresses at a point; points of which the same is share it."""
        from oaktag.core.network import own_addresses
        from oaktag.core.proof_ways import Addresses

        known, own = self.known(point.node), own_addresses(point, self.network)
        key = id(known), point.origins, point.targets, point.inside, own
        if key not in self._addresses_known:
            network = self.network
            self._addresses_known[key] = Addresses(
                known, network.spans_of(point.origins), network.spans_of(point.targets),
                self._inside[point.inside], own,
            )  # fmt: skip
        return self._addresses_known[key]

    @_of_places
    def _inside(self) -> tuple[Inside, Inside]:
        """The pairs of addresses inside of a segment; and none, for points that judge these."""
        from oaktag.core.proof_stretches import Inside

        return Inside(self.network.inside_pairs), Inside(())

    @_of_places
    def _addresses_known(self) -> dict[tuple[Any, ...], Addresses]:
        return {}

    @_of_people
    def _unstable(self) -> set[int]:
        """The groups with a member whose address is not stable."""
        group = self.assignment.group[~self.given.endpoints.stable]
        return set(np.unique(group[group >= 0]).tolist())

    @cached_property
    def state(self) -> State:
        """The network as intended: what nodes know and points hold."""
        from oaktag.core.judging import Judge
        from oaktag.core.reach import State

        judges = {
            name: Judge(point, self.matrix, self.scope(point))
            for name, point in self.network.points.items()
        }
        return State(self.matrix, self.network, self.paths, self.knowledge, judges)
