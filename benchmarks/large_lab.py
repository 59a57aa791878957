"""A lab of some size: how long it takes to come up, to be probed and changed, and its memory.

    python benchmarks/large_lab.py [--nodes 200] [--endpoints 2000] [--groups 40] [--keep DIR]

The network is a tree: a core node, one node a site with a point, and access nodes behind each, with
a segment of both families each; tags cross two links of three, the registry feeds every point.
"""

from __future__ import annotations

import argparse
import json
import random
import re
import shutil
import tempfile
import time
from pathlib import Path

import oaktag
from oaktag.operations import lab

PER_SITE = 9


def write(folder: Path, nodes: int, endpoints: int, groups: int, seed: int = 1) -> None:
    """Make the workspace."""
    rng = random.Random(seed)
    sites = max((nodes - 1) // (PER_SITE + 1), 1)
    held: list[dict[str, object]] = [{"node": "core", "carries": True}]
    links: list[dict[str, object]] = []
    segments: list[dict[str, object]] = []
    feeds: list[dict[str, object]] = []
    for site in range(sites):
        gate = f"gate-{site}"
        held.append({"node": gate, "site": f"site-{site}", "carries": True, "point": {}})
        links.append({"between": [gate, "core"], "carries": site % 3 > 0, "cost": 2})
        feeds.append({"from": "registry", "to": gate})
        for number in range(min(PER_SITE, nodes - len(held))):
            name = f"access-{site}-{number}"
            held.append(
                {"node": name, "site": f"site-{site}", "marks": number % 2 == 0, "carries": True}
            )
            if number % 2 == 0:
                feeds.append({"from": "registry", "to": name})
            links.append({"between": [name, gate], "carries": number % 3 > 0})
            count = len(segments)
            segments.append(
                {
                    "segment": f"seg-{count}", "node": name,
                    "prefixes": [f"10.{count // 250}.{count % 250}.0/24", f"2001:db8:{count:x}::/64"],
                }
            )  # fmt: skip
    rows = ["id,ip,role"]
    for number in range(endpoints):
        at, place = number % len(segments), number // len(segments) + 10
        address = f"10.{at // 250}.{at % 250}.{place};2001:db8:{at:x}::{place:x}"
        rows.append(f"host-{number},{address},g{rng.randrange(groups)}")
    names = [f"g{n}" for n in range(groups)]
    lines = ["source,destination,permission,mode,way,expires,owner,note"]
    for source in names:
        for destination in rng.sample(names, 8):
            lines.append(f"{source},{destination},{rng.choice(('web', 'shell', 'all'))},,,,,")
    files = {
        "oaktag.yaml": {
            "workspace": "large-lab", "layers": ["matrix/10.csv"],
            "sources": [{"file": "all.csv", "kind": "server", "id": "id", "address": "ip"}],
        },
        "groups.yaml": {"groups": [{"id": n, "tag": 100 + k} for k, n in enumerate(names)]},
        "assignments.yaml": {"rules": [{"give": n, "when": {"role": n}} for n in names]},
        "permissions.yaml": {
            "permissions": {
                "web": [{"allow": ["https", "http"]}], "shell": [{"allow": ["ssh", "icmp"]}],
                "all": [{"allow": ["any"]}],
            }
        },
        "network.yaml": {"nodes": held, "segments": segments, "links": links, "feeds": feeds},
    }  # fmt: skip
    (folder / "matrix").mkdir(parents=True)
    for name, content in files.items():
        (folder / name).write_text(json.dumps(content), encoding="utf-8")
    (folder / "all.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")
    (folder / "matrix/10.csv").write_text("\n".join(lines) + "\n", encoding="utf-8")


def _free() -> int:
    """Memory that is not taken, in MiB."""
    text = Path("/proc/meminfo").read_text(encoding="ascii")
    found = re.search(r"MemAvailable:\s+(\d+)", text)
    assert found is not None
    return int(found[1]) // 1024


def main() -> None:
    """Measure."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--nodes", type=int, default=200)
    asked.add_argument("--endpoints", type=int, default=2000)
    asked.add_argument("--groups", type=int, default=40)
    asked.add_argument("--keep", type=Path)
    given = asked.parse_args()
    folder = given.keep or Path(tempfile.mkdtemp()) / "lab"
    write(folder, given.nodes, given.endpoints, given.groups)
    free, start = _free(), time.monotonic()

    def lap(what: str) -> None:
        nonlocal start
        print(f"{what}: {time.monotonic() - start:.1f} s, {free - _free()} MiB taken", flush=True)
        start = time.monotonic()

    workspace = oaktag.Workspace.load(folder)
    up = workspace.lab_up()
    try:
        lap(
            f"up, {up.nodes} nodes, {up.hosts} hosts, {sum(up.baseline.values())} probes before lists"
        )
        probed = workspace.lab_probe()
        lap(f"probed, {len(probed.probes)}: {probed.summary}")
        print("counters agree:", all(c["agree"] for c in probed.counters), "packed:", probed.packed)
        with (folder / "all.csv").open("a", encoding="utf-8") as file:
            file.write("clone,10.0.0.250;2001:db8:0::fa,g1\n")
        oaktag.Workspace.load(folder).lab_apply()
        lap("a cloned server")
        lab.fail(workspace.model, "link", "gate-1--core")
        lap("a link broken")
    finally:
        workspace.lab_down()
    lap("down")
    if given.keep is None:
        shutil.rmtree(folder.parent)


if __name__ == "__main__":
    main()
