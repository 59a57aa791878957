"""Changes of a workspace's files, shown with all that they do, and written if asked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Literal

from oaktag.errors import UsageError
from oaktag.operations.asked import Asked

if TYPE_CHECKING:
    from pathlib import Path

    from oaktag.operations.change import Change
    from oaktag.operations.mend import Mended
    from oaktag.operations.move import Where


class OfChanges(Asked):
    """Changes of a workspace's files, shown with all that they do, and written if asked."""

    def number_groups(self, *, write: bool = False) -> Change:
        """Give numbers to groups that have none: ``groups.yaml`` and ``oaktag.yaml``.

        Returns:
            the diff, what it does, and ``numbers``: group → its new number; see ``Change``.

        Raises:
            UsageError: the range has too few free numbers.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.number_groups().numbers
            {}
        """
        from oaktag.operations.change import number

        return number(self.model, write=write)

    def pin(
        self,
        who: str | Sequence[str],
        to: str,
        until: str | None = None,
        note: str | None = None,
        *,
        when: str | None = None,
        write: bool = False,
        anyway: bool = False,
    ) -> Change:
        """Put endpoints and prefixes into a group by hand; the document holds the diff.

        Args:
            who: one of them, or many.
            to: the group.
            until: the last day it counts, as ``2027-01-31``.
            note: why.
            when: all endpoints too that these conditions take, as ``site=ashgrove, model=SC-*``.
            write: write it; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff, who moves by it and what else it does, ``written``; see ``Change``.

        Raises:
            UsageError: no such endpoints or group, some are pinned elsewhere, or the change would
                break the workspace.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.pin('ada', 'volunteers').endpoints
            [{'endpoint': 'ada', 'was': 'librarians', 'is': 'volunteers'}]
        """
        from oaktag.operations.change import pin
        from oaktag.operations.members import members

        names = [who] if isinstance(who, str) else list(who)
        if when is not None:
            taken = [row["endpoint"] for row in members(self.model, when=when).endpoints]
            if not taken:
                raise UsageError(f"{when!r} takes nobody")
            names += taken
        return pin(self.model, names, to, until, note, write=write, anyway=anyway)

    def save_rule(
        self,
        when: str,
        group: str,
        before: int | None = None,
        confidence: float = 0.0,
        *,
        write: bool = False,
        anyway: bool = False,
    ) -> Change:
        """Make a rule of conditions: whom they take is in a group then.

        Args:
            when: the conditions, as ``site=ashgrove, model=SC-*``.
            group: the group that the rule gives.
            before: the line of a rule in ``assignments.yaml`` that it comes before; without it
                the rule is the last, and takes those whom no other takes.
            confidence: attributes known with less count as missing, from 0 to 1.
            write: write it; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff and what it does; ``rules``: of those whom the conditions take, how many each
            pin and rule takes then, and took before; see ``Change``.

        Raises:
            UsageError: the conditions cannot be read or take nobody, or there is no such group or
                rule.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.save_rule('site=ashgrove, model=SC-*', 'kiosks').rules[-1]['takes']
            0
        """
        from oaktag.operations.group_life import save_rule

        return save_rule(self.model, when, group, before, confidence, write=write, anyway=anyway)

    def topology_in(
        self, name: str, data: bytes, network: str | None = None, *,
        write: bool = False, anyway: bool = False,
    ) -> Change:  # fmt: skip
        """Add to ``network.yaml`` what a topology of RFC 8345 has and it has not.

        Args:
            name: the file's name, for messages.
            data: its bytes: JSON, with prefixes and metrics of RFC 8346 where it has them.
            network: the id of the network, where there are several.
            write: write it; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff and what it does; ``notes``: what could not be taken as it is; see ``Change``.

        Raises:
            UsageError: it is no such data.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'topology.json'
            >>> quillmere.topology(file)
            >>> quillmere.topology_in('topology.json', file.read_bytes()).files
            []
        """
        from oaktag.operations.topology import topology_in

        return topology_in(self.model, name, data, network, write=write, anyway=anyway)

    def renumber(
        self, group: str, tag: int | None = None, *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Give a group another number in all files; one that was issued is retired.

        Args:
            group: the group.
            tag: its new number; without it the next of the range that numbers are issued from.
            write: write it; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff and what it does; ``renumbered``: the group, its old and its new number; see
            ``Change``.

        Raises:
            UsageError: there is no such group, or the number is not free.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.renumber('patrons', 321).renumbered['was']
            320
        """
        from oaktag.operations.group_life import renumber

        return renumber(self.model, group, tag, write=write, anyway=anyway)

    def unpin(
        self, who: str, at: str | None = None, *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Take a pin out; ``at`` says of which node, where a prefix has several.

        Returns:
            the diff, who moves by it and what else it does, ``written``; see ``Change``.

        Raises:
            UsageError: it is not pinned, or several times.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.unpin('ivo').endpoints
            [{'endpoint': 'ivo', 'was': 'network-desk', 'is': 'librarians'}]
        """
        from oaktag.operations.change import unpin

        return unpin(self.model, who, at, write=write, anyway=anyway)

    def pull(
        self, files: Sequence[str] = (), *, write: bool = False, anyway: bool = False,
        progress: Callable[[int], None] | None = None,
    ) -> Change:  # fmt: skip
        """Read directories and other domains into the files that stand for them. See
        ``operations.pulling``.

        Args:
            files: which of these files; all where none is named.
            write: write them; else it is only shown.
            anyway: also where a directory lost more than its guard, or an expectation fails then.
            progress: called with how many entries have come.

        Returns:
            the diff, who moves by it and what else it does, ``written``, and which domains'
            documents are ``refused``; see ``Change``.

        Raises:
            UsageError: no source has such a file, or a directory lost more than its guard.
            OakTagError: a directory does not answer, refuses, or does not give all.
        """
        from oaktag.operations.pulling import pull

        return pull(self.model, files, write=write, anyway=anyway, progress=progress)

    def correct(
        self, who: str, attribute: str, value: str | None, *, by: str = "", why: str = "",
        write: bool = False, anyway: bool = False,
    ) -> Change:  # fmt: skip
        """Correct an attribute of an endpoint by hand; a correction that is there is replaced.

        Args:
            who: the endpoint.
            attribute: which one.
            value: what it is, several values parted by a semicolon; "" for none; None takes the
                correction out again.
            by: who says so.
            why: why.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff, who moves by it and what else it does, ``written``; see ``Change``.

        Raises:
            UsageError: no such endpoint or correction, or the value cannot be.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.correct('02:00:5e:10:00:21', 'purpose', 'printing').files
            ['inventory/corrections.csv']
        """
        from oaktag.operations.correct import correct

        return correct(
            self.model, who, attribute, value, by=by, why=why, write=write, anyway=anyway
        )

    def rename(self, old: str, new: str, *, write: bool = False, anyway: bool = False) -> Change:
        """Rename a group or set in all files, or in none.

        Returns:
            the diff over all files, what it does, ``written``; see ``Change``.

        Raises:
            UsageError: no such group or set, or the new name cannot be.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.rename('kiosks', 'desks').files
            ['groups.yaml', 'assignments.yaml', 'expectations.yaml', 'matrix/20-reading.csv']
        """
        from oaktag.operations.change import rename

        return rename(self.model, old, new, write=write, anyway=anyway)

    def split(
        self, old: str, new: str, when: str, *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Part a group: those of its members whom conditions take are in a new one then, which
        fares exactly as the old one does, proved for both answers of every cell.

        Args:
            old: the group that stays.
            new: the id of the new one; its number is issued.
            when: conditions, as ``site=ashgrove, model=SC-*``.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff over all files, who moves, and what else it does; see ``Change``.

        Raises:
            UsageError: no such group, the name is taken, nobody or everybody is meant, or it cannot
                be parted so.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> len(quillmere.split('kiosks', 'kiosks-old', 'model=SC-200').endpoints)
            2
        """
        from oaktag.operations.group_life import split

        return split(self.model, old, new, when, write=write, anyway=anyway)

    def merge(
        self, old: str, heir: str, *, lines: bool = False, write: bool = False,
        anyway: bool = False,
    ) -> Change:  # fmt: skip
        """Join a group to another in all files: its members are in that one then, and fare as it
        does; its number is retired.

        Args:
            old: the group that goes.
            heir: the group that stays.
            lines: what lines say of the group that goes is said of the other one then; else these
                lines go with it.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff over all files, what it does, and ``fares``: what those who move may do more
            and less; see ``Change``.

        Raises:
            UsageError: no such groups, or somebody would come to be elsewhere.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.merge('tablets', 'patrons').fares[0]['other']
            'core-services'
        """
        from oaktag.operations.group_life import merge

        return merge(self.model, old, heir, lines=lines, write=write, anyway=anyway)

    def retire(self, group: str, *, write: bool = False, anyway: bool = False) -> Change:
        """Take a group out of all files, with all that names it; its number is retired, and its
        members are where later rules put them.

        Returns:
            the diff over all files, what it does, and ``fares``: what those who move may do more
            and less; see ``Change``.

        Raises:
            UsageError: no such group, or something else hangs on it.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.retire('makerspace').fares[0]['is']
            'untagged'
        """
        from oaktag.operations.group_life import retire

        return retire(self.model, group, write=write, anyway=anyway)

    def set_line(
        self,
        source: str,
        destination: str,
        permission: str,
        fields: Mapping[str, str] | None = None,
        layer: str | None = None,
        *,
        write: bool = False,
        anyway: bool = False,
    ) -> Change:
        """Give a pair a permission, in its own line or in a new one.

        Args:
            source: a word of a line.
            destination: a word of a line.
            permission: its name.
            fields: other cells of the line, as ``{"mode": "observe"}``.
            layer: the file of the line.
            write: write the change; else it is only shown.
            anyway: write even where an expectation fails then.

        Returns:
            the diff, what it does, and ``hidden_by``, the lines that hide it; see ``Change``.

        Raises:
            UsageError: an unknown name, several such lines, or a change that is refused.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.set_line('tablets', 'archive', 'search-only').cells[0]['opened']
            ['443/tcp']
        """
        from oaktag.operations.lines import set_line

        return set_line(
            self.model,
            source,
            destination,
            permission,
            fields or {},
            layer,
            write=write,
            anyway=anyway,
        )

    def sheet_in(self, file: str | Path, *, write: bool = False, anyway: bool = False) -> Change:
        """Bring the edits of a sheet back that ``sheet`` wrote: lines that were changed, removed
        and added, or permissions that were written into a grid.

        Args:
            file: the sheet, CSV.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff, and all that it does; see ``Change``.

        Raises:
            UsageError: lines were changed meanwhile, or rows say nothing that can be done.
            WorkspaceError: it cannot be read.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'matrix.csv'
            >>> quillmere.sheet(file)
            >>> quillmere.sheet_in(file).files
            []
        """
        from pathlib import Path

        from oaktag.operations.sheet import sheet_in
        from oaktag.workspace.folder import MOST, read_plain

        path = Path(file)
        try:
            data = read_plain(path, MOST)[0]
        except OSError as error:
            raise UsageError(f"{path}: {error.strerror}") from None
        return sheet_in(self.model, path.name, data, write=write, anyway=anyway)

    def move(
        self, line: str, where: Where | None = None, other: str | None = None, *,
        write: bool = False, anyway: bool = False,
    ) -> Change:  # fmt: skip
        """Put a line of the matrix at another place of its file.

        Args:
            line: the line, as ``matrix/20-reading.csv:4``.
            where: ``up``, ``down``, ``first``, ``last``, ``before`` or ``after`` another line; None
                to be told what each place would change.
            other: the other line, or its number.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff, and what it does; without ``where`` only ``places``: the lines before which it
            might stand, and the cells that differ then; see ``Change``.

        Raises:
            UsageError: no such line, or no such place.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [len(p['cells']) for p in quillmere.move('20-reading.csv:4').places]
            [0]
        """
        from oaktag.operations.move import move

        return move(self.model, line, where, other, write=write, anyway=anyway)

    def set_many(
        self, where: str, fields: Mapping[str, str], *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Change all lines that ``where`` selects, as ``owner=reading services, mode=observe``.

        Returns:
            the diff of all lines that are set, and what it does; see ``Change``.

        Raises:
            UsageError: nothing is selected or to be changed, or the change is refused.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.set_many('mode=observe', {'mode': 'enforce'}).cells[0]['closed']
            ['any']
        """
        from oaktag.operations.lines import set_many

        return set_many(self.model, where, fields, write=write, anyway=anyway)

    def grant(
        self,
        source: str,
        destination: str,
        service: str,
        fields: Mapping[str, str] | None = None,
        *,
        action: Literal["allow", "deny"] = "allow",
        only: bool = False,
        write: bool = False,
        anyway: bool = False,
    ) -> Change:
        """The smallest change that allows just this, or with ``deny`` ends it.

        Args:
            source: who; a group, or an endpoint or address for its group.
            destination: likewise.
            service: what.
            fields: other cells of the line, as ``{"expires": "2027-01-31"}``.
            action: allow it, or end it.
            only: to this endpoint alone, split off from its group until ``expires``.
            write: write the change; else it is only shown.
            anyway: also where an expectation fails then.

        Returns:
            the diff, what it does, ``already`` (why nothing is to be done), ``others`` in the same
            groups, and ``alone`` with ``only``; see ``Change``.

        Raises:
            UsageError: an unknown name or service, a set, or no single line does it.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.grant('patrons', 'loans-db', 'loans-api').cells[0]['opened']
            ['8443-8444/tcp']
        """
        from oaktag.operations.alone import grant_alone
        from oaktag.operations.lines import grant

        if only:
            return grant_alone(
                self.model, source, destination, service, fields or {}, write=write, anyway=anyway
            )

        return grant(
            self.model, source, destination, service, fields or {}, action=action, write=write,
            anyway=anyway,
        )  # fmt: skip

    def mend(
        self,
        *,
        breaks: bool = False,
        even_if_breaks: bool = False,
        write: bool = False,
        anyway: bool = False,
        seconds: float = 60.0,
        progress: Callable[[str], None] | None = None,
    ) -> Mended:
        """The cheapest changes of the network after which nothing leaks.

        Args:
            breaks: nothing may break either.
            even_if_breaks: what was exact may break; ``broken`` names it.
            write: write them into ``network.yaml``.
            seconds: when the search ends, with a bound.
            progress: told how far it is.

        Returns:
            the cheapest changes after which nothing leaks, with the diff and what it does:
            ``choices``, ``changes``, ``cost``, ``proved``, ``bound``, ``tried``, ``hopeless``,
            ``left``, ``broken``, ``files``, ``diff``, ``written``, ``cells``, ``endpoints``,
            ``expectations``, ``network``, ``not_followed``, ``hidden_by``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.mend().changes[0]
            {'kind': 'feed', 'what': 'ashgrove-access', 'price': 1, 'to': 'hall-edge'}
        """
        from oaktag.operations.mend import mending

        return mending(
            self.model, breaks=breaks, even_if_breaks=even_if_breaks, write=write, anyway=anyway,
            seconds=seconds, progress=progress,
        )  # fmt: skip
