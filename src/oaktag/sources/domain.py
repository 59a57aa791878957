"""The document of another domain, from where it is: a file, or over https; then whether it is
signed by who it should be."""

from __future__ import annotations

import ssl
import time
import urllib.request
from collections.abc import Callable
from http.client import HTTPException
from pathlib import Path
from typing import IO, Any
from urllib.error import HTTPError, URLError

from oaktag.errors import NoAnswer, UsageError
from oaktag.protocols import signing
from oaktag.workspace.domain_file import (
    LARGEST,
    Document,
    Signature,
    UnreadableDocument,
    read_document,
)
from oaktag.workspace.folder import BeingWritten, NotPlain, read_plain
from oaktag.workspace.sharing_part import Adopt, Key

#: So long an answer is waited for, in seconds.
PATIENCE = 30


def fetched(adopt: Adopt, root: Path) -> bytes:
    """The octets of a domain's document, as it is now.

    Args:
        adopt: whose.
        root: what a file is seen from.

    Raises:
        NoAnswer: there is none, or who has it does not answer or is somebody else.
        UsageError: the certificates to trust cannot be read.
        UnreadableDocument: it is no plain file, or larger than any may be.
    """
    try:
        if adopt.remote:
            return _asked(adopt)
        return read_plain(root / adopt.where, LARGEST)[0]
    except BeingWritten as error:
        raise NoAnswer(f"{adopt.where}: {error.strerror}") from None
    except NotPlain as error:
        raise UnreadableDocument(str(error.strerror)) from None
    except HTTPError as error:
        raise NoAnswer(f"{adopt.where}: the server says {error.code} {error.reason}") from None
    except URLError as error:
        raise NoAnswer(f"{adopt.where}: {_told(error.reason)}") from None
    except (OSError, HTTPException) as error:
        raise NoAnswer(f"{adopt.where}: {_told(error)}") from None


def verified(adopt: Adopt, data: bytes) -> Document:
    """A document, its signature checked by the key that is known for its domain.

    Raises:
        UnreadableDocument: it is none, or not this domain's, or not signed by this key.
        UsageError: the key cannot be read.
    """
    found = read_document(data)
    if found.shared.origin != adopt.origin:
        raise UnreadableDocument(f"it is of {found.shared.origin}, not of {adopt.origin}")
    key = adopt.verify
    if key is None or found.signature.kind != key.kind or not _is_signed(key, found):
        raise UnreadableDocument(f"it is not signed by the key that is known of {adopt.origin}")
    return found


def signer(key: Key) -> Callable[[bytes], Signature]:
    """What signs by a key."""

    def sign(told: bytes) -> Signature:
        assert key.secret is not None, "a key that signs is a secret"
        make = signing.by_secret if key.kind == "hmac-sha256" else signing.by_private
        return Signature(key.kind, make(key.secret.read(), told))

    return sign


def _is_signed(key: Key, found: Document) -> bool:
    if key.secret is not None:
        return signing.is_by_secret(key.secret.read(), found.signed, found.signature.value)
    return signing.is_by_public(key.public, found.signed, found.signature.value)


class _NoOtherPlace(urllib.request.HTTPRedirectHandler):
    """Who was asked answers himself: a key for one place is not shown to another."""

    def redirect_request(
        self, req: urllib.request.Request, fp: IO[bytes], code: int, msg: str, headers: Any,
        newurl: str,
    ) -> None:  # fmt: skip
        raise NoAnswer(f"{req.full_url}: it is said to be at {newurl[:200]}; name that place")


def _asked(adopt: Adopt) -> bytes:
    try:
        trust = ssl.create_default_context(cafile=adopt.ca or None)
    except OSError as error:
        told = f"{adopt.ca}, which holds the certificates to trust for {adopt.origin}"
        raise UsageError(f"{told}: {_told(error)}") from None
    opener = urllib.request.build_opener(
        urllib.request.HTTPSHandler(context=trust), _NoOtherPlace()
    )
    until = time.monotonic() + PATIENCE
    data = bytearray()
    with opener.open(adopt.where, timeout=PATIENCE) as answer:
        while len(data) <= LARGEST and (piece := answer.read1(1 << 16)):
            data += piece
            if time.monotonic() > until:
                raise NoAnswer(f"{adopt.where}: the answer takes longer than {PATIENCE} s")
    if len(data) > LARGEST:
        raise UnreadableDocument(f"it is larger than {LARGEST >> 20} MiB")
    return bytes(data)


def _told(reason: object) -> str:
    if isinstance(reason, OSError) and reason.strerror:
        return reason.strerror
    return " ".join(str(reason).split())[:300] or type(reason).__name__
