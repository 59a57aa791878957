"""``permissions.yaml``: named services, and permissions as ordered entries."""

from __future__ import annotations

from typing import NamedTuple

import yaml

from oaktag.core.lines import SYSLOG_SEVERITIES, Entry, EntryAction, Permission
from oaktag.core.packets import Box
from oaktag.core.service_names import NAMED
from oaktag.core.services import (
    RESERVED,
    SERVICE_NAME,
    has_ports,
    parse_ports,
    parse_service,
    with_sender_ports,
)
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile

FILE = "permissions.yaml"
ACTIONS: tuple[EntryAction, ...] = ("allow", "deny", "pass")


class NamedService(NamedTuple):
    """A service of the workspace's own as it is written: of which words, and where."""

    parts: tuple[str, ...]
    location: Location


class Permissions(NamedTuple):
    """All permissions in file order, and the workspace's own services."""

    permissions: tuple[Permission, ...]
    services: dict[str, tuple[Box, ...]]
    named: dict[str, NamedService]


def read_permissions(root: Folder, problems: Problems) -> Permissions | None:
    """Services and permissions; None where the file cannot be read at all."""
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return None
    top = file.fields(file.root, FILE, ("services", "permissions"), ("permissions",))
    if top is None:
        return None
    own = _Services(file, top.get("services"))
    services = own.resolve()
    found: list[Permission] = []
    for name, key, node in file.pairs(top["permissions"], "permissions"):
        if not SERVICE_NAME.fullmatch(name):
            file.fail(key, f"{name!r} cannot be the name of a permission", "as in use-loans")
            continue
        permission = _read_permission(file, name, key, node, services)
        found.append(permission)
    return Permissions(tuple(found), services, own.named)


class _Services:
    """Named services, which may name each other in any order, but not in circles."""

    def __init__(self, file: YamlFile, node: Node | None) -> None:
        self.file = file
        self.parts: dict[str, list[tuple[str, Node]]] = {}
        self.named: dict[str, NamedService] = {}
        for name, key, value in file.pairs(node, "services"):
            if not SERVICE_NAME.fullmatch(name) or name in RESERVED:
                file.fail(key, f"{name!r} cannot be the name of a service", "as in loans-api")
            elif name in NAMED:
                file.clash(key, f"{name!r} is {', '.join(NAMED[name])} already", "another name")
            else:
                self.parts[name] = file.texts(value, f"the service {name}")
                words = tuple(text for text, _ in self.parts[name])
                self.named[name] = NamedService(words, file.place(key))
        self.done: dict[str, tuple[Box, ...]] = {}

    def resolve(self) -> dict[str, tuple[Box, ...]]:
        for name in self.parts:
            self._one(name, [])
        return self.done

    def _one(self, name: str, trail: list[str]) -> None:
        if name in self.done:
            return
        boxes: list[Box] = []
        for text, node in self.parts[name]:
            if text in trail or text == name:
                circle = " → ".join(
                    [*trail[trail.index(text) if text in trail else len(trail) :], name, text]
                )
                self.file.clash(node, f"services go in a circle: {circle}", "take one out")
                continue
            if text in self.parts:
                self._one(text, [*trail, name])
            if text in self.parts and text not in self.done:
                continue
            boxes += read_service(self.file, text, node, self.done)
        self.done[name] = tuple(dict.fromkeys(boxes))


def read_service(
    file: YamlFile, text: str, node: Node, services: dict[str, tuple[Box, ...]]
) -> tuple[Box, ...]:
    """The packets of one service; none, and a problem, where the text is no service."""
    try:
        return parse_service(text, services)
    except UsageError as error:
        report = file.clash if SERVICE_NAME.fullmatch(text) else file.fail
        report(node, str(error))
        return ()


def _read_permission(
    file: YamlFile, name: str, key: Node, node: Node, services: dict[str, tuple[Box, ...]]
) -> Permission:
    items, otherwise = node, None
    if isinstance(node, yaml.MappingNode):
        fields = file.fields(node, f"the permission {name}", ("entries", "otherwise"))
        items = (fields or {}).get("entries", yaml.SequenceNode("tag:yaml.org,2002:seq", []))
        otherwise = _action(file.choice((fields or {}).get("otherwise"), "otherwise", ACTIONS))
        if fields is not None and not fields:
            file.fail(node, f"the permission {name} says nothing", "entries, or otherwise")
    entries = [
        entry
        for item in file.items(items, f"the permission {name}")
        if (entry := _read_entry(file, item, services)) is not None
    ]
    if not entries and otherwise is None and not isinstance(node, yaml.MappingNode):
        if isinstance(node, yaml.SequenceNode) and not node.value:
            file.fail(node, f"the permission {name} says nothing", "- allow: …, - deny: …")
        elif not isinstance(node, yaml.SequenceNode) and node.value in ("", "~", "null"):
            file.fail(key, f"the permission {name} says nothing", "- allow: …, - deny: …")
    return Permission(name, tuple(entries), otherwise, file.place(key))


def _action(word: str | None) -> EntryAction | None:
    return next((a for a in ACTIONS if a == word), None)


def _read_entry(file: YamlFile, node: Node, services: dict[str, tuple[Box, ...]]) -> Entry | None:
    fields = file.fields(node, "an entry", (*ACTIONS, "from_ports", "log", "answer"))
    if fields is None:
        return None
    named = [a for a in ACTIONS if a in fields]
    if len(named) != 1:
        file.fail(
            node, f"an entry with {' and '.join(named) or 'no action'}", "allow, deny or pass"
        )
        return None
    action = named[0]
    words = file.texts(fields[action], f"what to {action}")
    if not words and not file.items(fields[action], f"what to {action}"):
        file.fail(fields[action], f"the entry says nothing to {action}", "a service, or any")
    boxes: list[Box] = []
    for text, item in words:
        found = read_service(file, text, item, services)
        if "from_ports" in fields and found and not has_ports(found):
            file.fail(item, f"{text} has no sender's port for from_ports", "tcp, udp or sctp")
            found = ()
        boxes += found
    ports = _read_ports(file, fields.get("from_ports"))
    log = file.choice(fields.get("log"), "log", SYSLOG_SEVERITIES)
    answer = file.flag(fields.get("answer"), "answer", default=False)
    if answer and action != "deny":
        file.fail(fields["answer"], f"an answer goes with deny, not with {action}", "a deny")
    shown = ", ".join(t for t, _ in words)
    if ports is not None:
        boxes = list(with_sender_ports(tuple(boxes), tuple(ports)))
        shown += " from " + ",".join(str(a) if a == b else f"{a}-{b}" for a, b in ports)
    return Entry(action, tuple(dict.fromkeys(boxes)), shown, log, answer, file.place(node))


def _read_ports(file: YamlFile, node: Node | None) -> list[tuple[int, int]] | None:
    if node is None:
        return None
    ports: list[tuple[int, int]] = []
    for text, item in file.texts(node, "from_ports"):
        try:
            ports.append(parse_ports(text))
        except UsageError as error:
            file.fail(item, str(error), "as in 123 or 1024-65535")
    return ports
