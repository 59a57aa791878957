"""What a change would do before anybody writes it: a grant to one person for a while.

python examples/what_would_change.py [WORKSPACE]
"""

from __future__ import annotations

import sys

import oaktag


def main(folder: str | None = None) -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    change = workspace.grant("bram", "loans-db", "ssh", {"expires": "2030-01-31"}, only=True)
    print(change)
    print(f"files that would change: {', '.join(change.files)}; written: {change.written}")


if __name__ == "__main__":
    main(*sys.argv[1:2])
