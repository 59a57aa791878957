"""``listen:`` in ``oaktag.yaml``: who may tell and ask, where, and what is answered."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Literal, NamedTuple

import yaml

from oaktag.core.addresses import Prefix, is_address
from oaktag.errors import UsageError
from oaktag.workspace.yamlfile import Node, YamlFile

KEYS = ("at", "accounting", "login", "changes", "clients", "answer", "unknown_login")
#: Attributes of an answer that can be named, by their numbers.
NAMED = {"filter-id": 11, "reply-message": 18, "class": 25}
VALUES: tuple[Literal["group", "tag"], ...] = ("group", "tag")
#: The last port; and the last number of a vendor.
LAST_PORT, LAST_VENDOR = 65535, (1 << 24) - 1


class Secret(NamedTuple):
    """Where a secret is: in a variable of the environment, or in a file outside the workspace."""

    kind: Literal["env", "file"]
    name: str

    def read(self) -> bytes:
        """The secret itself.

        Raises:
            UsageError: there is none.
        """
        if self.kind == "env":
            held = os.environ.get(self.name, "").encode()
            where = f"the environment has no {self.name}"
        else:
            try:
                held = Path(self.name).read_bytes().strip()
                where = f"{self.name} is empty"
            except OSError as error:
                held, where = b"", f"{self.name}: {error.strerror}"
        if not held:
            raise UsageError(f"{where}, which a secret is named by in oaktag.yaml")
        return held


class Shared(NamedTuple):
    """Those who share a secret with us, by their addresses."""

    prefix: Prefix
    secret: Secret


class Answered(NamedTuple):
    """An attribute of an answer: its number, that of the vendor whose own it is (0: of everybody),
    and what it tells of a group: its name or its tag."""

    number: int
    vendor: int
    value: Literal["group", "tag"]


class Listen(NamedTuple):
    """What ``listen:`` says; port 0 is any that is free."""

    at: tuple[str, ...] = ("0.0.0.0", "::")
    accounting: int = 1813
    login: int = 1812
    changes: int = 3799
    clients: tuple[Shared, ...] = ()
    answer: tuple[Answered, ...] = (Answered(11, 0, "group"),)
    reject_unknown: bool = False


def read_listen(file: YamlFile, node: Node | None) -> Listen:
    """What is said of listening; where nothing is, nobody may tell anything."""
    usual = Listen()
    fields = None if node is None else file.fields(node, "listen", KEYS)
    if fields is None:
        return usual
    at: list[str] = []
    for word, place in file.texts(fields.get("at"), "an address to listen at"):
        if is_address(word):
            at.append(word)
        else:
            file.fail(place, f"{word!r} is no address", "one of this machine, or 0.0.0.0 and ::")

    def port(key: str, default: int) -> int:
        said = file.number(fields.get(key), f"the port {key}", 0, LAST_PORT)
        return default if said is None else said

    clients = [
        shared
        for n in file.items(fields.get("clients"), "clients")
        if (shared := _client(file, n)) is not None
    ]
    answer = [
        given
        for n in file.items(fields.get("answer"), "answer")
        if (given := _answer(file, n)) is not None
    ]
    unknown = file.choice(fields.get("unknown_login"), "unknown_login", ("accept", "reject"))
    return Listen(
        tuple(at) or usual.at, port("accounting", usual.accounting), port("login", usual.login),
        port("changes", usual.changes), tuple(clients),
        tuple(answer) if "answer" in fields else usual.answer, unknown == "reject",
    )  # fmt: skip


def _client(file: YamlFile, node: Node) -> Shared | None:
    keys = ("address", "secret")
    fields = file.fields(node, "a client", keys, keys)
    if fields is None:
        return None
    prefixes = file.prefixes(fields["address"], "the client's address")
    secret = read_secret(file, fields["secret"])
    return None if not prefixes or secret is None else Shared(prefixes[0][0], secret)


def read_secret(file: YamlFile, node: Node) -> Secret | None:
    """A secret by reference."""
    told = "{env: NAME} or {file: /a/path/outside}: no secret stands in these files"
    mapping = isinstance(node, yaml.MappingNode)
    pairs = [(key, value) for key, _, value in file.pairs(node, "a secret")] if mapping else []
    if len(pairs) != 1 or pairs[0][0] not in ("env", "file"):
        file.fail(node, "the secret is no reference", told)
        return None
    name = file.text(pairs[0][1], "the secret's name") or ""
    if pairs[0][0] == "env":
        return Secret("env", name)
    if not Path(name).is_absolute():
        file.fail(pairs[0][1], f"{name!r} is no absolute path", told)
        return None
    return Secret("file", name)


def _answer(file: YamlFile, node: Node) -> Answered | None:
    fields = file.fields(
        node, "an attribute of the answer", ("attribute", "vendor", "value"), ("attribute", "value")
    )
    if fields is None:
        return None
    value = file.choice(fields["value"], "the attribute's value", VALUES)
    word = (file.text(fields["attribute"], "the attribute") or "").lower()
    vendor = file.number(fields.get("vendor"), "the vendor's number", 1, LAST_VENDOR) or 0
    named = NAMED.get(word) if not vendor else None
    number = named or (int(word) if word.isdecimal() and len(word) < 4 else 0)
    if not 0 < number < 256:
        known = ", ".join(NAMED)
        file.fail(fields["attribute"], f"{word!r} is no attribute", f"1 to 255, or one of {known}")
        return None
    found = next((v for v in VALUES if v == value), None)
    return None if found is None else Answered(number, vendor, found)
