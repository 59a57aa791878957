"""What a workspace says of who there is: groups, members, attributes, bindings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from oaktag.operations.asked import Asked
from oaktag.operations.model import Model

if TYPE_CHECKING:
    from oaktag.operations.alike import Alike
    from oaktag.operations.attributes import Attributes
    from oaktag.operations.bindings import BindingList
    from oaktag.operations.domains import Domains
    from oaktag.operations.explain import Explained
    from oaktag.operations.find import Found
    from oaktag.operations.groups import GroupList
    from oaktag.operations.handover import Handover
    from oaktag.operations.members import Members
    from oaktag.operations.sharing import SharedGroups
    from oaktag.operations.storing import Stored
    from oaktag.operations.typos import Typos
    from oaktag.operations.unlike import Unlike


class OfPeople(Asked):
    """What a workspace says of who there is: groups, members, attributes, bindings."""

    def groups(self) -> GroupList:
        """Groups, tags, members, bindings.

        Returns:
            groups with tags, members, bindings; numbers that would be issued: ``groups``,
            ``unassigned``, ``offered``, ``sets``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.groups().frame()[['group', 'tag', 'members']].head(2)
                    group  tag  members
            0  librarians  310       23
            1     patrons  320       48
        """
        from oaktag.operations.groups import groups

        return groups(self.model)

    def members(
        self,
        group: str | None = None,
        *,
        unassigned: bool = False,
        when: str | None = None,
        confidence: float = 0.0,
    ) -> Members:
        """Who is in, and why; who nearly is. See ``operations.members``.

        Returns:
            ``endpoints``, each with its group, by which pin or rule, what nearly took it and its
            addresses; and ``groups``, all in numbers.

        Raises:
            UsageError: an unknown group, or conditions that cannot be read.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [row['endpoint'] for row in quillmere.members('network-desk').endpoints][:2]
            ['gus', 'hana']
        """
        from oaktag.operations.members import members

        return members(self.model, group, unassigned=unassigned, when=when, confidence=confidence)

    def uncertain(self) -> Members:
        """Who would be in another group if every guess of an attribute were certain.

        Returns:
            ``moved``: each endpoint with the group that it is in, and that it would be in.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.uncertain().moved
            [{'endpoint': '02:00:5e:30:00:13', 'was': 'untagged', 'is': 'tablets'}]
        """
        from oaktag.operations.members import uncertain

        return uncertain(self.model)

    def taken_by(self, line: int) -> Members:
        """Whom the rule in a line of ``assignments.yaml`` takes, and whom it loses to earlier ones.

        Returns:
            ``takes``: whom the rule takes, and ``loses``: whom earlier ones took from it.

        Raises:
            UsageError: no rule stands there.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [row['endpoint'] for row in quillmere.taken_by(5).takes]
            ['loans-1', 'loans-2', 'loans-3']
        """
        from oaktag.operations.members import by_rule

        return by_rule(self.model, line)

    def withheld(self) -> Members:
        """Members without a standing binding, and why.

        Returns:
            ``withheld``: members without a standing binding, each with ``why``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.withheld().withheld[0]['why']
            'it has no address'
        """
        from oaktag.operations.members import withheld

        return withheld(self.model)

    def moved_since(self, other: str | Path) -> Members:
        """Who changed group since another folder, a git revision of this one, or a time.

        Returns:
            ``moved``: each endpoint with the group that it was in, and that it is in; ``gained``
            and ``lost``: who may send more and less than then, and why.

        Raises:
            UsageError: the other is neither.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.moved_since(oaktag.sample()).moved
            []
        """
        from oaktag.operations.gains import moved_since

        return moved_since(self.model, Model.read_version(self.model, other))

    def attributes(self, name: str | None = None, like: str | None = None) -> Attributes:
        """Which attributes there are, and their values.

        Returns:
            which attributes there are, and values of some: ``attributes``, ``held``.

        Raises:
            UsageError: no source gives the attribute.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.attributes('site').held[0]
            {'attribute': 'site', 'value': 'central', 'endpoints': 78, 'least_confidence': 1.0}
        """
        from oaktag.operations.attributes import attributes

        return attributes(self.model, name, like)

    def stored(self, *, check: bool = False, keep: int | None = None) -> Stored:
        """What the store holds of what came by itself. See ``operations.storing``.

        Returns:
            ``kinds`` with how many rows, the first and the last; ``lasting``, sessions of now;
            where they were asked for, ``differing`` addresses, and what was ``dropped``.

        Raises:
            UsageError: there is no store.
        """
        from oaktag.operations.storing import stored

        return stored(self.model, check=check, keep=keep)

    def share(self, out: str | Path | None = None, lists: str | Path | None = None) -> SharedGroups:
        """Our groups as other domains are told of them. See ``operations.sharing``.

        Args:
            out: the file of the signed document; one that tells of the same groups stays as it is.
            lists: a folder for the prefixes of each group as plain text.

        Returns:
            ``groups`` with their prefixes, ``serial``, ``made``, and which files were ``written``.

        Raises:
            UsageError: nothing is shared, a group has no number, the key cannot be read, or the
                file holds something else.
        """
        from oaktag.operations.sharing import share

        return share(
            self.model, None if out is None else Path(out), None if lists is None else Path(lists)
        )

    def domains(self, *, ask: bool = True) -> Domains:
        """Other domains whose groups are adopted. See ``operations.domains``.

        Args:
            ask: also where their documents are; else only what is held is told.

        Returns:
            ``domains``: of each its ``state``, ``serial``, ``groups`` with their tags there and
            here, ``bindings`` in force, what ``changed`` there, and what it ``holds`` of ours;
            ``findings``.

        Raises:
            UsageError: no domain's groups are adopted, or our key cannot be read.
        """
        from oaktag.operations.domains import domains

        return domains(self.model, ask=ask)

    def alike(self) -> Alike:
        """Groups that fare alike in both answers: toward everybody, from everybody, and together.
        They could be one, and nobody's access would change.

        Returns:
            ``alike``: of each kind the ``groups``, and how many are in them.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.alike().alike
            []
        """
        from oaktag.operations.alike import alike

        return alike(self.model)

    def unlike(self) -> Unlike:
        """Groups whose members fare differently in the network, though the matrix says the same of
        all of them.

        Returns:
            ``unlike``: of each such group its ``parts``, with who is in each, what becomes of
            packets, and a condition that takes this part alone, if there is one.

        Raises:
            UsageError: there are too many kinds of hosts to follow each.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [row['group'] for row in quillmere.unlike().unlike][:2]
            ['librarians', 'patrons']
        """
        from oaktag.operations.unlike import unlike

        return unlike(self.model)

    def typos(self) -> Typos:
        """Attribute values of which one changed character would put endpoints into a group that may
        do more.

        Returns:
            ``typos``: the attribute, its value, what it would be ``instead``, how many endpoints
            would move and from where to where, and what they would gain; ``more``: there were too
            many to try all.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> first = quillmere.typos().typos[0]
            >>> first["value"], first["instead"], first["was"], first["is"]
            ('archive', 'rchive', 'archive', 'untagged')
        """
        from oaktag.operations.typos import typos

        return typos(self.model)

    def explain(self, what: str) -> Explained:
        """All that is known about an endpoint, an address, a prefix, a group or a tag.

        Returns:
            all that is known about one thing: an endpoint, address, prefix, group or set
            (``kind``): ``what``, ``kind``, and where asked for ``endpoint``, ``attributes``,
            ``places``, ``prefix``, ``segment``, ``endpoints``, ``inside``, ``group``, ``tag``,
            ``hexadecimal``, ``members``, ``sets``, ``groups``, ``bindings``, ``addressed``,
            ``policies``.

        Raises:
            UsageError: nothing of the kind is known.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.explain('ada').endpoint['by']['conditions']
            ['kind: user', 'member_of: reading-services']
        """
        from oaktag.operations.explain import explain

        return explain(self.model, what)

    def find(self, text: str, lists: Path | None = None) -> Found:
        """Every place where something occurs: a name, a piece of text, an address or prefix (what
        holds it, and what is inside), a service or port, or a tag.

        Args:
            text: what to look for, as it would be typed.
            lists: the folder of access lists; ``lists`` in the workspace's folder if none is named.

        Returns:
            ``taken_for``, what the text can be; ``places``, lines of files; ``bindings`` in force;
            ``lists``, with the number of their lines that name it.

        Raises:
            UsageError: nothing is asked for.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.find('8443/tcp').places[-1]['text']
            'use-loans: allow loans-api, icmp/echo-request'
        """
        from oaktag.operations.find import find

        return find(self.model, text, lists)

    def bindings(self, node: str | None = None, find: tuple[str, ...] = ()) -> BindingList:
        """Bindings in force, in the registry or at one node, and those of some addresses.

        Returns:
            ``at`` and ``bindings``, one row a prefix; of addresses asked of, ``found``.

        Raises:
            UsageError: no such node, or no address.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.bindings('hall-edge').bindings[0]['prefix']
            '10.20.1.11/32'
        """
        from oaktag.operations.bindings import bindings

        return bindings(self.model, node, find)

    def missing(self, node: str) -> BindingList:
        """What a node should know and does not, and where it stopped.

        Returns:
            ``missing``: addresses with who is there, what is known instead, and where it stopped.

        Raises:
            UsageError: no such node.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.missing('hall-edge').missing[0]['stopped'].split(';')[0]
            'ashgrove-access has it'
        """
        from oaktag.operations.bindings import missing

        return missing(self.model, node)

    def handover(self, address: str, who: str) -> Handover:
        """What the new owner of an address inherits from the old one until each table has caught
        up.

        Args:
            address: the address, on a segment.
            who: its new owner: an endpoint or a group.

        Returns:
            ``was`` and ``now``; what passes and is dropped wrongly while all tables are late,
            ``all_late``, and while one node's is alone: ``tables``.

        Raises:
            UsageError: no such address, segment or owner.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> told = quillmere.handover('10.20.2.101', 'kiosks')
            >>> told.was['group'], [row['other'] for row in told.all_late if row['passes_text']]
            ('patrons', ['internet', 'e-books'])
        """
        from oaktag.operations.handover import handover

        return handover(self.model, address, who)

    def feed_ends(self, name: str) -> BindingList:
        """Both ends of one feed against each other.

        Returns:
            ``feed``, ``sender``, whether it is ``up``, and ``ends``, a row a prefix at either end.

        Raises:
            UsageError: no such feed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.feed_ends('registry>hall-edge').up
            True
        """
        from oaktag.operations.bindings import feed_ends

        return feed_ends(self.model, name)
