"""Points of every kind, and their lists changed at random."""

from __future__ import annotations

import random
import re
import shutil
from pathlib import Path
from typing import Any

from oaktag.core.network import Point
from oaktag.operations.model import Model
from oaktag.testing.slow import Stack
from one_gate import model_of

TEMPLATES = Path(__file__).resolve().parents[1] / "examples" / "templates"
ADDRESSES = {"source": "address", "destination": "address"}
#: Kinds of points: what of a point they ask for.
KINDS: dict[str, dict[str, Any]] = {
    "nftables": {"dialect": "nftables"},
    "nftables, IPv4 alone": {"dialect": "nftables", "limits": {"families": [4]}},
    "json": {"dialect": "json"},
    "json, one port an entry": {
        "dialect": "json", "limits": {"ports": "ranges", "icmp_types": "single", "range_costs": 3},
    },
    "json, blocks of ports": {"dialect": "json", "limits": {"ports": "blocks"}},
    "json by addresses": {
        "dialect": "json", "match": ADDRESSES, "limits": {"tables": False, "ports": "ranges"},
    },
    "ietf-acl": {"dialect": "ietf-acl"},
    "ietf-acl, plain": {
        "dialect": "ietf-acl", "match": ADDRESSES, "stateful": False, "own": False,
    },
    "closet": {"dialect": "template", "template": "closet.yaml", "own": False},
    "gatehouse": {
        "dialect": "template", "template": "gatehouse.yaml", "match": ADDRESSES,
        "stateful": False, "own": False, "mode": "enforce",
    },
}  # fmt: skip


def slow(kind: str) -> bool:
    """Whether lists have entries by the thousand, for they name every prefix."""
    return KINDS[kind].get("match") == ADDRESSES


def of_kind(stack: Stack, point: dict[str, Any], kind: str, folder: Path) -> tuple[Model, Point]:
    for file in TEMPLATES.iterdir():
        shutil.copy(file, folder)
    return model_of(stack, {**point, **KINDS[kind]}, folder)


#: Words for which others may stand.
WORDS = (
    ("allow", "deny"), ("accept", "drop"), ("yes", "no"), ("let", "keep"), ("true", "false"),
    ("ip", "ip6"), ("saddr", "daddr"), ("sport", "dport"), ("tcp", "udp"), ("icmp", "icmpv6"),
    ("forward", "input"), ("input", "output"), ("filter", "mangle"), ("goto", "jump"), ("map", "set"),
    ("ipv4_addr", "ipv6_addr"), ("ipv4", "ipv6"), ("verdict", "mark"), ("established", "new"),
    ("interval", "timeout"), ("type", "code"), ("source", "destination"), ("from", "to"),
    ("type", "typeof"), ("eq", "neq"), ("frame", "bindings"), ("deny", "reject"), ("log", "limit"),
)  # fmt: skip
_OTHER: dict[str, list[str]] = {}
for _one, _two in WORDS:
    _OTHER.setdefault(_one, []).append(_two)
    _OTHER.setdefault(_two, []).append(_one)


def changed(text: str, rng: random.Random) -> str:
    """A character, word or line more, less, other, or in another place."""
    lines = text.split("\n")
    at, other = rng.randrange(len(lines)), rng.randrange(len(lines))
    kind = rng.randrange(14)
    if kind == 9:  # what ends a line for some readers, acts on a terminal, or is not seen
        place = rng.randrange(len(text))
        return text[:place] + rng.choice("\r\v\f\x00\x1b\x85\u2028\u200b\xa0") + text[place:]
    if kind == 10:  # a line at another place
        lines.insert(other, lines.pop(at))
    elif kind == 11:  # an escape, or a space, behind a value
        lines[at] += rng.choice((" ", "\t", "\\", "\x1b[0m", " #", ";"))
    elif kind == 12:  # the kernel reads the port of whatever has ports
        lines[at] = re.sub(r"\b(?:tcp|udp|sctp) ([sd]port)", r"th \1", lines[at])
    elif kind == 13:  # another line is said to have decided
        keys = list(re.finditer(r"\b[0-9a-f]{16}\b", text))
        if keys:
            match = rng.choice(keys)
            return text[: match.start()] + rng.choice(keys)[0] + text[match.end() :]
    elif kind == 0:
        del lines[at]
    elif kind == 1:
        lines.insert(at, lines[other])
    elif kind == 2:
        lines[at], lines[other] = lines[other], lines[at]
    elif kind in (3, 4, 5):
        found = [m for m in re.finditer(r"\b[a-z0-9_]+\b", text) if m[0] in _OTHER]
        if found:
            match = rng.choice(found)
            return text[: match.start()] + rng.choice(_OTHER[match[0]]) + text[match.end() :]
    elif kind == 6:
        numbers = list(re.finditer(r"\d+", text))
        match = rng.choice(numbers)
        number = str(max(int(match[0]) + rng.choice((-1, 1)), 0))
        return text[: match.start()] + number + text[match.end() :]
    else:
        place = rng.randrange(len(text))
        letter = rng.choice('0123456789abcdef,.:-/ \n"[]{}|#')
        return text[:place] + (letter if kind == 7 else "") + text[place + 1 :]
    return "\n".join(lines)
