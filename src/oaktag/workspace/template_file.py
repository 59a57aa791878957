"""Files of templates: an engineer's own form of lists (``docs/templates.md``)."""

from __future__ import annotations

import re
from typing import Any

import yaml

from oaktag.core.lines import Action
from oaktag.core.templates import Template
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile

KEYS = ("suffix", "text", "able", "read", "words", "implied")
FLAGS = (
    "tags", "tables", "state", "sctp_ports", "readable", "one_family", "logging", "observing",
    "answers", "own",
)  # fmt: skip
NUMBERS = ("lists", "ranges", "blocks", "single", "none")
#: The kinds of lines that are read back.
LINES = (
    "skip", "point", "stateful", "source_tag", "from", "toward", "not_inside", "own", "outside",
    "group", "source_binding", "destination_binding", "binding", "sources", "destinations", "entry",
)  # fmt: skip
#: Of which kind which groups a pattern may name, and must.
GROUPS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "skip": ((), ()),
    "point": ((), ("name",)),
    "stateful": ((), ()),
    "source_tag": ((), ("by",)),
    "from": ((), ("addresses",)),
    "toward": ((), ("addresses",)),
    "not_inside": ((), ("from", "toward")),
    "own": ((), ("addresses",)),
    "outside": (("would",), ("action",)),
    "group": ((), ("tag", "name")),
    "source_binding": ((), ("addresses", "tag")),
    "destination_binding": ((), ("addresses", "tag")),
    "binding": ((), ("addresses", "tag")),
    "sources": ((), ("tags",)),
    "destinations": ((), ("tags",)),
    "entry": (
        ("from", "to", "families", "protocols", "source_ports", "destination_ports", "types",
         "codes", "readable", "would", "log", "answer", "keys", "permissions"),
        ("action",),
    ),
}  # fmt: skip


def read_template(root: Folder, name: str, problems: Problems) -> Template | None:
    """A template; None, with complaints, where it is none."""
    file = YamlFile(root, name, problems)
    if file.root is None:
        return None
    fields = file.fields(file.root, name, KEYS, ("suffix", "text"))
    if fields is None:
        return None
    suffix = file.text(fields["suffix"], "suffix") or ""
    if not re.fullmatch(r"(\.[a-z0-9-]+)+", suffix):
        file.fail(fields["suffix"], f"{suffix!r} is no ending of files", "e.g. .closet")
    implied = file.choice(fields.get("implied"), "implied", ("allow", "deny"))
    meant: Action | None = None if implied is None else "allow" if implied == "allow" else "deny"
    words = {
        word: file.text(value, f"what {word} means") or ""
        for word, _, value in file.pairs(fields.get("words"), "words")
    }
    return Template(
        name, suffix, file.text(fields["text"], "text") or "", _able(file, fields.get("able")),
        _patterns(file, fields.get("read")), words, meant, file.place(fields["text"]),
    )  # fmt: skip


def _able(file: YamlFile, item: Node | None) -> tuple[tuple[str, Any], ...]:
    if item is None:
        return ()
    keys = (*FLAGS, "ports", "range_costs", "icmp_types", "families")
    fields = file.fields(item, "able", keys) or {}
    found: dict[str, Any] = {
        key: file.flag(fields[key], key, default=True) for key in FLAGS if key in fields
    }
    for key, some in (("ports", NUMBERS[:-1]), ("icmp_types", NUMBERS)):
        found[key] = file.choice(fields.get(key), key, some)
    found["range_costs"] = file.number(fields.get("range_costs"), "range_costs", 1, 10**6)
    if "families" in fields:
        told = [w for w, _ in file.texts(fields["families"], "families")]
        if not told or not set(told) <= {"4", "6"}:
            file.fail(fields["families"], "families are 4, 6, or both", "[4]")
        else:
            found["families"] = frozenset(map(int, told))
    if "readable" in found:
        found["readable"] = "all" if found["readable"] else "none"
    if "one_family" in found:
        found["apart"] = found.pop("one_family")
    return tuple(sorted((k, v) for k, v in found.items() if v is not None))


def _patterns(file: YamlFile, item: Node | None) -> dict[str, tuple[str, ...]]:
    if item is None:
        return {}
    fields = file.fields(item, "read", LINES, ("entry",)) or {}
    found: dict[str, tuple[str, ...]] = {}
    for kind, value in fields.items():
        told = file.texts(value, kind)
        for pattern, node in told:
            _check(file, kind, pattern, node)
        found[kind] = tuple(pattern for pattern, _ in told)
    return found


def _check(file: YamlFile, kind: str, pattern: str, node: yaml.Node) -> None:
    may, must = GROUPS[kind]
    try:
        held = set(re.compile(pattern).groupindex)
    except re.error as error:
        file.fail(node, f"this is no pattern: {error}", "a regular expression")
        return
    if odd := held - {*may, *must}:
        expected = ", ".join((*must, *may)) or "no group"
        file.fail(node, f"a pattern for {kind} has no group {min(odd)!r}", expected)
    if missing := set(must) - held:
        first = min(missing)
        file.fail(node, f"a pattern for {kind} needs the group {first}", f"(?P<{first}>…)")
