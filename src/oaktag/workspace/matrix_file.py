"""Matrix files: one layer each, a CSV with a line of the matrix in every row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from itertools import chain
from typing import TypeVar

from oaktag.core.groups import ITSELF, RESERVED_WORDS, STAR, UNTAGGED, Groups
from oaktag.core.lines import Line, Mode, Permission, Way
from oaktag.located import Location
from oaktag.near import later
from oaktag.workspace.csvfile import CsvFile, read_csv
from oaktag.workspace.folder import Folder
from oaktag.workspace.office_forms import read_day
from oaktag.workspace.textfile import Expected, Problems

T = TypeVar("T")

COLUMNS = ("source", "destination", "permission", "mode", "way", "expires", "owner", "note")
REQUIRED = COLUMNS[:3]
MODES: dict[str, Mode] = {"": "enforce", "enforce": "enforce", "observe": "observe", "off": "off"}
WAYS: dict[str, Way] = {"": "to", "to": "to", "both": "both"}


def read_layer(
    root: Folder,
    name: str,
    layer: int,
    groups: Groups | None,
    permissions: tuple[Permission, ...] | None,
    problems: Problems,
) -> list[Line]:
    """The lines of one layer; where groups or permissions could not be read, names go unchecked."""
    file = read_csv(root, name, problems)
    if file is None:
        return []
    odd = [word for word in file.header if word not in COLUMNS]
    for word in odd:
        expected = later(word, COLUMNS, f"some of {', '.join(COLUMNS)}")
        problems.form(Location(name, 1), f"there is no column {word!r}", expected)
    missing = [word for word in REQUIRED if word not in file.header] if not odd else []
    for word in missing:
        problems.form(Location(name, 1), f"the column {word!r} is missing", ", ".join(COLUMNS))
    if odd or missing:
        return []
    return _Rows(file, layer, groups, permissions, problems).read()


class _Rows:
    def __init__(
        self,
        file: CsvFile,
        layer: int,
        groups: Groups | None,
        permissions: tuple[Permission, ...] | None,
        problems: Problems,
    ) -> None:
        self.file = file
        self.layer = layer
        self.groups = groups
        self.numbers = (
            None if permissions is None else {p.name: n for n, p in enumerate(permissions)}
        )
        self.problems = problems
        self.at = {word: file.header.index(word) for word in COLUMNS if word in file.header}

    def read(self) -> list[Line]:
        lines = [self._line(row) for row in range(len(self.file.rows))]
        return [line for line in lines if line is not None]

    def _cell(self, row: int, word: str) -> str:
        return self.file.rows[row][self.at[word]] if word in self.at else ""

    def _place(self, row: int, word: str) -> Location:
        return self.file.place(row, self.at[word])

    def _line(self, row: int) -> Line | None:
        before = self.problems.count
        source = self._end(row, "source", (STAR, UNTAGGED))
        destination = self._end(row, "destination", (STAR, UNTAGGED, ITSELF))
        name = self._cell(row, "permission")
        permission = 0
        if self.numbers is not None:
            permission = self.numbers.get(name, -1)
            if permission < 0:
                self._unknown(row, "permission", name, self.numbers, self.problems.clash)
        mode = self._word(row, "mode", MODES)
        way = self._word(row, "way", WAYS)
        expires = None
        if text := self._cell(row, "expires"):
            expires, why = read_day(text)
            if expires is None:
                self.problems.form(self._place(row, "expires"), why, "as in 2027-01-31")
        if self.problems.count > before or mode is None or way is None:
            return None
        return Line(
            source, destination, permission, self.layer,
            Location(self.file.name, self.file.lines[row]), mode, way, expires,
            self._cell(row, "owner"), self._cell(row, "note"),
        )  # fmt: skip

    def _end(self, row: int, word: str, extra: tuple[str, ...]) -> str:
        text = self._cell(row, word)
        if not text:
            self.problems.form(self._place(row, word), f"the {word} is empty", "a group, set or *")
        elif text in extra or self.groups is None:
            pass
        elif text not in self.groups.index and text not in self.groups.sets:
            known = chain(self.groups.index, self.groups.sets)
            report = self.problems.form if text in RESERVED_WORDS else self.problems.clash
            self._unknown(row, word, text, known, report)
        return text

    def _unknown(
        self,
        row: int,
        word: str,
        text: str,
        known: Iterable[str],
        report: Callable[[Location, str, Expected], None],
    ) -> None:
        kind = "permission" if word == "permission" else "group or set"
        hint = later(text, known, f"a {kind} of the workspace")
        message = f"there is no {kind} {text!r}" if text else f"the {word} is empty"
        report(self._place(row, word), message, hint)

    def _word(self, row: int, word: str, options: Mapping[str, T]) -> T | None:
        text = self._cell(row, word)
        if text not in options:
            listed = ", ".join(w for w in options if w)
            self.problems.form(self._place(row, word), f"{text!r} is no {word}", f"one of {listed}")
            return None
        return options[text]
