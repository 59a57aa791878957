"""The few kinds of error that Oak Tag raises; facts are attributes.

A file that cannot be understood is an error. A questionable policy is a finding
(see ``findings``). Errors are collected over a whole run and raised once.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from oaktag.located import Location


class OakTagError(Exception):
    """The base of every error that Oak Tag raises on purpose."""


class UsageError(OakTagError):
    """A question that cannot be asked: an unknown name, a malformed service."""


class NoAnswer(OakTagError):
    """A server or point did not answer, or is not who it should be."""


class NotPossibleHere(OakTagError):
    """This machine lacks something that the command needs, named in the message."""


class UnwritableEntry(OakTagError):
    """A point's dialect or ability cannot express something; nothing is widened or narrowed."""


class UnreadableList(OakTagError):
    """Text that is not an access list of the dialect; ``line`` counts from 1."""

    def __init__(self, line: int, message: str) -> None:
        super().__init__(f"line {line}: {message}")
        self.line = line
        self.message = message


class Problem(NamedTuple):
    """One fault in the files of a workspace.

    ``kind`` is ``form`` where a file cannot be read, ``clash`` where the files
    can be read but contradict each other (semantics: exit status of ``check``).
    """

    location: Location
    message: str
    expected: str
    kind: Literal["form", "clash"] = "form"

    def __str__(self) -> str:
        tail = f" ({self.expected})" if self.expected else ""
        return f"{self.location}: {self.message}{tail}"


class WorkspaceError(OakTagError):
    """The faults of a workspace, found in one run, in the order of files and lines; ``count`` is
    how many there are, where not all were kept."""

    def __init__(self, problems: tuple[Problem, ...], count: int | None = None) -> None:
        self.problems = tuple(sorted(problems, key=lambda p: (p.location, p.message)))
        self.count = len(problems) if count is None else count
        super().__init__("\n".join(str(p) for p in self.problems))
