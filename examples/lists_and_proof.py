"""Access lists written, proved, changed by one letter, and refused.

python examples/lists_and_proof.py [WORKSPACE]
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import oaktag


def main(folder: str | None = None) -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    with tempfile.TemporaryDirectory() as out:
        print(workspace.compile(out).text(folder=out))
        print(workspace.prove(out).text(folder=out))
        first = next(Path(out).glob("*.nft"))
        first.write_text(first.read_text().replace("tcp dport 443", "tcp dport 444", 1))
        print(workspace.prove(out).text(folder=out))


if __name__ == "__main__":
    main(*sys.argv[1:2])
