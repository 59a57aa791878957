"""Write the reference: ``files.md`` from the schemas of files, and in ``reference/`` the commands, the
codes of findings, the fields of JSON answers, and the Python interface, from the code itself.

python docs/make_reference.py
"""

from __future__ import annotations

import importlib
import inspect
import textwrap
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

import oaktag
from oaktag.cli.app import COMMANDS
from oaktag.operations.reference import FILES, Key, keys
from oaktag.operations.topics import answers, code_help, field_help
from oaktag.operations.workspace import Workspace

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
    "matrix.csv": "The columns of a layer, `matrix/*.csv`; the columns may stand in any order, parted by "
    "commas, semicolons or tabulators.",
    "network.yaml": "Nodes, segments, links, feeds, points. [The network, with pictures](network.md).",
    "expectations.yaml": "What must hold: a list, each item with these keys.",
}
WRITTEN = "Written by `docs/make_reference.py` from the code; `{}` says the same in the terminal.\n"


def page() -> str:
    """The files."""
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
    return _cells(f"`{key.path}`", text, default, f"`{key.example}`" if key.example else "")


def _cells(*cells: str) -> str:
    return "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"


def commands() -> str:
    """All commands, in the order of the work."""
    parts = ["# Commands\n", WRITTEN.format("oaktag help COMMAND")]
    for name in COMMANDS:
        command: click.Command = importlib.import_module(f"oaktag.cli.{name}").command
        parts += _command(f"oaktag {name}", command, 2)
    return "\n".join(parts)


def _command(name: str, command: click.Command, level: int) -> Iterator[str]:
    with click.Context(command, info_name=name) as context:
        usage = command.get_usage(context).removeprefix("Usage: ")
        yield f"{'#' * level} {name}\n"
        yield f"{inspect.cleandoc(command.help or '').replace(chr(10), ' ')}\n"
        yield f"```text\n{textwrap.dedent(usage)}\n```\n"
        rows = [
            record
            for parameter in command.params
            if (record := parameter.get_help_record(context)) is not None
        ]
    if rows:
        yield "| option | what it does |\n|---|---|"
        yield from (_cells(f"`{option}`", text.replace("<", "&lt;")) for option, text in rows)
        yield ""
    if isinstance(command, click.Group):
        for inner, held in command.commands.items():
            yield from _command(f"{name} {inner}", held, level + 1)


def findings() -> str:
    """All codes of findings."""
    parts = ["# Findings\n", WRITTEN.format("oaktag help CODE")]
    for c in code_help().codes:
        parts.append(
            f"## {c['code']}: {c['title']}\n\n*{c['severity']}* unless `severities` in `oaktag.yaml` says "
            f"otherwise.\n\n{c['means']}\n\nFor example: {_plain(c['example'])}\n\n"
            f"What to do: {_plain(c['todo'])}\n"
        )
    return "\n".join(parts)


def _plain(text: str) -> str:
    return text.replace("{", "&#123;").replace("<", "&lt;").replace("*", "\\*")


def fields() -> str:
    """The fields of all JSON answers."""
    parts = ["# JSON answers\n", WRITTEN.format("oaktag help ANSWER.json")]
    parts.append(
        "`[]` is an item of a list, `NAME` a name that depends on the answer. The JSON Schemas are in "
        "the package (`oaktag/schemas`).\n"
    )
    for name in answers():
        parts.append(f"## {name}.json\n\n| field | in | type | what it holds |\n|---|---|---|---|")
        for f in field_help(name).fields:
            within, _, field = f["path"].rpartition(".")
            parts.append(_cells(f"`{field}`", f"`{within}`" * bool(within), f["type"], f["text"]))
        parts.append("")
    return "\n".join(parts)


def python() -> str:
    """The Python interface, from its docstrings."""
    parts = ["# The Python interface\n", WRITTEN.format("python -m pydoc oaktag.Workspace")]
    parts.append(f"```text\n{inspect.getdoc(oaktag)}\n```\n")
    for name in oaktag.__all__:
        held: Any = getattr(oaktag, name)
        if not callable(held):
            continue
        parts.append(f"## oaktag.{name}\n")
        parts.append(_said(name, held))
        if held is Workspace:
            for method, function in inspect.getmembers(Workspace, callable):
                if not method.startswith("_"):
                    parts.append(f"### Workspace.{method}\n")
                    parts.append(_said(method, function))
    return "\n".join(parts)


def _said(name: str, held: Any) -> str:
    signature = "" if inspect.isclass(held) else f"{name}{inspect.signature(held)}\n\n"
    return f"```text\n{signature}{inspect.getdoc(held) or ''}\n```\n"


PAGES = {
    "files.md": page, "reference/commands.md": commands, "reference/findings.md": findings,
    "reference/json.md": fields, "reference/python.md": python,
}  # fmt: skip


if __name__ == "__main__":
    (HERE / "reference").mkdir(exist_ok=True)
    for file, made in PAGES.items():
        (HERE / file).write_text(made(), encoding="utf-8")
