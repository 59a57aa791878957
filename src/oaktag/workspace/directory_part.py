"""A source in ``oaktag.yaml`` that a directory gives: where it is, and what is asked of it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

from oaktag.workspace.listen_part import Secret, read_secret
from oaktag.workspace.yamlfile import Node, YamlFile

KEYS = (
    "ldap",
    "base",
    "filter",
    "groups",
    "attributes",
    "bind",
    "password",
    "starttls",
    "ca",
    "guard",
)
#: So many of a hundred endpoints may be lost before a source is not believed.
GUARD = 20


class Directory(NamedTuple):
    """A directory (RFC 4510) as a source.

    Attributes:
        url: ``ldaps://HOST`` or ``ldap://HOST``, with a port where it is another.
        base: where the search begins.
        filter: which entries (RFC 4515).
        groups: which entries are groups, whose members may be groups; "" where none are asked for.
        attributes: of entries that are asked for; () for all.
        bind: the name that asks; "" for nobody.
        password: its password.
        starttls: whether TLS begins on the connection (RFC 4511, section 4.14).
        ca: the file of certificates to trust; "" for those of the machine.
        guard: so many of a hundred endpoints may be lost.
    """

    url: str
    base: str
    filter: str
    groups: str = ""
    attributes: tuple[str, ...] = ()
    bind: str = ""
    password: Secret | None = None
    starttls: bool = False
    ca: str = ""
    guard: int = GUARD


def read_directory(file: YamlFile, fields: dict[str, Node]) -> Directory | None:
    """What a source says of its directory; None where it has none, or it cannot be understood."""
    if "ldap" not in fields:
        for key in KEYS[1:]:
            if key in fields:
                file.fail(
                    fields[key], f"{key} is for a source that ldap: names", "ldap: ldaps://HOST"
                )
        return None
    url = file.text(fields["ldap"], "ldap") or ""
    if not _is_url(url):
        file.fail(fields["ldap"], f"{url!r} is no directory", "ldaps://HOST or ldap://HOST[:PORT]")
        return None
    texts = {
        key: file.text(fields.get(key), key) or ""
        for key in ("base", "filter", "groups", "bind", "ca")
    }
    if not texts["base"]:
        file.fail(
            fields["ldap"], "the source says not where the search begins", "base: ou=people,…"
        )
    if texts["ca"] and not Path(texts["ca"]).is_absolute():
        file.fail(fields["ca"], f"{texts['ca']!r} is no absolute path", "the file of certificates")
    starttls = file.flag(fields.get("starttls"), "starttls", default=False)
    password = read_secret(file, fields["password"]) if "password" in fields else None
    if "password" in fields and not texts["bind"]:
        file.fail(fields["password"], "a password of nobody", "bind: cn=reader,… beside it")
    if password is not None and url.startswith("ldap:") and not starttls:
        told = "ldaps://, or starttls: true"
        file.fail(fields["ldap"], "the password would cross the network as it is", told)
    guard = file.text(fields.get("guard"), "guard")
    share = re.fullmatch(r"(100|[0-9]{1,2}) ?%", guard or f"{GUARD} %")
    if share is None:
        file.fail(fields["guard"], f"guard is {guard!r}", "a share of a hundred: 20 %")
    return Directory(
        url, texts["base"], texts["filter"] or "(objectClass=*)", texts["groups"],
        tuple(word for word, _ in file.texts(fields.get("attributes"), "an attribute")),
        texts["bind"], password, starttls, texts["ca"], int(share[1]) if share else GUARD,
    )  # fmt: skip


def _is_url(text: str) -> bool:
    try:
        parts = urlsplit(text)
        return bool(
            parts.scheme in ("ldap", "ldaps") and parts.hostname and parts.port != 0
            and not (parts.path.strip("/") or parts.query or parts.username)
        )  # fmt: skip
    except ValueError:
        return False
