"""Benchmarks of access lists at the size of a large network: selecting cells, rendering, writing,
proving, and the whole; each beside a plain way in the same run."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import generate
import pandas as pd

from oaktag.core.accesslist import AccessList, Block
from oaktag.core.addresses import Range
from oaktag.core.packets import Box, boxes_of
from oaktag.core.proof_lines import Lines
from oaktag.core.proof_ways import fields
from oaktag.dialects import nftables, nftables_reader
from oaktag.operations.lists import list_of, list_text, points_of
from oaktag.operations.model import Model

Row = tuple[str, str, int, float, float, int, str]

#: Compiles and proves a whole network in a process of its own, with the processes that it employs:
#: said are seconds from the files to the lists, of one changed line after that, and MiB (what is
#: shared counted once).
WHOLE = """
import os, sys, threading, time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

peak, over = 0, threading.Event()

def held(process):
    try:
        lines = Path(f"/proc/{process}/smaps_rollup").read_text().splitlines()
        children = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    except OSError:
        return 0
    own = next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
    return own + sum(held(child) for child in children)

def watch():
    global peak
    while not over.wait(5):
        peak = max(peak, held(os.getpid()))

threading.Thread(target=watch, daemon=True).start()
start = time.perf_counter()
from oaktag.operations.compiling import compile_lists
from oaktag.operations.model import Model
from oaktag.workspace import edits
root, out = Path(sys.argv[1]), Path(sys.argv[2])
model = Model.read(root)
made = compile_lists(model, out)
whole = time.perf_counter() - start
over.set()
name = "matrix/20-second.csv"
taken = []
for number in range(3):
    lines = model.files.folder.text(name).splitlines()
    lines[10 + number] = lines[500 + number]
    start = time.perf_counter()
    files = edits.try_out(model.files, {name: "\\n".join(lines) + "\\n"})
    compile_lists(Model(files, model.today, model), out)
    taken.append(time.perf_counter() - start)
print(whole, sorted(taken)[1], peak / 1024, len(made.points), sum(p["entries"] for p in made.points))
"""


def whole(scale: float, seed: int) -> tuple[float, float, float, int]:
    """Seconds to compile and prove a network from its files, and again after one changed line; MiB;
    lists."""
    with tempfile.TemporaryDirectory() as place:
        _write(Path(place, "net"), generate.workspace_texts(scale, seed))
        done = subprocess.run(
            [sys.executable, "-c", WHOLE, f"{place}/net", f"{place}/lists"],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
    taken, line, memory, count, _ = (float(word) for word in done.stdout.split())
    return taken, line, memory, int(count)


def _write(root: Path, texts: dict[str, str]) -> None:
    for name, text in texts.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


def _seconds(work: object, runs: int, before: Callable[[], None] = lambda: None) -> float:
    """The median of some runs; what comes ``before`` each is not counted."""
    taken = []
    for _ in range(runs):
        before()
        start = time.perf_counter()
        work()  # type: ignore[operator]
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def listing(scale: float, seed: int) -> list[Row]:
    """All rows."""
    taken, line, memory, count = whole(scale, seed)
    rows: list[Row] = [
        ("lists of a network, from its files, proved", f"none; memory {memory:,.0f} MiB", count,
         taken, taken, 1, "≤ 120 s, ≤ 4 GiB"),
        ("the same after one changed line, in a process that has it", "none", count, line, line, 3,
         "≤ 5 s"),
    ]  # fmt: skip
    with tempfile.TemporaryDirectory() as place:
        _write(Path(place), generate.workspace_texts(scale, seed))
        model = Model.read(Path(place))
        rows += _parts(model, Path(place))
    return rows


def _parts(model: Model, place: Path) -> list[Row]:
    points = points_of(model)
    columns = {p.id: model.scope(p)[1] for p in points}
    size = len(model.groups)
    some = sorted(points, key=lambda p: columns[p.id])[: max(len(points) // 20, 4)]
    times = len(points) / len(some)

    # Cells: blocks that are referred to, beside a merge that copies them.
    form = model.matrix.action_form
    cells = pd.DataFrame({
        "destination": [d for d in range(size) for _ in range(size)],
        "source": list(range(size)) * size, "form": form.T.ravel(),
    })  # fmt: skip
    asked = pd.DataFrame(
        [(p.id, d) for p in points for d in columns[p.id]], columns=["point", "destination"]
    )
    ours = _seconds(lambda: [model.scope(p) for p in points], 5)
    theirs = _seconds(lambda: asked.merge(cells, on="destination"), 3)
    count = len(asked.merge(cells, on="destination"))
    rows: list[Row] = [
        ("select every point's cells", "pandas, one merge", count, ours, theirs, 3, "≥ 10×")
    ]

    # Text: each block once, beside a line for each cell.
    held = [list_of(model, p) for p in some]
    texts = [nftables.write(one) for one in held]

    def render() -> list[str]:
        for kept in (
            nftables._table, nftables._alike, nftables._words, nftables._match, nftables._span_text
        ):  # fmt: skip
            kept.cache_clear()
        for block in (b for one in held for b in one.blocks.values() if isinstance(b, Block)):
            block.known.clear()
        return [nftables.write(one) for one in held]

    assert render() == texts
    ours, theirs = (
        _seconds(render, 3) * times,
        _seconds(lambda: [_plainly(h) for h in held], 3) * times,
    )
    total = int(sum(map(len, texts)) * times)
    rows.append(("render all lists, bytes (a twentieth, times twenty)", "an f-string a line", total,
                 ours, theirs, 3, "≥ 15×"))  # fmt: skip

    # Files.
    out = place / "out"

    def emptied() -> None:
        shutil.rmtree(out, ignore_errors=True)
        out.mkdir()
        (place / ".oaktag").mkdir(exist_ok=True)
        os.sync()

    def plain() -> None:
        for number, text in enumerate(texts):
            (out / str(number)).write_bytes(text.encode())

    def journalled() -> None:
        from oaktag.workspace.journal import write_files

        write_files(place, "a benchmark", ((out / str(n), t.encode()) for n, t in enumerate(texts)))

    def synced() -> None:
        plain()
        os.sync()

    ours = _seconds(journalled, 5, emptied) * times
    for name, work in (("plain writes", plain), ("plain writes that are on the disk then", synced)):
        rows.append(("write them, all or none (a twentieth, times twenty)", name, total, ours,
                     _seconds(work, 5, emptied) * times, 5, "≥ 0.5×"))  # fmt: skip
    return [*rows, *_proving(model)]


def _plainly(held: AccessList) -> str:
    """The text of a list's cells, a line for each, with each of its entries said anew."""
    lines = [
        f"{r.start}-{r.end} : {r.tag}" for r in (*held.source_bindings, *held.destination_bindings)
    ]
    for target, row in held.blocks.items():
        for source, chain in row.items():
            for e in held.chains[chain]:
                lines.append(
                    f"{source} {target} {e.region} {e.action} {e.would} {e.log} {' '.join(e.keys)} "
                    f"{held.names.get(source)} {' '.join(e.words)}"
                )
    return "\n".join(lines)


def _proving(model: Model) -> list[Row]:
    """One list of some 10,000 cells read back and proved, beside decision diagrams."""
    from dd import cudd

    from oaktag.core.network import Scope

    size = len(model.groups)
    wanted = frozenset(range(1, max(10_000 // size, 1) + 1))
    point = points_of(model)[0]._replace(scope=Scope("listed", None, wanted))
    text = list_text(model, point)
    tree = nftables_reader.read(text)
    count = tree.plain_entries

    def prove() -> None:
        fields.cache_clear()
        model.proof_lines = Lines(model.groups, model.given.policy, model.today, stateless=False)
        start = time.perf_counter()
        assert model.refute(point, tree) is None
        taken.append(time.perf_counter() - start)

    taken: list[float] = []
    for _ in range(3):
        prove()

    width = {"x": 128, "y": 128, "f": 1, "p": 8, "a": 16, "b": 16}
    bdd = cudd.BDD()
    bdd.declare(*(f"{name}{n}" for name, bits in width.items() for n in range(bits)))

    def at_least(name: str, value: int) -> Any:
        found = bdd.true
        for n in reversed(range(width[name])):
            bit = bdd.var(f"{name}{n}")
            found = bit & found if value >> (width[name] - 1 - n) & 1 else bit | found
        return found

    def between(name: str, low: int, high: int) -> Any:
        upper = bdd.true if high + 1 >> width[name] else ~at_least(name, high + 1)
        return at_least(name, low) & upper

    family = {4: ~bdd.var("f0"), 6: bdd.var("f0"), 0: bdd.true}

    def of_boxes(boxes: Iterable[Box]) -> Any:
        found = bdd.false
        for box in boxes:
            part = between("p", *box.protocols) & between("a", *box.sources)
            found |= part & between("b", *box.destinations) & family[box.family]
        return found

    #: Packets as there are: with ports, with type and code, or with neither.
    packets = bdd.false
    for version, icmp in ((4, 1), (6, 58)):
        for number in range(256):
            top = 65535 if number in (6, 17, 132) else 255 if number == icmp else 0
            packets |= of_boxes([Box(version, (number, number), (0, top), (0, top))])

    def addresses(name: str, bindings: Iterable[Range]) -> dict[int, Any]:
        """The addresses of each tag; of tag 0 all others."""
        found: dict[int, Any] = {}
        for one in bindings:
            here = between(name, one.start, one.end) & family[one.family]
            found[one.tag] = found.get(one.tag, bdd.false) | here
        rest = bdd.true
        for some in found.values():
            rest &= ~some
        return {**found, 0: rest}

    def of_list() -> Any:
        """What the list allows."""
        sources = addresses("x", tree.source_bindings)
        targets = addresses("y", tree.destination_bindings)
        known: dict[str, Any] = {}
        whole = bdd.false
        for target, row in tree.blocks.items():
            column = bdd.false
            for source, chain in row.items():
                if chain not in known:
                    allowed = bdd.false
                    for e in reversed(tree.chains[chain]):
                        mask = bdd.true if e.region is None else of_boxes(boxes_of(e.region))
                        allowed = bdd.ite(
                            mask, bdd.true if e.action == "allow" else bdd.false, allowed
                        )
                    known[chain] = allowed
                column |= sources.get(source, bdd.false) & known[chain]
            whole |= targets.get(target, bdd.false) & column
        return whole

    def of_matrix() -> Any:
        """What the lines allow, where the list has cells."""
        policy, matrix = model.given.policy, model.matrix
        sources, targets = (addresses(name, model.known(point.node)) for name in "xy")
        known: dict[tuple[int, ...], Any] = {}
        whole = bdd.false
        for target in model.scope(point)[1]:
            column = bdd.false
            toward = matrix.rows_toward(target)
            for source in range(len(model.groups)):
                rows = tuple(
                    matrix.rows[n].line
                    for n in toward.get(source, ())
                    if policy.lines[matrix.rows[n].line].mode == "enforce"
                )
                if rows not in known:
                    allowed = bdd.true if policy.default == "allow" else bdd.false
                    passed, layer = allowed, -1
                    for line in reversed(rows):
                        if policy.lines[line].layer != layer:
                            passed, layer = allowed, policy.lines[line].layer
                        for e in reversed(policy.permissions[policy.lines[line].permission].steps):
                            does = {"allow": bdd.true, "deny": bdd.false, "pass": passed}[e.action]
                            allowed = bdd.ite(of_boxes(e.boxes), does, allowed)
                    known[rows] = allowed
                tag = model.groups.tag(source)
                column |= sources.get(tag, bdd.false) & known[rows]
            whole |= targets.get(model.groups.tag(target), bdd.false) & column
        return whole

    def diagrams() -> None:
        one, other = of_list(), of_matrix()
        odd = (one & ~other) | (other & ~one)
        assert odd & packets == bdd.false

    theirs = _seconds(diagrams, 3)
    return [
        ("prove one list, entries", "decision diagrams (dd, CUDD) of both sides", count,
         statistics.median(taken), theirs, 3, "≥ 20×"),
    ]  # fmt: skip


def growing(scale: float, seed: int) -> list[float]:
    """Seconds from the files to the lists, at three sizes."""
    return [whole(s, seed)[0] for s in (scale / 16, scale / 4, scale)]


if __name__ == "__main__":
    os.environ.setdefault("PYTHONHASHSEED", "0")
    for row in listing(float(sys.argv[1]), 1):
        print(row)
