"""Two counties that share groups with each other: Quillmere and, beside it, Fallowmere.

python examples/two_domains.py [FOLDER]
"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

import oaktag

#: Fallowmere: a desk, a catalogue of its own, and the way to Quillmere.
FALLOWMERE = {
    "oaktag.yaml": """workspace: fallowmere
tags: {issue: 100-199}
layers: [lines.csv]
sources:
  - {file: hosts.csv, kind: server, id: host, address: ip}
share: {groups: [desk, shelves], sign: {hmac: {env: OAKTAG_COUNTIES}}}
adopt:
  - {origin: quillmere, from: ../quillmere/ours.json, verify: {hmac: {env: OAKTAG_COUNTIES}}}
""",
    "groups.yaml": """groups:
  - {id: desk, tag: 7, title: "Fallowmere's desk", owner: their desk}
  - {id: shelves, tag: 8, title: "Fallowmere's catalogue", owner: their desk}
""",
    "permissions.yaml": """permissions:
  read:
    - allow: https
""",
    "lines.csv": """source,destination,permission,mode
desk,shelves,read,
""",
    "hosts.csv": """host,ip,role
desk-1,10.40.1.10,desk
desk-2,10.40.1.11,desk
shelves-1,10.40.2.10,shelves
""",
    "assignments.yaml": """rules:
  - {give: desk, when: {role: desk}}
  - {give: shelves, when: {role: shelves}}
""",
    "network.yaml": """nodes:
  - {node: edge, address: 10.40.0.1, point: {dialect: nftables, mode: enforce}}
segments:
  - {segment: desks, node: edge, prefixes: [10.40.1.0/24]}
  - {segment: servers, node: edge, prefixes: [10.40.2.0/24]}
  - {segment: quillmere, node: edge, prefixes: [10.20.0.0/16], tag: untagged, origin: quillmere}
feeds:
  - {from: registry, to: edge}
""",
}
#: What Quillmere's files say more.
MORE = {
    "oaktag.yaml": """share:
  groups: [catalogue, return-sorters]
  sign: {hmac: {env: OAKTAG_COUNTIES}}
adopt:
  - {origin: fallowmere, from: ../fallowmere/ours.json, verify: {hmac: {env: OAKTAG_COUNTIES}}}
""",
    "network.yaml": """  - segment: fallowmere
    node: carrier
    prefixes: [10.40.0.0/16]
    tag: untagged
    origin: fallowmere
""",
}


def build(folder: Path) -> tuple[Path, Path]:
    """The two workspaces, in a folder."""
    quillmere, fallowmere = folder / "quillmere", folder / "fallowmere"
    for name, text in FALLOWMERE.items():
        (fallowmere / name).parent.mkdir(parents=True, exist_ok=True)
        (fallowmere / name).write_text(text)
    oaktag.sample(quillmere, mended=True)
    settings, network = quillmere / "oaktag.yaml", quillmere / "network.yaml"
    settings.write_text(settings.read_text() + MORE["oaktag.yaml"])
    before, links, after = network.read_text().partition("\nlinks:\n")
    network.write_text(before + MORE["network.yaml"] + links + after)
    return quillmere, fallowmere


def exchange(*folders: Path) -> None:
    """Each writes its document, then each adopts what the other shares."""
    for folder in folders:
        oaktag.Workspace.load(folder).share(folder / "ours.json")
    for folder in folders:
        oaktag.Workspace.load(folder).pull(write=True)


def main(folder: str | None = None) -> None:
    os.environ.setdefault("OAKTAG_COUNTIES", "a secret of two counties")
    with tempfile.TemporaryDirectory() as made:
        quillmere, fallowmere = build(Path(folder or made))
        exchange(quillmere, fallowmere)
        for ends in (("catalogue", "fallowmere/desk"), ("fallowmere/desk", "catalogue")):
            print(f"{' → '.join(ends)}:", oaktag.Workspace.load(quillmere).decide(*ends, "https"))
        oaktag.Workspace.load(quillmere).grant(
            "fallowmere/desk", "catalogue", "https", write=True, anyway=True
        )
        exchange(quillmere, fallowmere)
        print(oaktag.Workspace.load(quillmere).domains())
        print(oaktag.Workspace.load(fallowmere).domains())
        print(oaktag.Workspace.load(quillmere).trace("10.40.1.10", "catalogue", "https"))


if __name__ == "__main__":
    main(*sys.argv[1:2])
