"""Groups that fare alike: packet by packet, and by making one of them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import jsonschema
from hypothesis import given, settings

import oaktag as package
from conftest import Ran
from oaktag.core.alike_groups import alike_groups
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks
from one_gate import model_of
from sizes import scaled
from test_corners import build

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/groups-alike.json"
ANSWERS: tuple[Literal["action", "would"], ...] = ("action", "would")


def test_groups_are_alike_where_no_packet_tells_them_apart(tmp_path: Path) -> None:
    kinds = []

    @settings(max_examples=scaled(80), database=None, deadline=None)
    @given(stack=stacks())
    def hold(stack: Stack) -> None:
        model, _ = model_of(stack, {}, tmp_path)
        names = [g.id for g in model.groups.all]
        packets = list(stack.packets())

        def alike(a: str, b: str) -> bool:
            if a == b:
                return True
            pairs = [((a, x), (b, x)) for x in names if x not in (a, b)]
            pairs += [((x, a), (x, b)) for x in names if x not in (a, b)]
            pairs += [((a, a), other) for other in ((b, b), (a, b), (b, a))]
            return all(
                stack.decide(*one, p, answer)[0] == stack.decide(*two, p, answer)[0]
                for one, two in pairs
                for p in packets
                for answer in ANSWERS
            )

        found = alike_groups(model.matrix)
        kind = {n: first for first, *rest in found for n in (first, *rest)}
        for i, a in enumerate(names):
            for j, b in enumerate(names):
                assert (kind.get(i, -1 - i) == kind.get(j, -1 - j)) == alike(a, b), (a, b)
        kinds.append(len(found))

    hold()
    assert 0 in kinds and max(kinds) >= 1


def test_one_of_two_that_are_alike_changes_nothing(tmp_path: Path, oaktag: Run) -> None:
    lines = "front,front,web,,,,,\nfront,c,shell,,,,,\nc,front,web,,,,,\n"
    build(tmp_path, lines)
    said = oaktag("-C", tmp_path, "groups", "--alike", "--json").json
    jsonschema.validate(said, json.loads(SCHEMA.read_text()))
    assert said["alike"] == [{"groups": ["a", "b"], "members": [1, 1]}]
    ran = oaktag("-C", tmp_path, "groups", "--alike")
    assert "oaktag merge b a makes one of two" in ran.out
    assert package.Workspace.load(tmp_path).merge("b", "a").fares == []
    # One cell more tells them apart.
    build(tmp_path, lines + "a,b,shell,,,,,\n")
    assert oaktag("-C", tmp_path, "groups", "--alike", "--json").json["alike"] == []
    assert package.Workspace.load(tmp_path).merge("b", "a").fares != []
    assert oaktag("-C", tmp_path, "groups", "--alike", "--number").status == 2
