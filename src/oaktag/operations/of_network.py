"""What a workspace says of its points and paths: lists, reach, a packet's way, the lab."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oaktag.operations.asked import Asked

if TYPE_CHECKING:
    from oaktag.operations.compiling import Compiled
    from oaktag.operations.drift import Drift
    from oaktag.operations.failures import Failures
    from oaktag.operations.lab import LabChanged, LabDown, LabProbed, LabUp
    from oaktag.operations.lab_access import LabAccess
    from oaktag.operations.lab_state import LabState
    from oaktag.operations.lab_watch import LabCaptured, LabCounted
    from oaktag.operations.list_entries import ListEntries
    from oaktag.operations.parts import On
    from oaktag.operations.proving import Proved
    from oaktag.operations.reach import Reached
    from oaktag.operations.report import Reported
    from oaktag.operations.trace import Traced


class OfNetwork(Asked):
    """What a workspace says of its points and paths: lists, reach, a packet's way, the lab."""

    def compile(
        self,
        out: str | Path,
        point: str | None = None,
        *,
        proved: bool = True,
        patience: float | None = 10.0,
        progress: Callable[[str], None] | None = None,
        on: On = None,
        since: str | Path | None = None,
    ) -> Compiled:
        """Write the access lists, proved.

        Args:
            out: the folder for them.
            point: one point alone.
            proved: read each back and prove it before anything is written.
            patience: how long another change of the files is waited for, in seconds; None
                without end.
            progress: told how far it is.
            on: who makes them: so many processes, any executor, or the address of a Dask scheduler
                (``tcp://…``); None for as many processes as it is worth.
            since: a folder of earlier lists: only those are written that differ from these.

        Returns:
            the lists that were written, and the file of keys beside them: ``points``, ``key_file``;
            and in what they differ from the earlier ones: ``changes``.

        Raises:
            UsageError: a group has no number, or there is no such point.
            UnwritableEntry: a list is over capacity or cannot be expressed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> folder = quillmere.model.files.root / 'lists'
            >>> quillmere.compile(folder).points[0]['entries']
            480
        """
        from oaktag.operations.compiling import compile_lists

        return compile_lists(
            self.model, Path(out), point, proved=proved, patience=patience, progress=progress,
            on=on, since=None if since is None else Path(since),
        )  # fmt: skip

    def entry_at(self, point: str, line: int) -> ListEntries:
        """From an entry of a point's list back to the lines of the matrix.

        Args:
            point: the point.
            line: the line of its list, as ``compile`` writes it now.

        Returns:
            the entry, with the lines that it cites and the cells that it is for: ``point``,
            ``file``, ``outside``, ``entries``.

        Raises:
            UsageError: there is no such point, or no entry at the line.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> entry = quillmere.entries_for('hall-edge', 'patrons', 'loans-db').entries[0]
            >>> quillmere.entry_at('hall-edge', entry['line']).entries[0]['lines'][0]['line']
            11
        """
        from oaktag.operations.list_entries import entries_at

        return entries_at(self.model, point, line)

    def entries_for(self, point: str, source: str, destination: str) -> ListEntries:
        """The entries of a point's list that are tried for a cell, in order.

        Args:
            point: the point.
            source, destination: groups, or who is in one.

        Returns:
            as of ``entry_at``, of the lines those that apply to the cell; where the cell is not in
            the list, ``outside`` says what it meets.

        Raises:
            UsageError: there is no such point, or an end is no group.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> found = quillmere.entries_for('hall-edge', 'patrons', 'loans-db')
            >>> [entry['action'] for entry in found.entries]
            ['deny']
        """
        from oaktag.operations.list_entries import entries_for

        return entries_for(self.model, point, source, destination)

    def prove(
        self,
        folder: str | Path,
        progress: Callable[[str], None] | None = None,
        *,
        on: On = None,
    ) -> Proved:
        """Read lists back and prove them equal to the matrix, for all packets.

        Args:
            folder: where they are.
            progress: told how far it is.
            on: who proves them, as of ``compile``.

        Returns:
            whether each list that was read back is equal to the matrix: ``points``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> folder = quillmere.model.files.root / 'lists'
            >>> made = quillmere.compile(folder)
            >>> quillmere.prove(folder).points[0]['equal']
            True
        """
        from oaktag.operations.proving import prove

        return prove(self.model, Path(folder), progress, on)

    def drift(self, folder: str | Path) -> Drift:
        """What nodes report, in files ``NODE.json`` of a folder, against what is intended.

        Returns:
            what nodes report and what is intended, where the two differ: ``drift``, ``silent``.

        Raises:
            UsageError: there are no reports.
            WorkspaceError: with every fault of the reports.
        """
        from oaktag.operations.drift import drift

        return drift(self.model, Path(folder))

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

        Returns:
            how packets fare between segments and groups, and why; whole up to 200,000 rows:
            ``flows``, ``summary``, ``unplaced``, and where asked for ``endpoints``.

        Raises:
            UsageError: an unknown name, no reports, or too many rows to count by endpoint.
            WorkspaceError: with every fault of the reports.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.reach('wall-displays', 'catalogue').summary['effects']
            {'leak': 2, 'exact': 6}
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
        """Every single link, node, feed and point: what leaks or breaks without it.

        Returns:
            what each single failure does, the worst first: ``failures``, ``opens_most``.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.failures().opens_most['name']
            'hall-edge'
        """
        from oaktag.operations.failures import failures

        return failures(self.model, progress)

    def trace(self, source: str, destination: str, service: str, *, back: bool = False) -> Traced:
        """One packet's way, hop by hop, over all paths; with ``back`` the answer's too.

        Returns:
            a packet's way over every path, hop by hop; ``hops`` and ``verdict`` are of the worst:
            ``source``, ``destination``, ``service``, ``paths``, ``hops``, ``verdict``, ``effect``.

        Raises:
            UsageError: an unknown name or service.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> quillmere.trace('librarians', 'loans-db', 'loans-api').verdict
            'it arrives, as meant; hall-edge let it pass'
        """
        from oaktag.operations.trace import trace

        return trace(self.model, source, destination, service, back=back)

    def report(
        self,
        out: str | Path,
        *,
        since: str | Path | None = None,
        progress: Callable[[str], None] | None = None,
    ) -> Reported:
        """Everything about the workspace as one HTML page, which loads nothing.

        Args:
            out: its file; a report that is there already is held against the new one.
            since: a git revision or a folder: what changed since is told.
            progress: told how far it is.

        Returns:
            the figures that count, each with of how many, whether it is well, and what it was in
            the last report of an earlier day: ``figures``.

        Raises:
            UsageError: there is a file, and it is no report; or ``since`` is no version.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> made = quillmere.report(quillmere.model.files.root / 'report.html')
            >>> [(f['count'], f['of']) for f in made.figures if f['figure'] == 'lists proved']
            [(2, 2)]
        """
        from oaktag.operations.compare import versions
        from oaktag.operations.model import Model
        from oaktag.operations.report import report
        from oaktag.workspace.revision import version

        root, differs = self.model.files.root, None
        if since is not None:
            before = Model.read(version(root, since), self.model.today)
            differs = str(since), versions(before, self.model).as_json()
        return report(self.model, Path(out), since=differs, progress=progress)

    def topology(self, file: str | Path) -> None:
        """Write the network as JSON of RFC 8345, with prefixes and metrics of RFC 8346.

        Raises:
            UsageError: there is no network.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'topology.json'
            >>> quillmere.topology(file)
            >>> file.read_text().count('"node-id"')
            10
        """
        from oaktag.operations.topology import topology
        from oaktag.workspace.textfile import write_text

        write_text(Path(file), topology(self.model))

    def draw_network(self, reached: Reached, file: str | Path) -> None:
        """Draw the network by site with what fares wrong in it, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.

        Example:
            >>> quillmere = oaktag.Workspace.load(oaktag.sample())
            >>> file = quillmere.model.files.root / 'network.png'
            >>> quillmere.draw_network(quillmere.reach(), file)
        """
        from oaktag.operations.picture import picture
        from oaktag.report.network_figure import draw_network

        draw_network(picture(self.model, reached), Path(file))

    def lab_up(
        self,
        hours: float = 8.0,
        *,
        sites: Sequence[str] = (),
        nodes: Sequence[str] = (),
        lists: bool = True,
        progress: Callable[[str], None] | None = None,
    ) -> LabUp:
        """Build the network from namespaces, with everybody in it; send every probe once before
        any list, and load the lists.

        Args:
            hours: when it ends by itself.
            sites, nodes: build a part of the network, with what surrounds it folded to one node
                each side; without, all of it.
            lists: whether lists are loaded at all.
            progress: told how far it is.

        Returns:
            the lab that is up: ``nodes``, ``hosts``, ``links``, ``tunnels``, ``points``, ``feeds``,
            ``lists``, ``baseline``, ``hours``, and of a part ``part``.

        Raises:
            NotPossibleHere: in one sentence, what this machine lacks.
            UsageError: there is no such site or node.
        """
        from oaktag.operations.lab import up

        return up(self.model, hours, sites=sites, nodes=nodes, lists=lists, progress=progress)

    def lab_apply(self) -> LabChanged:
        """Bring the lab to the folder's present state, in place.

        Returns:
            what has changed in it: ``things``, ``ended``, ``cells``, ``endpoints``, ``points``,
            ``broken``.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab import apply

        return apply(self.model)

    def lab_break(self, kind: str, name: str) -> LabChanged:
        """Let something in the lab fail.

        Args:
            kind: ``link``, ``node``, ``feed`` or ``point``.
            name: which one.

        Returns:
            what has changed in it, as of ``lab_apply``.

        Raises:
            UsageError: there is no such thing, or it has failed already.
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab import fail

        return fail(self.model, kind, name)

    def lab_heal(self, kind: str | None = None, name: str | None = None) -> LabChanged:
        """Mend what was broken in the lab.

        Args:
            kind, name: one thing; without, all.

        Returns:
            what has changed in it, as of ``lab_apply``.

        Raises:
            UsageError: it is not broken.
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab import heal

        return heal(self.model, kind, name)

    def lab_log_in(self, who: str, segment: str, address: str | None = None) -> LabAccess:
        """Let somebody log in on a segment of the lab, by RADIUS packets from its node.

        Args:
            who: an endpoint.
            segment: where.
            address: the address that is given out; one that is free by default.

        Returns:
            ``sessions``: whether it was ``accepted``, with which ``group`` and ``tag``, whether
            what the node tells of it was ``acknowledged``, and which nodes know the tag then
            (``known``); and what has changed in the lab: ``things``, ``tables``, ``ended``.

        Raises:
            UsageError: there is no such endpoint, segment or address in the lab.
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab_access import log_in

        return log_in(self.model, who, segment, address)

    def lab_log_off(self, who: str) -> LabAccess:
        """Let somebody log off who logged in in the lab.

        Returns:
            as of ``lab_log_in``.

        Raises:
            UsageError: nobody of that name is logged in there.
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab_access import log_off

        return log_off(self.model, who)

    def lab_probe(
        self,
        source: str | None = None,
        destination: str | None = None,
        service: str | None = None,
        *,
        card: bool = False,
        against: Mapping[str, Any] | None = None,
        progress: Callable[[str], None] | None = None,
    ) -> LabProbed:
        """Send real packets through what the lab holds now: for every expectation and cell, for
        one question, or those of the card.

        Args:
            source, destination: one question's ends; without, everything is tried. An end may be
                any address on a segment: a host has it while the probe runs.
            service: which packets of it; without, what its cell decides.
            card: the tests of ``Workspace.card``.
            against: an earlier result, to hold this one against.
            progress: told how far it is.

        Returns:
            how packets fared, against what is meant and what is said of them: ``moved_on``,
            ``lists``, ``broken``, ``probes``, ``summary``, ``not_probed``, ``counters``.

        Raises:
            OakTagError: no lab is up.
            UsageError: an unknown name or service, or nothing of it can be sent.
        """
        from oaktag.operations.lab import probe

        return probe(
            self.model, source, destination, service, card=card, against=against, progress=progress
        )

    def lab_watch(
        self, until: float | None = None, *, every: bool = False
    ) -> Iterator[dict[str, Any]]:
        """Flows that are opened at the points of the lab, one after the other.

        Args:
            until: when to end, by the monotonic clock; None: never.
            every: also those that are allowed by a line that does not log.

        Returns:
            of each flow that is denied, would be denied, or is allowed by a line that logs:
            ``time``, ``point``, ``verdict``, ``source``, ``destination``, ``packet``, ``service``,
            ``line``, ``permission``, ``entry``; ``would``, what would be decided if observed lines
            were enforced, and ``would_by``, the line behind that where it differs. The first, once
            the lab listens for them, is empty.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab_watch import watching

        return watching(self.model, until, every=every)

    def lab_counters(
        self, since: LabCounted | None = None, flows: Iterable[dict[str, Any]] = ()
    ) -> LabCounted:
        """What the lab's points have counted.

        Args:
            since: an earlier answer; only what was counted after it is told.
            flows: what ``lab_watch`` told meanwhile, with ``every``.

        Returns:
            the cells that have counted something, flows at a stateful point and packets at a
            stateless one: ``counters``; and the flows by line and verdict: ``lines``.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab_watch import counted

        return counted(self.model, since, flows)

    def lab_capture(
        self,
        node: str,
        *,
        tag: str | None = None,
        seconds: float = 10.0,
        count: int = 1000,
        file: str | Path | None = None,
    ) -> LabCaptured:
        """Listen to the frames on the links of a node of the lab.

        Args:
            node: where.
            tag: only frames with it, a number or a group; ``untagged``: without any.
            seconds, count: when to end.
            file: where to keep the frames, as a pcap file.

        Returns:
            frames on its links, and the tags in them: ``node``, ``frames``, ``tags``.

        Raises:
            OakTagError: no lab is up, or there is no such node.
            UsageError: there is no such group.
        """
        from oaktag.operations.lab_watch import capture

        place = None if file is None else Path(file)
        return capture(self.model, node, tag=tag, seconds=seconds, count=count, file=place)

    def lab_entering(self, name: str) -> list[str]:
        """How to run something on a node or at an endpoint of the lab.

        Args:
            name: a node, or an endpoint.

        Returns:
            the words to put before a command.

        Raises:
            OakTagError: no lab is up, or there is nobody of that name in it.
        """
        from oaktag.operations.lab import lab_of

        return lab_of(self.model).entering(name)

    def lab_state(self, folder: str | Path) -> LabState:
        """Write what the nodes of the lab report of themselves, for ``drift``.

        Returns:
            the reports of nodes that were written: ``folder``, ``files``.

        Raises:
            OakTagError: no lab is up.
        """
        from oaktag.operations.lab_state import write_state

        return write_state(self.model, Path(folder))

    def lab_down(self) -> LabDown:
        """Take the lab away.

        Returns:
            whether a lab was up: ``was_up``.
        """
        from oaktag.operations.lab import down

        return down(self.model)
