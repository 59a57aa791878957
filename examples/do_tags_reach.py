"""Do tags reach every point on every path: the causes, one packet's way, and the worst failure.

python examples/do_tags_reach.py [WORKSPACE]
"""

from __future__ import annotations

import sys

import oaktag


def main(folder: str | None = None) -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    reach = workspace.reach()
    print(reach)
    advice = reach.summary["causes"][0]["advice"]
    print(f"\n{reach.wrong} rows fare wrong; what to do first: {advice}\n")
    print(workspace.trace("patrons", "catalogue", "https"))
    worst = workspace.failures().failures[0]
    print(f"the worst single failure: the {worst['kind']} {worst['name']}, e.g. {worst['example']}")


if __name__ == "__main__":
    main(*sys.argv[1:2])
