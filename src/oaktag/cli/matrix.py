"""``oaktag matrix``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    emit,
    hint,
    paragraph,
    pass_context,
    say,
    table,
)

LETTERS = "abcdefghijklmnopqrstuvwxyz"


@click.command("matrix")
@click.option("--from", "source", metavar="WHO", shell_complete=complete("group"))
@click.option("--to", "destination", metavar="WHO", shell_complete=complete("group"))
@as_json
@pass_context
def command(context: Context, source: str | None, destination: str | None, as_json: bool) -> int:
    """The matrix: what each source group may do to each destination group."""
    document = context.workspace().matrix(source, destination)
    if as_json:
        emit(document)
        return 0
    codes = _codes(document)
    columns = [d["group"] for d in document["destinations"]]
    rows: dict[str, dict[str, str]] = {}
    differ = False
    for cell in document["cells"]:
        code = codes[cell["form"]]
        if cell["would_form"] != cell["form"]:
            differ = True
            code += f">{codes[cell['would_form']]}"
        rows.setdefault(cell["source"], {})[cell["destination"]] = code
    numbers = {name: str(n + 1) for n, name in enumerate(columns)}
    table(
        ("from \\ to", *numbers.values()),
        [(name, *(cells[c] for c in columns)) for name, cells in rows.items()],
    )
    say()
    paragraph(
        ", ".join(f"{n}\N{NO-BREAK SPACE}{name}" for name, n in numbers.items()),
        " " * 4,
        first="to: ",
    )
    say()
    table(
        ("code", "allows"), [(codes[f["form"]], f["allows"]) for f in document["forms"]], wrap=(1,)
    )
    if differ:
        say("x>y  allows x now; would allow y if the lines in observe were enforced")
    hint("oaktag cell SRC DST shows the lines of one cell")
    return 0


def _codes(document: dict[str, Any]) -> dict[int, str]:
    """A dot for nothing, a star for everything, letters for the rest."""
    codes: dict[int, str] = {}
    used = 0
    for form in document["forms"]:
        if form["allows"] in ("none", "any"):
            codes[form["form"]] = "." if form["allows"] == "none" else "*"
            continue
        first, second = divmod(used, len(LETTERS))
        codes[form["form"]] = (LETTERS[first - 1] if first else "") + LETTERS[second]
        used += 1
    return codes
