"""Readers fed by a fuzzer that follows the code's branches (atheris), or, without it, at random.

Each input is one file of a workspace that is otherwise sound, or one list, or one report: it is
read as the whole workspace is, in memory, and what is read is asked for its decisions and members.
Whatever comes that is not one of the errors that are raised on purpose ends the run.

    python -m campaigns.readers --tries 1000000 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import signal
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from campaigns.inputs import JSONL, LDIF, OBSERVED, changed
from campaigns.workspaces import BASE
from oaktag.core.addresses import parse_prefix
from oaktag.core.domains import Receipt, Shared, SharedGroup
from oaktag.core.network import Scope
from oaktag.dialects import DIALECTS
from oaktag.errors import OakTagError
from oaktag.operations.lists import list_text
from oaktag.operations.model import Model
from oaktag.protocols.signing import by_secret
from oaktag.sources.domain import verified
from oaktag.workspace.adopted_files import read_documents
from oaktag.workspace.assignments_file import read_assignments
from oaktag.workspace.config_file import read_config
from oaktag.workspace.domain_file import Signature, UnreadableDocument, text_of
from oaktag.workspace.expectations_file import read_expectations
from oaktag.workspace.folder import Folder
from oaktag.workspace.groups_file import read_groups
from oaktag.workspace.inventory import read_inventory
from oaktag.workspace.load import read_files
from oaktag.workspace.matrix_file import read_layer
from oaktag.workspace.network_file import read_network
from oaktag.workspace.observed_file import read_reports
from oaktag.workspace.permissions_file import read_permissions
from oaktag.workspace.textfile import Problems

MORE = """workspace: x
tags: {issue: 2000-2999}
layers: [matrix/10-shared.csv, matrix/20-reading.csv]
sources:
  - {file: inventory/servers.csv, kind: server, id: hostname, address: ip}
  - {file: inventory/people.csv, kind: user, id: uid, address: desk, stability: stability}
  - {file: inventory/devices.csv, kind: device, id: mac, address: ip, stability: stability}
  - {file: x.ldif, kind: user, id: uid}
  - {file: y.jsonl, kind: user, id: uid}
corrections: c.csv
sessions: s.csv
share: {origin: x, groups: [patrons, front-desks], sign: {hmac: {env: A}}}
adopt:
  - {origin: other, from: other.json, verify: {hmac: {env: OAKTAG_CAMPAIGN}}, groups: [staff]}
  - {origin: more, from: "https://more.example/x", verify: {ed25519: KEY}, ca: /a}
accepted:
  - {reach: leak, cause: no-point, at: [a*], from: patrons, service: 80/tcp, why: x, until: 2027-01-01}
"""


KEY = "MCowBQYDK2VwAyEAGb9ECWmEzf6FQbrBZ9w7lshQhqowtrbLDFw4rXAxZuE="
SECRET = "a secret of campaigns"
SHARED = Shared(
    "other", 7, 1_795_000_000_000_000,
    (
        SharedGroup("staff", 7, "Their staff", "their desk", (parse_prefix("10.40.1.0/24"),)),
        SharedGroup("rooms", 8, "Ä room", "", (parse_prefix("2001:db8:40::/64"),)),
    ),
    (Receipt("x", 3, "0" * 64),),
)  # fmt: skip
#: The day of the campaign, and how often the whole workspace is read.
TODAY, WHOLE = 739_945, 0.02
PEOPLE = "inventory/people.csv"


class Readers:
    """Every reader by the name of what it reads, and a sound input of each."""

    def __init__(self, place: Path) -> None:
        self.place = place
        os.environ["OAKTAG_CAMPAIGN"] = SECRET
        self.sound: dict[str, bytes] = {
            str(p.relative_to(BASE)): p.read_bytes() for p in sorted(BASE.rglob("*")) if p.is_file()
        }
        extra = {
            "x.ldif": LDIF, "y.jsonl": JSONL, "oaktag.yaml": MORE.replace("KEY", KEY),
            "adopted/other.json": text_of(
                SHARED, lambda told: Signature("hmac-sha256", by_secret(SECRET.encode(), told))
            ),
            "c.csv": "endpoint,attribute,value,who,why\nada,role,patron,me,x\n",
            "s.csv": "endpoint,address,since\nada,10.20.1.50,2026-11-25T08:00:00Z\n",
        }  # fmt: skip
        self.sound |= {name: text.encode() for name, text in extra.items()}
        self.files = read_files(Folder(Path("/nowhere"), self.sound, alone=True))
        self.sources = {s.file: s for s in self.files.config.sources}
        point = next(iter(Model(self.files, TODAY).network.points.values()))
        few = point._replace(scope=Scope("listed", frozenset({1, 2}), frozenset({3, 4})))
        self.sound["list"] = list_text(Model(self.files, TODAY), few).encode()
        row = few._replace(dialect="json")
        self.sound["row"] = list_text(Model(self.files, TODAY), row).encode()
        (place / "observed").mkdir()
        (place / "observed/hall-edge.nft").write_bytes(self.sound["list"])
        self.sound["report"] = json.dumps(OBSERVED).encode()
        self.names = sorted(self.sound)

    def read(self, name: str, data: bytes, *, whole: bool = False) -> str:
        """Read one input, by its own reader or as a part of the whole workspace; what came of it."""
        try:
            problems = self._whole(name, data) if whole else self._alone(name, data)
        except (OakTagError, UnicodeDecodeError):
            return "refused"
        return "refused" if problems.count else "read"

    def _whole(self, name: str, data: bytes) -> Problems:
        files = self.sound | {name: data}
        model = Model.read(Folder(Path("/nowhere"), files, alone=True), TODAY)
        _ = model.assignment.group, model.registry, model.matrix.action_form
        return Problems()

    def _document(self, data: bytes) -> None:
        """A document that is believed says what was signed."""
        with contextlib.suppress(UnreadableDocument):
            found = verified(self.files.config.adopt[0], data).shared
            assert found == SHARED, f"believed: {data!r}"

    def _alone(self, name: str, data: bytes) -> Problems:
        files, problems = self.files, Problems()
        none = files.config._replace(sources=(), corrections=None, sessions=None)
        known = {PEOPLE: self.sound[PEOPLE]} if name in ("c.csv", "s.csv") else {}
        folder = Folder(Path("/nowhere"), known | {name: data}, alone=True)
        people = (self.sources[PEOPLE],)
        match name:
            case "list":
                DIALECTS["nftables"].read(data.decode("utf-8"))
            case "row":
                DIALECTS["json"].read(data.decode("utf-8"))
            case "report":
                observed = self.place / "observed"
                (observed / "hall-edge.json").write_bytes(data)
                read_reports(observed, ["hall-edge"])
            case "oaktag.yaml":
                read_config(folder, problems)
            case "groups.yaml":
                read_groups(folder, files.config.numbering, problems)
            case "permissions.yaml":
                read_permissions(folder, problems)
            case "network.yaml":
                read_network(folder, files.groups, problems)
            case "assignments.yaml":
                read_assignments(
                    folder, files.groups, files.endpoints, set(files.network.nodes), problems
                )
            case "expectations.yaml":
                services = files.permissions.services
                read_expectations(
                    folder, files.groups, files.endpoints, services, files.network.nodes, problems
                )
            case "adopted/other.json":
                self._document(data)
                read_documents(folder, files.config.adopt, problems)
            case "c.csv":
                read_inventory(folder, none._replace(sources=people, corrections=name), problems)
            case "s.csv":
                read_inventory(folder, none._replace(sources=people, sessions=name), problems)
            case _ if name in self.sources:
                read_inventory(folder, none._replace(sources=(self.sources[name],)), problems)
            case _:
                layer, held = files.policy.permissions, files.groups
                read_layer(folder, name, 0, held, layer, problems)
        return problems


def _late(*_: object) -> None:
    raise TimeoutError("longer than ten seconds")


def by_branches(readers: Readers, count: int, seed: int) -> None:
    """The fuzzer chooses: the first byte of an input says which file it is."""
    import atheris

    def one(data: bytes) -> None:
        if data:
            signal.alarm(10)
            readers.read(readers.names[data[0] % len(readers.names)], data[1:])
            signal.alarm(0)

    corpus = readers.place / "corpus"
    corpus.mkdir()
    for number, name in enumerate(readers.names):
        (corpus / str(number)).write_bytes(bytes([number]) + readers.sound[name])
    words = [
        sys.argv[0],
        str(corpus),
        f"-runs={count}",
        f"-seed={seed}",
        "-max_len=20000",
        "-verbosity=0",
    ]
    atheris.Setup(words, one)
    atheris.Fuzz()


def at_random(readers: Readers, count: int, seed: int) -> int:
    """The changes of the other campaign."""
    came: Counter[str] = Counter()
    begun = time.monotonic()
    for number in range(seed, seed + count):
        rng = random.Random(number)
        name = rng.choice(readers.names)
        data = changed(readers.sound[name], rng)
        signal.alarm(10)
        try:
            came[readers.read(name, data, whole=rng.random() < WHOLE)] += 1
        except Exception as error:
            came["did not hold"] += 1
            print(f"{type(error).__name__}: {error}\n    seed {number}: {name}", flush=True)
        signal.alarm(0)
    took = time.monotonic() - begun
    told = ", ".join(f"{n} {what}" for what, n in sorted(came.items()))
    print(f"{count} inputs in {took:.0f} s: {told}")
    return int(came["did not hold"] > 0)


def main() -> int:
    """Run the campaign; an exit status other than 0 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--tries", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--at-random", action="store_true", help="Without the fuzzer.")
    given = parser.parse_args()
    signal.signal(signal.SIGALRM, _late)
    with tempfile.TemporaryDirectory(prefix="campaign-") as place:
        readers = Readers(Path(place))
        if given.at_random:
            return at_random(readers, given.tries, given.seed)
        by_branches(readers, given.tries, given.seed)
    return 0


if __name__ == "__main__":
    if "--at-random" not in sys.argv:
        import atheris

        atheris.instrument_all()
    sys.exit(main())
