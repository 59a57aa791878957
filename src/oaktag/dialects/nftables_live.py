"""A list that a point holds, while it holds it: bindings replaced, counters read."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence

from oaktag.core.addresses import Range
from oaktag.dialects.nftables import FLAG, element_of, span_of, table_name


def refill_tags(table: str, ranges: Sequence[Range], flag: int = FLAG) -> str:
    """Text that replaces the source tags of a table, in one transaction."""
    lines: list[str] = []
    for family in (4, 6):
        lines.append(f"flush map inet {table} tags{family}")
        elements = [f"{span_of(r)} : {r.tag | flag:#x}" for r in ranges if r.family == family]
        if elements:
            lines.append(f"add element inet {table} tags{family} {{ {', '.join(elements)} }}")
    return "\n".join(lines) + "\n"


def refill(point: str, ranges: Sequence[Range], tags: Collection[int]) -> str:
    """Text that replaces all bindings of a point's list, its rules staying as they are.

    Args:
        point: the point's id.
        ranges: the new bindings.
        tags: the destinations' tags that have cells in the list.
    """
    table = table_name(point)
    lines: list[str] = []
    for family in (4, 6):
        lines.append(f"flush map inet {table} to{family}")
        elements = [element_of(r, tags) for r in ranges if r.family == family]
        if elements:
            lines.append(f"add element inet {table} to{family} {{ {', '.join(elements)} }}")
    return refill_tags(table, ranges) + "\n".join(lines) + "\n"


def cell_counts(listing: str) -> dict[str, dict[str, int]]:
    """Packets counted for each cell, from the kernel's listing of a table as JSON.

    Returns:
        destination tag → source tag → packets; tags as decimal text, cells without any left out.
    """
    counts: dict[str, dict[str, int]] = {}
    for item in json.loads(listing)["nftables"]:
        held = item.get("map")
        if held is None or not held["name"].startswith("from_"):
            continue
        for key, _ in held.get("elem", []):
            packets = key["elem"]["counter"]["packets"]
            if packets:
                row = counts.setdefault(held["name"].removeprefix("from_"), {})
                row[str(key["elem"]["val"])] = packets
    return counts
