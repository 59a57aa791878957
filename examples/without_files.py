"""The core without any file: groups, two lines, every cell decided, and a list proved.

python examples/without_files.py
"""

from __future__ import annotations

from datetime import date

from oaktag.core.addresses import Range
from oaktag.core.compiler import compile_point
from oaktag.core.groups import Group, Groups
from oaktag.core.lines import Entry, Line, Permission, Policy, line_keys
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Node, Point
from oaktag.core.packets import Atoms
from oaktag.core.proof import Meant, prove
from oaktag.core.service_text import set_text
from oaktag.core.services import parse_service
from oaktag.located import Location

HERE = Location("nowhere", 1)


def main() -> None:
    groups = Groups([Group("readers", 310), Group("shelves", 410)])
    web = Permission("web", (Entry("allow", parse_service("https"), "https"),), otherwise="deny")
    ping = Permission("ping", (Entry("allow", parse_service("icmp/echo-request"), "ping"),))
    lines = (
        Line("readers", "shelves", 0, 0, HERE),
        Line("*", "shelves", 1, 0, HERE),
    )
    policy = Policy(lines, (web, ping), ("one layer",), default="deny")
    today = date(2026, 11, 25).toordinal()
    atoms = Atoms([box for p in policy.permissions for e in p.steps for box in e.boxes])
    matrix = Matrix(groups, policy, atoms, today)
    for source, name in enumerate(("untagged", "readers", "shelves")):
        form = matrix.forms[int(matrix.action_form[source, 2])]
        print(f"{name} → shelves: {set_text(atoms, form)}")

    point = Point("gate")
    network = Network([Node("gate", points=(point,))])
    bindings = [Range(4, 0x0A010000, 0x0A0100FF, 310), Range(4, 0x0A020000, 0x0A0200FF, 410)]
    every = list(range(len(groups)))
    keys = line_keys(lines, policy.permissions, policy.layers)
    held = compile_point(point, matrix, keys, network, bindings, (every, every))
    scope = frozenset(every)
    meant = Meant(point, groups, policy, today, bindings, None, None, (), scope, scope)
    print(f"the list has {held.entries} entries; refuted: {prove(held, meant)}")


if __name__ == "__main__":
    main()
