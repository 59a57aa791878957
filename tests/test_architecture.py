"""Who may import whom, what the core may touch, and a canary that must break."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import oaktag

ROOT = Path(__file__).parent.parent
SOURCE = Path(oaktag.__file__).parent
FORBIDDEN_CALLS = {"open", "print", "input", "exec", "eval", "__import__", "breakpoint"}
ALLOWED_IMPORTS = {
    "__future__", "abc", "bisect", "collections", "copy", "dataclasses", "decimal", "difflib", "enum", "fnmatch",
    "functools",
    "hashlib", "heapq", "ipaddress", "itertools", "math", "operator", "re", "types", "typing", "numpy",
    "scipy", "oaktag",
}  # fmt: skip


def _contracts(extra: str = "") -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-c", "from importlinter.cli import lint_imports_command as c; c()"]
    return subprocess.run(
        [*command, "--config", extra or str(ROOT / "pyproject.toml"), "--no-cache"],
        cwd=ROOT, capture_output=True, text=True, check=False,
    )  # fmt: skip


def test_import_contracts_hold_and_can_break(tmp_path: Path) -> None:
    done = _contracts()
    assert done.returncode == 0 and "4 kept, 0 broken" in done.stdout, done.stdout[-3000:]
    canary = tmp_path / "canary.toml"
    canary.write_text(
        '[tool.importlinter]\nroot_package = "oaktag"\n[[tool.importlinter.contracts]]\n'
        'name = "canary"\ntype = "forbidden"\nsource_modules = ["oaktag.core.compiler"]\n'
        'forbidden_modules = ["oaktag.core.matrix"]\n'
    )
    broken = _contracts(str(canary))
    assert broken.returncode != 0 and "1 broken" in broken.stdout, broken.stdout[-3000:]


def _offences(path: Path) -> list[str]:
    found: list[str] = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        called = node.func if isinstance(node, ast.Call) else None
        if isinstance(called, ast.Name) and called.id in FORBIDDEN_CALLS:
            found.append(f"{path.name}:{called.lineno} calls {called.id}")
        names: list[str] = []
        if isinstance(node, ast.Import):
            names = [a.name for a in node.names]
        elif isinstance(node, ast.ImportFrom):
            names = [node.module or ""]
        found += [
            f"{path.name}:{node.lineno} imports {name}"  # type: ignore[attr-defined]
            for name in names
            if name.split(".")[0] not in ALLOWED_IMPORTS
        ]
    return found


def test_the_core_computes_and_touches_nothing(tmp_path: Path) -> None:
    files = sorted((SOURCE / "core").glob("*.py"))
    assert len(files) > 15
    assert [o for path in files for o in _offences(path)] == []
    canary = tmp_path / "canary.py"
    canary.write_text("import socket\nprint(open('x'))\n")
    assert len(_offences(canary)) == 3


def test_decide_imports_nothing_heavy(sample: Path) -> None:
    """On the way to an answer about two groups: click and the YAML reader; about endpoints NumPy."""
    asked, heavy = ["-C", str(sample), "decide"], {"pandas", "rich", "matplotlib", "scipy"}
    for arguments, banned in (
        (["--help"], {"numpy", "yaml", *heavy}),
        ([*asked, "librarians", "catalogue", "https"], {"numpy", *heavy}),
        ([*asked, "ada", "catalogue", "https"], heavy),
    ):
        code = (
            f"import sys; sys.argv = ['oaktag', *{arguments}]\n"
            "from oaktag.cli import main\n"
            "try: main()\nexcept SystemExit: pass\n"
            f"print(sorted({banned} & set(sys.modules)), file=sys.stderr)"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        assert done.stderr.strip() == "[]", (arguments, done.stderr)
