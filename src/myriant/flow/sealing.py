"""Sealing: values that only the installation's key opens (AES-256-GCM, NIST SP 800-38D)."""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from myriant.flow.site import Site
from myriant.store.tables import Secret

_NONCE = 12


def make_key(file: Path) -> None:
    """Make the installation's key, once; readable by its owner only."""
    if not file.exists():
        part = file.with_suffix(".part")
        part.touch(mode=0o600)
        part.write_bytes(AESGCM.generate_key(256))
        part.replace(file)


def seal(site: Site, project: int, name: str, value: str) -> bytes:
    nonce = os.urandom(_NONCE)
    return nonce + AESGCM(site.key()).encrypt(nonce, value.encode(), f"{project}/{name}".encode())


def opened(site: Site, secret: Secret) -> str | None:
    nonce, sealed = secret.sealed[:_NONCE], secret.sealed[_NONCE:]
    try:
        opened = AESGCM(site.key()).decrypt(nonce, sealed, f"{secret.project_id}/{secret.name}".encode())
    except InvalidTag:
        return None
    return opened.decode()
