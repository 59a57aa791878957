"""The document by which a domain tells another of its groups: read strictly, and written in one
form, so that the same groups are the same bytes.

The signature is over the document without it, as RFC 8785 writes it: keys in their
order, no blanks.
``schemas/shared-groups.json`` is its JSON Schema.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable
from hashlib import sha256
from typing import Any, NamedTuple, NoReturn

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.domains import Receipt, Shared, SharedGroup
from oaktag.core.groups import HIGHEST_TAG, PLAIN_ID, RESERVED_WORDS
from oaktag.workspace.times import instant_text, parse_instant

FORM = 1
#: A larger document is not read, in bytes; nor one of more prefixes.
LARGEST, MOST_PREFIXES = 1 << 26, 1_000_000
#: Whole numbers beyond it are not the same to all readers of JSON (RFC 8259, section 6).
HIGHEST_SERIAL = (1 << 53) - 1
#: How documents are signed, and how many octets a signature has.
KINDS = {"hmac-sha256": 32, "ed25519": 64}
KEYS = ("oaktag", "form", "origin", "serial", "made", "groups", "holds", "signature")
GROUP_KEYS = ("id", "tag", "title", "owner", "prefixes")
_DIGEST = re.compile(r"[0-9a-f]{64}")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029\ud800-\udfff]")


class UnreadableDocument(ValueError):
    """No document of shared groups, and why."""


class Signature(NamedTuple):
    """A signature of a document: how it is made, and its octets."""

    kind: str
    value: bytes


class Document(NamedTuple):
    """A document as it came: what it says, what its signature is over, and that."""

    shared: Shared
    signed: bytes
    signature: Signature


def as_values(shared: Shared) -> dict[str, Any]:
    """What a document says, without a signature, as JSON has it."""
    return {
        "oaktag": "groups",
        "form": FORM,
        "origin": shared.origin,
        "serial": shared.serial,
        "made": instant_text(shared.made),
        "groups": _groups(shared),
        "holds": [
            {"origin": h.origin, "serial": h.serial, "digest": h.digest} for h in shared.holds
        ],
    }


def _groups(shared: Shared) -> list[dict[str, Any]]:
    return [
        {
            "id": g.id, "tag": g.tag, "title": g.title, "owner": g.owner,
            "prefixes": [str(p) for p in g.prefixes],
        }
        for g in shared.groups
    ]  # fmt: skip


def canonical(values: Any) -> bytes:
    """Values as RFC 8785 writes them; of numbers there are only whole ones."""
    text = json.dumps(values, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return text.encode()


def digest_of(shared: Shared) -> str:
    """What stands for the groups of a document, whatever their order: a domain's receipt."""
    rows = sorted(_groups(shared), key=lambda g: g["id"])
    for row in rows:
        row["prefixes"].sort()
    return sha256(canonical(rows)).hexdigest()


def text_of(shared: Shared, sign: Callable[[bytes], Signature]) -> str:
    """The text of a document, signed: a prefix a line, so that what changes is a small diff."""
    values = as_values(shared)
    kind, value = sign(canonical(values))
    values["signature"] = {"kind": kind, "value": base64.b64encode(value).decode()}
    return json.dumps(values, indent=1, ensure_ascii=False) + "\n"


def read_document(data: bytes) -> Document:
    """What a document says; whether its signature is right is another's question.

    Raises:
        UnreadableDocument: it is none, and why.
    """
    if len(data) > LARGEST:
        _fail(f"it is larger than {LARGEST >> 20} MiB")
    try:
        values = json.loads(
            data.decode(), object_pairs_hook=_once, parse_float=_number, parse_constant=_number
        )
    except UnicodeDecodeError as error:
        _fail(f"the byte 0x{data[error.start]:02x} is not UTF-8")
    except json.JSONDecodeError as error:
        _fail(f"line {error.lineno}, column {error.colno}: it is no JSON: {error.msg}")
    except RecursionError:
        _fail("it is nested too deep")
    except UnreadableDocument:
        raise
    except ValueError:
        _fail("a number has too many digits")
    top = _fields(values, "the document", KEYS)
    if top["oaktag"] != "groups" or type(top["form"]) is not int:
        _fail("it is no document of groups")
    if top["form"] != FORM:
        _fail(f"it is of form {top['form']}, and this version reads form {FORM}")
    origin = _name(top["origin"], "origin")
    made = _text(top["made"], "made")
    moment = parse_instant(made)
    if moment is None or instant_text(moment) != made:
        _fail(f"made is {made!r}, no time in UTC: 2026-11-28T08:00:00+00:00")
    groups = [_group(g, n) for n, g in enumerate(_list(top["groups"], "groups"), 1)]
    for what, held in (("id", [g.id for g in groups]), ("tag", [g.tag for g in groups])):
        _each_once(held, what)
    _each_once([p for g in groups for p in g.prefixes], "prefix")
    holds = tuple(
        _receipt(h, f"holds, the {n}.") for n, h in enumerate(_list(top["holds"], "holds"), 1)
    )
    _each_once([h.origin for h in holds], "origin in holds")
    shared = Shared(
        origin, _whole(top["serial"], "serial", HIGHEST_SERIAL), moment, tuple(groups), holds
    )
    signature = _signature(top.pop("signature"))
    return Document(shared, canonical(top), signature)


def _fail(why: str) -> NoReturn:
    raise UnreadableDocument(why)


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    _each_once([key for key, _ in pairs], "key")
    return dict(pairs)


def _number(text: str) -> NoReturn:
    _fail(f"{text[:40]} is no whole number")


def _each_once(held: list[Any], what: str) -> None:
    seen: set[Any] = set()
    for one in held:
        if one in seen:
            _fail(f"the {what} {str(one)[:80]!r} is there twice")
        seen.add(one)


def _fields(held: Any, what: str, keys: tuple[str, ...]) -> dict[str, Any]:
    if not isinstance(held, dict):
        _fail(f"{what} is no object")
    if odd := [k for k in held if k not in keys]:
        _fail(f"{what} has the key {odd[0][:80]!r}, which no document has")
    if lacking := [k for k in keys if k not in held]:
        _fail(f"{what} has no {lacking[0]}")
    return held


def _list(held: Any, what: str) -> list[Any]:
    if not isinstance(held, list):
        _fail(f"{what} is no list")
    return held


def _text(held: Any, what: str) -> str:
    if not isinstance(held, str) or len(held) > 1000 or _CONTROL.search(held):
        _fail(f"{what} is no plain text of a line")
    return held


def _name(held: Any, what: str) -> str:
    text = _text(held, what)
    if not PLAIN_ID.fullmatch(text) or text in RESERVED_WORDS or len(text) > 100:
        _fail(f"{what} is {text[:100]!r}: a name has lower-case letters, digits and hyphens")
    return text


def _whole(held: Any, what: str, most: int) -> int:
    if type(held) is not int or not 1 <= held <= most:
        _fail(f"{what} is no number from 1 to {most}")
    return held


def _group(held: Any, number: int) -> SharedGroup:
    what = f"group {number}"
    fields = _fields(held, what, GROUP_KEYS)
    name = _name(fields["id"], f"the id of {what}")
    prefixes = [_prefix(p, name) for p in _list(fields["prefixes"], f"prefixes of {name}")]
    return SharedGroup(
        name, _whole(fields["tag"], f"the tag of {name}", HIGHEST_TAG),
        _text(fields["title"], f"the title of {name}"),
        _text(fields["owner"], f"the owner of {name}"), tuple(prefixes),
    )  # fmt: skip


def _prefix(held: Any, name: str) -> Prefix:
    text = _text(held, f"a prefix of {name}")
    try:
        prefix = parse_prefix(text)
    except ValueError:
        prefix = None
    if prefix is None or str(prefix) != text:
        _fail(f"{name} has {text[:80]!r}, which is not as a prefix is written: 192.0.2.0/24")
    return prefix


def _receipt(held: Any, what: str) -> Receipt:
    fields = _fields(held, what, Receipt._fields)
    digest = _text(fields["digest"], f"the digest of {what}")
    if not _DIGEST.fullmatch(digest):
        _fail(f"the digest of {what} is none")
    serial = _whole(fields["serial"], f"the serial of {what}", HIGHEST_SERIAL)
    return Receipt(_name(fields["origin"], f"the origin of {what}"), serial, digest)


def _signature(held: Any) -> Signature:
    fields = _fields(held, "the signature", Signature._fields)
    kind, text = fields["kind"], _text(fields["value"], "the signature")
    if kind not in KINDS:
        _fail(f"it is signed by {str(kind)[:40]!r}; known are {', '.join(KINDS)}")
    try:
        value = base64.b64decode(text, validate=True)
    except ValueError:
        value = b""
    if len(value) != KINDS[kind]:
        _fail(f"its signature is none of {kind}")
    return Signature(kind, value)
