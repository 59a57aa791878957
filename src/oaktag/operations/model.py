"""One workspace, computed as far as it is asked: endpoints → assignment → bindings → matrix →
knowledge → reach. Each piece is computed once.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, time
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from oaktag.core.assignment import Assignment
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.ends import End, parse_end
from oaktag.core.groups import Groups
from oaktag.core.lines import Line, line_keys
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Atoms, Box, exchanged
from oaktag.errors import UsageError
from oaktag.workspace.load import Files, is_workspace, load

if TYPE_CHECKING:  # imported where they are needed: an answer about a cell needs no network
    from oaktag.core.knowledge import Knowledge
    from oaktag.core.network import Network, Point
    from oaktag.core.paths import Paths
    from oaktag.core.placement import Host
    from oaktag.core.reach import State
    from oaktag.core.registry import PrefixPin
    from oaktag.core.sessions import Place


def moment_of(day: int) -> float:
    """The moment asked for, in seconds of the Unix epoch: now, or the end of another day."""
    now = datetime.now(UTC)
    if day == now.date().toordinal():
        return now.timestamp()
    return datetime.combine(date.fromordinal(day), time.max, UTC).timestamp()


class Model:
    """The pieces of one workspace on one day.

    Args:
        files: what its files say.
        today: the day as a proleptic ordinal, UTC.
    """

    def __init__(self, files: Files, today: int) -> None:
        self.files = files
        self.today = today

    @classmethod
    def read(cls, root: Path, today: int | None = None) -> Model:
        """Read the workspace in a folder.

        Raises:
            UsageError: the folder is no workspace.
            WorkspaceError: its files cannot be read, or contradict each other.
        """
        if not is_workspace(root):
            raise UsageError(
                f"{root} is no workspace: it has no oaktag.yaml; `oaktag new DIR` starts one"
            )
        day = today or datetime.now(UTC).date().toordinal()
        return cls(load(root, moment_of(day)), day)

    @property
    def groups(self) -> Groups:
        """All groups; index 0 is ``untagged``."""
        return self.files.groups

    @property
    def network(self) -> Network:
        """Nodes, segments, links, feeds and points."""
        return self.files.network

    @property
    def lines(self) -> tuple[Line, ...]:
        """The lines of all layers, in file order."""
        return self.files.policy.lines

    @cached_property
    def assignment(self) -> Assignment:
        """Who is in which group."""
        given = self.files.assignments
        pins = given.pins_on(self.today)
        return Assignment(self.files.endpoints, given.rules, pins, self.groups.index)

    @cached_property
    def prefix_pins(self) -> list[PrefixPin]:
        """Pins of prefixes that count today."""
        return self.files.assignments.prefix_pins_on(self.today, moment_of(self.today))

    @cached_property
    def places(self) -> list[Place]:
        """Every address of every endpoint: of the inventory, of sessions, or assumed."""
        from oaktag.core.sessions import places

        return list(places(self.files.endpoints, self.files.inventory.sessions))

    @cached_property
    def registry_bindings(self) -> list[Binding]:
        """All bindings that the registry holds, losers included."""
        from oaktag.core.registry import registry_bindings

        return registry_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )

    @cached_property
    def registry(self) -> Lookup:
        """The registry's bindings in force."""
        return Lookup(self.registry_bindings, self.files.config.binding_order)

    @cached_property
    def knowledge(self) -> Knowledge:
        """What every node knows."""
        from oaktag.core.knowledge import Knowledge
        from oaktag.core.registry import learned_bindings

        learned = learned_bindings(
            self.groups, self.assignment, self.prefix_pins, self.network, self.places
        )
        return Knowledge(
            self.network, self.registry_bindings, learned, self.files.config.binding_order
        )

    @cached_property
    def atoms(self) -> Atoms:
        """The packet space, cut along every entry and every expectation."""
        return self._atoms(self.boxes())

    def _atoms(self, boxes: Sequence[Box]) -> Atoms:
        """Atoms along the boxes, and along their exchanged forms where a point is stateless."""
        stateless = any(not point.stateful for point in self.network.points.values())
        return Atoms([*boxes, *exchanged(boxes)] if stateless else boxes)

    def cut_along(self, boxes: Sequence[Box]) -> Model:
        """The same workspace with the packet space cut along some boxes as well."""
        finer = Model(self.files, self.today)
        finer.__dict__.update(
            {k: v for k, v in self.__dict__.items() if k not in ("atoms", "matrix", "state")}
        )
        finer.atoms = self._atoms([*self.boxes(), *boxes])
        return finer

    def boxes(self) -> list[Box]:
        """All boxes that entries and expectations speak of."""
        entries = [e for p in self.files.policy.permissions for e in p.steps]
        asked = [*self.files.expectations, *self.files.keep_open]
        borne = [b for a in self.files.borne for b in a.boxes]
        return [b for e in entries for b in e.boxes] + [b for x in asked for b in x.boxes] + borne

    @cached_property
    def matrix(self) -> Matrix:
        """All decisions."""
        return Matrix(self.groups, self.files.policy, self.atoms, self.today)

    @cached_property
    def keys(self) -> list[str]:
        """The key of each line."""
        policy = self.files.policy
        return line_keys(policy.lines, policy.permissions, policy.layers)

    @cached_property
    def paths(self) -> Paths:
        """Least-cost paths."""
        from oaktag.core.paths import Paths

        return Paths(self.network)

    @cached_property
    def _placed(self) -> tuple[list[Host], list[Place]]:
        from oaktag.core.placement import place_endpoints

        return place_endpoints(
            self.groups, self.assignment, self.network, self.registry, self.places
        )

    @property
    def nowhere(self) -> list[Place]:
        """Addresses of endpoints that are on no segment."""
        return self._placed[1]

    @property
    def wide(self) -> list[Host]:
        """Endpoints that are whole networks, each where it is at home."""
        return [h for h in self._placed[0] if h.end is not None]

    @cached_property
    def hosts(self) -> list[Host]:
        """Everybody who is somewhere: endpoints, and unknown hosts of segments with a default."""
        return self.hosts_told(())

    def hosts_told(self, by: Sequence[Lookup]) -> list[Host]:
        """The same, with those told apart that only some more tables do not treat alike."""
        from oaktag.core.placement import part_networks, place_unknown

        known = self._placed[0]
        every = [*map(self.knowledge.at, self.network.nodes), *by]
        tables = list({id(table): table for table in every}.values())
        unknown = place_unknown(self.groups, self.network, self.registry, tables, known)
        return [*part_networks(self.network, self.registry, tables, known), *unknown]

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
        placed: dict[str, set[int]] = {}
        for host in self.hosts:
            if host.segment is not None:
                placed.setdefault(host.segment, set()).add(host.group)
        return placed

    @cached_property
    def _unstable(self) -> set[int]:
        """The groups with a member whose address is not stable."""
        endpoints, group = self.files.endpoints, self.assignment.group
        return {
            int(group[row])
            for row in range(len(endpoints))
            if group[row] >= 0 and not endpoints.is_stable(row)
        }

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

    # -- words -------------------------------------------------------------------------------

    def end(self, word: str, *, points: bool = False) -> End:
        """What a word stands for.

        Raises:
            UsageError: nothing known.
        """
        return parse_end(word, self.groups, self.files.endpoints, points=points)

    def groups_of(self, end: End) -> tuple[int, ...]:
        """The groups that an end stands for."""
        if end.kind == "endpoint":
            return (max(int(self.assignment.group[end.endpoint]), 0),)
        if end.kind == "address":
            return (self.groups.by_tag.get(self.registry.tag(*end.address), 0),)
        if end.kind == "points":
            from oaktag.core.placement import node_hosts

            found = {h.group for h in node_hosts(self.groups, self.network, self.registry)}
            return tuple(sorted(found))
        return end.groups

    def one_group(self, word: str) -> int:
        """The one group that a word of a command stands for.

        Raises:
            UsageError: nothing known, or a set of several.
        """
        end = self.end(word)
        if end.kind == "set" and (word == "*" or len(end.groups) != 1):
            names = ", ".join(self.groups.all[g].id for g in end.groups[:6])
            raise UsageError(f"{word!r} is a set; ask for one of its groups: {names}")
        return self.groups_of(end)[0]

    def group_json(self, index: int) -> dict[str, object]:
        """A group as JSON: its name and tag."""
        return {"group": self.groups.all[index].id, "tag": self.groups.tag(index)}
