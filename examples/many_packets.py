"""A hundred thousand packets decided at once, and counted by pair.

python examples/many_packets.py [WORKSPACE]
"""

from __future__ import annotations

import sys
import time

import numpy as np

import oaktag


def main(folder: str | None = None) -> None:
    workspace = oaktag.Workspace.load(folder or oaktag.sample())
    names = np.array([group["group"] for group in workspace.groups().groups])
    rng = np.random.default_rng(7)
    count = 100_000
    packets = {
        "source": rng.choice(names, count), "destination": rng.choice(names, count),
        "family": rng.choice([4, 6], count), "protocol": np.full(count, 6),
        "source_port": rng.integers(1024, 65536, count),
        "destination_port": rng.choice([22, 80, 443, 445, 8443], count),
    }  # fmt: skip
    start = time.perf_counter()
    said = workspace.decide_many(packets)
    print(f"{said!r} in {time.perf_counter() - start:.2f} s\n")
    pairs, often = np.unique(
        np.char.add(np.char.add(packets["source"][said.allowed], " → "),
                    packets["destination"][said.allowed]), return_counts=True,
    )  # fmt: skip
    for number in np.argsort(-often)[:8].tolist():
        print(f"{often[number]:>6}  {pairs[number]}")


if __name__ == "__main__":
    main(*sys.argv[1:2])
