"""Files that come in: kept when they have the digest that was promised, and are not too long."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from myriant.flow.errors import BadInput
from myriant.flow.site import Site


def take_file(site: Site, key: str, chunks: Iterable[bytes], digest: str, most: int, what: str) -> int:
    """Keep a file as the blob `key`; its size in bytes. Raises BadInput when it is damaged or too long."""
    sha, size = hashlib.sha256(), 0

    def watched() -> Iterable[bytes]:
        nonlocal size
        for chunk in chunks:
            size += len(chunk)
            if size > most:
                raise BadInput(f"{what} of more than {most:,} bytes", "split it, or keep less")
            sha.update(chunk)
            yield chunk

    site.blobs.put(key, watched())
    if sha.hexdigest() != digest:
        site.blobs.remove(key)
        raise BadInput(f"{what} arrived damaged: its digest differs", "send it again")
    return size
