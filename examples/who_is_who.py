"""Who is in which group and why; who is in none, and what nearly took them.

python examples/who_is_who.py [WORKSPACE]
"""

from __future__ import annotations

import sys

import oaktag


def main(folder: str | None = None) -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    members = workspace.members()
    sizes = {group["group"]: group["members"] for group in members.groups}
    widest = max(sizes.values())
    for name, size in sorted(sizes.items(), key=lambda item: -item[1]):
        print(f"{name:<16} {size:>4}  {'█' * round(30 * size / widest)}")
    print("\nin no group:")
    print(workspace.members(unassigned=True).text(unassigned=True))


if __name__ == "__main__":
    main(*sys.argv[1:2])
