"""One packet and one list: the list as its point acts, against the slow decision of its matrix."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oaktag.core.acting import act
from oaktag.core.addresses import parse_address
from oaktag.core.packets import Packet
from oaktag.operations.lists import list_of
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks
from one_gate import model_of
from sizes import scaled

ENDS = {4: ("10.1.0.1", "10.2.0.1"), 6: ("2001:db8:1::1", "2001:db8:2::1")}
PLAIN = {"scope": "all", "outside": "deny", "mode": "enforce", "inside": True, "stateful": True}


def _number(address: str) -> int:
    return parse_address(address)[1]


@settings(
    max_examples=scaled(25), deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)  # fmt: skip
@given(stack=stacks(), data=st.data())
def test_a_list_acts_as_its_matrix_decides(
    stack: Stack, data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """The tag in the frame counts first, a tag of no group is outside, the default is the last."""
    model, point = model_of(stack, PLAIN, tmp_path_factory.mktemp("w"))
    held = list_of(model, point)
    names = {tag: name for name, (tag, _) in stack.groups.items()} | {0: "untagged"}
    packets = [Packet(*p) for p in stack.packets()]
    for packet in data.draw(st.lists(st.sampled_from(packets), min_size=20, max_size=20)):
        ends = [_number(a) for a in ENDS[packet.family]]
        toward = model.knowledge.at(point.node).tag(packet.family, ends[1])
        for frame in (*names, 65_000):
            acted = act(held, packet, ends[0], ends[1], frame)
            assert acted.judged and acted.source == (frame or acted.source)
            assert acted.destination == toward
            if frame == 65_000:
                assert (acted.action, acted.entry) == ("deny", None)
                continue
            cell = names[acted.source], names[acted.destination]
            assert acted.action == stack.decide(*cell, packet, "action")[0]
            assert (
                acted.entry is not None
                and acted.entry.would == (stack.decide(*cell, packet, "would")[0])
            )


def test_what_is_not_judged_passes(tmp_path: Path) -> None:
    """Link-local addresses, a direction that is not judged, the inside of a segment: by one list
    that denies all else."""
    stack = Stack(
        {"ada": (310, {}), "bo": (320, {}), "cy": (410, {}), "di": (411, {})}, {}, {}, [[]]
    )
    model, point = model_of(stack, {**PLAIN, "inside": False}, tmp_path)
    held = list_of(model, point)
    web = Packet(4, 6, 50_000, 443)
    (segment, *others) = model.network.segments.values()
    inside = segment.prefixes[0].start + 1
    outside = next(p.start + 1 for s in others for p in s.prefixes if p.family == 4)
    assert act(held, web, inside, outside).action == "deny"
    assert act(held, web, inside, inside + 1) == act(held, web, inside, inside + 2)
    assert not act(held, web, inside, inside + 1).judged
    assert not act(held, web, _number("169.254.0.9"), outside).judged
    assert act(held, web, _number("169.253.0.9"), outside).judged
    by_bindings = model.network.points[point.id] = point._replace(if_differ="bindings")
    held = list_of(model, by_bindings)
    assert act(held, web, inside, outside, 410).source == (
        model.knowledge.at(point.node).tag(4, inside) or 410
    )
    assert act(held, web, _number("10.99.0.9"), outside, 410).source == 410
    one_way = point._replace(origins=frozenset({segment.name}))
    model.network.points[point.id] = one_way
    held = list_of(model, one_way)
    assert act(held, web, inside, outside).action == "deny"
    assert not act(held, web, outside, inside).judged
