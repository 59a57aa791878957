"""``review``: findings about the matrix, each with an example packet."""

from __future__ import annotations

from oaktag.core.review import Shadowed, find_shadowed
from oaktag.core.services import packet_text
from oaktag.findings import Finding, finding
from oaktag.operations.documents import Document, packet_json
from oaktag.operations.model import Model
from oaktag.operations.weigh import borne


def review(model: Model) -> Document:
    """All findings about the matrix, in the order of files and lines."""
    return borne(model, "review", findings(model))


def findings(model: Model) -> list[Finding]:
    """Shadowed lines and entries."""
    return [_shadowed(model, s) for s in find_shadowed(model.matrix)]


def _shadowed(model: Model, found: Shadowed) -> Finding:
    line = model.lines[found.line]
    permission = model.files.policy.permissions[line.permission]
    first = found.mask
    if found.entry is None and permission.entries:
        first = model.atoms.mask(permission.entries[0].boxes)
    packet = model.atoms.packet(first)
    source, destination = (model.groups.all[g].id for g in found.cell)
    by = [model.lines[n].location for n in found.by if n != found.line]
    listed = ", ".join(str(place) for place in by[:3]) + (" …" if len(by) > 3 else "")
    way = f"{line.source} → {line.destination} ({permission.name})"
    if found.entry is None:
        code, what = "OT301", f"no packet reaches the line {way}"
    else:
        entry = permission.entries[found.entry]
        code = "OT302"
        what = f"no packet reaches the entry {entry.action}: {entry.text} of the line {way}"
        if not by:
            listed = f"an earlier entry of {permission.name}"
    narrower = "move it above, make what hides it narrower, or take it out"
    return finding(
        code,
        line.location,
        f"{what}; {listed or 'an earlier line'} decides all of its packets first",
        f"{narrower}: oaktag cell {source} {destination} shows the order",
        {
            "source": source,
            "destination": destination,
            "packet": packet_json(packet),
            "text": packet_text(*packet),
            "by": [{"file": p.file, "line": p.line} for p in by],
        },
    )
