"""What a workspace says of what is allowed: the matrix, its cells, decisions, expectations."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TextIO

from oaktag.errors import UsageError
from oaktag.operations.asked import Asked
from oaktag.operations.model import Model

if TYPE_CHECKING:
    import pandas as pd

    from oaktag.operations.around import Around
    from oaktag.operations.callers import Callers
    from oaktag.operations.card import Card
    from oaktag.operations.cell import Cell
    from oaktag.operations.compare import Comparison
    from oaktag.operations.decide import Decision
    from oaktag.operations.decide_many import Decisions
    from oaktag.operations.describe import Described
    from oaktag.operations.expect import Expected
    from oaktag.operations.matrix import MatrixView
    from oaktag.operations.newcomer import Newcomer
    from oaktag.operations.real_ends import RealEnds
    from oaktag.operations.severities import Checked
    from oaktag.operations.uncovered import Uncovered
    from oaktag.operations.verify import Verified


class OfPolicy(Asked):
    """What a workspace says of what is allowed: the matrix, its cells, decisions, expectations."""

    def check(self, progress: Callable[[str], None] | None = None) -> Checked:
        """Findings about endpoints, groups, bindings and segments.

        Args:
            progress: told how far it is.

        Returns:
            findings of ``check`` or ``review``: those that count, and those that are accepted:
            ``findings``, ``accepted``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> 'OT203' in {row['code'] for row in quillmere.check().findings}
            True
        """
        from oaktag.operations.check import check

        return check(self.model, progress)

    def review(self) -> Checked:
        """Findings about the matrix.

        Returns:
            findings of ``check`` or ``review``: those that count, and those that are accepted:
            ``findings``, ``accepted``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.review().findings[0]['code']
            'OT302'
        """
        from oaktag.operations.review import review

        return review(self.model)

    def matrix(
        self,
        source: str | None = None,
        destination: str | None = None,
        *,
        service: str | None = None,
        only: str | None = None,
        search: str | None = None,
        since: str | Path | None = None,
    ) -> MatrixView:
        """Every cell and the distinct contents that cells share; see ``operations.matrix``.

        Args:
            source: only these sources.
            destination: only these destinations.
            service: only what cells say about it.
            only: ``observed``, ``default`` or ``changed``.
            search: cells of lines with this text in a name, note or owner.
            since: the version that ``changed`` compares with.

        Returns:
            cells of the matrix, the distinct contents that they share, and groups that are alike:
            ``sources``, ``destinations``, ``service``, ``only``, ``forms``, ``cells``, ``rows``,
            ``columns``.

        Raises:
            UsageError: an unknown name, service or version.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.matrix('patrons', 'catalogue').forms[0]['allows']
            'https'
        """
        from oaktag.operations.matrix import matrix
        from oaktag.workspace.revision import version

        if only not in (None, "observed", "default", "changed"):
            raise UsageError(f"{only!r} is none of observed, default, changed")
        if only != "changed":
            return matrix(
                self.model, source, destination, service=service, only=only, search=search
            )
        old = version(self.model.files.root, "HEAD" if since is None else since)
        return matrix(
            self.model, source, destination, service=service, only=only, search=search,
            against=Model.read(old, self.model.today),
        )  # fmt: skip

    def cell(self, source: str, destination: str) -> Cell:
        """One cell: lines, ordered entries, boxes.

        Returns:
            one cell: its lines in order, their entries, and what they come to as disjoint boxes. Of
            sets ``alike`` has the cells of the same lines together, with their ``pairs``:
            ``source``, ``destination``, ``lines``, ``entries``, ``default``, ``default_decides``,
            ``observed_default``, ``allows``, ``would_allow``, ``boxes``, and where asked for
            ``alike``.

        Raises:
            UsageError: an unknown name, or a set.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.cell('patrons', 'catalogue').entries[0]['action']
            'deny'
        """
        from oaktag.operations.cell import cell

        return cell(self.model, source, destination)

    def callers(
        self, destination: str, service: str | None = None, *, endpoints: bool = False
    ) -> Callers:
        """Who may reach a destination.

        Returns:
            ``callers``: groups (or endpoints) with what for, and the lines that allow it.

        Raises:
            UsageError: an unknown name, a set, or no service.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [row['group'] for row in quillmere.callers('loans-db', 'loans-api').callers]
            ['librarians', 'kiosks', 'return-sorters', 'catalogue']
        """
        from oaktag.operations.callers import other_ends

        return other_ends(self.model, "callers", destination, service, endpoints=endpoints)

    def real_callers(self, destination: str, service: str | None = None) -> RealEnds:
        """Who really reaches a destination, as the network lets packets through.

        Args:
            destination: a group, set, endpoint, address, segment or site.
            service: for what; None for anything.

        Returns:
            ``ends``: groups that get through as meant, or by a leak, or do not though it is
            allowed (``how``), with the packets, the segments where they are, and a path.

        Raises:
            UsageError: an unknown name, or no service.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> {row['how'] for row in quillmere.real_callers('loans-db', 'loans-api').ends}
            {'as meant'}
        """
        from oaktag.operations.real_ends import real_ends

        return real_ends(self.model, "callers", destination, service)

    def real_callees(self, source: str, service: str | None = None) -> RealEnds:
        """Whom a source really reaches, as the network lets packets through.

        Args:
            source: a group, set, endpoint, address, segment or site.
            service: with what; None for anything.

        Returns:
            as ``real_callers``.

        Raises:
            UsageError: an unknown name, or no service.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> len(quillmere.real_callees('kiosks', 'https').ends) > 1
            True
        """
        from oaktag.operations.real_ends import real_ends

        return real_ends(self.model, "callees", source, service)

    def callees(
        self, source: str, service: str | None = None, *, endpoints: bool = False
    ) -> Callers:
        """What a source may reach.

        Returns:
            ``callees``: groups (or endpoints) with what for, and the lines that allow it.

        Raises:
            UsageError: an unknown name, a set, or no service.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.callees('archive').callees[0]['allows']
            'domain, ntp, icmp'
        """
        from oaktag.operations.callers import other_ends

        return other_ends(self.model, "callees", source, service, endpoints=endpoints)

    def describe(self, group: str) -> Described:
        """A group's whole policy in plain sentences.

        Returns:
            a group's policy in sentences, each with the lines that say so: ``group``, ``tag``,
            ``sentences``.

        Raises:
            UsageError: an unknown name, or a set.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> print(quillmere.describe('archive').sentences[1]['text'])
            archive may reach core-services for domain, ntp, icmp.
        """
        from oaktag.operations.describe import describe

        return describe(self.model, group)

    def around(self, word: str) -> Around:
        """What comes into a set of groups, passes inside it, and goes out.

        Returns:
            what comes into a set of groups, passes inside it, and goes out; and between which
            groups nothing but the default speaks: ``set``, ``groups``, ``comes_in``,
            ``passes_inside``, ``goes_out``, ``default``, ``by_default``.

        Raises:
            UsageError: an unknown name.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.around('in-library').goes_out[0]['destination']
            'catalogue'
        """
        from oaktag.operations.around import around

        return around(self.model, word)

    def decide(
        self,
        source: str,
        destination: str,
        service: str,
        family: int | None = None,
        source_port: int | None = None,
    ) -> Decision:
        """Allow or deny, and the line that says so.

        Returns:
            what one cell says about the packets of a service; ``line`` is None for the default, and
            where packets differ the ``action`` is ``mixed`` and ``parts`` has each. Of sets
            ``cells`` has each pair: ``source``, ``destination``, ``service``, ``packet``,
            ``action``, ``would``, ``line``, ``would_line``, ``permission``, ``entry``,
            ``addressed``, and where asked for ``parts``, ``cells``.

        Raises:
            UsageError: an unknown name, a set, or no packet is asked about.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.decide('librarians', 'loans-db', 'loans-api').action
            'allow'
        """
        from oaktag.operations.decide import decide

        return decide(self.model, source, destination, service, family, source_port)

    def decide_many(self, questions: Mapping[str, Any] | pd.DataFrame) -> Decisions:
        """What the matrix says of many packets at once.

        Args:
            questions: a pandas DataFrame, or a mapping of equally long columns: ``source`` and
                ``destination`` as in ``decide``, ``family``, ``protocol`` (number or name),
                ``source_port``, ``destination_port``.

        Returns:
            Arrays ``allowed`` and ``would`` (bool [n]) and ``line`` (int64 [n], -1: the default);
            ``frame()`` joins them to the questions.

        Raises:
            UsageError: a column is missing or of another length, or rows are no packets.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> asked = {
            ...     'source': ['ada', 'patrons'], 'destination': ['loans-db', 'loans-db'],
            ...     'family': [4, 6], 'protocol': ['tcp', 'tcp'],
            ...     'source_port': [50000, 50000], 'destination_port': [8443, 8443],
            ... }
            >>> quillmere.decide_many(asked).frame()['action'].tolist()
            ['allow', 'deny']
        """
        from oaktag.operations.decide_many import decide_many

        return decide_many(self.model, questions)

    def decide_batch(self, questions: TextIO, answers: TextIO, name: str = "questions") -> int:
        """Answer a CSV of packets; returns how many there were.

        Raises:
            UsageError: with every row that is no question; nothing is written then.
        """
        from oaktag.operations.decide_batch import decide_batch

        return decide_batch(self.model, questions, name, answers)

    def newcomer(self, segment: str) -> Newcomer:
        """What a host that nobody knows obtains in a segment, as the network really lets packets
        through.

        Returns:
            ``hosts``: as whom it is taken, by an address of each family that nobody has;
            ``obtains``: to which groups which packets get through, and which of them leak.

        Raises:
            UsageError: there is no such segment, or no address of it is left.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.newcomer('central-public').hosts[0]['group']
            'untagged'
        """
        from oaktag.operations.newcomer import newcomer

        return newcomer(self.model, segment)

    def expect(self) -> Expected:
        """Expectations and ``keep_open``, proved.

        Returns:
            whether each expectation and each row of ``keep_open`` holds: ``expectations``,
            ``keep_open``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> [row['line'] for row in quillmere.expect().expectations if not row['holds']]
            [3, 8, 10]
        """
        from oaktag.operations.expect import expect

        return expect(self.model)

    def uncovered(self) -> Uncovered:
        """Cells that no expectation speaks of, and packets allowed that none asks for.

        Returns:
            how many ``cells`` there are, of how many expectations speak (``spoken``), in how many
            something is allowed that none asks for (``loose``); and these, as rectangles of
            ``sources`` and ``destinations``: ``uncovered``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.uncovered().cells
            361
        """
        from oaktag.operations.uncovered import uncovered

        return uncovered(self.model)

    def card(self) -> Card:
        """A card of tests: the fewest packets, between endpoints that there are, that tell of every
        line whether it acts as written.

        Returns:
            ``tests``, each with its ends, what to try, whether it must pass, and the lines that it
            tells of; ``untold``: lines of which no test tells, and why.

        Raises:
            UsageError: there are too many cells.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> len(quillmere.card().tests) < len(quillmere.model.lines)
            True
        """
        from oaktag.operations.card import card

        return card(self.model)

    def verify(
        self, level: str = "error", progress: Callable[[str], None] | None = None
    ) -> Verified:
        """Check, review, expect and reach in one, and what was not looked at.

        Args:
            level: the severity from which findings are no longer well: ``error``, ``warning``,
                ``note`` or ``never``.
            progress: told how far it is.

        Returns:
            check, review, expect and reach in one, and what was not looked at: ``parts``,
            ``findings``, ``failed``, ``causes``, ``not_looked_at``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.verify().well
            False
        """
        from oaktag.operations.verify import verify

        return verify(self.model, level, progress)

    def compare(self, was: str | Path = "HEAD", now: str | Path | None = None) -> Comparison:
        """Who gains and loses between two versions, and what else differs: folders, git revisions
        of this one, or times (as 2026-11-27T08:00Z).

        Args:
            was: the older version.
            now: the newer one; by default this workspace.

        Returns:
            who gains and loses, and what differs, from the guards to the lists and the network;
            see ``Comparison``.

        Raises:
            UsageError: one of them is no version.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.compare(oaktag.sample(mended=True)).cells[0]['opened_text']
            'any but https, ssh, icmp'
        """
        from oaktag.operations.compare import versions

        before = Model.read_version(self.model, was)
        after = self.model if now is None else Model.read_version(self.model, now)
        return versions(before, after)

    def if_enforced(self, where: str | None = None) -> Comparison:
        """What would change if observed lines were enforced: all, or those that are selected.

        Returns:
            what would differ, and ``lines``, those in observe that were taken; see ``Comparison``.

        Raises:
            UsageError: no line is selected.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.if_enforced().cells[0]['closed']
            ['any']
        """
        from oaktag.operations.compare import if_enforced

        return if_enforced(self.model, where)

    def sheet(self, file: str | Path, form: Literal["lines", "grid"] = "lines") -> None:
        """Write the matrix as a sheet for office programs; its edits come back with ``sheet_in``.

        Args:
            file: where to: a name in .csv, .xlsx or .ods.
            form: a row for each line, or sources down and destinations across.

        Raises:
            UsageError: it is no such name.
            NotPossibleHere: the package for it is not installed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'grid.csv'
            >>> quillmere.sheet(file, 'grid')
            >>> file.read_text().count('librarians')
            2
        """
        from oaktag.operations.sheet import sheet
        from oaktag.workspace.textfile import write_bytes

        write_bytes(Path(file), sheet(self.model, Path(file), form))

    def draw_matrix(self, view: MatrixView, file: str | Path) -> None:
        """Draw a view of the matrix, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'matrix.png'
            >>> quillmere.draw_matrix(quillmere.matrix(), file)
        """
        from oaktag.report.figures import draw_matrix

        draw_matrix(view, Path(file))

    def draw_around(self, around: Around, file: str | Path) -> None:
        """Draw what comes in, passes inside and goes out, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'around.svg'
            >>> quillmere.draw_around(quillmere.around('in-library'), file)
        """
        from oaktag.report.figures import draw_around

        draw_around(around, Path(file))

    def write_junit(self, expected: Expected, file: str | Path) -> None:
        """Write expectations as JUnit XML, for CI.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'expectations.xml'
            >>> quillmere.write_junit(quillmere.expect(), file)
        """
        from oaktag.report.junit import write_junit

        write_junit(expected, self.model.files.config.workspace, Path(file))
