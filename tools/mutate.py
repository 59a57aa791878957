"""Change the package's own code in one place at a time, and see whether a test fails.

    python tools/mutate.py [--count 100] [--seed 1] [--only core/reach.py] [--jobs 2] [--map FILE] [--out FILE]

A change is one of: a comparison turned round or loosened, ``and`` for ``or``, a condition negated, a
number one more, a ``+`` for a ``-``, ``|`` for ``&``, ``min`` for ``max``, True for False. First all
tests run once to learn which of them run which line (kept in the map, if one is named). Then each
change is made in a copy of the repository, where the tests that run its line do so, the quickest
first, until one fails or three minutes of tests were tried. What survives is printed with its line:
a test is missing there, or the change makes no difference.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple
from xml.etree import ElementTree

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src/oaktag"
#: What runs in processes of its own, of which nothing is learnt: the tests that start these.
STARTED = {
    "lab": ["tests/test_lab.py", "tests/test_running_lab.py"],
    "live": ["tests/test_listen.py", "tests/test_store.py"],
}
#: Seconds of tests for one change.
MOST = 180.0
#: Tests that start other processes, of which nothing is learnt, and those of the real kernel.
APART = (
    "test_architecture.py", "test_campaigns.py", "test_examples.py", "test_lab.py", "test_readme.py",
    "test_running_lab.py",
)  # fmt: skip
#: File, line, tests with their seconds.
Map = dict[str, dict[str, list[tuple[str, float]]]]
COMPARED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
TURNED: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.BitAnd: ast.BitOr,
    ast.BitOr: ast.BitAnd,
}
SWAPPED = {"min": "max", "max": "min", "any": "all", "all": "any"}


class Change(NamedTuple):
    """One change: in which file, at which line, the code before and after, and the whole text."""

    file: Path
    line: int
    before: str
    after: str
    text: str


def changes(file: Path) -> Iterator[Change]:
    """All changes of a file."""
    source = file.read_text(encoding="utf-8")
    tree = ast.parse(source)
    idle = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, (ast.AnnAssign, ast.arg)) and node.annotation
        for inner in ast.walk(node.annotation)
    }
    idle |= {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.FunctionDef) and node.returns
        for inner in ast.walk(node.returns)
    }
    idle |= {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, (ast.Assign, ast.If)) and "TYPE_CHECKING" in ast.dump(node)[:60]
        for inner in ast.walk(node)
    }
    # How much is remembered changes no answer.
    idle |= {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and "cache" in ast.dump(node.func)
        for inner in ast.walk(node)
    }
    # How strictly lists are paired is for the case that the code is wrong.
    idle |= {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.keyword) and node.arg == "strict"
    }
    for node in ast.walk(tree):
        other = None if id(node) in idle else changed(node)
        if other is None or not isinstance(node, ast.expr):
            continue
        before = ast.get_source_segment(source, node)
        if before is None or "\n" in before:
            continue
        lines = source.splitlines(keepends=True)
        line = lines[node.lineno - 1].encode()
        end = node.end_col_offset or 0
        made = line[: node.col_offset] + f"({ast.unparse(other)})".encode() + line[end:]
        lines[node.lineno - 1] = made.decode()
        text = "".join(lines)
        try:
            compile(text, str(file), "exec")
        except SyntaxError:
            continue
        yield Change(file, node.lineno, before, ast.unparse(other), text)


def changed(node: ast.AST) -> ast.expr | None:
    """An expression with one thing otherwise."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1:
        return ast.Compare(node.left, [COMPARED[type(node.ops[0])]()], node.comparators)
    if isinstance(node, ast.BoolOp):
        other: ast.boolop = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        return ast.BoolOp(other, node.values)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return node.operand
    if isinstance(node, ast.BinOp) and type(node.op) in TURNED:
        return ast.BinOp(node.left, TURNED[type(node.op)](), node.right)
    if isinstance(node, ast.Constant) and isinstance(node.value, bool):
        return ast.Constant(not node.value)
    if isinstance(node, ast.Constant) and isinstance(node.value, int):
        return ast.Constant(node.value + 1)
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in SWAPPED:
        return ast.Call(ast.Name(SWAPPED[node.func.id]), node.args, node.keywords)
    return None


#: Tells the measuring which test runs.
TELLS = """
import coverage, pytest

@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item):
    coverage.Coverage.current().switch_context(item.nodeid.partition("[")[0])
    try:
        return (yield)
    finally:
        coverage.Coverage.current().switch_context("")
"""


def learn() -> Map:
    """Which tests run which line of the core; each file's and line's tests, the quickest first."""
    from coverage import CoverageData

    with tempfile.TemporaryDirectory() as place:
        config, data, times = (Path(place) / n for n in ("coverage.ini", "data", "times.xml"))
        config.write_text(f"[run]\ndata_file = {data}\nsource = {PACKAGE}\n")
        (Path(place) / "tells.py").write_text(TELLS)
        run = [sys.executable, "-m", "coverage", "run", f"--rcfile={config}", "-m", "pytest", "-q"]
        apart = [f"--ignore=tests/{name}" for name in APART]
        subprocess.run(
            [*run, "-p", "tells", "-p", "no:cacheprovider", f"--junitxml={times}", *apart],
            cwd=ROOT, check=True,
            env={**os.environ, "OAKTAG_TESTS": "quick", "PYTHONPATH": f"{ROOT / 'src'}:{place}"},
        )  # fmt: skip
        seconds: dict[str, float] = {}
        for case in ElementTree.parse(times).iter("testcase"):
            file = case.attrib["classname"].replace(".", "/") + ".py"
            test = f"{file}::{case.attrib['name'].partition('[')[0]}"
            seconds[test] = seconds.get(test, 0) + float(case.attrib["time"])
        held = CoverageData(str(data))
        held.read()
        found: Map = {}
        for name in held.measured_files():
            lines: dict[str, set[str]] = {"": set()}
            for line, contexts in held.contexts_by_lineno(name).items():
                lines[str(line)] = set(contexts) & seconds.keys()
                lines[""] |= lines[str(line)]
            found[Path(name).relative_to(PACKAGE).as_posix()] = {
                line: sorted(((t, seconds[t]) for t in tests), key=lambda t: (t[1], t[0]))
                for line, tests in lines.items()
            }
        return found


def noticing(change: Change, known: Map) -> list[str]:
    """The tests that run a change's line; where none does, those that run its file."""
    file = change.file.relative_to(PACKAGE)
    lines = known.get(file.as_posix(), {})
    found: list[str] = []
    total = 0.0
    for test, seconds in lines.get(str(change.line)) or lines.get("", []):
        total += seconds
        if total > MOST and found:
            break
        found.append(test)
    return found or STARTED.get(file.parts[0], ["tests/test_commands.py"])


def dies(change: Change, tests: Sequence[str]) -> bool | None:
    """Whether a test fails; None where none ended in time (it runs for ever: that is noticed)."""
    with tempfile.TemporaryDirectory() as place:
        copy = Path(place) / "copy"
        shutil.copytree(
            ROOT, copy,
            ignore=shutil.ignore_patterns(".git", ".venv", "*_cache", "screenshots", ".hypothesis"),
        )  # fmt: skip
        (copy / change.file.relative_to(ROOT)).write_text(change.text, encoding="utf-8")
        try:
            done = subprocess.run(
                [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests],
                cwd=copy, capture_output=True, timeout=900, check=False,
                env={"PYTHONPATH": str(copy / "src"), "PATH": "/usr/bin:/bin:/usr/sbin:/sbin",
                     "OAKTAG_TESTS": "quick"},
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return None
        return done.returncode != 0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", action="append", help="A file, or a folder.")
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--map", type=Path, help="Where it is kept which tests run which line.")
    parser.add_argument("--out", type=Path)
    options = parser.parse_args()
    if options.map is not None and options.map.exists():
        known: Map = json.loads(options.map.read_text())
    else:
        known = learn()
        if options.map is not None:
            options.map.write_text(json.dumps(known))
    files = [
        file
        for file in sorted(PACKAGE.rglob("*.py"))
        if "testing" not in file.parts
        and any(file.relative_to(PACKAGE).as_posix().startswith(o) for o in options.only or [""])
    ]
    every = [change for file in files for change in changes(file)]
    some = random.Random(options.seed).sample(every, min(options.count, len(every)))
    left: list[str] = []
    died = 0
    with ThreadPoolExecutor(options.jobs) as pool:
        tests = [noticing(change, known) for change in some]
        for change, dead in zip(some, pool.map(dies, some, tests), strict=True):
            died += dead is not False
            where = f"{change.file.relative_to(PACKAGE)}:{change.line}"
            said = f"{where}: {change.before}  ->  {change.after}"
            if dead is False:
                left.append(said)
            print("died    " if dead is not False else "SURVIVES", said, flush=True)
    print(f"{died} of {len(some)} died, of {len(every)} changes in {len(files)} files")
    if options.out:
        lines = [f"{died} of {len(some)} changes died (seed {options.seed}). These survived:", ""]
        options.out.write_text("\n".join([*lines, *(f"    {s}" for s in left)]) + "\n")


if __name__ == "__main__":
    main()
