"""Inventory files → columns of endpoints; sessions; corrections by hand."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from oaktag.core.addresses import WIDTH, Prefix, parse_prefix
from oaktag.core.arrays import np
from oaktag.core.endpoints import (
    KINDS,
    STABILITIES,
    Correction,
    Endpoints,
    SessionFacts,
    SourceTable,
    Value,
)
from oaktag.core.sessions import Session
from oaktag.letters import ACTING_IN_NAMES, named
from oaktag.located import Location
from oaktag.near import later
from oaktag.workspace.config_file import Config, Source
from oaktag.workspace.csvfile import CsvFile, read_csv
from oaktag.workspace.folder import LIVE, Folder, LiveSession
from oaktag.workspace.ldiffile import MEMBER_OF, list_ldif
from oaktag.workspace.listing import Listing, list_csv, list_json
from oaktag.workspace.office_forms import read_instant
from oaktag.workspace.textfile import Problems

CORRECTION_COLUMNS = ("endpoint", "attribute", "value", "who", "why")
SESSION_COLUMNS = ("endpoint", "address", "since")
#: Where sessions are from that no file names.
STORE = "store"


@dataclass(slots=True)
class Inventory:
    """Endpoints, their sessions, and sessions of endpoints that no source has."""

    endpoints: Endpoints
    sessions: list[Session] = field(default_factory=list)
    strangers: list[tuple[str, Location]] = field(default_factory=list)


@dataclass(slots=True)
class _Row:
    endpoint: str
    address: Prefix
    since: int
    location: Location
    facts: dict[str, Value]
    over: bool = False


def read_inventory(
    root: Folder, config: Config, problems: Problems, moment: int | None = None
) -> Inventory | None:
    """All endpoints of all sources, merged; None where a source could not be read.

    Sessions that begin after the ``moment`` (microseconds of the Unix epoch) do not count yet.
    """
    before = problems.count
    tables = [
        table
        for source in config.sources
        if (table := _read_source(root, source, config, problems)) is not None
    ]
    if problems.count > before:
        return None
    live: Sequence[LiveSession] = ()
    try:
        live = root.sessions(config.store, config.session_timeout, moment)
    except (OSError, ValueError, TypeError, LookupError):
        problems.form(Location(LIVE), "this is no copy of sessions", "take it away")
    asked = bool(live) or config.sessions is not None or config.corrections is not None
    known = {name for table in tables for name in table.ids} if asked else set()
    rows: list[_Row] = []
    if config.sessions is not None:
        rows = _read_sessions(root, config.sessions, problems)
        rows = [r for r in rows if moment is None or r.since <= moment]
    # Of equal times the later row counts: what files name is the oldest source.
    rows += _known_by(live, known)
    corrections: list[Correction] = []
    if config.corrections is not None:
        corrections = _read_corrections(root, config.corrections, known, problems)
    ours = sorted((r for r in rows if r.endpoint in known and not r.over), key=lambda r: r.since)
    facts = None
    if ours:
        names = dict.fromkeys(n for row in ours for n in row.facts)
        columns = {n: [row.facts.get(n, ()) for row in ours] for n in names}
        where = [r.location.file.partition(":")[0] for r in ours]
        facts = SessionFacts(where, [r.endpoint for r in ours], columns)
    endpoints = Endpoints(tables, corrections, facts)
    return Inventory(
        endpoints,
        [
            Session(endpoints.index[r.endpoint], r.address, r.since, r.location, r.over)
            for r in rows
            if r.endpoint in known
        ],
        [(r.endpoint, r.location) for r in rows if r.endpoint not in known and not r.over],
    )


#: What a name is parted from the realm or domain by, in which it is known.
_REALM = re.compile(r".*\\|@.*")
_MAC = re.compile(r"[0-9a-f]{12}")


def _known_by(live: Sequence[LiveSession], known: set[str]) -> list[_Row]:
    """Sessions of the store, by the names that the inventory has for their endpoints: as they are
    told, in small letters without a realm, or as a hardware address, however that is written."""
    found: list[_Row] = []
    if not live:
        return found
    names = Names(known)
    for told in live:
        name = names.of(told.endpoint) or told.endpoint
        said = {**told.told, "node": told.node}
        facts: dict[str, Value] = {f"session.{k}": (v,) for k, v in said.items() if v}
        place = Location(f"{STORE}:{told.node}")
        found.append(_Row(name, told.address, told.since, place, facts, told.over))
    return found


class Names:
    """Names of endpoints, as others say them."""

    def __init__(self, known: Collection[str]) -> None:
        self._known = known
        self._macs = {_mac(name): name for name in known if _mac(name)}

    def of(self, told: str) -> str | None:
        """The name that is meant; None where nobody is."""
        small = told.lower()
        some = told, small, _REALM.sub("", small), self._macs.get(_mac(told), "")
        return next((n for n in some if n in self._known), None)


def _mac(text: str) -> str:
    """Twelve hexadecimal digits, of a text that is nothing else but what parts them; else ""."""
    bare = re.sub(r"[-:.]", "", text.lower())
    return bare if _MAC.fullmatch(bare) else ""


class Form(NamedTuple):
    """A form of inventory file: how it is listed, and whether it tells names apart by case."""

    read: Callable[[Folder, Source, Problems], Listing | None]
    cased: bool = True


#: Forms by the end of the file's name; what ends otherwise is CSV.
CSV = Form(lambda root, s, problems: list_csv(root, s.file, problems, s.separator, s.encoding))
FORMS = {
    ".csv": CSV,
    ".jsonl": Form(lambda root, s, problems: list_json(root, s.file, problems, s.encoding)),
    ".ldif": Form(
        lambda root, s, problems: list_ldif(root, s.file, s.id, problems, s.encoding), cased=False
    ),
}


def _read_source(
    root: Folder, source: Source, config: Config, problems: Problems
) -> SourceTable | None:
    if source.directory is not None and not root.has(source.file):
        return SourceTable(source.kind, source.file, [], [], {})  # nobody has pulled it yet
    form = FORMS.get(Path(source.file).suffix.lower(), CSV)
    listing = form.read(root, source, problems)
    if listing is None:
        return None
    if not form.cased:
        # The configuration may write names of attributes in any case.
        lowered = {k.lower(): v for k, v in source.columns.items()}
        source = Source(
            source.file, source.kind, source.id.lower(), source.address and source.address.lower(),
            source.stability and source.stability.lower(), lowered, source.node,
        )  # fmt: skip
    names = _attributes(listing, source, config)
    if source.id not in listing.columns:
        return None
    column = listing.columns[source.id]
    ids, starts = column.values.elements
    whole = len(ids) == len(column.values) == len(column.codes)
    if not whole or (column.codes != np.arange(len(ids))).any():
        firsts = [ids[n] for n in starts[:-1]]
        ids = [firsts[code] if code >= 0 else "" for code in column.codes.tolist()]
        _check_ids(listing, source.id, ids, problems)
    if not "".join([*ids, *names.values()]).isprintable():
        _check_letters(listing, source.id, ids, names.values(), problems)
    table = SourceTable(source.kind, source.file, ids, listing.lines, {})
    for name, attribute in names.items():
        table.columns[attribute] = listing.columns[name]
        if name in listing.confidences:
            table.confidences[attribute] = listing.confidences[name]
        _check(listing, name, attribute, problems)
    return table


def _check_ids(listing: Listing, column: str, ids: list[str], problems: Problems) -> None:
    first: dict[str, int] = {}
    for row, name in enumerate(ids):
        if not name:
            where = listing.place(row, column)
            problems.form(where, "the endpoint has no id", f"a value for {column}")
        elif name in first:
            where, line = listing.place(row, column), int(listing.lines[first[name]])
            problems.clash(where, f"{name!r} is in this file twice", f"first in line {line}")
        first.setdefault(name, row)


def _check_letters(
    listing: Listing, column: str, ids: list[str], names: Iterable[str], problems: Problems
) -> None:
    """Ids and attributes hold nothing that acts or cannot be seen."""
    for row, name in enumerate(ids):
        if odd := ACTING_IN_NAMES.search(name):
            where = listing.place(row, column)
            problems.form(where, f"the id {name!r} holds {named(odd[0])}", "letters one can see")
    for name in names:
        if odd := ACTING_IN_NAMES.search(name):
            told = f"the attribute {name!r} holds {named(odd[0])}"
            problems.form(Location(listing.name, 1), told, "letters one can see")


def _attributes(listing: Listing, source: Source, config: Config) -> dict[str, str]:
    """Column → attribute, less the column that holds the id."""
    report = config.file
    special = {"address": source.address, "stability": source.stability}
    for key, column in {"id": source.id, **special}.items():
        if column is not None and column not in listing.columns:
            listed = ", ".join(listing.columns) or "it lists nobody"
            expected = later(column, listing.columns, listed)
            report.clash(
                source.node, f"{listing.name} has no column {column!r} for {key}", expected
            )
    names = {c: source.columns.get(c, c) for c in listing.columns if c != source.id}
    for column in source.columns:
        if column not in listing.columns:
            report.clash(source.node, f"{listing.name} has no column {column!r}", "see columns")
    for attribute, given in special.items():
        if given in names:
            names[given] = attribute
    taken: dict[str, str] = {}
    for column, attribute in list(names.items()):
        if attribute in ("id", "kind") or attribute in taken:
            other = taken.get(attribute, f"{attribute} of the source")
            report.clash(
                source.node,
                f"the column {column!r} of {listing.name} would give {attribute!r} once more",
                f"beside {other}; map it with columns: {{{column}: …}}",
            )
            del names[column]
        taken.setdefault(attribute, column)
    if MEMBER_OF in names and not len(listing.columns[MEMBER_OF].values):
        del names[MEMBER_OF]
    return names


def _check(listing: Listing, column: str, attribute: str, problems: Problems) -> None:
    said = listing.columns[column]
    wrong: dict[int, list[tuple[str, str]]] = {}
    if attribute == "address":
        for place, error in said.values.prefixes[1].items():
            code = int(np.searchsorted(said.values.elements[1], place, side="right")) - 1
            wrong.setdefault(code, []).append((error, "e.g. 10.20.1.15 or 2001:db8:20:1::15"))
    elif attribute == "stability":
        for code, value in enumerate(said.values):
            if value[0] not in STABILITIES:
                words = f"the stability is {';'.join(value)!r}", f"one of {', '.join(STABILITIES)}"
                wrong[code] = [words]
    for row in np.flatnonzero(np.isin(said.codes, list(wrong))).tolist():
        for message in wrong[int(said.codes[row])]:
            problems.form(listing.place(row, column), *message)


def _headed(
    root: Folder, name: str, columns: Collection[str], more: bool, problems: Problems
) -> CsvFile | None:
    """A CSV file that must have some columns, and may have no others unless ``more``."""
    file = read_csv(root, name, problems)
    if file is None:
        return None
    optional = ("who", "why")
    missing = [c for c in columns if c not in file.header and c not in optional]
    odd = [] if more else [c for c in file.header if c not in columns]
    for word in (*missing, *odd):
        verb = "is missing" if word in missing else "is not one of a correction"
        problems.form(Location(name, 1), f"the column {word!r} {verb}", ",".join(columns))
    return None if missing or odd else file


def _read_sessions(root: Folder, name: str, problems: Problems) -> list[_Row]:
    file = _headed(root, name, SESSION_COLUMNS, True, problems)
    if file is None:
        return []
    at = {c: file.header.index(c) for c in SESSION_COLUMNS}
    more = [(c, n) for n, c in enumerate(file.header) if c not in SESSION_COLUMNS]
    found: list[_Row] = []
    for row, cells in enumerate(file.rows):
        endpoint, text, when = (cells[at[c]] for c in SESSION_COLUMNS)
        if not endpoint:
            problems.form(file.place(row, at["endpoint"]), "the session has no endpoint", "an id")
            continue
        try:
            address = parse_prefix(text)
        except ValueError as error:
            problems.form(file.place(row, at["address"]), str(error), "one address")
            continue
        if address.length != WIDTH[address.family]:
            problems.form(file.place(row, at["address"]), f"{text!r} is a prefix", "one address")
            continue
        since, why = read_instant(when)
        if since is None:
            problems.form(file.place(row, at["since"]), why, "as in 2026-11-25T08:00:00Z")
            continue
        facts: dict[str, Value] = {f"session.{c}": (cells[n],) for c, n in more if cells[n]}
        place = Location(name, file.lines[row])
        found.append(_Row(endpoint, address, since, place, facts))
    return found


def _read_corrections(
    root: Folder, name: str, known: set[str], problems: Problems
) -> list[Correction]:
    file = _headed(root, name, CORRECTION_COLUMNS, False, problems)
    if file is None:
        return []
    found: list[Correction] = []
    columns = {c: file.cells(c) for c in CORRECTION_COLUMNS[:3]}
    for row, line in enumerate(file.lines):
        endpoint, attribute, cell = (columns[c][row] for c in CORRECTION_COLUMNS[:3])
        value = tuple(part for item in cell.split(";") if (part := item.strip()))
        where = Location(name, line)
        if endpoint not in known:
            problems.clash(
                file.place(row, file.header.index("endpoint")),
                f"no source has an endpoint {endpoint!r}",
                later(endpoint, known, "an endpoint of the inventory"),
            )
        elif not attribute or attribute == "id":
            problems.form(where, "the correction names no attribute", "any but id")
        elif not _good(attribute, value):
            problems.form(where, f"{cell!r} cannot be the {attribute}", "as in the inventory")
        else:
            found.append(Correction(endpoint, attribute, value, where))
    return found


def _good(attribute: str, value: Value) -> bool:
    if attribute == "address":
        try:
            return all(parse_prefix(text) for text in value)
        except ValueError:
            return False
    words = {"stability": STABILITIES, "kind": KINDS}.get(attribute)
    return words is None or all(v in words for v in value)
