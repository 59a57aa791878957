"""Where something was written: file, line and column."""

from __future__ import annotations

from typing import NamedTuple


class Location(NamedTuple):
    """A place in a file of the workspace.

    Args:
        file: path relative to the workspace, with forward slashes.
        line: physical line, counted from 1 (a CSV header is line 1); 0 for the whole file.
        column: counted from 1; 0 where no single column is meant.
    """

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        if not self.line:
            return self.file
        if not self.column:
            return f"{self.file}:{self.line}"
        return f"{self.file}:{self.line}:{self.column}"
