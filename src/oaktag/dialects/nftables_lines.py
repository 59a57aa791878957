"""The lines of a kernel's list, one after the other; each complaint names the line it stands at."""

from __future__ import annotations

import re
from collections.abc import Iterator

from oaktag.errors import UnreadableList

NUMBER = r"(?:0|[1-9][0-9]{0,4})"
NAME = r"[a-z][a-z0-9/-]*"
#: The name of a group behind a line.
TOLD = rf" # (?P<name>{NAME}|-)"
_TOLD = re.compile(TOLD)


class ListLines:
    """Lines that are read one after the other.

    Attributes:
        at: the place of the line that is read now.
        names: the names of tags, as they stand behind lines.
    """

    def __init__(self, lines: list[str]) -> None:
        self.lines = lines
        self.at = 0
        self.names: dict[int, str] = {}

    def fail(self, message: str) -> UnreadableList:
        """A complaint about the line that is read now."""
        return UnreadableList(self.at + 1, message)

    @property
    def line(self) -> str:
        """The line that is read now."""
        if self.at >= len(self.lines):
            raise self.fail("the list ends too early")
        return self.lines[self.at]

    def take(self, pattern: str) -> re.Match[str]:
        """A line of some form."""
        match = re.fullmatch(pattern, self.line, re.ASCII)
        if match is None:
            raise self.fail(f"{self.line.strip()!r} does not belong here")
        self.at += 1
        return match

    def exactly(self, *lines: str) -> None:
        """Some lines, as they are."""
        for line in lines:
            if self.line != line:
                raise self.fail(f"expected {line.strip()!r}, found {self.line.strip()!r}")
            self.at += 1

    def if_next(self, line: str) -> bool:
        """A line, if it is the next one."""
        if self.line != line:
            return False
        self.at += 1
        return True

    def elements(self, indent: str) -> Iterator[tuple[str, str]]:
        """The elements of a set or map with what stands behind them, each with its line as the
        place of complaint."""
        if not self.if_next(f"{indent}elements = {{"):
            return
        form = re.compile(rf"{indent}\t([^\t,#]+)(,?)( # [^\t]+)?")
        comma = ","
        while comma:
            found = form.fullmatch(self.line)
            if found is None:
                raise self.fail(f"{self.line.strip()!r} does not belong here")
            element, comma, behind = found.groups("")
            yield element, behind
            self.at += 1
        self.exactly(f"{indent}}}")

    def told(self, behind: str, tag: int) -> None:
        """The name of a tag behind a line, the same wherever it stands."""
        match = _TOLD.fullmatch(behind)
        if match is None:
            raise self.fail(f"{behind.strip()!r} is not the name of a group")
        self.name(tag, match["name"])

    def name(self, tag: int, word: str) -> None:
        """The name of a tag, the same wherever it stands; - where it has none."""
        if self.names.setdefault(tag, word) != word:
            raise self.fail(f"tag {tag} is called {word} here, and {self.names[tag]} before")
