"""``oaktag.yaml``: name, number range, defaults, layers, sources, guards."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import NamedTuple

from oaktag.core.bindings import BINDING_SOURCES
from oaktag.core.endpoints import KINDS
from oaktag.core.groups import HIGHEST_TAG, Numbering, tag_number
from oaktag.core.lines import Action, Order
from oaktag.findings import CODES, SEVERITIES, Finding
from oaktag.located import Location
from oaktag.workspace.directory_part import KEYS as DIRECTORY
from oaktag.workspace.directory_part import Directory, read_directory
from oaktag.workspace.folder import Folder
from oaktag.workspace.listen_part import Listen, read_listen
from oaktag.workspace.sharing_part import Adopt, Share, read_adopted, read_share
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile

FILE = "oaktag.yaml"
#: A session that nothing confirms lasts so long, in microseconds, where nothing is said.
DAY = 86_400_000_000
KEYS = (
    "workspace", "tags", "default", "observed_default", "order", "layers", "sources",
    "corrections", "sessions", "store", "session_timeout", "binding_order", "severities",
    "accepted", "keep_open", "listen", "share", "adopt",
)  # fmt: skip
SOURCE_KEYS = (
    "file", "kind", "id", "address", "stability", "columns", "separator", "encoding", *DIRECTORY
)  # fmt: skip
SUFFIXES = (".csv", ".jsonl", ".ldif")
ENCODINGS = ("utf-8", "latin-1", "cp1252", "utf-16")
SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", ",": ",", ";": ";", "|": "|"}
ORDERS: tuple[Order, ...] = ("specific-first", "broad-first", "as-listed")
ACTIONS: tuple[Action, ...] = ("allow", "deny")


class Source(NamedTuple):
    """One inventory file: which of its columns name the endpoint, its address, its stability."""

    file: str
    kind: str
    id: str
    address: str | None
    stability: str | None
    columns: dict[str, str]
    node: Node
    #: "" where the header of the file tells it.
    separator: str = ""
    encoding: str = "utf-8"
    #: The directory that ``oaktag pull`` writes the file from.
    directory: Directory | None = None


class Accepted(NamedTuple):
    """Findings known and borne through the day ``until``: a code, and where or what it says."""

    code: str
    file: str | None
    match: str
    why: str
    until: int
    location: Location

    def bears(self, finding: Finding, today: int) -> bool:
        """Whether a finding is accepted on the day."""
        return (
            today <= self.until
            and finding.code == self.code
            and self.file in (None, finding.location.file)
            and self.match in finding.message
        )


class Config(NamedTuple):
    """What ``oaktag.yaml`` says."""

    workspace: str
    numbering: Numbering | None
    default: Action
    observed_default: Action | None
    order: Order
    layers: tuple[str, ...]
    sources: tuple[Source, ...]
    corrections: str | None
    sessions: str | None
    store: str
    session_timeout: int
    listen: Listen
    severities: dict[str, str]
    accepted: tuple[Accepted, ...]
    borne: tuple[Node, ...]
    binding_order: tuple[str, ...]
    keep_open: Node | None
    file: YamlFile
    share: Share | None = None
    adopt: tuple[Adopt, ...] = ()


def read_config(root: Folder, problems: Problems) -> Config | None:
    """The configuration; None where the file cannot be read at all."""
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return None
    top = file.fields(file.root, FILE, KEYS, ("workspace", "layers"))
    if top is None:
        return None
    layers: list[str] = []
    for word, node in file.texts(top["layers"], "a layer"):
        layer = _file_name(file, word, node)
        if layer in layers:
            file.clash(node, f"the layer {layer} stands twice", "each layer once")
        elif layer is not None:
            layers.append(layer)
    sources = [
        source
        for node in file.items(top.get("sources"), "sources")
        if (source := _read_source(file, node)) is not None
    ]
    named: dict[str, str | None] = {}
    for key in ("corrections", "sessions"):
        text = file.text(top.get(key), key)
        named[key] = text and _file_name(file, text, top[key])
    accepted: list[Accepted] = []
    borne: list[Node] = []
    for node in file.items(top.get("accepted"), "accepted"):
        if any(key == "reach" for key, _, _ in file.pairs(node, "accepted")):
            borne.append(node)
        elif (found := _read_accepted(file, node)) is not None:
            accepted.append(found)
    name = file.text(top["workspace"], "the workspace's name") or ""
    share = read_share(file, top.get("share"), name)
    return Config(
        workspace=name,
        numbering=_read_numbering(file, top.get("tags")),
        default=_action(file.choice(top.get("default"), "default", ACTIONS)) or "deny",
        observed_default=_action(
            file.choice(top.get("observed_default"), "observed_default", ACTIONS)
        ),
        order=next(
            (o for o in ORDERS if o == file.choice(top.get("order"), "order", ORDERS)), ORDERS[0]
        ),
        layers=tuple(layers),
        sources=tuple(sources),
        corrections=named["corrections"],
        sessions=named["sessions"],
        store=_read_store(file, top.get("store")),
        listen=read_listen(file, top.get("listen")),
        session_timeout=file.duration(top.get("session_timeout"), "session_timeout") or DAY,
        severities=_read_severities(file, top.get("severities")),
        accepted=tuple(accepted),
        borne=tuple(borne),
        binding_order=_read_order(file, top.get("binding_order")),
        keep_open=top.get("keep_open"),
        file=file,
        share=share,
        adopt=read_adopted(file, top.get("adopt"), share.origin if share else ""),
    )


def _read_store(file: YamlFile, node: Node | None) -> str:
    """The URL of a database; "" for the workspace's own, or where it cannot be used."""
    text = file.text(node, "store") or ""
    if node is not None and not re.match(r"(sqlite|postgresql):", text):
        file.fail(node, f"the store is {text!r}", "postgresql://HOST/DATABASE or sqlite:///FILE")
        return ""
    if node is not None and re.match(r"[a-z]+://[^/@]*:[^/@]*@", text):
        told = "none here: OAKTAG_STORE holds the whole URL, or PGPASSWORD the password"
        file.fail(node, "the store's URL has a password in it", told)
        return ""
    return text


def _action(word: str | None) -> Action | None:
    return next((a for a in ACTIONS if a == word), None)


def _file_name(file: YamlFile, text: str, node: Node) -> str | None:
    path = PurePosixPath(text)
    if path.is_absolute() or ".." in path.parts or "\\" in text:
        file.fail(node, f"{text!r} is not a file of the workspace", "a path below its folder")
        return None
    return text


def _read_numbering(file: YamlFile, node: Node | None) -> Numbering | None:
    """The range of numbers; None where it was written and cannot be read."""
    if node is None:
        return Numbering()
    fields = file.fields(node, "tags", ("issue", "issued_to", "retired")) or {}
    low, high, top = 0, -1, 0
    if "issue" in fields and (text := file.text(fields["issue"], "issue")):
        first, _, last = text.partition("-")
        low, high = tag_number(first), tag_number(last)
        if not 0 < low <= high:
            file.fail(fields["issue"], f"issue is {text!r}", "a range within 1-65535: 2000-2999")
            return None
    retired = [
        _tag(file, n, "a retired number") for n in file.items(fields.get("retired"), "retired")
    ]
    if "issued_to" in fields:
        top = _tag(file, fields["issued_to"], "issued_to")
        if top and not low <= top <= high:
            told = f"a number of the range {low}-{high}" if low else "issue, the range, as well"
            file.clash(fields["issued_to"], f"issued_to is {top}", told)
            top = 0
    return Numbering(low, high, frozenset(n for n in retired if n), top)


def _tag(file: YamlFile, node: Node, what: str) -> int:
    """A tag in decimal or hexadecimal; 0 where it is none."""
    text = file.text(node, what)
    number = tag_number(text or "")
    if text is not None and not number:
        file.fail(node, f"{what} is {text!r}", f"a number from 1 to {HIGHEST_TAG}")
    return number


def _read_source(file: YamlFile, node: Node) -> Source | None:
    fields = file.fields(node, "a source", SOURCE_KEYS, ("file", "kind", "id"))
    if fields is None:
        return None
    text = file.text(fields["file"], "file")
    name = None if text is None else _file_name(file, text, fields["file"])
    kind = file.choice(fields["kind"], "kind", KINDS)
    key = file.text(fields["id"], "id")
    columns: dict[str, str] = {}
    for column, _, value in file.pairs(fields.get("columns"), "columns"):
        attribute = file.text(value, f"the attribute of column {column}")
        if attribute is not None:
            columns[column] = attribute
    if name is not None and not name.lower().endswith(SUFFIXES):
        file.fail(fields["file"], f"{name!r} is no kind of list", f"one of {', '.join(SUFFIXES)}")
        return None
    separator = file.choice(fields.get("separator"), "separator", tuple(SEPARATORS))
    encoding = file.choice(fields.get("encoding"), "encoding", ENCODINGS)
    unread = ("separator" in fields and not separator) or ("encoding" in fields and not encoding)
    directory = read_directory(file, fields)
    if directory is not None and name is not None and not name.endswith((".jsonl", ".ldif")):
        told = "a file .jsonl or .ldif, which oaktag pull writes"
        file.fail(fields["file"], f"a directory is not written as {name!r}", told)
    if name is None or kind is None or key is None or unread:
        return None
    return Source(
        name, kind, key, file.text(fields.get("address"), "address"),
        file.text(fields.get("stability"), "stability"), columns, node,
        SEPARATORS[separator] if separator else "", encoding or "utf-8", directory,
    )  # fmt: skip


def _read_order(file: YamlFile, node: Node | None) -> tuple[str, ...]:
    if node is None:
        return BINDING_SOURCES
    words = tuple(t for t, _ in file.texts(node, "binding_order"))
    if sorted(words) != sorted(BINDING_SOURCES):
        file.fail(node, "binding_order is not an order of all sources", ", ".join(BINDING_SOURCES))
        return BINDING_SOURCES
    return words


def _read_severities(file: YamlFile, node: Node | None) -> dict[str, str]:
    found: dict[str, str] = {}
    for code, key, value in file.pairs(node, "severities"):
        word = file.choice(value, f"the severity of {code}", (*SEVERITIES, "off"))
        if code not in CODES:
            file.clash(key, f"there is no finding {code!r}", "oaktag check --codes lists them")
        elif word is not None:
            found[code] = word
    return found


def _read_accepted(file: YamlFile, node: Node) -> Accepted | None:
    keys = ("code", "file", "match", "why", "until")
    fields = file.fields(node, "an accepted finding", keys, ("code", "why", "until"))
    if fields is None:
        return None
    code = file.text(fields["code"], "code")
    why, until = file.text(fields["why"], "why"), file.day(fields["until"], "until")
    if code is not None and code not in CODES:
        file.clash(fields["code"], f"there is no finding {code!r}", "oaktag check --codes")
        return None
    if code is None or why is None or until is None:
        return None
    where, match = (file.text(fields.get(k), k) for k in ("file", "match"))
    return Accepted(code, where, match or "", why, until, file.place(node))
