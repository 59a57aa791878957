"""The matrix in letters."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row


def show(page: Page, d: Row) -> None:
    """Each cell as a letter, and what the letters stand for."""
    if not d["cells"]:
        page.say("no cell is like that")
    else:
        _text(page, d)


#: From so many rows or columns on, those that are equal are shown as one.
FOLDED_FROM = 21


def _text(page: Page, document: Row) -> None:
    code = {form["form"]: form["code"] for form in document["forms"]}
    rows, columns = document["rows"], document["columns"]
    if max(len(document["sources"]), len(document["destinations"])) < FOLDED_FROM:
        rows = [[g["group"]] for g in document["sources"]]
        columns = [[g["group"]] for g in document["destinations"]]
    cells = {(c["source"], c["destination"]): c for c in document["cells"]}
    rows = [r for r in rows if any((r[0], c[0]) in cells for c in columns)]
    columns = [c for c in columns if any((r[0], c[0]) in cells for r in rows)]
    numbered = list(enumerate(columns, 1))
    room = max(8, (96 - max(len(_named(r)) for r in rows)) // 4)
    if len(columns) <= 20:
        room = 20
    for start in range(0, len(columns), room):
        part = numbered[start : start + room]
        some = [r for r in rows if any((r[0], c[0]) in cells for _, c in part)]
        page.table(
            ("from \\ to", *(str(n) for n, _ in part)),
            [(_named(r), *(_code(code, cells.get((r[0], c[0]))) for _, c in part)) for r in some],
        )
        page.say()
    page.paragraph(
        ", ".join(f"{n}\N{NO-BREAK SPACE}{_named(c)}" for n, c in enumerate(columns, 1)),
        " " * 4,
        first="to: ",
    )
    for block in dict.fromkeys(tuple(b) for b in (*rows, *columns) if len(b) > 1):
        page.paragraph(", ".join(block), " " * 8, first=f"    {_named(list(block))}: ")
    page.say()
    about = f"allows of {document['service']}" if document["service"] else "allows"
    page.table(
        ("code", about), [(code[f["form"]], f["allows"]) for f in document["forms"]], wrap=(1,)
    )
    if any(c["form"] != c["would_form"] for c in document["cells"]):
        page.say("x>y  allows x now; would allow y if the lines in observe were enforced")
    page.hint("oaktag cell SRC DST shows the lines of one cell")


def _named(block: list[str]) -> str:
    return block[0] if len(block) == 1 else f"{block[0]}\N{NO-BREAK SPACE}+{len(block) - 1}"


def _code(code: dict[int, str], cell: Row | None) -> str:
    if cell is None:
        return ""
    later = "" if cell["form"] == cell["would_form"] else f">{code[cell['would_form']]}"
    return code[cell["form"]] + later
