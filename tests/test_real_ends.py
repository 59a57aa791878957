"""Who really reaches whom: the same as the way of each packet, host by host."""

from __future__ import annotations

import ipaddress
import json
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran

Run = Callable[..., Ran]
SCHEMAS = Path(package.__file__).parent / "schemas"


@pytest.mark.parametrize(
    ("command", "asked", "service"),
    [
        ("callers", "catalogue-1", "https"), ("callers", "loans-1", "8443/tcp"),
        ("callers", "wall-displays", "8090/tcp"), ("callees", "ada", "https"),
    ],
)  # fmt: skip
def test_who_gets_through_is_whose_packets_do(
    command: str, asked: str, service: str, shipped: Path, oaktag: Run
) -> None:
    said = oaktag("-C", shipped, command, asked, service, "--real", "--json").json
    jsonschema.validate(said, json.loads((SCHEMAS / f"{command}-real.json").read_text()))
    workspace = package.Workspace.load(shipped)
    model = workspace.model
    hosts = [h for h in model.hosts if h.endpoint >= 0 and h.end in (None, h.address)]
    names, ids = model.files.endpoints.ids, [g.id for g in model.groups.all]

    def text(host: object) -> str:
        return str(ipaddress.ip_address(host.address))  # type: ignore[attr-defined]

    mine = [h for h in hosts if asked in (names[h.endpoint], ids[h.group])]
    met: set[tuple[str, str]] = set()
    for here in mine:
        for there in hosts:
            if there.family != here.family or there.address == here.address:
                continue
            ends = (there, here) if command == "callers" else (here, there)
            way = workspace.trace(text(ends[0]), text(ends[1]), service)
            how = {"leak": "by a leak", "break": "not, though allowed"}.get(way.effect or "")
            if how is None and "it arrives" in way.verdict:
                how = "as meant"
            if how is not None:
                met.add((ids[there.group], how))
    told = {(r["group"], r["how"]) for r in said["ends"]}
    # Whole networks, and unknown hosts, are there too; of all others it is the same.
    known = {ids[h.group] for h in hosts} - {"untagged"}
    assert {t for t in told if t[0] in known} == {m for m in met if m[0] in known}
    assert met and said["service"] == service


def test_a_service_that_is_none_and_a_name_that_is_none(shipped: Path, oaktag: Run) -> None:
    for words in (("callers", "nobody", "--real"), ("callees", "ada", "9/none", "--real"),
                  ("callers", "ada", "--real", "--endpoints")):  # fmt: skip
        assert oaktag("-C", shipped, *words).status == 2
    ran = oaktag("-C", shipped, "callers", "tablets", "--real")
    assert ran.status == 0 and "1 of them by a leak" in ran.out, ran
