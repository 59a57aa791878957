"""A directory as a source, against a real server: what it says comes into the files whole, or not."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ran
from directories import BASE, PASSWORD, READER, directory, is_here

Run = Callable[..., Ran]


@pytest.fixture(autouse=True)
def _here(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TRIED", PASSWORD)
    if not is_here():
        if os.environ.get("OAKTAG_REQUIRE_REAL") == "1":
            pytest.fail("slapd is not here (slapd)")
        pytest.skip("slapd is not here (slapd)")


def _sourced(folder: Path, file: str, url: str, **more: str) -> None:
    """Let people come from a directory."""
    keys = {
        "ldap": f'"{url}"', "base": f'"{BASE}"', "filter": '"(uid=*)"', "bind": f'"{READER}"',
        "password": "{env: TRIED}", "groups": '"(objectClass=groupOfNames)"', **more,
    }  # fmt: skip
    told = ", ".join(f"{key}: {value}" for key, value in keys.items())
    config = folder / "oaktag.yaml"
    before = "{file: inventory/people.ldif, kind: user, id: uid, columns: {cn: name}}"
    text = config.read_text()
    assert before in text
    config.write_text(
        text.replace(
            before, f"{{file: {file}, kind: user, id: uid, columns: {{cn: name}}, {told}}}"
        )
    )


def _who(oaktag: Run, folder: Path) -> dict[str, tuple[str, str]]:
    rows = oaktag("-C", folder, "members", "--json").json["endpoints"]
    return {r["endpoint"]: (r["kind"], r["group"]) for r in rows}


@pytest.mark.parametrize("file", ["inventory/staff.jsonl", "inventory/staff.ldif"])
def test_people_of_a_directory(file: str, shipped: Path, oaktag: Run) -> None:
    """Pulled by ldaps and by StartTLS, everybody is who they were in the export; pulled again, no
    byte changes; nothing is written unasked."""
    people = shipped / "inventory/people.ldif"
    before = _who(oaktag, shipped)
    with directory(people.read_text()) as server:
        config = (shipped / "oaktag.yaml").read_text()
        _sourced(shipped, file, server.tls, ca=str(server.ca))
        ran = oaktag("-C", shipped, "pull")
        assert ran.status == 0 and f"+++ {file}" in ran.out and not (shipped / file).exists()
        assert oaktag("-C", shipped, "pull", "--write").status == 0
        assert _who(oaktag, shipped) == before
        text = (shipped / file).read_text()
        (shipped / "oaktag.yaml").write_text(config)
        _sourced(shipped, file, server.plain, ca=str(server.ca), starttls="true")
        ran = oaktag("-C", shipped, "pull", file, "--write", "--json")
        assert ran.status == 0 and ran.json["files"] == [] and (shipped / file).read_text() == text


def test_what_a_directory_does_not_give_whole(shipped: Path, oaktag: Run) -> None:
    """A list that is cut short, a wrong password, a certificate of somebody else, nobody there: each is
    told, and nothing is written."""
    people = shipped / "inventory/people.ldif"
    config, text = shipped / "oaktag.yaml", (shipped / "oaktag.yaml").read_text()
    file = "inventory/staff.jsonl"

    def tried(url: str, status: int, why: str, **more: str) -> None:
        config.write_text(text)
        _sourced(shipped, file, url, **more)
        ran = oaktag("-C", shipped, "pull", "--write")
        assert ran.status == status and why in ran.err, (ran.err, why)
        assert "Traceback" not in ran.err and PASSWORD not in ran.err
        assert not (shipped / file).exists()

    with directory(people.read_text(), limit="10") as server:
        ca = str(server.ca)
        tried(server.tls, 2, "sizeLimitExceeded", ca=ca)
        tried(server.tls, 2, "is refused: invalidCredentials", ca=ca, bind=f'"cn=who,{BASE}"')
        tried(server.tls, 3, "certificate verify failed")
        tried(server.tls.replace("localhost", "127.0.0.1"), 3, "127.0.0.1", ca=ca)
        tried(server.tls, 2, "noSuchObject", ca=ca, base='"dc=nowhere"')
        tried(server.plain, 2, "would cross the network as it is", ca=ca)
    tried(server.tls, 3, "refused", ca=str(people))
    tried("ftp://x", 2, "'ftp://x' is no directory")
    tried(server.tls, 2, "no reference", password="hunter2")
    tried(server.tls, 2, "guard is 'half'", guard="half")


def test_a_directory_that_lost_many_is_not_believed(shipped: Path, oaktag: Run) -> None:
    people = shipped / "inventory/people.ldif"
    file, whole = "inventory/staff.jsonl", people.read_text()
    blocks = whole.split("\n\n")
    gone = [b for b in blocks if b.startswith("dn: uid=") and "uid=ivo," not in b][:12]
    less = "\n\n".join(b for b in blocks if b not in gone)
    config, text = shipped / "oaktag.yaml", (shipped / "oaktag.yaml").read_text()
    with directory(whole) as server:
        _sourced(shipped, file, server.tls, ca=str(server.ca))
        assert oaktag("-C", shipped, "pull", "--write").status == 0
    held = (shipped / file).read_text()
    count = held.count("\n")
    with directory(less) as server:
        share = 100 * 12 // count
        for guard, status in ((share - 1, 2), (share, 0)):
            config.write_text(text)
            _sourced(shipped, file, server.tls, ca=str(server.ca), guard=f"{guard} %")
            ran = oaktag("-C", shipped, "pull")
            assert ran.status == status, ran.err
            if status:
                assert f"12 of {count} are not in the directory any more" in ran.err
        config.write_text(text)
        _sourced(shipped, file, server.tls, ca=str(server.ca), guard="0 %")
        ran = oaktag("-C", shipped, "pull", "--write", "--anyway", "--json")
        assert ran.status == 0 and len([e for e in ran.json["endpoints"] if not e["is"]]) <= 12
        assert (shipped / file).read_text().count("\n") == count - 12
    ran = oaktag("-C", shipped, "pull", "inventory/servers.csv")
    assert ran.status == 2 and "stands for nothing live; these do: inventory/staff.jsonl" in ran.err
