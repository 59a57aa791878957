"""Who may use a service of a group, as the matrix says now and as it would if watched lines acted.

python examples/who_may_reach.py [WORKSPACE GROUP SERVICE]
"""

from __future__ import annotations

import sys

import oaktag


def main(folder: str | None = None, group: str = "loans-db", service: str = "8443/tcp") -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    print(f"{service} of {group}:")
    for source in ["untagged", *(g["group"] for g in workspace.groups().groups)]:
        said = workspace.decide(source, group, service)
        by = "the default" if said.line is None else f"{said.line['file']}:{said.line['line']}"
        would = "" if said.would == said.action else f", would {said.would}"
        print(f"  {source:<16} {said.action}{would}  by {by}")


if __name__ == "__main__":
    main(*sys.argv[1:4])
