"""Signatures of documents: HMAC with SHA-256 (RFC 2104; FIPS 180-4), or Ed25519 (RFC 8032)."""

from __future__ import annotations

import hashlib
import hmac

from oaktag.errors import NotPossibleHere, UsageError

#: A secret has at least so many octets: half of what the digest has (RFC 2104, section 3).
LEAST = 16


def by_secret(secret: bytes, told: bytes) -> bytes:
    """HMAC-SHA256 of some octets.

    Raises:
        UsageError: the secret is too short to be one.
    """
    if len(secret) < LEAST:
        raise UsageError(f"a secret that signs has at least {LEAST} octets; this has {len(secret)}")
    return hmac.new(secret, told, hashlib.sha256).digest()


def by_private(pem: bytes, told: bytes) -> bytes:
    """The signature of some octets by a private key in PEM (RFC 8410).

    Raises:
        UsageError: it is no such key.
    """
    try:
        from cryptography.exceptions import UnsupportedAlgorithm
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
        from cryptography.hazmat.primitives.serialization import load_pem_private_key
    except ModuleNotFoundError as error:
        raise _lacking(error) from None
    try:
        key = load_pem_private_key(pem, None)
    except (ValueError, TypeError, UnsupportedAlgorithm):
        key = None
    if not isinstance(key, Ed25519PrivateKey):
        raise UsageError(
            "what signs is no private key of Ed25519 in PEM: openssl genpkey -algorithm ed25519"
        )
    return key.sign(told)


def is_by_secret(secret: bytes, told: bytes, signature: bytes) -> bool:
    """Whether octets are signed by a secret."""
    return hmac.compare_digest(by_secret(secret, told), signature)


def is_by_public(public: bytes, told: bytes, signature: bytes) -> bool:
    """Whether octets are signed by the private half of a public key of 32 octets."""
    try:
        from cryptography.exceptions import InvalidSignature
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    except ModuleNotFoundError as error:
        raise _lacking(error) from None
    try:
        Ed25519PublicKey.from_public_bytes(public).verify(signature, told)
    except InvalidSignature:
        return False
    return True


def _lacking(error: ModuleNotFoundError) -> NotPossibleHere:
    return NotPossibleHere(
        f"keys of Ed25519 need the package {error.name}: pip install 'oaktag[live]'"
    )
