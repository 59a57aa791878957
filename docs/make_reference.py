"""Write ``files.md``, the reference of the files, from the schemas.

python docs/make_reference.py
"""

from __future__ import annotations

from pathlib import Path

from oaktag.operations.reference import FILES, Key, keys

HERE = Path(__file__).resolve().parent
HEAD = """# The files, key by key

Written by `docs/make_reference.py` from the JSON Schemas that ship with the package, by which an
editor completes and checks the files too. `oaktag help KEY` says the same in the terminal.

`[]` is an item of a list, `NAME` a name of your own. A key with a dot before it stands inside the
one before.
"""
ABOUT = {
    "oaktag.yaml": "The workspace: numbers, layers, sources, what is guarded and what is borne.",
    "groups.yaml": "Groups, and sets of them.",
    "assignments.yaml": "Who is in which group: pins first, then rules in order.",
    "permissions.yaml": "Named services and permissions.",
    "matrix.csv": "The columns of a layer, `matrix/*.csv`; the columns may stand in any order.",
    "network.yaml": "Nodes, segments, links, feeds, points. [The network, with pictures](network.md).",
    "expectations.yaml": "What must hold: a list, each item with these keys.",
}


def page() -> str:
    """The whole page."""
    every = list(keys())
    parts = [HEAD]
    for file in FILES:
        parts.append(f"## {file}\n\n{ABOUT[file]}\n")
        parts.append("| key | what it means | without it | example |\n|---|---|---|---|")
        parts += [_row(key) for key in every if key.file == file]
        parts.append("")
    return "\n".join(parts)


def _row(key: Key) -> str:
    text = key.text + (f" One of {', '.join(f'`{v}`' for v in key.values)}." if key.values else "")
    default = "must be there" if key.required else key.default
    cells = (f"`{key.path}`", text, default, f"`{key.example}`" if key.example else "")
    return "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"


if __name__ == "__main__":
    (HERE / "files.md").write_text(page(), encoding="utf-8")
