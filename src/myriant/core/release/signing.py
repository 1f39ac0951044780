"""The key of an installation's statements, and whether a signature is by it (Ed25519: RFC 8032, HKDF: RFC 5869)."""

from __future__ import annotations

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.kdf.hkdf import HKDF


def key_of(secret: bytes) -> Ed25519PrivateKey:
    """The key that statements are signed with, made from an installation's own, which it does not reveal."""
    made = HKDF(hashes.SHA256(), 32, salt=None, info=b"myriant statements v1").derive(secret)
    return Ed25519PrivateKey.from_private_bytes(made)


def public_part(key: Ed25519PrivateKey) -> str:
    """By which anybody can see that a statement is this installation's; hexadecimal."""
    return key.public_key().public_bytes_raw().hex()


def holds(key: str, signature: bytes, signed: bytes) -> bool:
    """Whether a signature is of these bytes, by a public key in hexadecimal."""
    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(key)).verify(signature, signed)
    except (InvalidSignature, ValueError):
        return False
    return True
