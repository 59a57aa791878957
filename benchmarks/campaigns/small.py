"""Short rows of entries: tiny tables against the fewest boxes that say the same, and lists of random
policies against the plain ones.

    python -m campaigns.small --tables 2000 --lists 300 --seed 1      (in benchmarks/)

A tiny table has at most three sources, destinations and kinds of packets and two or three outcomes;
the fewest boxes are found by trying every row of them (``tests/slow_boxes.py``). Lists are of random
matrices with every feature, for points of every kind; each short row is proved equal to its matrix,
and is never longer than its plain one.
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tests"))

from campaigns.judges import fitted, policies  # noqa: E402
from networks import random_net, write_net  # noqa: E402
from oaktag.core.flatten import flattened  # noqa: E402
from oaktag.core.minimize import decided, minimized  # noqa: E402
from oaktag.operations.lists import points_of  # noqa: E402
from slow_boxes import fewest  # noqa: E402


def tables(count: int, rng: random.Random) -> tuple[list[float], int]:
    """Of each tiny table by how much its row is longer than the shortest; and how many say another
    thing than their table."""
    ratios: list[float] = []
    bad = 0
    for _ in range(count):
        size, outcomes = [rng.randint(1, 3) for _ in range(3)], rng.choice((2, 2, 3))
        table = [
            [[rng.randrange(outcomes) for _ in range(size[2])] for _ in range(size[1])]
            for _ in range(size[0])
        ]
        boxes = minimized(table)
        bad += decided(table, boxes) != table
        ratios.append(len(boxes) / fewest(table))
    return ratios, bad


def lists(count: int, seed: int, place: Path) -> tuple[int, int, int]:
    """The entries of short rows and of plain ones, and how many rows were wrong or longer."""
    short = plain = bad = done = number = 0
    rng = random.Random(seed)
    while done < count:
        number += 1
        net = random_net(seed * 1_000_003 + number)
        if number % 2:  # the others keep their own, in which most cells differ
            (net.stack,) = policies(1, seed * 1_000_003 + number)[:1]
        fitted(net, rng)
        folder = place / str(number)
        folder.mkdir()
        model = write_net(net, folder).model
        for point in points_of(model):
            held = model.list_of(point)
            flat = flattened(held)
            wrong = len(flat.entries) > held.plain_entries
            wrong = wrong or model.refute(point, flat.tree()) is not None
            if wrong:
                print(f"network {number}, {point}: {len(flat.entries)}, {held.plain_entries}")
            short, plain, bad = short + len(flat.entries), plain + held.plain_entries, bad + wrong
            done += 1
    return short, plain, bad


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n\n")[0])
    parser.add_argument("--tables", type=int, default=200)
    parser.add_argument("--lists", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    given, begun = parser.parse_args(), time.monotonic()
    ratios, bad = tables(given.tables, random.Random(given.seed))
    excess = 100 * (sum(ratios) / len(ratios) - 1)
    longer = sum(r > 1 for r in ratios)
    print(f"{given.tables:,} tables: {excess:.2f} % longer than the shortest in the mean, {longer} "
          f"at all, at most {max(ratios):.2f} times, {bad} wrong")  # fmt: skip
    with tempfile.TemporaryDirectory() as place:
        short, plain, odd = lists(given.lists, given.seed, Path(place))
    print(f"{given.lists:,} lists: {short:,} entries, plain {plain:,} ({short / plain:.3f}); {odd} "
          f"wrong or longer; {time.monotonic() - begun:.0f} s")  # fmt: skip
    return int(bool(bad or odd or excess > 5))


if __name__ == "__main__":
    sys.exit(main())
