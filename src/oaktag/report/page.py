"""What a command has to say, as blocks: lines, paragraphs, tables, a last hint.

A page knows nothing of where it is shown. It is written as plain text or HTML here, and drawn on a
terminal by whoever has one. Words are never broken: a column that does not fit goes below its row.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from html import escape
from itertools import zip_longest
from typing import Any, NamedTuple

from oaktag.letters import shown, tame

WIDTH = 100
#: Tables of more rows are for searching in, not for reading: they come at once, unwrapped.
LARGE = 1000
#: The least room that text which may wrap is given beside other columns.
NARROW = 16
GAP = 2


class Line(NamedTuple):
    """One line, or several."""

    text: str


class Paragraph(NamedTuple):
    """Text over as many lines as it takes; no-break spaces hold words together."""

    text: str
    indent: str
    first: str


class Hint(NamedTuple):
    """What to do next."""

    text: str


class Table(NamedTuple):
    """Rows under heads: ``right`` are columns of numbers, ``wrap`` those whose text may run over
    several lines, with an empty line between rows if ``spaced``."""

    heads: tuple[str, ...]
    rows: list[tuple[str, ...]]
    right: tuple[int, ...]
    wrap: tuple[int, ...]
    spaced: bool


Block = Line | Paragraph | Hint | Table


class Page:
    """Blocks in the order in which they are read."""

    def __init__(self) -> None:
        self.blocks: list[Block] = []

    def say(self, text: str = "") -> None:
        """A line for people."""
        self.blocks.append(Line(shown(text)))

    def hint(self, text: str) -> None:
        """The last line: what to do next."""
        self.blocks.append(Hint(shown(text)))

    def paragraph(self, text: str, indent: str = "    ", first: str | None = None) -> None:
        """Text over as many lines as it takes, those after the first indented."""
        self.blocks.append(Paragraph(shown(text), indent, indent if first is None else first))

    def table(
        self,
        heads: Sequence[str],
        rows: Sequence[Sequence[Any]],
        right: Sequence[int] = (),
        wrap: Sequence[int] = (),
        *,
        spaced: bool = False,
    ) -> None:
        """A table; see :class:`Table`."""
        texts = [tuple(shown(str(cell)) for cell in row) for row in rows]
        self.blocks.append(
            Table(tuple(map(shown, heads)), texts, tuple(right), tuple(wrap), spaced)
        )

    def lines(self, width: int = WIDTH) -> Iterator[tuple[str, bool]]:
        """Its lines on so many columns, each with whether it holds the heads of a table."""
        for block in self.blocks:
            match block:
                case Line(text):
                    drawn = [(text, False)]
                case Hint(text):
                    drawn = [(f"→ {text}", False)]
                case Paragraph(text, indent, first):
                    drawn = [(_filled(text, indent, first, width), False)]
                case Table():
                    drawn = list(_table(block, width))
            for piece, head in drawn:
                yield tame(piece), head

    def text(self, width: int = WIDTH) -> str:
        """All of it as plain text."""
        return "".join(f"{line}\n" for line, _ in self.lines(width))

    def html(self) -> str:
        """All of it as a piece of HTML, for a notebook."""
        return "\n".join(_html(block) for block in self.blocks)


def _filled(text: str, indent: str, first: str, width: int) -> str:
    import textwrap

    filled = textwrap.fill(
        text, min(width, WIDTH), initial_indent=first, subsequent_indent=indent,
        break_long_words=False, break_on_hyphens=False,
    )  # fmt: skip
    return filled.replace("\N{NO-BREAK SPACE}", " ")


# -- tables --------------------------------------------------------------------------------------


def _table(table: Table, width: int) -> Iterator[tuple[str, bool]]:
    if not table.rows:
        return
    wrap = () if len(table.rows) > LARGE else [n for n in table.wrap if n < len(table.heads)]
    columns = [
        [head, *column]
        for head, column in zip(table.heads, zip(*table.rows, strict=True), strict=True)
    ]
    widest = [max(_width(line) for c in column for line in c.split("\n")) for column in columns]
    if len(table.rows) > LARGE:
        widths, below = widest, list[int]()
    else:
        widths, below = _fitted(columns, widest, wrap, width)
    kept = [n for n in range(len(columns)) if n not in below]
    last = len(table.rows) - 1
    for number, row in enumerate((table.heads, *table.rows), -1):
        cells = [_wrapped(row[n], widths[n]) if n in wrap else row[n].split("\n") for n in kept]
        for parts in zip_longest(*cells, fillvalue=""):
            line = (" " * GAP).join(
                _padded(part, widths[n], n in table.right)
                for n, part in zip(kept, parts, strict=True)
            )
            yield line.rstrip(), number < 0
        for n in below if number >= 0 else ():
            if row[n]:
                yield (
                    _filled(
                        " ".join(row[n].split()), " " * 8, f"    {table.heads[n].strip()}: ", width
                    ),
                    False,
                )
        if table.spaced and -1 < number < last:
            yield "", False


def _fitted(
    columns: Sequence[Sequence[str]], widest: list[int], wrap: Sequence[int], width: int
) -> tuple[list[int], list[int]]:
    """The widths of columns, and which of them go below their rows: those that may wrap are made
    narrower, the widest first, but never than their longest word; if that is not enough the widest
    of them goes, then others from the right."""
    least = [
        max([_width(word) for cell in column for word in cell.split()] + [min(w, NARROW)])
        if n in wrap else w
        for n, (column, w) in enumerate(zip(columns, widest, strict=True))
    ]  # fmt: skip
    order = sorted((n for n in wrap if n), key=lambda n: (-least[n], -n))
    order += [n for n in reversed(range(1, len(columns))) if n not in order]
    below: list[int] = []
    while True:
        kept = [n for n in range(len(columns)) if n not in below]
        room = width - GAP * (len(kept) - 1)
        if sum(least[n] for n in kept) <= room or not order:
            break
        below.append(order.pop(0))
    widths = list(widest)
    narrower = [n for n in kept if n in wrap]
    while sum(widths[n] for n in kept) > room:
        most = max(
            (n for n in narrower if widths[n] > least[n]), key=lambda n: widths[n], default=None
        )
        if most is None:
            break
        widths[most] -= 1
    return widths, sorted(below)


def _wrapped(text: str, width: int) -> list[str]:
    """Text in lines of a width, broken at blanks alone."""
    lines: list[str] = []
    for line in text.split("\n"):
        held = ""
        for word in line.split(" "):
            longer = f"{held} {word}" if held else word
            if held and _width(longer) > width:
                lines.append(held)
                held = word
            else:
                held = longer
        lines.append(held)
    return lines


def _padded(text: str, width: int, right: bool) -> str:
    blank = " " * (width - _width(text))
    return blank + text if right else text + blank


def _width(text: str) -> int:
    """The columns that a text takes on a terminal."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def _html(block: Block) -> str:
    match block:
        case Line(text):
            return f"<div>{escape(text) or '&nbsp;'}</div>"
        case Hint(text):
            return f"<div>→ <code>{escape(text)}</code></div>"
        case Paragraph(text, _, first):
            return f"<p>{escape(first.lstrip() + text)}</p>"
        case Table(heads, rows, right, _, _):
            sides = ["right" if n in right else "left" for n in range(len(heads))]
            marks = [f' style="text-align:{side};vertical-align:top"' for side in sides]
            top = "".join(
                f"<th{mark}>{escape(head)}</th>" for mark, head in zip(marks, heads, strict=True)
            )
            body = "".join(
                "<tr>"
                + "".join(
                    f"<td{mark}>{escape(cell).replace(chr(10), '<br>')}</td>"
                    for mark, cell in zip(marks, row, strict=True)
                )
                + "</tr>"
                for row in rows
            )
            return f"<table><thead><tr>{top}</tr></thead><tbody>{body}</tbody></table>"
