"""What a workspace says of who there is: groups, members, attributes, bindings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from oaktag.operations.asked import Asked
from oaktag.operations.model import Model

if TYPE_CHECKING:
    from oaktag.operations.attributes import Attributes
    from oaktag.operations.bindings import BindingList
    from oaktag.operations.explain import Explained
    from oaktag.operations.groups import GroupList
    from oaktag.operations.members import Members


class OfPeople(Asked):
    """What a workspace says of who there is: groups, members, attributes, bindings."""

    def groups(self) -> GroupList:
        """Groups, tags, members, bindings."""
        from oaktag.operations.groups import groups

        return groups(self.model)

    def members(
        self, group: str | None = None, *, unassigned: bool = False, when: str | None = None
    ) -> Members:
        """Who is in, and why; who nearly is. See ``operations.members``.

        Raises:
            UsageError: an unknown group, or conditions that cannot be read.
        """
        from oaktag.operations.members import members

        return members(self.model, group, unassigned=unassigned, when=when)

    def uncertain(self) -> Members:
        """Who would be in another group if every guess of an attribute were certain."""
        from oaktag.operations.members import uncertain

        return uncertain(self.model)

    def taken_by(self, line: int) -> Members:
        """Whom the rule in a line of ``assignments.yaml`` takes, and whom it loses to earlier ones.

        Raises:
            UsageError: no rule stands there.
        """
        from oaktag.operations.members import by_rule

        return by_rule(self.model, line)

    def withheld(self) -> Members:
        """Members without a standing binding, and why."""
        from oaktag.operations.members import withheld

        return withheld(self.model)

    def moved_since(self, other: str | Path) -> Members:
        """Who changed group since another folder or a git revision of this one.

        Raises:
            UsageError: the other is neither.
        """
        from oaktag.operations.members import against
        from oaktag.workspace.revision import version

        folder = version(self.model.files.root, other)
        return against(self.model, Model.read(folder, self.model.today))

    def attributes(self, name: str | None = None, like: str | None = None) -> Attributes:
        """Which attributes there are, and their values.

        Raises:
            UsageError: no source gives the attribute.
        """
        from oaktag.operations.attributes import attributes

        return attributes(self.model, name, like)

    def explain(self, what: str) -> Explained:
        """All that is known about an endpoint, an address, a prefix, a group or a tag.

        Raises:
            UsageError: nothing of the kind is known.
        """
        from oaktag.operations.explain import explain

        return explain(self.model, what)

    def bindings(self, node: str | None = None, find: tuple[str, ...] = ()) -> BindingList:
        """Bindings in force, in the registry or at one node, and those of some addresses.

        Raises:
            UsageError: no such node, or no address.
        """
        from oaktag.operations.bindings import bindings

        return bindings(self.model, node, find)

    def missing(self, node: str) -> BindingList:
        """What a node should know and does not, and where it stopped.

        Raises:
            UsageError: no such node.
        """
        from oaktag.operations.bindings import missing

        return missing(self.model, node)

    def feed_ends(self, name: str) -> BindingList:
        """Both ends of one feed against each other.

        Raises:
            UsageError: no such feed.
        """
        from oaktag.operations.bindings import feed_ends

        return feed_ends(self.model, name)
