"""Who is at an address, what is bound there, and which of the two counts where.

Rules kept here (semantics, sections 1 and 3): an endpoint stands for its assigned group, an
address for what the registry's look-up gives; the true group of an address is its endpoint's. An
endpoint whose address is not stable has no standing binding, so the two may differ.
"""

from __future__ import annotations

from oaktag.core.addresses import WIDTH, Prefix
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model


def at_address(model: Model, word: str, prefix: Prefix) -> Document | None:
    """Who is at an address; None where nobody is, or all of them are what is bound there."""
    rows = model.places.endpoint[model.places.addresses.inside(prefix)].tolist()
    bound = model.groups.by_tag.get(model.registry.tag(prefix.family, prefix.start), 0)
    groups = {row: max(int(model.assignment.group[row]), 0) for row in dict.fromkeys(rows)}
    if all(group == bound for group in groups.values()):
        return None
    names = model.groups.all
    who = ", ".join(f"{model.files.endpoints.ids[r]} ({names[g].id})" for r, g in groups.items())
    first = next(iter(groups))
    return {
        "address": word,
        "endpoints": [
            {"endpoint": model.files.endpoints.ids[r], **model.group_json(g)}
            for r, g in groups.items()
        ],
        "bound": model.group_json(bound),
        "text": f"{who} is at {word}, and the registry binds {word} as {names[bound].id}: asked by "
        f"its address it is {names[bound].id}; on the paths of reach and trace it is "
        f"{names[groups[first]].id}, known wherever its session is learned",
    }


def addressed(model: Model, *words: str) -> list[Document]:
    """The same for those ends of a question that are addresses."""
    found: list[Document] = []
    for word in words:
        end = model.end(word, points=True)
        if end.kind == "address":
            family, number = end.address
            told = at_address(model, word, Prefix(family, number, WIDTH[family]))
            found += [told] if told else []
    return found
