"""Inputs changed at random: any file of a workspace, any command.

Each try changes one or two files (bytes, lines, cells and hostile pieces), runs one command in this
process, and holds it to what every command owes: an exit status from 0 to 3, no exception that
nobody foresaw, an answer within ten seconds, nothing on the terminal that acts, valid JSON with
``--json``, and files that are as they were where nothing was to be written.

    python -m campaigns.inputs --tries 100000 --seed 1 --jobs 2      (in benchmarks/)
"""

from __future__ import annotations

import argparse
import io
import json
import multiprocessing
import os
import random
import re
import resource
import shutil
import signal
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from oaktag.cli import app

#: The longest that one command may take on files as small as these, in seconds; and the most memory.
LONGEST, MEMORY = 10, 4 << 30

COMMANDS = (
    "check --all", "check --json", "attributes", "attributes model", "groups --json", "members",
    "members --unassigned", "members kiosks --json", "explain ada", "explain 10.20.200.11 --json",
    "explain patrons", "bindings --json", "bindings --at hall-edge", "matrix", "matrix --json",
    "cell patrons loans-db", "decide patrons loans-db https", "decide ada loans-1 8443/tcp --json",
    "decide --batch ask.csv", "callers loans-db ssh", "callees patrons --json", "describe patrons",
    "around front-desks", "compare ./was", "compare ./was --summary --fail-on guards",
    "compare ./was --json", "expect", "expect --json", "review --all", "review --json", "verify",
    "verify --json", "compile --out made", "prove lists", "prove lists --json", "reach",
    "reach --json", "reach --failures", "reach --mend --seconds 1", "trace ada loans-1 8443/tcp",
    "trace kiosks catalogue https --return --json", "drift observed", "drift observed --json",
    "reach --observed observed", "pin ada --to kiosks --write", "unpin print-gw-1 --write", "rename kiosks desks --write",
    "grant bram loans-db ssh --only --until 2030-01-31 --write", "cell front-desks catalogue --json",
    "decide front-desks catalogue https", "callers front-desks", "help scope --json",
    "groups --number --write", "set patrons catalogue nothing --write", "set --where owner=* --mode observe --write",
    "grant kiosks loans-db 22/tcp", "revoke patrons catalogue https", "verify --junit told.xml",
    "find 8443/tcp --json", "find 10.20.0.0/16", "find kiosks", "find 340 --all", "expect --uncovered",
    "expect --uncovered --json", "merge kiosks patrons --write --anyway", "retire kiosks --write",
    "split patrons fresh --when site=central --write", "correct ada role patron --write",
    "correct ada role --undo --json", "report --out page.html", "report --out page.html --since ./was --json",
    "groups --unlike", "groups --unlike --json", "expect --card", "expect --card --json",
    "bindings 10.20.2.101 --taken-by kiosks", "network --out net.json", "network --in net.json --json",
    "matrix --out sheet.csv", "matrix --out sheet.xlsx", "matrix --in sheet.csv --json", "members --all --out who.ods",
    "review --out found.xlsx", "renumber kiosks --write", "renumber kiosks 4000 --json",
    "members --when kind=device --save kiosks --write --anyway", "pin --when kind=user --to kiosks --json",
    "pin ada bram --to kiosks --write --anyway", "help OT203",
    "store", "store --check --json", "pull", "pull --json", "share", "share --out ours.json --lists told --json",
    "domains", "domains --held --json",
)  # fmt: skip

#: Pieces that have broken readers somewhere.
PIECES = (
    "\0", "\r", "\r\n", "\n", "\t", "\ufeff", "\u2028", "\u0085", "\u202e", "\x1b[2J", "\ud7ff", "😀", "é",
    "'", '"', "'''", '""', "\\", "\\n", "\\ud800", "${x}", "$(x)", "`x`", "$", "%s", "{}", "{0}", "::error::x::",
    "|", "<b>", "&amp;", "]]>", "[[a]]", "[a]", "{a: b}", "{}", "[]", "- ", "-\n", "? ", ": ", ":", "#", "&a ",
    "*a", "!!python/object:os.system x", "!x ", "|\n", ">\n", "---\n", "...\n", "%YAML 1.1\n", "<<: ",
    "[" * 60, "{" * 60, "- " * 60, "(" * 200, "9" * 5000, "-1", "0", "00", "0x10", "1e999", "nan", "inf",
    "1_000", "true", "null", "~", "no", "65535", "65536", "4294967296", "٣", "²", "1.5", "=1+1", "@x",
    "0.0.0.0/0", "::/0", "::ffff:10.0.0.1", "10.0.0.0/33", "10.0.0.1/8", "1.2.3", "fe80::1%eth0", "::1",
    "224.0.0.1", "any", "*", "**", "?", "[a-", "[!]", "itself", "untagged", "points", "registry", "endpoint:",
    "icmp/echo-request", "icmp4/300", "0-65535/tcp", "1-0/tcp", "/tcp", "proto/256", "proto/44", "443/tcp;443",
    "2026-02-30", "9999-12-31", "0000-01-01", "9999-12-31T23:59:59-23:59", "2016-12-31T23:59:60Z",
    "0001-01-01T00:00:00+23:59", "\n-\n", "dn:: //8=", "dn: ", "changetype: modify\n", "changetype: delete\n",
    "newrdn: x=y\ndeleteoldrdn: 2\n", "objectClass:: w6k=", "member: ", "uid:< file:///etc/passwd",
    '{"a": {"b": 1}}', '{"id": null}', '{"value": 1}', '{"value": "x", "confidence": 2}', "1" * 400 + ".0",
    '"\\ud800"', "NaN", "x" * 5000, ",", ",,,,", ";", ";;;", "\x7f", "../../etc/passwd", "/dev/zero", "a/../b",
    "include \"/etc/passwd\"", "flush ruleset", "drop", "accept", "policy accept;", "ct state", "elements = { ",
)  # fmt: skip

OBSERVED = {
    "form": 1, "node": "hall-edge", "at": "2026-11-25T08:00:00Z",
    "bindings": [{"prefix": "10.20.1.11/32", "tag": 310, "source": "session"}],
    "points": [{"point": "hall-edge", "mode": "enforce", "list": "hall-edge.nft"}],
    "feeds": [{"feed": "registry>hall-edge", "state": "up"}], "groups": {"310": "librarians"},
    "counters": [{"point": "hall-edge", "source": 310, "destination": 510, "packets": 12}],
}  # fmt: skip
ASKED = (
    "source,destination,family,protocol,source_port,destination_port\n"
    "patrons,loans-1,4,tcp,50000,8443\nkiosks,core-services,6,icmp,128,0\n"
)
LDIF = """dn: uid=eve,ou=people,dc=quillmere,dc=example
uid: eve
cn:: RXZlIMOJ
role: librarian
site: central

dn: cn=staff,ou=groups,dc=quillmere,dc=example
cn: staff
member: uid=eve,ou=people,dc=quillmere,dc=example

dn: uid=eve,ou=people,dc=quillmere,dc=example
changetype: modify
replace: role
role: patron
-

"""
JSONL = '{"uid": "finn", "role": {"value": "patron", "confidence": 0.9}, "tags": ["a", 1, true]}\n'


class Failure(NamedTuple):
    """What did not hold, and how to see it again."""

    kind: str
    command: str
    file: str
    seed: int
    told: str


def prepare(folder: Path, base: Path) -> Path:
    """A workspace with every kind of file, another version of it, lists and a report."""
    shutil.copytree(base, folder)
    config = folder / "oaktag.yaml"
    text = config.read_text()
    if "sources:" in text:
        more = "  - {file: inventory/x.ldif, kind: user, id: uid}\n"
        more += "  - {file: inventory/y.jsonl, kind: user, id: uid}\n"
        config.write_text(text.replace("sources:\n", f"sources:\n{more}", 1))
    (folder / "inventory/x.ldif").write_text(LDIF)
    (folder / "inventory/y.jsonl").write_text(JSONL)
    (folder / "ask.csv").write_text(ASKED)
    shutil.copytree(folder, folder / "was")
    run(folder, "compile --out lists")
    (folder / "observed").mkdir()
    (folder / "observed/hall-edge.json").write_text(json.dumps(OBSERVED))
    shutil.copy(folder / "lists/hall-edge.nft", folder / "observed/hall-edge.nft")
    return folder


def run(folder: Path, command: str) -> tuple[int, str, str]:
    """Run a command as ``oaktag`` does; exit status and both streams."""
    kept = sys.argv, sys.stdout, sys.stderr, sys.stdin
    out, err = io.StringIO(), io.StringIO()
    sys.argv = ["oaktag", "-C", str(folder), *command.split()]
    sys.stdout, sys.stderr, sys.stdin = out, err, io.StringIO()
    try:
        app.run()
    except SystemExit as done:
        status = done.code if isinstance(done.code, int) else 1
    finally:
        sys.argv, sys.stdout, sys.stderr, sys.stdin = kept
    return status, out.getvalue(), err.getvalue()


def changed(text: bytes, rng: random.Random) -> bytes:
    """A file's bytes, changed in a few places."""
    for _ in range(rng.choice((1, 1, 1, 2, 3))):
        at = rng.randrange(len(text) + 1)
        match rng.randrange(9):
            case 0:
                text = text[:at] + rng.choice(PIECES).encode("utf-8", "surrogatepass") + text[at:]
            case 1:
                end = at + rng.randrange(1, 20)
                text = text[:at] + text[end:]
            case 2:
                text = text[:at] + bytes([rng.randrange(256)]) + text[at + 1 :]
            case 3:
                lines = text.split(b"\n")
                n, m = rng.randrange(len(lines)), rng.randrange(len(lines))
                lines[n], lines[m] = lines[m], lines[n]
                text = b"\n".join(lines)
            case 4:
                lines = text.split(b"\n")
                lines.insert(rng.randrange(len(lines)), rng.choice(lines))
                text = b"\n".join(lines)
            case 5:
                lines = text.split(b"\n")
                del lines[rng.randrange(len(lines))]
                text = b"\n".join(lines)
            case _:  # a value for another: a word, or a hostile piece in place of one
                words = list(re.finditer(rb"[\w./:-]+", text))
                if words:
                    word = rng.choice(words)
                    other = rng.choice(words)[0] if rng.random() < 0.4 else None
                    piece = other or rng.choice(PIECES).encode("utf-8", "surrogatepass")
                    text = text[: word.start()] + piece + text[word.end() :]
    return text


ACTING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069\u2028\u2029]")
ORDERS = re.compile(r"^\s*(::[^\n]*::|##\w*\[)", re.MULTILINE)


def wrong(command: str, status: int, out: str, err: str) -> str:
    """What does not hold of an answer; nothing where all does."""
    if "should not happen" in err:
        return "exception: " + err.split("should not happen: ")[1].split("\n")[0]
    if status not in (0, 1, 2, 3):
        return f"exit status {status}"
    for text in (out, err):
        if found := ACTING.search(text):
            return f"prints {found[0]!r}"
        if ORDERS.search(text) and "--json" not in command and "--batch" not in command:
            return "prints an order of a CI system"
        if len(text) > 4_000_000:
            return f"prints {len(text)} characters"
    if status == 2 and not err:
        return "fails without a word"
    if "--json" in command and out:
        try:
            json.loads(out)
        except ValueError as error:
            return f"no JSON: {error}"
    return ""


class TooLong(BaseException):
    """A command took longer than it may."""


def _late(*_: object) -> None:
    raise TooLong


def tries(base: Path, seed: int, count: int) -> Iterator[tuple[str, Failure | None]]:
    """So many tries in a folder of their own; what each came to."""
    before = signal.signal(signal.SIGALRM, _late)
    shared = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="campaign-", dir=shared) as place:
        folder = prepare(Path(place) / "w", base)
        made = {".csv", ".yaml", ".ldif", ".jsonl", ".json", ".nft"}
        names = [
            str(p.relative_to(folder)) for p in sorted(folder.rglob("*"))
            if p.suffix in made and not {"was", ".oaktag"} & set(p.parts)
        ]  # fmt: skip
        whole = {name: (folder / name).read_bytes() for name in names}
        for number in range(seed, seed + count):
            rng = random.Random(number)
            command, name = rng.choice(COMMANDS), rng.choice(names)
            some = {name, rng.choice(names)} if rng.random() < 0.1 else {name}
            for one in sorted(some):
                (folder / one).write_bytes(changed(whole[one], rng))
            told, status = "", -1
            signal.alarm(LONGEST)
            try:
                status, out, err = run(folder, command)
                told = wrong(command, status, out, err)
            except TooLong:
                told = f"longer than {LONGEST} s"
            except Exception as error:
                told = f"exception: {type(error).__name__}: {error}"
            finally:
                signal.alarm(0)
            failure = None
            if told:
                failure = Failure(told.split(":")[0], command, name, number, told[:300])
            yield f"exit status {status}", failure
            for one, text in whole.items():
                path = folder / one
                if (
                    not path.is_file()
                    or path.stat().st_size != len(text)
                    or path.read_bytes() != text
                ):
                    path.write_bytes(text)
            for extra in ("made", ".oaktag"):
                shutil.rmtree(folder / extra, ignore_errors=True)
    signal.signal(signal.SIGALRM, before)


def _little() -> None:
    """For processes of this campaign alone: a limit that is taken up is never given back."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))


def _job(work: tuple[Path, int, int]) -> tuple[Counter[str], list[Failure]]:
    counts: Counter[str] = Counter()
    failures: list[Failure] = []
    for came, failure in tries(*work):
        counts[came] += 1
        failures += [failure] if failure else []
    return counts, failures


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0] if __doc__ else "")
    parser.add_argument("--tries", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    here = Path(__file__).resolve().parents[2]
    parser.add_argument("--base", type=Path, default=here / "tests/workspaces/first")
    given = parser.parse_args()
    begun = time.monotonic()
    piece = 500
    work = [
        (given.base, given.seed + at, min(piece, given.tries - at))
        for at in range(0, given.tries, piece)
    ]
    counts: Counter[str] = Counter()
    failures: list[Failure] = []
    with multiprocessing.Pool(given.jobs, initializer=_little, maxtasksperchild=4) as pool:
        for done, found in pool.imap_unordered(_job, work):
            counts += done
            failures += found
            for failure in found:
                print(
                    f"{failure.told}\n    seed {failure.seed}: {failure.command} ({failure.file})",
                    flush=True,
                )
    took = time.monotonic() - begun
    statuses = ", ".join(f"{word}: {n}" for word, n in sorted(counts.items()))
    print(f"{counts.total()} tries in {took:.0f} s; {statuses}; {len(failures)} did not hold")
    return int(bool(failures))


if __name__ == "__main__":
    sys.exit(main())
