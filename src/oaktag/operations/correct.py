"""``correct``: an attribute of an endpoint, by hand, in the file of corrections."""

from __future__ import annotations

from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.change import Change, made
from oaktag.operations.model import Model
from oaktag.workspace import csv_edits
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.inventory import CORRECTION_COLUMNS
from oaktag.workspace.yaml_edits import with_top_key

#: The file of corrections where the workspace names none.
USUAL = "inventory/corrections.csv"


def correct(
    model: Model,
    who: str,
    attribute: str,
    value: str | None,
    *,
    by: str = "",
    why: str = "",
    write: bool,
    anyway: bool = False,
) -> Change:
    """Correct an attribute of an endpoint; a correction of the same that is there is replaced.

    Args:
        model: the workspace.
        who: the endpoint.
        attribute: which; several values are parted by a semicolon.
        value: what it is; "" for none; None takes the correction out again.
        by, why: who says so, and why.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: no such endpoint, no such correction, or the value cannot be.
    """
    if who not in model.files.endpoints.index:
        model.end(f"endpoint:{who}")  # says which names are close
        raise UsageError(f"{who!r} is no endpoint")
    known = model.files.endpoints.columns
    if attribute not in known and value is not None and (hint := perhaps(attribute, known)):
        raise UsageError(f"no source gives the attribute {attribute!r}; {hint}")
    root, changed = model.files.folder, dict[str, str]()
    name = model.files.config.corrections
    if name is None:
        name = USUAL
        changed[CONFIG] = with_top_key(root.text(CONFIG), "corrections", USUAL)
    text = root.text(name) or ",".join(CORRECTION_COLUMNS) + "\n"
    line = csv_edits.line_saying(text, {"endpoint": who, "attribute": attribute})
    if value is None:
        if line is None:
            raise UsageError(f"the {attribute} of {who} is not corrected in {name}")
        changed = {name: csv_edits.without_line(text, line)}
    else:
        fields = {"endpoint": who, "attribute": attribute, "value": value, "who": by, "why": why}
        if line is not None:
            text = csv_edits.without_line(text, line)
        changed[name] = csv_edits.with_line(text, fields, line, file=name)
    return made(model, "correct", changed, write=write, anyway=anyway)
