"""``expectations.yaml``, and of ``oaktag.yaml`` ``keep_open`` and the rows of reach in
``accepted``: what must be allowed or denied, and what is borne for now though it is wrong."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

import yaml

from oaktag.core.endpoints import Endpoints
from oaktag.core.expectations import Demand
from oaktag.core.groups import Groups
from oaktag.core.network import Node as NetworkNode
from oaktag.core.packets import Box
from oaktag.core.question_words import End, Place, parse_end
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.workspace.folder import Folder
from oaktag.workspace.permissions_file import read_service
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile

FILE = "expectations.yaml"
KEYS = ("from", "to", "allowed", "exactly", "service", "is", "path", "enforced")


class Expectation(NamedTuple):
    """One expectation; ``text`` is what it asks for, in words."""

    source: End
    destination: End
    kind: Demand
    boxes: tuple[Box, ...]
    text: str
    location: Location
    enforced: bool = False
    path: bool = False


class Borne(NamedTuple):
    """Rows of reach that the workspace bears through the day ``until``: by effect, and perhaps by
    cause, ends, place (nodes or segments, as globs) and service (no ``boxes``: any)."""

    effect: str
    cause: str | None
    at: tuple[str, ...]
    source: End | None
    destination: End | None
    boxes: tuple[Box, ...]
    why: str
    until: int
    location: Location


#: What may be borne, and the causes by which it may be told.
BORNE = ("leak", "break", "one-way", "cut-off")
CAUSES = (
    "no-point", "direction", "inside", "source-unknown", "source-wrong", "destination-unknown",
    "destination-wrong", "no-cell", "answer-dropped",
)  # fmt: skip
BORNE_KEYS = ("reach", "cause", "at", "from", "to", "service", "why", "until")


class ExpectationReader:
    """Reads expectations of a file, with the names that they may use."""

    def __init__(
        self,
        file: YamlFile,
        groups: Groups,
        endpoints: Endpoints,
        services: dict[str, tuple[Box, ...]],
        nodes: Mapping[str, NetworkNode],
    ) -> None:
        self.file = file
        self.nodes = nodes
        self.groups = groups
        self.endpoints = endpoints
        self.services = services

    def expectation(self, node: Node) -> Expectation | None:
        """One item of ``expectations.yaml``."""
        file = self.file
        fields = file.fields(node, "an expectation", KEYS, ("from", "to"))
        if fields is None:
            return None
        source, destination = self.end(fields["from"]), self.end(fields["to"])
        if ("allowed" in fields) == ("is" in fields):
            file.fail(
                node, "an expectation says what is allowed", "allowed: […], or service and is"
            )
            return None
        exactly = file.flag(fields.get("exactly"), "exactly", default=False)
        if "is" in fields:
            kind, boxes, text = self._is(node, fields)
        else:
            kind, boxes, text = self._allowed(fields, exactly)
        enforced = file.flag(fields.get("enforced"), "enforced", default=False)
        path = file.flag(fields.get("path"), "path", default=False)
        if source is None or destination is None or kind is None:
            return None
        place = file.place(node)
        return Expectation(source, destination, kind, boxes, text, place, enforced, path)

    def keep_open(self, node: Node) -> Expectation | None:
        """One item of ``keep_open``."""
        fields = self.file.fields(node, "keep_open", ("from", "to", "service"), ("from", "to"))
        if fields is None:
            return None
        source, destination = self.end(fields["from"]), self.end(fields["to"])
        if "service" not in fields:
            self.file.fail(node, "keep_open lacks the key 'service'", "service: …")
            return None
        boxes, text = self._boxes(fields["service"], "service")
        if source is None or destination is None:
            return None
        place = self.file.place(node)
        return Expectation(source, destination, "allowed", boxes, text, place, path=True)

    def borne(self, node: Node) -> Borne | None:
        """One item of ``accepted`` that speaks of rows of reach."""
        file = self.file
        fields = file.fields(node, "an accepted row", BORNE_KEYS, ("reach", "why", "until"))
        if fields is None:
            return None
        effect = file.choice(fields["reach"], "reach", BORNE)
        cause = file.choice(fields.get("cause"), "cause", CAUSES)
        why, until = file.text(fields["why"], "why"), file.day(fields["until"], "until")
        source, destination = (
            self._group_end(fields[k]) if k in fields else None for k in ("from", "to")
        )
        boxes = self._boxes(fields["service"], "service")[0] if "service" in fields else ()
        if effect is None or why is None or until is None:
            return None
        at = tuple(t for t, _ in file.texts(fields.get("at"), "at")) if "at" in fields else ()
        place = file.place(node)
        return Borne(effect, cause, at, source, destination, boxes, why, until, place)

    def _group_end(self, node: Node) -> End | None:
        """An end of accepted rows: these are of whole groups, so one endpoint is none."""
        end = self.end(node)
        if end is not None and end.kind not in ("group", "set", "node"):
            self.file.clash(
                node, f"rows of reach are of groups, and {end.word} is none", "a group, set or node"
            )
            return None
        return end

    def end(self, node: Node) -> End | None:
        """A source or destination."""
        word = self.file.text(node, "an end")
        if word is None:
            return None
        try:
            places: dict[str, Place] = dict.fromkeys(self.nodes, "node")
            end = parse_end(word, self.groups, self.endpoints, points=True, places=places)
        except UsageError as error:
            self.file.clash(node, str(error))
            return None
        if end.kind == "node" and not self.nodes[word].addresses:
            self.file.clash(
                node, f"the node {word} has no address of its own", "give it an address"
            )
            return None
        return end

    def _is(
        self, node: Node, fields: dict[str, Node]
    ) -> tuple[Demand | None, tuple[Box, ...], str]:
        word = self.file.choice(fields["is"], "the answer", ("allowed", "denied"))
        if "service" not in fields:
            self.file.fail(node, "an expectation with is lacks the key 'service'", "service: …")
            return None, (), ""
        boxes, text = self._boxes(fields["service"], "service")
        kind: Demand = "denied" if word == "denied" else "allowed"
        return (kind if word and boxes else None), boxes, f"{text} {word}"

    def _allowed(
        self, fields: dict[str, Node], exactly: bool
    ) -> tuple[Demand | None, tuple[Box, ...], str]:
        node = fields["allowed"]
        if "service" in fields:
            self.file.fail(fields["service"], "service goes with is", "is: allowed or denied")
        if isinstance(node, yaml.ScalarNode) and node.value == "none":
            return "none", (), "nothing allowed"
        boxes, text = self._boxes(node, "allowed")
        if not boxes and isinstance(node, yaml.SequenceNode) and not node.value:
            self.file.fail(node, "allowed is an empty list", "none, or services")
        kind: Literal["exactly", "at-least"] = "exactly" if exactly else "at-least"
        return (kind if boxes else None), boxes, f"{kind.replace('-', ' ')} {text}"

    def _boxes(self, node: Node, what: str) -> tuple[tuple[Box, ...], str]:
        words = self.file.texts(node, what)
        found = [b for t, n in words for b in read_service(self.file, t, n, self.services)]
        return tuple(dict.fromkeys(found)), ", ".join(t for t, _ in words)


def read_expectations(
    root: Folder,
    groups: Groups,
    endpoints: Endpoints,
    services: dict[str, tuple[Box, ...]],
    nodes: Mapping[str, NetworkNode],
    problems: Problems,
) -> list[Expectation]:
    """All expectations; none where there is no file."""
    if not root.has(FILE):
        return []
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return []
    reader = ExpectationReader(file, groups, endpoints, services, nodes)
    found = [reader.expectation(n) for n in file.items(file.root, FILE)]
    return [e for e in found if e is not None]
