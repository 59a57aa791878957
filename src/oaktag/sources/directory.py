"""A directory, asked by LDAP (RFC 4511): all entries, or an error; never fewer than there are.

Rules kept here (live.md, Directory): searches are paged (RFC 2696), and each page must end well,
for a server that gives no more than its limit says so there and nowhere else. Certificates and the
names in them are checked.
"""

from __future__ import annotations

import ssl
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from oaktag.errors import NoAnswer, NotPossibleHere, OakTagError
from oaktag.workspace.directory_part import Directory

#: So many entries are asked for at once.
PAGE = 500
#: So long an answer is waited for, in seconds.
PATIENCE = 30


class Entry(NamedTuple):
    """An entry: its name, and its attributes with their values, as octets."""

    name: str
    values: dict[str, list[bytes]]


def entries(asked: Directory, progress: Callable[[int], None] | None = None) -> Iterator[Entry]:
    """All entries that a directory has of what is asked, its groups behind the others.

    Args:
        asked: where, and what.
        progress: called with how many have come.

    Raises:
        NotPossibleHere: a package is missing.
        NoAnswer: it does not answer, or is not who it should be.
        OakTagError: it refuses, or does not give all.
    """
    try:
        import ldap3
        from ldap3.core.exceptions import LDAPException
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"asking a directory needs the package {error.name}: pip install 'oaktag[live]'"
        ) from None
    parts = urlsplit(asked.url)
    secret = None if asked.password is None else asked.password.read().decode()
    tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=asked.ca or None)
    try:
        server = ldap3.Server(
            parts.hostname, parts.port, use_ssl=parts.scheme == "ldaps", tls=tls,
            connect_timeout=PATIENCE, get_info=ldap3.NONE,
        )  # fmt: skip
        connection = ldap3.Connection(
            server, asked.bind or None, secret, receive_timeout=PATIENCE, raise_exceptions=False,
            check_names=False, auto_encode=False,
        )  # fmt: skip
        connection.open()
        if asked.starttls and not connection.start_tls():
            raise NoAnswer(f"{asked.url}: it does not begin TLS: {_said(connection)}")
        if not connection.bind():
            raise OakTagError(
                f"{asked.url}: {asked.bind or 'nobody'} is refused: {_said(connection)}"
            )
        count = 0
        for wanted in filter(None, (asked.filter, asked.groups)):
            for entry in _search(connection, asked, wanted):
                count += 1
                yield entry
                if progress is not None and count % PAGE == 0:
                    progress(count)
        connection.unbind()
    except LDAPException as error:
        told = " ".join(str(error).split()) or type(error).__name__
        raise NoAnswer(f"{asked.url}: {told[:300]}") from None


def _search(connection: Any, asked: Directory, wanted: str) -> Iterator[Entry]:
    import ldap3

    cookie: bytes | None = None
    while True:
        connection.search(
            asked.base, wanted, ldap3.SUBTREE, paged_size=PAGE, paged_cookie=cookie,
            attributes=list(asked.attributes) or ldap3.ALL_ATTRIBUTES,
        )  # fmt: skip
        if connection.result["result"] != 0:
            raise OakTagError(
                f"{asked.url}: the search for {wanted} did not end well: {_said(connection)}; a "
                "list that is cut short is no list"
            )
        for found in connection.response:
            if found["type"] == "searchResEntry":
                yield Entry(found["dn"], dict(found["raw_attributes"]))
            elif found["type"] == "searchResRef":
                raise OakTagError(
                    f"{asked.url}: it refers to another server for {wanted}: ask that one as well"
                )
        controls = connection.result.get("controls") or {}
        cookie = controls.get("1.2.840.113556.1.4.319", {}).get("value", {}).get("cookie")
        if not cookie:
            return


def _said(connection: Any) -> str:
    """What a server said at last."""
    held = connection.result or {}
    return " ".join(str(held.get(k) or "") for k in ("description", "message")).strip() or "nothing"
