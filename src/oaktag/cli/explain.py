"""``oaktag explain``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    count,
    emit,
    hint,
    paragraph,
    pass_context,
    place,
    say,
    table,
)


@click.command("explain")
@click.argument("what", shell_complete=complete("end"))
@as_json
@pass_context
def command(context: Context, what: str, as_json: bool) -> int:
    """All that is known about WHAT: an endpoint, an address, a prefix, a group or a tag."""
    document = context.workspace().explain(what)
    if as_json:
        emit(document)
        return 0
    kind = document["kind"]
    if kind == "set":
        paragraph(f"{what} is a set of {', '.join(document['groups'])}", "    ", first="")
        return 0
    if kind == "endpoint":
        _endpoint(document)
    elif kind == "group":
        _group(document)
    else:
        _address(document)
    if kind != "group":
        say()
        table(
            ("address", "bound as", "tag", "group", "source", "known at"),
            _known(document["bindings"]),
            right=(2,),
            wrap=(5,),
        )
    for told in document.get("addressed", []):
        say()
        paragraph(told["text"], "")
    policies = document["policies"]
    for policy in policies if len(policies) <= FEW else ():
        _policy(policy, alone=len(policies) == 1)
    if len(policies) > FEW:
        say()
        names = ", ".join(p["group"] for p in policies)
        paragraph(f"{len(policies)} groups are there: {names}", "   ", first="")
        hint(f"oaktag explain {policies[0]['group']} shows what one of them may")
    return 0


#: Of so many groups at one prefix each is told in full.
FEW = 3


def _policy(policy: dict[str, Any], *, alone: bool) -> None:
    """What one group may reach, and who may reach it."""
    name = "" if alone else f"{policy['group']} ({policy['why']}) "
    for key, word in (("as_source", "destination"), ("as_destination", "source")):
        if policy[key]:
            say()
            say(f"{name}may reach:" if word == "destination" else f"{name}may be reached by:")
            alike: dict[str, list[str]] = {}
            for cell in policy[key]:
                alike.setdefault(cell["allows"], []).append(cell[word])
            table(
                ("for", "who" if word == "source" else "what"),
                [(allows, ", ".join(names)) for allows, names in alike.items()],
                wrap=(0, 1),
            )


def _known(rows: list[dict[str, Any]]) -> list[tuple[Any, ...]]:
    """Bindings with all the places that know each alike."""
    alike: dict[tuple[Any, ...], list[str]] = {}
    for b in rows:
        key = (b["address"], b["prefix"], b["tag"], b["group"], b["source"])
        alike.setdefault(key, []).append(b["at"])
    return [(*key, ", ".join(places)) for key, places in alike.items()]


def _endpoint(document: dict[str, Any]) -> None:
    said = document["endpoint"]
    say(
        f"{said['endpoint']}, {said['kind']}: {said['group']} (tag {said['tag']}, {said['tag']:#x})"
    )
    by = said["by"]
    if by is None:
        say("   nothing assigns it")
    elif by["kind"] == "pin":
        say(f"   by the pin in {place(by)}")
    else:
        paragraph(f"by {place(by)}: {'; '.join(by['conditions'])}", " " * 6, first="   ")
    for other in said["also"]:
        say(f"   {place(other)} would have given {other['group']} as well")
    for near in said["near"]:
        sure = ", known too unsurely" if near["unsure"] else ""
        say(f"   nearly {near['group']} by {place(near)}, but for {near['attribute']}{sure}")
    say()
    table(
        ("attribute", "value", "given by", "confidence"),
        [
            (a["attribute"], "; ".join(a["value"]), a["source"], f"{a['confidence']:g}")
            for a in document["attributes"]
        ],
        right=(3,),
        wrap=(1,),
    )
    if document["places"]:
        say()
        table(
            ("has the address", "by", "on segment", "written in"),
            [(p["address"], p["by"], p["segment"] or "none", place(p)) for p in document["places"]],
        )


def _group(document: dict[str, Any]) -> None:
    say(f"{document['group']}: tag {document['tag']}, {document['hexadecimal']}")
    members = document["members"]
    shown = ", ".join(members[:12]) + (" …" if len(members) > 12 else "")
    paragraph(f"{count(len(members), 'member')}: {shown}" if members else "no members", "   ")
    if document["sets"]:
        say(f"   in the sets {', '.join(document['sets'])}")
    say(f"   {count(len(document['bindings']), 'binding')} in the registry")


def _address(document: dict[str, Any]) -> None:
    say(f"{document['prefix']}, on segment {document['segment'] or 'none'}")
    if document["endpoints"]:
        paragraph(f"of {', '.join(document['endpoints'])}", "   ")
    if document["inside"]:
        say(f"   {count(len(document['inside']), 'binding')} of the registry inside it")
