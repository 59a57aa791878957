"""The core without any file: who is in which group, what they may do, the list of a point, proved,
and whether tags reach it.

python examples/without_files.py
"""

from __future__ import annotations

from oaktag.core.addresses import parse_prefix
from oaktag.core.assignment import Pin
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import Group, Groups
from oaktag.core.lines import Entry, Line, Permission, Policy
from oaktag.core.model import Given, Model
from oaktag.core.network import Feed, Network, Node, Point, Segment


def main() -> None:
    groups = Groups([Group("readers", 310), Group("shelves", 410)])
    web = Permission("web", (Entry.of("allow", "https", "icmp/echo-request"),))
    policy = Policy((Line("readers", "shelves", 0),), (web,))
    ada = {"id": "ada", "kind": "device", "stability": "fixed", "address": "10.20.1.7"}
    shelf = {"id": "shelf-1", "kind": "server", "address": "10.20.201.7"}
    gate = Point("gate")
    desks, hall = (Segment(n, "gate", (parse_prefix(p),)) for n, p in
                   (("desks", "10.20.1.0/24"), ("hall", "10.20.201.0/24")))  # fmt: skip
    network = Network([Node("gate", points=(gate,))], [desks, hall],
                      feeds=[Feed("all", "registry", "gate")])  # fmt: skip
    model = Model(Given(groups, policy, Endpoints.of(ada, shelf),
                        pins=[Pin("ada", 1), Pin("shelf-1", 2)], network=network))  # fmt: skip
    for source in ("untagged", "readers", "shelves"):
        print(f"{source} → shelves: {model.allowed(source, 'shelves')}")
    held = model.list_of(gate)
    print(f"the list of gate: {held.plain_entries} entries; refuted: {model.refute(gate, held)}")
    for flow in model.state.flows(model.hosts, model.hosts):
        print(f"{flow.source[0]} → {flow.destination[0]}: {flow.result}, {flow.effect}")


if __name__ == "__main__":
    main()
