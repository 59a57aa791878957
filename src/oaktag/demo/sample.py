"""Write the sample out: as it is, with its honest mistakes, or mended."""

from __future__ import annotations

from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path

from oaktag.errors import UsageError
from oaktag.workspace.textfile import write_text


def write_sample(folder: Path, *, mended: bool = False) -> list[str]:
    """Write the sample workspace into a folder that is empty or not there.

    Returns:
        The files written.

    Raises:
        UsageError: the folder holds something already.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} is there already and not empty; name another folder")
    texts = sample_texts(mended=mended)
    for name, text in sorted(texts.items()):
        write_text(folder / name, text)
    return sorted(texts)


def refresh_sample(folder: Path, *, mended: bool = False) -> None:
    """Write the sample where it is not yet; a folder that holds it unchanged stays as it is.

    Raises:
        UsageError: a file of the sample was changed there; nothing is written then.
    """
    texts = sample_texts(mended=mended)
    for name, text in texts.items():
        path = folder / name
        if path.exists() and path.read_bytes() != text.encode():
            raise UsageError(f"{path} was changed; name another folder for the demo")
    for name, text in texts.items():
        if not (folder / name).exists():
            write_text(folder / name, text)


def sample_texts(*, mended: bool = False) -> dict[str, str]:
    """File → text of the sample."""
    texts = _texts(files("oaktag.demo") / "sample")
    return texts | _texts(files("oaktag.demo") / "mended") if mended else texts


def _texts(folder: Traversable, above: str = "") -> dict[str, str]:
    found: dict[str, str] = {}
    for item in folder.iterdir():
        if item.is_dir():
            found |= _texts(item, f"{above}{item.name}/")
        else:
            found[f"{above}{item.name}"] = item.read_text(encoding="utf-8")
    return found


#: An empty workspace: file → text.
EMPTY = {
    "oaktag.yaml": """\
# The workspace: its name, where numbers come from, what happens without a line.
workspace: {name}
tags: {{issue: 2000-2999, retired: []}}
default: deny
layers: [matrix/10-shared.csv]
sources:
  - {{file: inventory/servers.csv, kind: server, id: hostname, address: ip}}
  - {{file: inventory/outside.csv, kind: network, id: name, address: prefixes}}
""",
    "groups.yaml": """\
# Groups with their tags; a group without a tag gets one by: oaktag groups --number --write
groups:
  - {{id: internet, tag: 900, title: Everybody else}}
# - {{id: librarians, tag: 310, title: Librarians}}
sets: {{}}
""",
    "assignments.yaml": """\
# The first rule whose conditions all hold gives the group.
pins:
  - {{endpoint: everybody-else, group: internet, note: whoever is on no segment of yours}}
rules: []
# - give: librarians
#   when: {{kind: user, role: librarian}}
""",
    "permissions.yaml": """\
# What may be permitted, as ordered entries; the first that matches decides.
services: {{}}
permissions:
  all:
    - allow: any
  nothing:
    - deny: any
""",
    "matrix/10-shared.csv": "source,destination,permission,mode,way,expires,owner,note\n"
    "internet,internet,all,enforce,to,,,what others do among themselves\n",
    "network.yaml": """\
# Nodes, segments, links, feeds; a node with a point judges traffic.
# Whoever is on no segment of yours is outside: join its node to your own with a link.
nodes:
  - {{node: provider}}
segments:
  - {{segment: outside, node: provider, prefixes: [0.0.0.0/0, "::/0"]}}
links: []
feeds: []
""",
    "expectations.yaml": """\
# What must be allowed or denied; oaktag expect proves it.
[]
""",
    "inventory/servers.csv": "hostname,ip\n",
    "inventory/outside.csv": "name,prefixes\neverybody-else,0.0.0.0/0;::/0\n",
}


def write_empty(folder: Path) -> list[str]:
    """Write an empty workspace into a folder that is empty or not there.

    Raises:
        UsageError: the folder holds something already.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} is there already and not empty; name another folder")
    name = "".join(c if c.isalnum() or c == "-" else "-" for c in folder.resolve().name.lower())
    for path, text in EMPTY.items():
        filled = text.format(name=name or "workspace") if "{" in text else text
        write_text(folder / path, filled)
    return sorted(EMPTY)
