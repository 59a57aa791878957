"""A group that goes from all files: what named it names its heir, or goes with it.

Rules kept here (semantics, section 1): a number that was issued is retired. An heir keeps what is
said of it: of the lines that name the group that goes, nothing is said of the heir unless that is
asked; they go. What is asked and borne (expectations, ``keep_open``, ``accepted``) is asked and
borne of the heir.
"""

from __future__ import annotations

from oaktag.errors import UsageError
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.csv_edits import with_words, without_line
from oaktag.workspace.expectations_file import FILE as EXPECTATIONS
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.load import Files
from oaktag.workspace.network_file import FILE as NETWORK
from oaktag.workspace.renaming import COLUMNS, with_name
from oaktag.workspace.splitting import BESIDE, BORNE, ENDS
from oaktag.workspace.yaml_edits import with_retired, without_group
from oaktag.workspace.yaml_words import without_items, without_keys, without_twins, without_word

#: What goes with a group that has no heir: items of lists that say it, and keys of others.
ITEMS = {
    ASSIGNMENTS: ("pins/*/group", "rules/*/give"),
    EXPECTATIONS: ("*/from", "*/to"),
}
KEYS = {NETWORK: ("nodes/*/group", "segments/*/tag")}


def without(files: Files, old: str, heir: str | None, *, lines: bool = False) -> dict[str, str]:
    """The files without a group.

    Args:
        files: the workspace.
        old: the group that goes.
        heir: the group that its members are in then; None for none.
        lines: what lines say of it is said of the heir.

    Raises:
        UsageError: another group was split off from it.
    """
    root = files.folder
    others = [g.id for g in files.groups.all if g.split_from == old]
    if others:
        raise UsageError(
            f"{', '.join(others)} was split off from {old}: take that back first, with oaktag unpin"
        )
    changed = {GROUPS: without_word(root.text(GROUPS), BESIDE[GROUPS], old)}
    changed[GROUPS] = without_group(changed[GROUPS], old)
    for name in (NETWORK, ASSIGNMENTS, EXPECTATIONS, CONFIG):
        text = root.text(name)
        if heir is None:
            text = without_word(text, BESIDE.get(name, ()), old)
            text = without_items(text, ITEMS.get(name, ()), old)
            text = without_keys(text, KEYS.get(name, ()), old)
            text = without_twins(text, BORNE, ENDS, old) if name == CONFIG else text
        else:
            text = without_word(text, BESIDE.get(name, ()), old, beside=heir)
            text = with_name(text, name, old, heir)
        changed[name] = text
    for line in sorted(files.policy.lines, key=lambda n: -n.location.line):
        name = line.location.file
        if old in (line.source, line.destination) and not (lines and heir):
            changed[name] = without_line(changed.get(name, root.text(name)), line.location.line)
    if heir is not None and lines:
        for name in files.config.layers:
            changed[name] = with_words(root.text(name), COLUMNS, old, heir)
    group = files.groups.all[files.groups.index[old]]
    if group.tag is not None and group.issued:
        changed[CONFIG] = with_retired(changed[CONFIG], group.tag)
    return {n: t for n, t in changed.items() if t != root.text(n)}
