"""A lab of a part of the network: some sites and nodes, with what surrounds them folded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oaktag.core.part import Part, differing, part_of
from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.model import Model
from oaktag.operations.result import Row

#: What a part is asked for by: ``sites`` and ``nodes``, their names.
Asked = Mapping[str, Sequence[str]]


def parted(model: Model, asked: Asked) -> Model:
    """The workspace with only a part of its network; with all of it where nothing is asked for.

    Raises:
        UsageError: there is no such site or node.
    """
    sites, nodes = asked.get("sites", ()), asked.get("nodes", ())
    if not sites and not nodes:
        return model
    network = model.network
    known = list(dict.fromkeys(n.site for n in network.nodes.values() if n.site))
    for kind, words, names in (("site", sites, known), ("node", nodes, list(network.nodes))):
        for word in words:
            if word not in names:
                hint = perhaps(word, names)
                raise UsageError(f"there is no {kind} {word!r}{hint and f'; {hint}'}")
    named = {n.name for n in network.nodes.values() if n.name in nodes or n.site in sites}
    part = part_of(model, named)
    return Model(model.files._replace(network=part.network, part=part), model.today, model)


def part_told(model: Model, there: Model) -> Row | None:
    """What a part of the network is: its nodes, what stands for its sides, and what is not as in
    the whole; None where it is the whole."""
    part: Part | None = there.files.part
    if part is None:
        return None
    return {
        "nodes": [n for n in part.network.nodes if n not in part.stands_for],
        "around": [
            {"node": node, "stands_for": list(side)} for node, side in part.stands_for.items()
        ],
        "left_out": list(part.left_out),
        "otherwise": [{"node": node, "bindings": n} for node, n in differing(model, there).items()],
    }
