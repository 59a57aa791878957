"""What a workspace says of its points and paths: lists, reach, a packet's way, the lab."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from oaktag.operations.asked import Asked

if TYPE_CHECKING:
    from oaktag.operations.drift import Drift
    from oaktag.operations.failures import Failures
    from oaktag.operations.lab import LabDown, LabProbed, LabState, LabUp
    from oaktag.operations.lists import Compiled, Proved
    from oaktag.operations.reach import Reached
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

    def drift(self, folder: str | Path) -> Drift:
        """What nodes report, in files ``NODE.json`` of a folder, against what is intended.

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

    def trace(self, source: str, destination: str, service: str, *, back: bool = False) -> Traced:
        """One packet's way, hop by hop, over all paths; with ``back`` the answer's too.

        Raises:
            UsageError: an unknown name or service.
        """
        from oaktag.operations.trace import trace

        return trace(self.model, source, destination, service, back=back)

    def draw_network(self, reached: Reached, file: str | Path) -> None:
        """Draw the network by site with what fares wrong in it, as PNG or SVG.

        Raises:
            NotPossibleHere: Matplotlib is not installed.
        """
        from oaktag.operations.picture import picture
        from oaktag.report.network_figure import draw_network

        draw_network(picture(self.model, reached), Path(file))

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
