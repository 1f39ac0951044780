"""What makes a test the same test in every run and cell."""

from __future__ import annotations

import hashlib
import math
import re
from collections.abc import Iterable, Sequence

from myriant.core.results.model import Results

_TIMED = re.compile(r"\s+[(\[](?:took )?(\d{1,9}\.\d{1,9})\s?(ns|[µu]s|ms|s|sec|seconds)[)\]]$")
_SECONDS = {"ns": 1e-9, "µs": 1e-6, "us": 1e-6, "ms": 1e-3, "s": 1.0, "sec": 1.0, "seconds": 1.0}
Identity = tuple[str, str, str, str]  # kind, suite path, class, name


def identities(kind: str, results: Results) -> list[Identity]:
    """The identity of each case. A name that repeats is one test: what becomes of its cases is not decided here."""
    names = [untimed(name)[0] if name[-1:] in (")", "]") else name for name in results.names]
    return list(zip((kind,) * len(results.outcomes), results.suites, results.classes, names, strict=False))


def untimed(name: str) -> tuple[str, float]:
    """A name without how long it took, which some producers write behind it, "fills (0.02s)"; and the seconds, or NaN.

    Only what has decimals is taken for a time: "waits (5 s)" may well be what is tested.
    """
    found = _TIMED.search(name)
    if found is None or not found.start():
        return name, math.nan
    return name[: found.start()], float(found[1]) * _SECONDS[found[2]]


def list_digest(job: str, listed: Iterable[Identity]) -> bytes:
    """A digest of an ordered list of identities; equal lists have equal digests (BLAKE2b, 16 bytes)."""
    digest = hashlib.blake2b(job.encode("utf-8", "surrogatepass"), digest_size=16)
    every = list(listed)
    joined = "\x1e".join(map("\x1f".join, every))
    if joined.count("\x1f") != 3 * len(every) or joined.count("\x1e") != max(len(every) - 1, 0):
        joined = repr(every)  # a name holds one of the separators
    digest.update(joined.encode("utf-8", "surrogatepass"))
    return digest.digest()


def lineage_digest(names: Sequence[str], listed: Iterable[Identity]) -> bytes:
    """As `list_digest`, of a job with its former names."""
    return list_digest("\0".join(names), listed)


def identity_key(job: str, identity: Identity) -> bytes:
    """A test's key in its project (BLAKE2b, 16 bytes)."""
    return hashlib.blake2b("\0".join((job, *identity)).encode("utf-8", "surrogatepass"), digest_size=16).digest()
