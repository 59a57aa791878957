"""What every answer is: named fields, which show themselves as text and HTML, and turn into JSON
and frames. A command prints its result and knows nothing more."""

from __future__ import annotations

import importlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Final

from oaktag.letters import shown_json
from oaktag.report.page import WIDTH, Page

if TYPE_CHECKING:
    import pandas as pd

#: One row of a result: the fields that its JSON Schema names.
Row = dict[str, Any]


class _Absent:
    """A field that an answer does not have."""

    def __repr__(self) -> str:
        return "absent"

    def __bool__(self) -> bool:
        return False


#: Stands in fields that are there in some answers only.
ABSENT: Final[Any] = _Absent()


@dataclass(frozen=True, eq=False, repr=False)
class Result(Mapping[str, Any]):
    """An answer. Its fields are attributes, and keys too: ``decision.action`` is
    ``decision["action"]``."""

    #: The module of ``report.pages`` that shows it, where it is not named after the command; and
    #: the field that holds the main rows. The command is ``command``, of a class or an answer.
    shown_by: ClassVar[str] = ""
    table: ClassVar[str] = ""

    def as_json(self) -> Row:
        """The document that the command prints with ``--json``, as plain dicts and lists."""
        said = {f.metadata.get("name", f.name): getattr(self, f.name) for f in fields(self)}
        held = {name: value for name, value in said.items() if value is not ABSENT}
        held.pop("command", None)
        return {"command": getattr(self, "command", ""), "schema": 1, **held}

    def json(self) -> str:
        """The same as text: the same bytes for the same answer."""
        return shown_json(json.dumps(self.as_json(), ensure_ascii=False, indent=1)) + "\n"

    def page(self, **how: Any) -> Page:
        """The answer as blocks for reading.

        Args:
            how: what the command's options say about showing, as ``every=True``.
        """
        page = Page()
        name = self.shown_by or getattr(self, "command", "")
        module = importlib.import_module(f"oaktag.report.pages.{name}")
        module.show(page, self.as_json(), **how)
        return page

    def text(self, width: int = WIDTH, **how: Any) -> str:
        """The answer as the command prints it, on so many columns."""
        return self.page(**how).text(width)

    def frame(self) -> pd.DataFrame:
        """The main rows as a pandas DataFrame, one line a row; its columns are there where there is
        no row.

        Raises:
            NotPossibleHere: pandas is not installed (``pip install oaktag[frames]``).
        """
        from oaktag.operations.frames import frame

        return frame(self.as_json(), self.table)

    def sheet(self, file: str | Path) -> None:
        """Write the main rows as a sheet for office programs; nested fields are columns
        ``source.group``, lists stand in one cell.

        Args:
            file: where to: a name in .csv, .xlsx or .ods.

        Raises:
            UsageError: it is no such name, or the answer has no rows.
            NotPossibleHere: the package for it is not installed.
        """
        from oaktag.operations.frames import flat_rows
        from oaktag.workspace.textfile import write_bytes
        from oaktag.workspace.workbook import written

        write_bytes(Path(file), written(Path(file), *flat_rows(self.as_json(), self.table)))

    def __getitem__(self, key: str) -> Any:
        return self.as_json()[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self.as_json())

    def __len__(self) -> int:
        return len(self.as_json())

    def __str__(self) -> str:
        return self.text().rstrip("\n")

    def __repr__(self) -> str:
        rows = getattr(self, self.table, None)
        held = f" {len(rows)} {self.table}" if isinstance(rows, list) else ""
        return f"<{type(self).__name__} of oaktag {self['command']}:{held}>"

    def _repr_html_(self) -> str:
        return self.page().html()
