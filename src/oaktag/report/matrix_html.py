"""The matrix as a piece of HTML, for a notebook: the fuller a cell, the more it allows; its letter
says what, and so does what comes up where somebody points at it."""

from __future__ import annotations

from html import escape

from oaktag.letters import shown
from oaktag.report.words import Row

#: From so many rows or columns on, those that are equal are shown as one; more are left to text.
FOLDED_FROM, MOST = 41, 120
SHADE = "rgba(47,85,99,{:.2f})"


def matrix_html(document: Row) -> str | None:
    """A table with what its letters mean; None where it would be too large, or has no cell."""
    rows, columns = document["rows"], document["columns"]
    if max(len(document["sources"]), len(document["destinations"])) < FOLDED_FROM:
        rows = [[g["group"]] for g in document["sources"]]
        columns = [[g["group"]] for g in document["destinations"]]
    if not document["cells"] or max(len(rows), len(columns)) > MOST:
        return None
    form = {f["form"]: f for f in document["forms"]}
    cells = {(c["source"], c["destination"]): c for c in document["cells"]}
    head = "".join(f"<th style='{_HEAD}'>{_named(c)}</th>" for c in columns)
    body = "".join(
        f"<tr><th style='text-align:right'>{_named(r)}</th>"
        + "".join(_cell(r[0], c[0], cells.get((r[0], c[0])), form) for c in columns)
        + "</tr>"
        for r in rows
    )
    letters = "".join(
        f"<tr><th style='text-align:left'>{_text(f['code'])}</th>"
        f"<td style='text-align:left'>{_text(f['allows'])}</td></tr>"
        for f in document["forms"]
    )
    return (
        f"<table><thead><tr><th style='text-align:right'>from \\ to</th>{head}</tr></thead>"
        f"<tbody>{body}</tbody></table><p>x&gt;y: allows x now, and would allow y if the lines in "
        f"observe were enforced.</p><table><tbody>{letters}</tbody></table>"
    )


_HEAD = "writing-mode:vertical-rl;transform:rotate(180deg);text-align:left;padding:4px 2px"


def _cell(source: str, destination: str, cell: Row | None, form: dict[int, Row]) -> str:
    if cell is None:
        return "<td></td>"
    now, would = form[cell["form"]], form[cell["would_form"]]
    told = f"{source} → {destination}: {now['allows']}"
    letter = now["code"]
    if now is not would:
        letter, told = f"{letter}>{would['code']}", f"{told}; would be {would['allows']}"
    share = now["share"]
    ink = "#fff" if share > 0.55 else "inherit"
    shade = SHADE.format(0.15 + 0.85 * share) if share else "transparent"
    return (
        f"<td title='{_text(told)}' style='background:{shade};color:{ink};text-align:center;"
        f"padding:2px 6px'>{_text(letter)}</td>"
    )


def _named(block: list[str]) -> str:
    more = f" +{len(block) - 1}" if len(block) > 1 else ""
    return _text(f"{block[0]}{more}")


def _text(text: str) -> str:
    return escape(shown(text), quote=True)
