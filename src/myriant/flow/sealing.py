"""Sealing: values that only the installation's key opens (AES-256-GCM, NIST SP 800-38D)."""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

_NONCE = 12


def make_key(file: Path) -> None:
    """Make the installation's key, once; readable by its owner only."""
    if not file.exists():
        part = file.with_suffix(".part")
        part.unlink(missing_ok=True)
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as opened_part:
            opened_part.write(AESGCM.generate_key(256))
        part.replace(file)


def seal(key: bytes, project: int, name: str, value: str) -> bytes:
    nonce = os.urandom(_NONCE)
    return nonce + AESGCM(key).encrypt(nonce, value.encode(), f"{project}/{name}".encode())


def as_sealed(way: str) -> str:
    """As what the template of a way of this name is sealed."""
    return f"@way/{way}"


def opened(key: bytes, project: int, name: str, sealed: bytes) -> str | None:
    """The value, None when another key sealed it, or for something else."""
    try:
        found = AESGCM(key).decrypt(sealed[:_NONCE], sealed[_NONCE:], f"{project}/{name}".encode())
    except (InvalidTag, ValueError):
        return None
    return found.decode()
