"""``share:`` and ``adopt:`` in ``oaktag.yaml``: which of our groups another domain is told of, and
whose groups are adopted, from where, and by which key."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import Literal, NamedTuple
from urllib.parse import urlsplit

import yaml

from oaktag.core.groups import PLAIN_ID
from oaktag.workspace.listen_part import Secret, read_secret
from oaktag.workspace.yamlfile import Node, YamlFile

SHARE_KEYS = ("origin", "groups", "sign")
ADOPT_KEYS = ("origin", "from", "verify", "groups", "ca")
#: A public key is this, and 32 octets (RFC 8410, section 4).
ED25519 = bytes.fromhex("302a300506032b6570032100")
#: Where documents that were adopted are kept.
ADOPTED = "adopted"


class Key(NamedTuple):
    """What a document is signed or verified by: a secret of both domains, or one half of a pair; of
    these the public half stands as it is."""

    kind: Literal["hmac-sha256", "ed25519"]
    secret: Secret | None
    public: bytes = b""


class Share(NamedTuple):
    """What is told of us: by which name, of which groups and sets (each with its place), signed by
    which key."""

    origin: str
    groups: tuple[tuple[str, Node], ...]
    sign: Key | None
    node: Node


class Adopt(NamedTuple):
    """Another domain: its name, where its document is, the key, which groups alone (() for all),
    the file of certificates to trust ("" for those of the machine)."""

    origin: str
    where: str
    verify: Key | None
    groups: tuple[str, ...]
    ca: str
    node: Node

    @property
    def file(self) -> str:
        """Where its document is kept."""
        return file_of(self.origin)

    @property
    def remote(self) -> bool:
        """Whether it is asked for over the network."""
        return self.where.startswith("https:")


def file_of(origin: str) -> str:
    """Where the document of a domain is kept."""
    return f"{ADOPTED}/{origin}.json"


def read_share(file: YamlFile, node: Node | None, workspace: str) -> Share | None:
    """What is said of sharing; None where nothing is, or it cannot be understood."""
    fields = None if node is None else file.fields(node, "share", SHARE_KEYS, ("groups", "sign"))
    if node is None or fields is None:
        return None
    origin = file.text(fields.get("origin"), "the origin", PLAIN_ID) or ""
    if "origin" not in fields and PLAIN_ID.fullmatch(workspace):
        origin = workspace
    elif "origin" not in fields:
        told = f"the workspace's name, {workspace!r}, is none for other domains"
        file.fail(node, told, "origin: quillmere")
    groups = tuple(file.texts(fields["groups"], "a group that is shared"))
    if not groups and not file.items(fields["groups"], "groups"):
        file.fail(fields["groups"], "no group is shared", "groups: [librarians]")
    return Share(origin, groups, _key(file, fields["sign"], "sign"), node)


def read_adopted(file: YamlFile, node: Node | None, ours: str) -> tuple[Adopt, ...]:
    """The domains whose groups are adopted; ``ours`` is what we are called there."""
    found: dict[str, Adopt] = {}
    for item in file.items(node, "adopt"):
        fields = file.fields(item, "a domain", ADOPT_KEYS, ("origin", "from", "verify"))
        if fields is None:
            continue
        origin = file.text(fields["origin"], "the origin", PLAIN_ID)
        where = file.text(fields["from"], "from") or ""
        if "://" in where and not _is_https(where):
            told = f"{where!r} is no place that a document is fetched from"
            file.fail(fields["from"], told, "a file, or https://HOST/…")
        ca = file.text(fields.get("ca"), "ca") or ""
        if ca and not Path(ca).is_absolute():
            file.fail(fields["ca"], f"{ca!r} is no absolute path", "the file of certificates")
        key = _key(file, fields["verify"], "verify")
        only = tuple(t for t, _ in file.texts(fields.get("groups"), "a group that is adopted"))
        if origin is None:
            continue
        if origin == ours:
            file.clash(fields["origin"], f"{origin} is what we are called ourselves", "its own")
        elif origin in found:
            file.clash(fields["origin"], f"the domain {origin} stands twice", "each domain once")
        else:
            found[origin] = Adopt(origin, where, key, only, ca, item)
    return tuple(found.values())


def _key(file: YamlFile, node: Node, what: Literal["sign", "verify"]) -> Key | None:
    mapping = isinstance(node, yaml.MappingNode)
    pairs = [(key, value) for key, _, value in file.pairs(node, what)] if mapping else []
    if len(pairs) != 1 or pairs[0][0] not in ("hmac", "ed25519"):
        told = "{hmac: {env: NAME}} or {ed25519: {env: NAME}}"
        if what == "verify":
            told = "{hmac: {env: NAME}} or {ed25519: MCowBQYDK2VwAyEA…}"
        file.fail(node, f"{what} names no key", told)
        return None
    ((kind, value),) = pairs
    if kind == "hmac":
        return Key("hmac-sha256", read_secret(file, value))
    if what == "sign":
        return Key("ed25519", read_secret(file, value))
    text = file.text(value, "the public key") or ""
    try:
        octets = base64.b64decode(text, validate=True)
    except ValueError:
        octets = b""
    if octets[: len(ED25519)] != ED25519 or len(octets) != len(ED25519) + 32:
        told = "the line of base64 that openssl pkey -pubout prints"
        file.fail(value, "it is no public key of Ed25519", told)
        return None
    return Key("ed25519", None, octets[len(ED25519) :])


def _is_https(text: str) -> bool:
    try:
        parts = urlsplit(text)
        return bool(
            parts.scheme == "https" and parts.hostname and parts.port != 0 and not parts.username
        )
    except ValueError:
        return False
