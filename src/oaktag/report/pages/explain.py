"""All that is known about one thing."""

from __future__ import annotations

from typing import Any

from oaktag.report.page import Page
from oaktag.report.words import Row, count, place


def show(page: Page, d: Row) -> None:
    """What it is, who is there, what is bound, and what it may."""
    kind = d["kind"]
    if kind == "set":
        page.paragraph(f"{d['what']} is a set of {', '.join(d['groups'])}", "    ", first="")
        return
    if kind == "endpoint":
        _endpoint(page, d)
    elif kind == "group":
        _group(page, d)
    else:
        _address(page, d)
    if kind != "group":
        page.say()
        page.table(
            ("address", "bound as", "tag", "group", "source", "known at"),
            _known(d["bindings"]),
            right=(2,),
            wrap=(5,),
        )
    for told in d.get("addressed", []):
        page.say()
        page.paragraph(told["text"], "")
    policies = d["policies"]
    for policy in policies if len(policies) <= FEW else ():
        _policy(page, policy, alone=len(policies) == 1)
    if len(policies) > FEW:
        page.say()
        names = ", ".join(p["group"] for p in policies)
        page.paragraph(f"{len(policies)} groups are there: {names}", "   ", first="")
        page.hint(f"oaktag explain {policies[0]['group']} shows what one of them may")


#: Of so many groups at one prefix each is told in full.
FEW = 3


def _policy(page: Page, policy: Row, *, alone: bool) -> None:
    """What one group may reach, and who may reach it."""
    name = "" if alone else f"{policy['group']} ({policy['why']}) "
    for key, word in (("as_source", "destination"), ("as_destination", "source")):
        if policy[key]:
            page.say()
            page.say(f"{name}may reach:" if word == "destination" else f"{name}may be reached by:")
            alike: dict[str, list[str]] = {}
            for cell in policy[key]:
                alike.setdefault(cell["allows"], []).append(cell[word])
            page.table(
                ("for", "who" if word == "source" else "what"),
                [(allows, ", ".join(names)) for allows, names in alike.items()],
                wrap=(0, 1),
            )


def _known(rows: list[Row]) -> list[tuple[Any, ...]]:
    """Bindings with all the places that know each alike."""
    alike: dict[tuple[Any, ...], list[str]] = {}
    for b in rows:
        key = (b["address"], b["prefix"], b["tag"], b["group"], b["source"])
        alike.setdefault(key, []).append(b["at"])
    return [(*key, ", ".join(places)) for key, places in alike.items()]


def _endpoint(page: Page, document: Row) -> None:
    said = document["endpoint"]
    page.say(
        f"{said['endpoint']}, {said['kind']}: {said['group']} (tag {said['tag']}, {said['tag']:#x})"
    )
    by = said["by"]
    if by is None:
        page.say("   nothing assigns it")
    elif by["kind"] == "pin":
        page.say(f"   by the pin in {place(by)}")
    else:
        page.paragraph(f"by {place(by)}: {'; '.join(by['conditions'])}", " " * 6, first="   ")
    for other in said["also"]:
        page.say(f"   {place(other)} would have given {other['group']} as well")
    for near in said["near"]:
        sure = ", known too unsurely" if near["unsure"] else ""
        page.say(f"   nearly {near['group']} by {place(near)}, but for {near['attribute']}{sure}")
    page.say()
    page.table(
        ("attribute", "value", "given by", "confidence"),
        [
            (a["attribute"], "; ".join(a["value"]), a["source"], f"{a['confidence']:g}")
            for a in document["attributes"]
        ],
        right=(3,),
        wrap=(1,),
    )
    if document["places"]:
        page.say()
        page.table(
            ("has the address", "by", "since", "on segment", "told by"),
            [
                (p["address"], p["by"], _minute(p["since"]), p["segment"] or "none", place(p))
                for p in document["places"]
            ],
        )


def _minute(time: str | None) -> str:
    return (time or "")[:16].replace("T", " ")


def _group(page: Page, document: Row) -> None:
    page.say(f"{document['group']}: tag {document['tag']}, {document['hexadecimal']}")
    members = document["members"]
    shown = ", ".join(members[:12]) + (" …" if len(members) > 12 else "")
    page.paragraph(f"{count(len(members), 'member')}: {shown}" if members else "no members", "   ")
    if document["sets"]:
        page.say(f"   in the sets {', '.join(document['sets'])}")
    page.say(f"   {count(len(document['bindings']), 'binding')} in the registry")


def _address(page: Page, document: Row) -> None:
    page.say(f"{document['prefix']}, on segment {document['segment'] or 'none'}")
    if document["endpoints"]:
        page.paragraph(f"of {', '.join(document['endpoints'])}", "   ")
    if document["inside"]:
        page.say(f"   {count(len(document['inside']), 'binding')} of the registry inside it")
