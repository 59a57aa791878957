"""One workspace, computed as far as it is asked, without any file: endpoints → assignment →
bindings → matrix → knowledge → reach. Each piece is computed once.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple, Self

import numpy as np

from oaktag.core.assignment import Assignment, Pin, Rule
from oaktag.core.bindings import Bindings, Lookup
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import Groups
from oaktag.core.lines import Line, Policy, line_keys
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point
from oaktag.core.packets import Atoms, Box, exchanged

if TYPE_CHECKING:  # imported where they are needed: an answer about a cell needs no network
    from oaktag.core.knowledge import Knowledge
    from oaktag.core.paths import Paths
    from oaktag.core.placement import Host, Hosts
    from oaktag.core.reach import State
    from oaktag.core.registry import PrefixPin
    from oaktag.core.sessions import Places, Session


class Given(NamedTuple):
    """What a workspace says on its day: ``boxes`` are packets that are asked about besides those of
    the policy's entries; ``binding_order`` names the sources of bindings, the strongest first.
    """

    groups: Groups
    policy: Policy
    endpoints: Endpoints
    rules: Sequence[Rule]
    pins: Sequence[Pin]
    prefix_pins: Sequence[PrefixPin]
    sessions: Sequence[Session]
    network: Network
    binding_order: Sequence[str]
    boxes: Sequence[Box]
    today: int


class Model:
    """The pieces of one workspace on one day."""

    def __init__(self, given: Given) -> None:
        self.given = given

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

    @cached_property
    def assignment(self) -> Assignment:
        """Who is in which group."""
        given = self.given
        return Assignment(given.endpoints, given.rules, given.pins, self.groups.index)

    @cached_property
    def places(self) -> Places:
        """Every address of every endpoint: of the inventory, of sessions, or assumed."""
        from oaktag.core.sessions import places

        return places(self.given.endpoints, self.given.sessions)

    @cached_property
    def registry_bindings(self) -> Bindings:
        """All bindings that the registry holds, losers included."""
        from oaktag.core.registry import registry_bindings

        return registry_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )

    @cached_property
    def registry(self) -> Lookup:
        """The registry's bindings in force."""
        return Lookup(self.registry_bindings, self.given.binding_order)

    @cached_property
    def knowledge(self) -> Knowledge:
        """What every node knows."""
        from oaktag.core.knowledge import Knowledge
        from oaktag.core.registry import learned_bindings

        learned = learned_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )
        return Knowledge(self.network, self.registry_bindings, learned, self.given.binding_order)

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
        for name in ("matrix", "state"):
            finer.__dict__.pop(name, None)
        finer.atoms = self._atoms([*self.boxes(), *boxes])
        return finer

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
        policy = self.given.policy
        return line_keys(policy.lines, policy.permissions, policy.layers)

    @cached_property
    def paths(self) -> Paths:
        """Least-cost paths."""
        from oaktag.core.paths import Paths

        return Paths(self.network)

    @cached_property
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
    def wide(self) -> list[Host]:
        """Endpoints that are whole networks, each where it is at home."""
        placed = self._placed[0]
        return [placed[row] for row in placed.ends]

    @cached_property
    def hosts(self) -> Hosts:
        """Everybody who is somewhere: endpoints, and unknown hosts of segments with a default."""
        return self.hosts_told(())

    def hosts_told(self, by: Sequence[Lookup]) -> Hosts:
        """The same, with those told apart that only some more tables do not treat alike."""
        from oaktag.core.placement import part_networks, place_unknown

        known = self._placed[0]
        every = [*map(self.knowledge.at, self.network.nodes), *by]
        tables = list({id(table): table for table in every}.values())
        unknown = place_unknown(self.groups, self.network, self.registry, tables, known)
        return part_networks(self.network, self.registry, tables, known).and_also(unknown)

    @cached_property
    def hosts_at(self) -> dict[tuple[str, int], list[Host]]:
        """Everybody by segment and group."""
        found: dict[tuple[str, int], list[Host]] = {}
        for host in self.hosts:
            found.setdefault((host.segment or host.node, host.group), []).append(host)
        return found

    def scope(self, point: Point) -> tuple[list[int], list[int]]:
        """The groups whose cells a point holds, as sources and as destinations."""
        from oaktag.core.judging import scope_of

        return scope_of(
            point, self.groups, self.network, self.paths, self._placed_groups, self._unstable
        )

    @cached_property
    def _placed_groups(self) -> dict[str, set[int]]:
        """The groups of all hosts on each segment, known or unknown."""
        hosts, count = self.hosts, len(self.groups)
        placed: dict[str, set[int]] = {}
        for key in np.unique(hosts.segment * count + hosts.group).tolist():
            segment, group = divmod(key, count)
            if segment >= 0:
                placed.setdefault(hosts.segments[segment], set()).add(group)
        return placed

    @cached_property
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
