"""An address that changes hands: what is told of late tables is what reach says of files in which just
these nodes still have the old binding."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from test_commands import _schema

Run = Callable[..., Ran]
Wrong = dict[tuple[str, str], tuple[bool, bool]]


def _wrong(folder: Path, address: str) -> Wrong:
    """Direction and other group → whether something passes wrongly, or is dropped wrongly."""
    workspace = package.Workspace.load(folder)
    found: Wrong = {}
    for way, rows in (
        ("to", workspace.reach(address, None).flows), ("from", workspace.reach(None, address).flows),
    ):  # fmt: skip
        for row in rows:
            other = row["destination" if way == "to" else "source"]["group"]
            held = found.get((way, other), (False, False))
            effects = {p["effect"] for p in row["packets"]}
            found[way, other] = held[0] or "leak" in effects, held[1] or "break" in effects
    return found


def _told(rows: list[dict[str, Any]]) -> Wrong:
    return {
        (r["direction"], r["other"]): (bool(r["passes_text"]), bool(r["dropped_text"]))
        for r in rows
    }


@pytest.mark.parametrize(
    ("endpoint", "address", "group"),
    [
        ("02:00:5e:20:00:01", "10.20.2.101", "kiosks"),
        ("02:00:5e:20:00:01", "10.20.2.101", "network-desk"),
        ("catalogue-1", "10.20.200.11", "archive"),
        ("scans-web", "10.20.200.41", "catalogue"),
    ],
)
def test_late_tables_do_what_files_with_the_old_binding_there_do(
    endpoint: str, address: str, group: str, shipped_mended: Path, oaktag: Run
) -> None:
    folder = shipped_mended
    ran = oaktag("-C", folder, "bindings", address, "--taken-by", group, "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, _schema("bindings-handover"))
    told = ran.json
    old = told["was"]["group"]
    assert told["was"]["endpoint"] == endpoint
    assert told["now"]["group"] == group
    path = folder / "assignments.yaml"
    text = path.read_text()
    assert "pins:\n" in text
    mine = text.replace("pins:\n", f"pins:\n  - {{endpoint: {endpoint!r}, group: {group}}}\n")
    path.write_text(mine)
    known = _wrong(folder, address)
    late = [t["node"] for t in told["tables"]]
    assert late and told["late"] == len(late)
    senders = {f.sender for f in package.Workspace.load(folder).model.network.feeds}
    for nodes, rows in [
        (late, told["all_late"]),
        *(([t["node"]], t["inherits"]) for t in told["tables"]),
    ]:
        if len(nodes) == 1 and nodes[0] in senders:
            continue  # in files it would tell others
        pins = "".join(
            f"  - {{prefix: {address}, group: {old}, at: {n}, since: 2026-01-02}}\n" for n in nodes
        )
        path.write_text(mine.replace("pins:\n", f"pins:\n{pins}"))
        then = _wrong(folder, address)
        fresh = {
            key: tuple(
                a and not b for a, b in zip(held, known.get(key, (False, False)), strict=True)
            )
            for key, held in then.items()
        }
        assert {k: v for k, v in fresh.items() if any(v)} == _told(rows), nodes
    assert any(t["inherits"] for t in told["tables"])


def test_what_cannot_be_asked(shipped: Path, oaktag: Run) -> None:
    for words, told in (
        (["10.20.2.101", "--taken-by", "people"], "is in no one group"),
        (["10.99.0.1", "--taken-by", "kiosks"], "is on no segment"),
        (["10.20.2.101", "--taken-by", "untagged"], "oaktag describe untagged --in central-public"),
        (["nonsense", "--taken-by", "kiosks"], "nonsense"),
        (["--taken-by", "kiosks"], "asks of one address"),
        (["10.20.2.101", "--taken-by", "kiosk"], "perhaps kiosks"),
    ):
        ran = oaktag("-C", shipped, "bindings", *words)
        assert ran.status == 2 and told in ran.err, (words, ran)
    ran = oaktag("-C", shipped, "bindings", "10.20.2.101", "--taken-by", "patrons")
    assert ran.status == 0 and "nothing is inherited" in ran.out


def test_what_is_inherited_to_the_packet(shipped_mended: Path, oaktag: Run) -> None:
    """By hand: patrons may use the web, kiosks not; kiosks may do all with the catalogue but what the
    other allows too, and use the loans. Their node marks, so its table alone decides."""
    ran = oaktag("-C", shipped_mended, "bindings", "10.20.2.101", "--taken-by", "kiosks", "--json")
    told = [tuple(row.values()) for row in ran.json["all_late"]]
    cells = {
        group: {c: oaktag("-C", shipped_mended, "cell", group, c, "--json").json["allows"] for c in ("internet", "e-books", "loans-db")}
        for group in ("patrons", "kiosks")
    }  # fmt: skip
    assert (
        cells["kiosks"]["internet"]
        == cells["kiosks"]["e-books"]
        == "none"
        == cells["patrons"]["loans-db"]
    )
    assert ("to", "internet", cells["patrons"]["internet"], "") in told
    assert ("to", "e-books", cells["patrons"]["e-books"], "") in told
    assert ("to", "loans-db", "", "loans-api, icmp4/8") in told
    assert cells["kiosks"]["loans-db"] == "loans-api, icmp/echo-request"  # on IPv4 of both
    late = next(t for t in ran.json["tables"] if t["node"] == "central-access")
    assert late["does"] == ["marks"] and late["inherits"] == ran.json["all_late"]
    assert not any(t["inherits"] for t in ran.json["tables"] if t["node"] != late["node"])


def test_of_very_many_tables_the_first_are_told(
    shipped: Path, oaktag: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("oaktag.operations.handover.MOST_TABLES", 2)
    at = ("-C", shipped, "bindings", "10.20.2.101", "--taken-by", "kiosks")
    told = oaktag(*at, "--json").json
    assert (len(told["tables"]), told["late"]) == (2, 6)
    assert "and 4 more tables change, not looked at one by one" in oaktag(*at).out
