"""``oaktag.Workspace``: everything the commands show, as objects and pandas DataFrames."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TextIO

from oaktag.errors import UsageError
from oaktag.operations.model import Model

if TYPE_CHECKING:
    import pandas as pd

    from oaktag.operations.attributes import Attributes
    from oaktag.operations.bindings import BindingList
    from oaktag.operations.cell import Cell
    from oaktag.operations.change import Change
    from oaktag.operations.compare import Comparison
    from oaktag.operations.decide import Decision
    from oaktag.operations.decide_many import Decisions
    from oaktag.operations.drift import Drift
    from oaktag.operations.expect import Expected
    from oaktag.operations.explain import Explained
    from oaktag.operations.failures import Failures
    from oaktag.operations.groups import GroupList
    from oaktag.operations.lab import LabDown, LabProbed, LabState, LabUp
    from oaktag.operations.lists import Compiled, Proved
    from oaktag.operations.matrix import MatrixView
    from oaktag.operations.members import Members
    from oaktag.operations.mend import Mended
    from oaktag.operations.questions import Around, Callers, Described
    from oaktag.operations.reach import Reached
    from oaktag.operations.result import Result
    from oaktag.operations.trace import Traced
    from oaktag.operations.verify import Verified
    from oaktag.operations.weigh import Checked


class Workspace:
    """A workspace, read once; every answer is computed when it is first asked for.

    Use ``Workspace.load``. Methods are named after commands, and return what the commands print:
    small objects with named fields, which show themselves as text
    and HTML, and turn into JSON (``as_json``) and pandas frames (``frame``).
    """

    def __init__(self, model: Model) -> None:
        self.model = model

    @classmethod
    def load(
        cls, path: str | Path, today: date | None = None, *, asked: Sequence[str] = ()
    ) -> Workspace:
        """Read the workspace in a folder.

        Args:
            path: the folder with ``oaktag.yaml``.
            today: the day on which lines expire and pins end, UTC; the real one by default.
            asked: the ends of the only question that will be asked, of ``decide`` or
                ``cell``: where all are groups, sets or tags, no inventory is read.

        Raises:
            UsageError: the folder is no workspace.
            WorkspaceError: its files cannot be read or contradict each other; every fault of
                the run is in ``problems``.
        """
        day = None if today is None else today.toordinal()
        return cls(Model.read(Path(path), day, asked))

    @classmethod
    def from_objects(
        cls,
        groups: Iterable[Mapping[str, Any]],
        permissions: Mapping[str, Any],
        lines: Iterable[Any] | Mapping[str, Iterable[Any]] = (),
        endpoints: Iterable[Mapping[str, Any]] = (),
        *,
        sets: Mapping[str, Any] | None = None,
        services: Mapping[str, Any] | None = None,
        rules: Iterable[Mapping[str, Any]] = (),
        pins: Iterable[Mapping[str, Any]] = (),
        sessions: Iterable[Mapping[str, Any]] = (),
        network: Mapping[str, Any] | None = None,
        expectations: Iterable[Mapping[str, Any]] = (),
        config: Mapping[str, Any] | None = None,
        today: date | None = None,
    ) -> Workspace:
        """A workspace of plain objects, in the forms that the files have, with the same checks.

        Args:
            groups: as in ``groups.yaml``: ``{"id": "readers", "tag": 310}``.
            permissions: name → entries: ``{"web": [{"allow": "https"}]}``.
            lines: ``("readers", "shelves", "web")`` or mappings with the columns of a layer; or
                several layers in order, name → lines.
            endpoints: mappings with ``id``, ``kind`` and attributes, or a pandas DataFrame.
            sets, services, rules, pins, network, expectations: as in the files.
            sessions: mappings with ``endpoint``, ``address``, ``since``.
            config: more of ``oaktag.yaml``, as ``{"default": "allow"}``.
            today: the day on which lines expire and pins end.

        Raises:
            WorkspaceError: with every fault of all objects.

        Example:
            >>> ws = Workspace.from_objects(
            ...     [{"id": "readers", "tag": 310}, {"id": "shelves", "tag": 410}],
            ...     {"web": [{"allow": "https"}]},
            ...     [("readers", "shelves", "web")],
            ... )
            >>> ws.decide("readers", "shelves", "443/tcp").action
            'allow'
        """
        from oaktag.workspace.objects import folder_of

        folder = folder_of(
            groups=groups, permissions=permissions, lines=lines, endpoints=endpoints, sets=sets,
            services=services, rules=rules, pins=pins, sessions=sessions, network=network,
            expectations=expectations, config=config,
        )  # fmt: skip
        return cls(Model.read(folder, None if today is None else today.toordinal()))

    @property
    def settled(self) -> str | None:
        """Which interrupted change was finished when the workspace was read; None if there was
        none."""
        return self.model.files.folder.settled

    def check(self) -> Checked:
        """Findings about endpoints, groups, bindings and segments."""
        from oaktag.operations.check import check

        return check(self.model)

    def groups(self) -> GroupList:
        """Groups, tags, members, bindings."""
        from oaktag.operations.groups import groups

        return groups(self.model)

    def number_groups(self, *, write: bool = False) -> Change:
        """Give numbers to groups that have none: ``groups.yaml`` and ``oaktag.yaml``.

        Raises:
            UsageError: the range has too few free numbers.
        """
        from oaktag.operations.change import number

        return number(self.model, write=write)

    def pin(
        self,
        who: str,
        to: str,
        until: str | None = None,
        note: str | None = None,
        *,
        write: bool = False,
        anyway: bool = False,
    ) -> Change:
        """Put an endpoint or a prefix into a group by hand; the document holds the diff.

        Raises:
            UsageError: no such endpoint or group, or the change would break the workspace.
        """
        from oaktag.operations.change import pin

        return pin(self.model, who, to, until, note, write=write, anyway=anyway)

    def unpin(
        self, who: str, at: str | None = None, *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Take a pin out; ``at`` says of which node, where a prefix has several.

        Raises:
            UsageError: it is not pinned, or several times.
        """
        from oaktag.operations.change import unpin

        return unpin(self.model, who, at, write=write, anyway=anyway)

    def rename(self, old: str, new: str, *, write: bool = False, anyway: bool = False) -> Change:
        """Rename a group or set in all files, or in none.

        Raises:
            UsageError: no such group or set, or the new name cannot be.
        """
        from oaktag.operations.change import rename

        return rename(self.model, old, new, write=write, anyway=anyway)

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

        Raises:
            UsageError: an unknown name, several such lines, or a change that is refused.
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

    def set_many(
        self, where: str, fields: Mapping[str, str], *, write: bool = False, anyway: bool = False
    ) -> Change:
        """Change all lines that ``where`` selects, as ``owner=reading services, mode=observe``.

        Raises:
            UsageError: nothing is selected or to be changed, or the change is refused.
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

        Raises:
            UsageError: an unknown name or service, a set, or no single line does it.
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

    def moved_since(self, other: str | Path) -> Members:
        """Who changed group since another folder or a git revision of this one.

        Raises:
            UsageError: the other is neither.
        """
        from oaktag.operations.members import against
        from oaktag.workspace.revision import version

        folder = version(self.model.files.root, other)
        return against(self.model, Model.read(folder, self.model.today))

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

    def compare(self, was: str | Path = "HEAD", now: str | Path | None = None) -> Comparison:
        """Exactly what differs between two versions: folders or git revisions of this one.

        Args:
            was: the older version.
            now: the newer one; by default this workspace.

        Raises:
            UsageError: one of them is no version.
        """
        from oaktag.operations.compare import versions
        from oaktag.workspace.revision import version

        root, today = self.model.files.root, self.model.today
        before = Model.read(version(root, was), today)
        after = self.model if now is None else Model.read(version(root, now), today)
        return versions(before, after)

    def if_enforced(self, where: str | None = None) -> Comparison:
        """What would change if observed lines were enforced: all, or those that are selected.

        Raises:
            UsageError: no line is selected.
        """
        from oaktag.operations.compare import if_enforced

        return if_enforced(self.model, where)

    def bindings(self, node: str | None = None, find: tuple[str, ...] = ()) -> BindingList:
        """Bindings in force, in the registry or at one node, and those of some addresses.

        Raises:
            UsageError: no such node, or no address.
        """
        from oaktag.operations.bindings import bindings

        return bindings(self.model, node, find)

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

        Raises:
            UsageError: an unknown name, service or version.
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

        Raises:
            UsageError: an unknown name, or a set.
        """
        from oaktag.operations.cell import cell

        return cell(self.model, source, destination)

    def callers(
        self, destination: str, service: str | None = None, *, endpoints: bool = False
    ) -> Callers:
        """Who may reach a destination.

        Raises:
            UsageError: an unknown name, a set, or no service.
        """
        from oaktag.operations.questions import callers

        return callers(self.model, destination, service, endpoints=endpoints)

    def callees(
        self, source: str, service: str | None = None, *, endpoints: bool = False
    ) -> Callers:
        """What a source may reach.

        Raises:
            UsageError: an unknown name, a set, or no service.
        """
        from oaktag.operations.questions import callees

        return callees(self.model, source, service, endpoints=endpoints)

    def describe(self, group: str) -> Described:
        """A group's whole policy in plain sentences.

        Raises:
            UsageError: an unknown name, or a set.
        """
        from oaktag.operations.questions import describe

        return describe(self.model, group)

    def around(self, word: str) -> Around:
        """What comes into a set of groups, passes inside it, and goes out.

        Raises:
            UsageError: an unknown name.
        """
        from oaktag.operations.questions import around

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

        Raises:
            UsageError: an unknown name, a set, or no packet is asked about.
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

    def expect(self) -> Expected:
        """Expectations and ``keep_open``, proved."""
        from oaktag.operations.expect import expect

        return expect(self.model)

    def verify(self, level: str = "error") -> Verified:
        """Check, review, expect and reach in one, and what was not looked at.

        Args:
            level: the severity from which findings are no longer well: ``error``, ``warning``,
                ``note`` or ``never``.
        """
        from oaktag.operations.verify import verify

        return verify(self.model, level)

    def review(self) -> Checked:
        """Findings about the matrix."""
        from oaktag.operations.review import review

        return review(self.model)

    def compile(
        self,
        out: str | Path,
        point: str | None = None,
        *,
        proved: bool = True,
        patience: float | None = 10.0,
        progress: Callable[[str], None] | None = None,
    ) -> Compiled:
        """Write the access lists, proved.

        Args:
            out: the folder for them.
            point: one point alone.
            proved: read each back and prove it before anything is written.
            patience: how long another change of the files is waited for, in seconds; None
                without end.
            progress: told how far it is.

        Raises:
            UsageError: a group has no number, or there is no such point.
            UnwritableEntry: a list is over capacity or cannot be expressed.
        """
        from oaktag.operations.lists import compile_lists

        return compile_lists(
            self.model, Path(out), point, proved=proved, patience=patience, progress=progress
        )

    def prove(self, folder: str | Path, progress: Callable[[str], None] | None = None) -> Proved:
        """Read lists back and prove them equal to the matrix, for all packets."""
        from oaktag.operations.lists import prove

        return prove(self.model, Path(folder), progress)

    def reach(
        self,
        source: str | None = None,
        destination: str | None = None,
        *,
        observed: str | Path | None = None,
        endpoints: bool = False,
        progress: Callable[[str], None] | None = None,
    ) -> Reached:
        """Do tags reach every point on every path?

        Args:
            source: only flows from here.
            destination: only flows to here.
            observed: a folder with reports of nodes; the network as they report it.
            endpoints: count what leaks and breaks for each endpoint too.
            progress: told how far long work is.

        Raises:
            UsageError: an unknown name, no reports, or too many rows to count by endpoint.
            WorkspaceError: with every fault of the reports.
        """
        from oaktag.operations.reach import reach

        if observed is None:
            return reach(self.model, source, destination, endpoints=endpoints, progress=progress)
        from oaktag.operations.drift import Observed

        seen = Observed(self.model, Path(observed))
        return reach(
            seen.model, source, destination, seen.state(), endpoints=endpoints, progress=progress
        )

    def failures(self, progress: Callable[[str], None] | None = None) -> Failures:
        """Every single link, node, feed and point: what leaks or breaks without it."""
        from oaktag.operations.failures import failures

        return failures(self.model, progress)

    def drift(self, folder: str | Path) -> Drift:
        """What nodes report, in files ``NODE.json`` of a folder, against what is intended.

        Raises:
            UsageError: there are no reports.
            WorkspaceError: with every fault of the reports.
        """
        from oaktag.operations.drift import drift

        return drift(self.model, Path(folder))

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
        """
        from oaktag.operations.mend import mending

        return mending(
            self.model, breaks=breaks, even_if_breaks=even_if_breaks, write=write, anyway=anyway,
            seconds=seconds, progress=progress,
        )  # fmt: skip

    def trace(self, source: str, destination: str, service: str, *, back: bool = False) -> Traced:
        """One packet's way, hop by hop, over all paths; with ``back`` the answer's too.

        Raises:
            UsageError: an unknown name or service.
        """
        from oaktag.operations.trace import trace

        return trace(self.model, source, destination, service, back=back)

    def draw_matrix(self, view: MatrixView, file: str | Path) -> None:
        """Draw a view of the matrix, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.
        """
        from oaktag.report.figures import draw_matrix

        draw_matrix(view, Path(file))

    def draw_around(self, around: Around, file: str | Path) -> None:
        """Draw what comes in, passes inside and goes out, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.
        """
        from oaktag.report.figures import draw_around

        draw_around(around, Path(file))

    def draw_network(self, reached: Reached, file: str | Path) -> None:
        """Draw the network by site with what fares wrong in it, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.
        """
        from oaktag.operations.picture import picture
        from oaktag.report.network_figure import draw_network

        draw_network(picture(self.model, reached), Path(file))

    def write_junit(self, expected: Expected, file: str | Path) -> None:
        """Write expectations as JUnit XML, for CI."""
        from oaktag.report.junit import write_junit

        write_junit(expected, self.model.files.config.workspace, Path(file))

    def lab_up(self, hours: float = 8.0) -> LabUp:
        """Build the network from namespaces, with every endpoint in it, and no list yet.

        Raises:
            NotPossibleHere: in one sentence, what this machine lacks.
        """
        from oaktag.operations.lab import up

        return up(self.model, hours)

    def lab_probe(self) -> LabProbed:
        """Send real packets for every expectation and cell, without lists and with them.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab import probe

        return probe(self.model)

    def lab_state(self, folder: str | Path) -> LabState:
        """Write what the nodes of the lab report of themselves, for ``drift``.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab import write_state

        return write_state(self.model, Path(folder))

    def lab_down(self) -> LabDown:
        """Take the lab away."""
        from oaktag.operations.lab import down

        return down(self.model)

    @staticmethod
    def frame(result: Result) -> pd.DataFrame:
        """The main rows of an answer as a DataFrame; the same as ``result.frame()``."""
        return result.frame()
