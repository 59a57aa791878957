"""Groups shared with another domain: two counties that share with each other, and documents that are
not what they should be."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import os
import shutil
import ssl
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Ran
from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.bindings import BINDING_SOURCES, Binding, Bindings
from oaktag.core.domains import Claims, shared_groups
from oaktag.core.groups import Group, Groups
from oaktag.core.prefixes import Prefixes
from oaktag.workspace.domain_file import UnreadableDocument, read_document
from test_commands import _schema

sys.path.append(str(Path(__file__).parent.parent / "examples"))

import two_domains

Run = Callable[..., Ran]
SECRET = "a secret of two counties"


@pytest.fixture(autouse=True)
def _secret(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OAKTAG_COUNTIES", SECRET)


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """Quillmere and Fallowmere, each with what the other shares: made once."""
    both = two_domains.build(tmp_path_factory.mktemp("counties"))
    with pytest.MonkeyPatch.context() as here:
        here.setenv("OAKTAG_COUNTIES", SECRET)
        two_domains.exchange(*both)
    return both


@pytest.fixture
def counties(before: tuple[Path, Path], tmp_path: Path) -> tuple[Path, Path]:
    """The two, to be changed."""
    quillmere, fallowmere = (shutil.copytree(f, tmp_path / f.name) for f in before)
    return quillmere, fallowmere


def _texts(folder: Path) -> dict[str, bytes]:
    every = (p for p in folder.rglob("*") if p.is_file() and ".oaktag" not in p.parts)
    return {str(p.relative_to(folder)): p.read_bytes() for p in every}


def _signed(values: dict[str, Any], secret: str = SECRET) -> str:
    """A document, signed without Oak Tag's code."""
    told = {k: v for k, v in values.items() if k != "signature"}
    octets = json.dumps(told, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()
    value = base64.b64encode(hmac.digest(secret.encode(), octets, hashlib.sha256)).decode()
    return json.dumps({**told, "signature": {"kind": "hmac-sha256", "value": value}})


def test_two_counties_share_with_each_other(counties: tuple[Path, Path], oaktag: Run) -> None:
    """Tags are ours, number by number; both know what the other holds; nothing changes that is not
    otherwise, who logs in changes nothing, and another name of a group changes no decision."""
    quillmere, fallowmere = counties
    two_domains.exchange(quillmere, fallowmere)  # receipts
    before = [_texts(f) for f in counties]
    two_domains.exchange(quillmere, fallowmere)
    assert [_texts(f) for f in counties] == before
    jsonschema.validate(json.loads((quillmere / "ours.json").read_text()), _schema("shared-groups"))
    told = oaktag("-C", quillmere, "domains", "--json")
    jsonschema.validate(told.json, _schema("domains"))
    (row,) = told.json["domains"]
    assert (row["state"], row["changed"], row["contested"]) == ("same", [], [])
    assert row["holds"] == {"serial": row["holds"]["serial"], "current": True}
    assert {(g["group"], g["their_tag"], g["tag"], g["owner"]) for g in row["groups"]} == {
        ("fallowmere/desk", 7, 2002, "their desk"),
        ("fallowmere/shelves", 8, 2003, "their desk"),
    }
    assert oaktag("-C", quillmere, "check").status == 0

    granted = ("grant", "fallowmere/desk", "catalogue", "https", "--write")
    assert oaktag("-C", quillmere, *granted).status == 0
    asked = ("trace", "10.40.1.10", "catalogue", "https", "--json")
    hop = oaktag("-C", quillmere, *asked).json["paths"][0]["hops"][-1]
    assert (hop["source_tag"], hop["source_from"], hop["action"]) == (2002, "adopted", "allow")
    explained = oaktag("-C", quillmere, "explain", "fallowmere/desk")
    assert "1 binding in the registry" in explained.out

    # Somebody logs in there: what is stable stays, byte for byte.
    shared = (fallowmere / "ours.json").read_bytes()
    with (fallowmere / "oaktag.yaml").open("a") as file:
        file.write("sessions: sessions.csv\n")
    (fallowmere / "sessions.csv").write_text(
        "endpoint,address,since\ndesk-1,10.40.1.77,2026-01-01T00:00:00Z\n"
    )
    ran = oaktag("-C", fallowmere, "share", "--out", "ours.json", "--lists", "lists")
    assert ran.status == 0 and "unchanged:" in ran.out
    assert (fallowmere / "ours.json").read_bytes() == shared

    # Another name, another number there, and one host more.
    assert oaktag("-C", fallowmere, "rename", "desk", "counter", "--write").status == 0
    with (fallowmere / "hosts.csv").open("a") as file:
        file.write("desk-9,10.40.1.99,desk\n")
    lists = fallowmere / "lists"
    ran = oaktag("-C", fallowmere, "share", "--out", "ours.json", "--lists", "lists", "--json")
    jsonschema.validate(ran.json, _schema("share"))
    assert ran.json["serial"] > json.loads(shared)["serial"]
    assert (lists / "counter.txt").read_text() == "10.40.1.10/31\n10.40.1.99/32\n"
    assert ran.json["left"] == [str(lists / "desk.txt")]
    told = oaktag("-C", quillmere, "domains", "--json")
    assert told.json["domains"][0]["state"] == "newer"
    assert [(c["group"], c["is"], c["gained"]) for c in told.json["domains"][0]["changed"]] == [
        ("fallowmere/counter", "new", ["10.40.1.10/31", "10.40.1.99/32"]),
        ("fallowmere/desk", "gone", []),
    ]
    ran = oaktag("-C", quillmere, "pull", "--write", "--json")
    jsonschema.validate(ran.json, _schema("pull"))
    assert ran.status == 0 and ran.json["notes"] == [
        "fallowmere/desk is called fallowmere/counter now, and keeps its tag here",
        "fallowmere/counter: 2 prefixes come",
    ]
    decided = oaktag("-C", quillmere, "decide", "10.40.1.99", "catalogue", "https", "--json")
    assert decided.json["action"] == "allow" and decided.json["source"]["tag"] == 2002
    assert oaktag("-C", quillmere, "check").status == 0


@pytest.mark.usefixtures("real_kernel")
def test_another_domains_packets_in_the_lab(counties: tuple[Path, Path], oaktag: Run) -> None:
    """Bindings of the other county go into the point's table by its feed; its packets pass and are
    dropped by them, as `reach` says."""
    _, fallowmere = counties
    granted = ("grant", "quillmere/return-sorters", "shelves", "https", "--write")
    assert oaktag("-C", fallowmere, *granted).status == 0
    up = oaktag("-C", fallowmere, "lab", "up", "--json")
    try:
        ran = oaktag("-C", fallowmere, "lab", "probe", "--json")
    finally:
        oaktag("-C", fallowmere, "lab", "down")
    assert up.status == 0 and all(p["agrees"] for p in ran.json["probes"])
    passed = {
        (p["source"]["group"], p["destination"]["group"]): p["verdict"] for p in ran.json["probes"]
    }
    assert passed["quillmere/return-sorters", "shelves"] == "as meant"
    assert passed["quillmere/catalogue", "shelves"] == "as meant"
    assert {f["bindings"] for f in up.json["feeds"]} == {17}


def _told(folder: Path) -> dict[str, Any]:
    document: dict[str, Any] = json.loads((folder / "ours.json").read_text())
    return document


def _with(prefix: str, **more: Any) -> Callable[[dict[str, Any]], str]:
    """A later document in which the desk has a prefix more."""

    def change(d: dict[str, Any]) -> str:
        d["groups"][0]["prefixes"].append(prefix)
        return _signed({**d, "serial": d["serial"] + 1, **more})

    return change


def _unsigned(d: dict[str, Any], **more: Any) -> str:
    """A document of which something was changed on its way."""
    d["groups"][0]["prefixes"].append("10.40.9.0/24")
    return json.dumps({**d, **more})


def _later(d: dict[str, Any], **more: Any) -> str:
    return _signed({**d, "serial": d["serial"] + 1, **more})


REFUSED: dict[str, tuple[Callable[[dict[str, Any]], str], str]] = {
    "older": (lambda d: _signed({**d, "serial": d["serial"] - 1}), "it is older ("),
    "another": (lambda d: _with("10.40.9.0/24", serial=d["serial"])(d), "under the same serial"),
    "changed": (lambda d: _unsigned(d), "not signed by the key that is known of fallowmere"),
    "renewed": (lambda d: _unsigned(d, serial=d["serial"] + 1), "not signed by the key"),
    "forged": (lambda d: _signed({**d, "serial": d["serial"] + 1}, "x" * 24), "not signed by"),
    "unsigned": (lambda d: json.dumps({k: d[k] for k in d if k != "signature"}), "no signature"),
    "other kind": (
        lambda d: json.dumps(
            {**d, "signature": {"kind": "ed25519", "value": base64.b64encode(b"0" * 64).decode()}}
        ),
        "not signed by the key",
    ),
    "no base64": (lambda d: json.dumps({**d, "signature": {"kind": "hmac-sha256", "value": "é"}}),
                  "is none of hmac-sha256"),
    "no octets": (lambda d: json.dumps({**d, "signature": {"kind": "hmac-sha256", "value": ""}}),
                  "is none of hmac-sha256"),
    "of us": (lambda d: _later(d, origin="quillmere"), "it is of quillmere, not of fallowmere"),
    "a segment": (_with("10.20.1.128/25"), "10.20.1.128/25 (on our segment central-desks)"),
    "wide": (_with("10.0.0.0/8"), "10.0.0.0/8 (on our segment"),
    "all": (_with("::/0"), "::/0 (on our segment"),
    "a node": (_with("10.20.0.1/32"), "10.20.0.1/32 (of our node central-core)"),
    "mapped": (_with("::ffff:10.40.9.1/128"), "not as a prefix is written"),
    "host bits": (_with("10.40.9.1/24"), "not as a prefix is written"),
    "twice": (_with("10.40.1.10/31"), "the prefix '10.40.1.10/31' is there twice"),
    "huge": (lambda d: _signed({**d, "origin": "a" * (1 << 26)}), "at most 64 MiB are read"),
    "nothing": (lambda d: "", "line 1, column 1: it is no JSON"),
    "half": (lambda d: json.dumps(d)[:200], "it is no JSON"),
    "deep": (lambda d: "[" * 100_000, "nested too deep"),
    "keys twice": (lambda d: _later(d)[:-1] + ', "serial": 1}', "the key 'serial' is there twice"),
    "fractions": (lambda d: _later(d, serial=1.5), "1.5 is no whole number"),
    "not a number": (lambda d: _later(d, serial=float("nan")), "NaN is no whole number"),
    "long": (lambda d: '{"serial": ' + "9" * 5000 + "}", "too many digits"),
    "yes": (lambda d: _later(d, serial=True), "serial is no number from 1"),
    "form": (lambda d: _later(d, form=2), "it is of form 2"),
    "more": (lambda d: _later(d, more=1), "the key 'more', which no document has"),
    "time": (lambda d: _later(d, made="2026-11-28"), "no time in UTC"),
    "terminal": (lambda d: _later(d, groups=[{**d["groups"][0], "title": "\x1b[2J"}]),
                 "the title of desk is no plain text"),
    "a name": (lambda d: _later(d, groups=[{**d["groups"][0], "id": "x/y"}]), "'x/y': a name has"),
    "a tag": (lambda d: _later(d, groups=[{**d["groups"][0], "tag": 65536}]), "the tag of desk"),
    "tags": (lambda d: _later(d, groups=[{**g, "tag": 7} for g in d["groups"]]), "the tag '7' is"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_what_is_refused_leaves_the_last_good_one(
    case: str, counties: tuple[Path, Path], oaktag: Run
) -> None:
    """Nothing is written, one line says why, and what was in force stays in force."""
    quillmere, fallowmere = counties
    before = _texts(quillmere)
    make, why = REFUSED[case]
    (fallowmere / "ours.json").write_text(make(_told(fallowmere)))
    ran = oaktag("-C", quillmere, "pull", "--write")
    assert ran.status == 1 and "Traceback" not in ran.err + ran.out
    assert f"fallowmere is refused: {why}" in " ".join(ran.out.split()) or why in " ".join(
        ran.out.split()
    )
    assert _texts(quillmere) == before
    told = oaktag("-C", quillmere, "domains", "--json")
    (row,) = told.json["domains"]
    assert told.status == 1 and row["state"] == "refused" and row["bindings"] == 2
    (found,) = told.json["findings"]
    assert (found["code"], found["file"]) == ("OT504", "oaktag.yaml") and why in found["message"]


def test_all_addresses_are_nobodys_and_half_of_them_are_somebodys() -> None:
    for claimed, contested in (("0.0.0.0/0", 0), ("128.0.0.0/1", 1), ("::/0", 0), ("8000::/1", 0)):
        claims = Claims(Prefixes.of([parse_prefix(claimed)]), lambda _: "us")
        assert len(list(claims.contested([parse_prefix("192.0.2.1/32")]))) == contested, claimed


def test_whose_an_address_is(counties: tuple[Path, Path], oaktag: Run) -> None:
    """A pin and an endpoint of ours, and a third domain's address, each stop a document; a wide pin,
    as of the internet, does not; what becomes ours later is found."""
    quillmere, fallowmere = counties
    good = (fallowmere / "ours.json").read_text()

    def pulled(prefix: str) -> str:
        (fallowmere / "ours.json").write_text(_with(prefix)(json.loads(good)))
        return " ".join(oaktag("-C", quillmere, "pull").out.split())

    assert (
        oaktag("-C", quillmere, "pin", "10.40.128.0/17", "--to", "internet", "--write").status == 0
    )
    assert "is refused" not in pulled("10.40.200.0/24")
    assert "10.40.128.0/17 (10.40.128.0/17 is pinned in" in pulled("10.40.128.0/17")
    servers = quillmere / "inventory/servers.csv"
    (row,) = (r for r in servers.read_text().splitlines() if r.startswith("catalogue-1,"))
    moved = row.replace("catalogue-1,", "catalogue-9,").replace("10.20.200.11", "10.40.77.1")
    servers.write_text(servers.read_text() + moved + "\n")
    assert "10.40.77.0/24 (of our endpoint catalogue-9)" in pulled("10.40.77.0/24")
    # A third domain says it has what Fallowmere says: whoever comes later is refused.
    third = quillmere.parent / "third.json"
    config = quillmere / "oaktag.yaml"
    more = f"  - {{origin: third, from: {third}, verify: {{hmac: {{env: OAKTAG_COUNTIES}}}}}}\n"
    config.write_text(config.read_text() + more)
    document = {**json.loads(good), "origin": "third", "holds": []}
    third.write_text(_signed(document))
    (fallowmere / "ours.json").write_text(good)
    ran = oaktag("-C", quillmere, "pull", "adopted/third.json")
    assert ran.status == 1 and "10.40.1.10/31 (of fallowmere too)" in " ".join(ran.out.split())
    document["groups"] = [{**document["groups"][0], "prefixes": ["10.41.0.0/16"]}]
    third.write_text(_signed(document))
    assert oaktag("-C", quillmere, "pull", "--write").status == 0
    # Then a network of ours grows into it: an error, so nothing is compiled from it.
    network = quillmere / "network.yaml"
    ours = "  - {segment: new, node: carrier, prefixes: [10.41.8.0/24]}\n"
    network.write_text(network.read_text().replace("\nlinks:\n", f"\n{ours}links:\n"))
    found = oaktag("-C", quillmere, "check", "--json")
    assert found.status == 1
    assert {f["code"] for f in found.json["findings"] if f["severity"] == "error"} == {"OT501"}
    assert "10.41.0.0/16 (on our segment new)" in found.out


def test_groups_come_and_go(counties: tuple[Path, Path], oaktag: Run) -> None:
    """Some groups alone are adopted where that is said; one that is shared no more keeps its lines
    and its tag, without bindings; a file that was broken by hand is told with its name."""
    quillmere, fallowmere = counties
    config = quillmere / "oaktag.yaml"
    text = config.read_text()
    for words in (("rename", "fallowmere/desk", "desk"), ("merge", "fallowmere/desk", "patrons")):
        ran = oaktag("-C", quillmere, *words)
        assert ran.status == 2 and "fallowmere" in ran.err
    assert oaktag("-C", quillmere, "retire", "fallowmere/shelves", "--write").status == 0
    found = oaktag("-C", quillmere, "check", "--json").json["findings"]
    assert [f["code"] for f in found] == ["OT502"]
    config.write_text(text.replace("ours.json, verify", "ours.json, groups: [desk], verify"))
    assert oaktag("-C", quillmere, "check").status == 0
    document = _told(fallowmere)
    document["groups"] = document["groups"][1:]
    (fallowmere / "ours.json").write_text(_later(document))
    ran = oaktag("-C", quillmere, "pull", "--write", "--json")
    assert ran.status == 0 and ran.json["notes"] == [
        "fallowmere shares no desk",
        "fallowmere shares desk no more: fallowmere/desk has no bindings then",
    ]
    found = oaktag("-C", quillmere, "check", "--json").json["findings"]
    assert [f["code"] for f in found] == ["OT503"]
    decided = oaktag("-C", quillmere, "decide", "10.40.1.10", "catalogue", "https", "--json")
    assert decided.json["source"]["group"] == "untagged"
    (quillmere / "adopted/fallowmere.json").write_text("{}")
    ran = oaktag("-C", quillmere, "check")
    assert ran.status == 2 and "adopted/fallowmere.json: the document has no oaktag" in ran.err


def test_what_is_shared_is_ours_and_numbered(counties: tuple[Path, Path], oaktag: Run) -> None:
    """Another's group is not passed on; nor is one without a number; a file that is something else
    is left as it is; a key that is none is told."""
    _, fallowmere = counties
    config, groups = fallowmere / "oaktag.yaml", fallowmere / "groups.yaml"
    text = config.read_text()

    def tried(why: str, *more: str, status: int = 2) -> None:
        ran = oaktag("-C", fallowmere, "share", *more)
        assert ran.status == status and why in ran.err and "Traceback" not in ran.err, ran

    config.write_text(text.replace("[desk, shelves]", "[desk, quillmere/catalogue]"))
    tried("quillmere/catalogue is of quillmere; only groups of our own are shared")
    config.write_text(text.replace("[desk, shelves]", "[desk, dsek]"))
    tried("oaktag.yaml:6:24: 'dsek' is no group or set; perhaps desk")
    config.write_text(text)
    groups.write_text(groups.read_text().replace("groups:\n", "groups:\n  - {id: drones}\n"))
    config.write_text(text.replace("[desk, shelves]", "[drones]"))
    tried("drones has no number in the files")
    config.write_text(text)
    tried("is no document of ours, and is left as it is", "--out", "groups.yaml")
    shutil.copy(fallowmere / "adopted/quillmere.json", fallowmere / "theirs.json")
    tried("is a document of quillmere, and is left", "--out", "theirs.json")
    for short in ("", "short"):
        (fallowmere / "key").write_text(short)
        config.write_text(
            text.replace(
                "sign: {hmac: {env: OAKTAG_COUNTIES}}",
                f"sign: {{hmac: {{file: {fallowmere / 'key'}}}}}",
            )
        )
        tried("at least 16 octets" if short else "is empty", "--out", "new.json")
        assert not (fallowmere / "new.json").exists()


def test_keys_of_a_pair(counties: tuple[Path, Path], oaktag: Run) -> None:
    """A document signed by a private key that openssl made is verified by openssl, and here; one by
    another key is refused."""
    quillmere, fallowmere = counties
    folder = quillmere.parent

    def openssl(*words: str | Path) -> str:
        ran = subprocess.run(["openssl", *words], capture_output=True, text=True, check=True)
        return ran.stdout

    for name in ("one", "two"):
        openssl("genpkey", "-algorithm", "ed25519", "-out", folder / f"{name}.pem")
    public = openssl("pkey", "-in", folder / "one.pem", "-pubout")
    line = public.splitlines()[1]
    config = fallowmere / "oaktag.yaml"
    hmac_key = "sign: {hmac: {env: OAKTAG_COUNTIES}}"
    text = config.read_text()
    for name, status in (("one", 0), ("two", 1)):
        pair = f"sign: {{ed25519: {{file: {folder}/{name}.pem}}}}"
        config.write_text(text.replace(hmac_key, pair))
        assert oaktag("-C", fallowmere, "share", "--out", "ours.json").status == 0
        ours = quillmere / "oaktag.yaml"
        held = "ours.json, verify: {hmac: {env: OAKTAG_COUNTIES}}"
        ours.write_text(ours.read_text().replace(held, f"ours.json, verify: {{ed25519: {line}}}"))
        assert oaktag("-C", quillmere, "pull", "--write").status == status
    document = json.loads((quillmere / "adopted/fallowmere.json").read_text())
    signature = base64.b64decode(document.pop("signature")["value"])
    (folder / "told").write_bytes(
        json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()
    )
    (folder / "signature").write_bytes(signature)
    (folder / "public.pem").write_text(public)
    said = openssl(
        "pkeyutl", "-verify", "-pubin", "-inkey", folder / "public.pem", "-rawin", "-in",
        folder / "told", "-sigfile", folder / "signature",
    )  # fmt: skip
    assert "Success" in said


@pytest.fixture
def server(tmp_path: Path) -> Iterator[tuple[str, Path, dict[str, tuple[int, bytes]]]]:
    """A server of https, its certificate, and what it answers to which path."""
    cert, key = tmp_path / "cert.pem", tmp_path / "key.pem"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", cert,
         "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"],
        check=True, capture_output=True,
    )  # fmt: skip
    answers: dict[str, tuple[int, bytes]] = {}

    class Answering(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            status, body = answers.get(self.path, (404, b""))
            self.send_response(status)
            if status == 302:
                self.send_header("Location", body.decode())
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: Any) -> None:
            pass

    held = HTTPServer(("127.0.0.1", 0), Answering)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    held.socket = context.wrap_socket(held.socket, server_side=True)
    thread = threading.Thread(target=held.serve_forever, daemon=True)
    thread.start()
    yield f"https://localhost:{held.server_address[1]}", cert, answers
    held.shutdown()
    held.server_close()


def test_a_document_over_https(
    counties: tuple[Path, Path],
    server: tuple[str, Path, dict[str, tuple[int, bytes]]],
    oaktag: Run,
) -> None:
    """Fetched where the certificate is known; another's, none, elsewhere, or nobody there is no answer:
    exit status 3, and what was in force stays so."""
    quillmere, fallowmere = counties
    url, ca, answers = server
    answers["/ours"] = (200, _later(_told(fallowmere)).encode())
    answers["/moved"] = (302, f"{url}/ours".encode())
    config = quillmere / "oaktag.yaml"
    text = config.read_text()
    before = _texts(quillmere)

    def tried(place: str, status: int, why: str, ca: Path | None = ca) -> None:
        more = "" if ca is None else f"ca: {ca}, "
        config.write_text(text.replace("from: ../fallowmere/ours.json, ", f"from: {place}, {more}"))
        ran = oaktag("-C", quillmere, "pull", "--write")
        assert ran.status == status and why in " ".join(ran.out.split()), ran
        assert "Traceback" not in ran.err
        if status:
            assert _texts(quillmere) == {**before, "oaktag.yaml": config.read_bytes()}
            assert oaktag("-C", quillmere, "domains").status == status

    tried(f"{url}/ours", 3, "certificate verify failed", ca=None)
    tried(f"{url.replace('localhost', '127.0.0.1')}/ours", 3, "IP address mismatch")
    config.write_text(
        text.replace(
            "from: ../fallowmere/ours.json, ", f"from: {url}/ours, ca: {ca.parent}/no.pem, "
        )
    )
    ran = oaktag("-C", quillmere, "pull")
    assert ran.status == 2 and "no.pem, which holds the certificates to trust for" in ran.err
    tried(f"{url}/moved", 3, f"it is said to be at {url}/ours; name that place")
    tried(f"{url}/nowhere", 3, "the server says 404")
    tried("https://localhost:9/ours", 3, "Connection refused")
    tried("../fallowmere/gone.json", 3, "No such file")
    os.mkfifo(fallowmere / "pipe.json")
    tried("../fallowmere/pipe.json", 1, "fallowmere is refused: it is a pipe or a device")
    answers["/huge"] = (200, b" " * ((1 << 26) + 1))
    tried(f"{url}/huge", 1, "fallowmere is refused: it is larger than 64 MiB")
    tried(f"{url}/ours", 0, "written: adopted/fallowmere.json")


#: Of sixteen addresses.
PREFIXES = st.builds(
    lambda start, length: Prefix(4, 0x0A280000 | start >> (4 - length) << (4 - length), 28 + length),
    st.integers(0, 15), st.integers(0, 4),
)  # fmt: skip


@given(
    st.lists(st.tuples(PREFIXES, st.integers(0, 3), st.sampled_from(BINDING_SOURCES)), max_size=12)
)
def test_what_is_shared_is_just_what_the_registry_has(
    drawn: list[tuple[Prefix, int, str]],
) -> None:
    """Address by address: each in the one group that the longest binding gives, of those that do not
    come and go; by the fewest prefixes."""
    groups = Groups([Group("a", 1), Group("b", 2), Group("c", 3)])
    bindings = Bindings.of(Binding(p, tag, source) for p, tag, source in drawn)
    shared = shared_groups(groups, [1, 2], bindings, BINDING_SOURCES)
    assert [g.id for g in shared] == ["a", "b"]
    for address in range(0x0A280000, 0x0A280010):
        standing = [
            (-p.length, BINDING_SOURCES.index(s), tag)
            for p, tag, s in drawn if s != "session" and p.start <= address <= p.end
        ]  # fmt: skip
        tag = min(standing)[2] if standing else 0
        held = [g.tag for g in shared for p in g.prefixes if p.start <= address <= p.end]
        assert held == ([tag] if tag in (1, 2) else [])
    for group in shared:
        networks = [ip_network(str(p)) for p in group.prefixes]
        for one in networks:
            assert one.prefixlen == 0 or not any(
                one != two and one.supernet() == two.supernet()
                for two in networks if one.prefixlen == two.prefixlen
            )  # fmt: skip


ALL = Prefix(4, 0, 0)


@given(
    st.lists(st.tuples(PREFIXES | st.just(ALL), st.booleans()), max_size=8),
    st.lists(PREFIXES, max_size=8),
)
def test_who_speaks_of_which_addresses(
    held: list[tuple[Prefix, bool]], asked: list[Prefix]
) -> None:
    """A prefix is contested where an address of it is, by the longest that holds it, somebody's."""
    mine = list(dict(held).items())
    claims = Claims(Prefixes.of(p for p, _ in mine), lambda n: "somebody" if mine[n][1] else "")

    def owned(address: int) -> bool:
        every = [(p.length, named) for p, named in mine if p.start <= address <= p.end and p != ALL]
        return bool(every) and max(every)[1]

    slow = {p for p in asked if any(owned(a) for a in range(p.start, p.end + 1))}
    assert {c.prefix for c in claims.contested(asked)} == slow
    six = [parse_prefix(f"2001:db8::{ip_address(p.start)}/{p.length + 96}") for p in asked]
    assert not list(claims.contested(six))


def test_what_is_wrong_with_the_settings(shipped_mended: Path, oaktag: Run) -> None:
    """Each fault once, with its place, all together; sound ones read as nothing shared yet."""
    config = shipped_mended / "oaktag.yaml"
    text = config.read_text()
    lines = text.count("\n")
    verify = "verify: {hmac: {env: OAKTAG_COUNTIES}}"
    config.write_text(
        text + "share: {groups: [], sign: {ed25519: {env: A, file: /a}}}\nadopt:\n"
        f"  - {{origin: UP, from: a.json, {verify}, groups: [a], ca: a.pem}}\n"
        f'  - {{origin: quillmere, from: "http://a.example/", {verify}}}\n'
        f'  - {{origin: one, from: "https://", {verify}}}\n'
        f"  - {{origin: one, from: a.json, verify: {{ed25519: AAAA}}}}\n"
        "  - {origin: two, from: a.json, verify: {other: x}, more: 1}\n"
        "  - just words\n"
    )
    ran = oaktag("-C", shipped_mended, "check")
    told = [line for line in ran.err.splitlines() if ".yaml:" in line]
    for number, (at, words) in enumerate(
        [
            (1, "no group is shared"), (1, "the secret is no reference"),
            (3, "'UP' cannot be the origin"), (3, "'a.pem' is no absolute path"),
            (4, "quillmere is what we are called ourselves"), (4, "'http://a.example/' is no place"),
            (5, "'https://' is no place"), (6, "the domain one stands twice"),
            (6, "it is no public key of Ed25519"), (7, "has no key 'more'"), (7, "verify names no key"),
            (8, "a domain is 'just words'"),
        ]
    ):  # fmt: skip
        mine = [t for t in told if words in t]
        assert len(mine) == 1 and f"oaktag.yaml:{lines + at}:" in mine[0], (number, words, told)
    assert ran.status == 2 and len(told) == 12
    config.write_text(
        text.replace("workspace: quillmere", "workspace: The County")
        + "share: {groups: kiosks, "
        + verify.replace("verify", "sign")
        + "}\n"
    )
    assert "'The County', is none for other domains" in oaktag("-C", shipped_mended, "check").err


def test_numbers_of_a_document_at_their_ends(counties: tuple[Path, Path]) -> None:
    """The lowest and the highest that there are, and one beyond each."""
    document = _told(counties[1])

    def read(serial: int, tag: int) -> tuple[int, int]:
        groups = [{**document["groups"][0], "tag": tag}]
        shared = read_document(_signed({**document, "serial": serial, "groups": groups}).encode())
        return shared.shared.serial, shared.shared.groups[0].tag

    for ends in ((1, 65535), ((1 << 53) - 1, 1)):
        assert read(*ends) == ends
    for serial, tag in ((0, 7), (1 << 53, 7), (7, 0), (7, 65536)):
        with pytest.raises(UnreadableDocument, match="no number from 1 to"):
            read(serial, tag)
