"""What makes a test the same test in every run and cell."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from myriant.core.results.model import Results

Identity = tuple[str, str, str, str]  # kind, suite path, class, name


def identities(kind: str, results: Results) -> list[Identity]:
    """The identity of each case. A name that repeats is one test: what becomes of its cases is not decided here."""
    return list(zip((kind,) * len(results.outcomes), results.suites, results.classes, results.names, strict=False))


def list_digest(job: str, listed: Iterable[Identity]) -> bytes:
    """A digest of an ordered list of identities; equal lists have equal digests (BLAKE2b, 16 bytes)."""
    digest = hashlib.blake2b(job.encode("utf-8", "surrogatepass"), digest_size=16)
    every = list(listed)
    joined = "\x1e".join(map("\x1f".join, every))
    if joined.count("\x1f") != 3 * len(every) or joined.count("\x1e") != max(len(every) - 1, 0):
        joined = repr(every)  # a name holds one of the separators
    digest.update(joined.encode("utf-8", "surrogatepass"))
    return digest.digest()


def identity_key(job: str, identity: Identity) -> bytes:
    """A test's key in its project (BLAKE2b, 16 bytes)."""
    return hashlib.blake2b("\0".join((job, *identity)).encode("utf-8", "surrogatepass"), digest_size=16).digest()
