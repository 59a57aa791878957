"""LDIF (RFC 2849): entries of a directory, changes applied, nested group membership resolved.

Read here: folded lines, comments, base64 values (``::``), change records (add, delete, modify,
modrdn); a value by URL (``:<``) is refused. An entry is an endpoint if it has the attribute that
is the id; the others may be groups of it: their names, and the names of the groups that hold them,
are its attribute ``member_of``. Attribute names are told apart without case or options; names of
entries (RFC 4514) without case and without spaces around ``,`` and ``=``.
"""

from __future__ import annotations

import base64
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from oaktag.core.arrays import np
from oaktag.core.endpoints import Value, coded
from oaktag.located import Location
from oaktag.workspace.folder import Folder
from oaktag.workspace.listing import Listing
from oaktag.workspace.textfile import Problems, read_text

MEMBERS = ("member", "uniquemember")
MEMBER_IDS = "memberuid"
MEMBER_OF = "member_of"
_LINE = re.compile(r"([A-Za-z0-9][A-Za-z0-9.-]*)((?:;[A-Za-z0-9.-]+)*):(:|<)? *(.*)", re.DOTALL)


@dataclass(slots=True)
class Entry:
    """One entry: its name as written, attributes in lower case, and where it starts."""

    name: str
    line: int
    values: dict[str, list[str]] = field(default_factory=dict)


class _Bad(Exception):
    """A fault at a line."""

    def __init__(self, line: int, message: str, expected: str) -> None:
        super().__init__(message)
        self.line, self.message, self.expected = line, message, expected


Line = tuple[int, str, str]  # physical line, attribute in lower case, value


def list_ldif(
    root: Folder, name: str, key: str, problems: Problems, encoding: str
) -> Listing | None:
    """The entries that have the attribute ``key``, as a listing."""
    text = read_text(root, name, problems, encoding)
    if text is None:
        return None
    entries: dict[str, Entry] = {}
    before = problems.count
    for record in _records(text):
        try:
            _apply(entries, record)
        except _Bad as bad:
            problems.form(Location(name, bad.line), bad.message, bad.expected)
    if text and not text.endswith("\n"):
        last = text.count("\n") + 1
        problems.form(Location(name, last), "the file ends in the middle of a line", "cut short?")
    if problems.count > before:
        return None
    return _listing(name, key.lower(), entries)


def list_entries(
    name: str, key: str, held: Iterable[tuple[str, Mapping[str, Sequence[bytes]]]]
) -> Listing:
    """The same for entries as a directory gives them: their names, and values as octets."""
    entries: dict[str, Entry] = {}
    for named, values in held:
        entry = entries[_normal(named)] = Entry(named, 0)
        for attribute, some in values.items():
            plain = attribute.partition(";")[0].lower()
            entry.values.setdefault(plain, []).extend(map(_decoded, some))
    return _listing(name, key.lower(), entries)


def _decoded(value: bytes) -> str:
    """A value as text; "" for a picture or a certificate: nothing that a rule could compare."""
    try:
        return value.decode()
    except UnicodeDecodeError:
        return ""


def _records(text: str) -> Iterator[list[tuple[int, str]]]:
    """Records as (physical line, unfolded text), without comments."""
    record: list[tuple[int, str]] = []
    comment = False
    for number, raw in enumerate(io.StringIO(text), 1):
        line = raw.rstrip("\n").rstrip("\r")
        if line.startswith(" "):
            if not comment and record:
                record[-1] = record[-1][0], record[-1][1] + line[1:]
            continue
        comment = line.startswith("#")
        if comment:
            continue
        if line:
            record.append((number, line))
        elif record:
            yield record
            record = []
    if record:
        yield record


def _parse(number: int, line: str) -> Line:
    match = _LINE.fullmatch(line)
    if match is None:
        raise _Bad(number, f"{line[:40]!r} is no attribute with its value", "name: value")
    attribute, _, form, value = match.groups()
    if form == "<":
        raise _Bad(number, f"the value of {attribute} is given by URL", "the value itself")
    if form == ":":
        try:
            value = _decoded(base64.b64decode(value, validate=True))
        except ValueError:  # binascii.Error is one, and so is what is not ASCII
            raise _Bad(number, f"the value of {attribute} is not base64", "RFC 4648") from None
    return number, attribute.lower(), value


def _apply(entries: dict[str, Entry], record: list[tuple[int, str]]) -> None:
    ends = [number for number, line in record if line == "-"]
    lines = [_parse(number, line) for number, line in record if line != "-"]
    if not lines:
        raise _Bad(ends[0], "a '-' without a record", "dn: …")
    if lines[0][1] == "version":
        if lines[0][2] != "1":
            raise _Bad(lines[0][0], f"this is LDIF version {lines[0][2]}", "version 1")
        lines = lines[1:]
        record = record[1:]
        if not lines:
            return
    number, attribute, name = lines[0]
    if attribute != "dn" or not name:
        raise _Bad(number, "the record does not begin with its name", "dn: …")
    change = "add"
    rest = lines[1:]
    while rest and rest[0][1] in ("control", "changetype"):
        change = rest[0][2].lower() if rest[0][1] == "changetype" else change
        rest = rest[1:]
    known = _normal(name)
    if ends and change != "modify":
        raise _Bad(ends[0], f"a '-' in a record of {change}", "it ends a change of modify")
    if change == "add":
        if known in entries:
            raise _Bad(number, f"{name!r} is there twice", f"first in line {entries[known].line}")
        entry = entries[known] = Entry(name, number)
        for _, key, value in rest:
            entry.values.setdefault(key, []).append(value)
        return
    if known not in entries:
        raise _Bad(number, f"{change} of {name!r}, which is not there", "an entry above")
    if change == "delete":
        del entries[known]
    elif change == "modify":
        _modify(entries[known], record)
    elif change in ("modrdn", "moddn"):
        _rename(entries, known, {key: value for _, key, value in rest}, number)
    else:
        raise _Bad(number, f"changetype {change!r} is not known", "add, delete, modify or modrdn")


def _modify(entry: Entry, record: list[tuple[int, str]]) -> None:
    """Apply the parts of a modify record, each ended by ``-`` (RFC 2849, mod-spec)."""
    verb = key = ""
    values: list[str] = []

    def done() -> None:
        held = entry.values.setdefault(key, [])
        if verb == "replace":
            held[:] = values
        elif verb == "add":
            held += [v for v in values if v not in held]
        elif verb == "delete":
            held[:] = [v for v in held if values and v not in values]

    for line, text in record:
        if text == "-":
            if not verb:
                raise _Bad(line, "a '-' without a change before it", "add:, delete: or replace:")
            done()
            verb, key, values = "", "", []
            continue
        _, attribute, value = _parse(line, text)
        if attribute in ("dn", "changetype", "control", "version") and not verb:
            continue
        if not verb:
            if attribute not in ("add", "delete", "replace"):
                raise _Bad(line, f"{attribute!r} is no change", "add:, delete: or replace:")
            verb, key = attribute, value.split(";")[0].lower()
        elif attribute != key:
            raise _Bad(line, f"a value of {attribute}, not of {key}", f"{key}: …, or a '-' before")
        else:
            values.append(value)
    if verb:
        done()


def _rename(entries: dict[str, Entry], known: str, said: dict[str, str], number: int) -> None:
    if "newrdn" not in said:
        raise _Bad(number, "a new name is missing", "newrdn: …")
    entry = entries.pop(known)
    first, *above = _split(entry.name)
    if said.get("newsuperior"):
        above = [said["newsuperior"]]
    if said.get("deleteoldrdn") == "1":
        attribute, _, old = first.partition("=")
        held = entry.values.get(attribute.strip().lower(), [])
        held[:] = [v for v in held if v.lower() != _plain(old.strip()).lower()]
    attribute, _, value = said["newrdn"].partition("=")
    held = entry.values.setdefault(attribute.strip().lower(), [])
    if (plain := _plain(value.strip())) not in held:
        held.append(plain)
    entry.name = ",".join([said["newrdn"], *above])
    entries[_normal(entry.name)] = entry


def _split(name: str) -> list[str]:
    """The components of a name, as they are written (RFC 4514, section 3)."""
    if "\\" not in name:
        return name.split(",")
    parts = [""]
    for piece in re.findall(r"\\.|[^\\]|\\$", name, re.DOTALL):
        if piece == ",":
            parts.append("")
        else:
            parts[-1] += piece
    return parts


def _plain(value: str) -> str:
    """A value without its escapes, of a character or bytes in UTF-8 (RFC 4514, section 2.4)."""

    def meant(found: re.Match[str]) -> str:
        if found[1]:
            return bytes.fromhex(found[1].replace("\\", "")).decode("utf-8", "replace")
        return found[2]

    return re.sub(r"((?:\\[0-9A-Fa-f]{2})+)|\\(.)", meant, value) if "\\" in value else value


@lru_cache(maxsize=1 << 17)  # an entry, and once more in each group that it is in
def _normal(name: str) -> str:
    """A name as it is compared: without regard to case, spaces around parts and ways to escape."""
    parts = [part.partition("=") for part in _split(name)]
    return "\n".join(f"{a.strip()}={_plain(v.strip())}" for a, _, v in parts).lower()


def _first(name: str) -> str:
    """The value of an entry's first component: a group's name."""
    return _plain(_split(name)[0].partition("=")[2].strip())


def _listing(name: str, key: str, entries: dict[str, Entry]) -> Listing:
    above: dict[str, list[str]] = {}
    for known, entry in entries.items():
        for attribute in MEMBERS:
            for member in entry.values.get(attribute, ()):
                above.setdefault(_normal(member), []).append(known)
        for member in entry.values.get(MEMBER_IDS, ()):
            above.setdefault(f"\0{member}", []).append(known)
    listed = [(known, e) for known, e in entries.items() if e.values.get(key)]
    names = list(dict.fromkeys(a for _, e in listed for a in e.values))
    columns: dict[str, list[Value]] = {a: [] for a in [key, *(n for n in names if n != key)]}
    columns[MEMBER_OF] = []
    for known, entry in listed:
        for attribute in columns:
            held = entry.values.get(attribute, [])
            columns[attribute].append(tuple(v.strip() for v in held if v.strip()))
        columns[key][-1] = columns[key][-1][:1]
        groups = _closure([known, f"\0{entry.values[key][0]}"], above)
        columns[MEMBER_OF][-1] = tuple(sorted(_first(entries[g].name) for g in groups))
    lines = [entry.line for _, entry in listed]
    return Listing(
        name, np.array(lines, dtype=np.int64), {n: coded(of) for n, of in columns.items()},
        lambda row, column: Location(name, lines[row]),
    )  # fmt: skip


def _closure(start: list[str], above: dict[str, list[str]]) -> set[str]:
    """All groups that hold an entry, or hold a group that does; circles do no harm."""
    found: set[str] = set()
    todo = list(start)
    while todo:
        for group in above.get(todo.pop(), ()):
            if group not in found:
                found.add(group)
                todo.append(group)
    return found
