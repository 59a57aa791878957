"""What a workspace says of what is allowed: the matrix, its cells, decisions, expectations."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from oaktag.errors import UsageError
from oaktag.operations.asked import Asked
from oaktag.operations.model import Model

if TYPE_CHECKING:
    import pandas as pd

    from oaktag.operations.around import Around
    from oaktag.operations.callers import Callers
    from oaktag.operations.cell import Cell
    from oaktag.operations.compare import Comparison
    from oaktag.operations.decide import Decision
    from oaktag.operations.decide_many import Decisions
    from oaktag.operations.describe import Described
    from oaktag.operations.expect import Expected
    from oaktag.operations.matrix import MatrixView
    from oaktag.operations.severities import Checked
    from oaktag.operations.verify import Verified


class OfPolicy(Asked):
    """What a workspace says of what is allowed: the matrix, its cells, decisions, expectations."""

    def check(self) -> Checked:
        """Findings about endpoints, groups, bindings and segments."""
        from oaktag.operations.check import check

        return check(self.model)

    def review(self) -> Checked:
        """Findings about the matrix."""
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
        from oaktag.operations.callers import callers

        return callers(self.model, destination, service, endpoints=endpoints)

    def callees(
        self, source: str, service: str | None = None, *, endpoints: bool = False
    ) -> Callers:
        """What a source may reach.

        Raises:
            UsageError: an unknown name, a set, or no service.
        """
        from oaktag.operations.callers import callees

        return callees(self.model, source, service, endpoints=endpoints)

    def describe(self, group: str) -> Described:
        """A group's whole policy in plain sentences.

        Raises:
            UsageError: an unknown name, or a set.
        """
        from oaktag.operations.describe import describe

        return describe(self.model, group)

    def around(self, word: str) -> Around:
        """What comes into a set of groups, passes inside it, and goes out.

        Raises:
            UsageError: an unknown name.
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

    def write_junit(self, expected: Expected, file: str | Path) -> None:
        """Write expectations as JUnit XML, for CI."""
        from oaktag.report.junit import write_junit

        write_junit(expected, self.model.files.config.workspace, Path(file))
