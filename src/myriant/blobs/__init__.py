"""Logs, raw reports and other files, in a folder or any store that fsspec reaches."""

from __future__ import annotations

import hashlib
import shutil
import uuid
from collections.abc import Iterable, Iterator
from pathlib import Path

import fsspec


class Blobs:
    """Whole byte strings by key; `address` is a folder or an fsspec URL such as s3://bucket/prefix."""

    def __init__(self, address: str) -> None:
        self._files, self._root = fsspec.core.url_to_fs(address, auto_mkdir=True)

    def free(self) -> int | None:
        """Bytes that are free where the files are; None where they lie elsewhere than in a folder."""
        protocol = self._files.protocol
        if "file" not in ((protocol,) if isinstance(protocol, str) else protocol):
            return None
        folder = Path(self._root)
        while not folder.exists():  # it is made with the first file
            folder = folder.parent
        return shutil.disk_usage(folder).free

    def put(self, key: str, chunks: Iterable[bytes]) -> None:
        """Keep a blob; it appears whole or not at all, and writing it again does no harm."""
        path = f"{self._root}/{key}"
        part = f"{path}.part-{uuid.uuid4().hex}"
        try:
            with self._files.open(part, "wb") as out:
                for chunk in chunks:
                    out.write(chunk)
        except BaseException:
            self.remove_path(part)  # what broke off leaves nothing behind
            raise
        self._files.mv(part, path)

    def chunks(self, key: str, size: int = 1 << 18) -> Iterator[bytes]:
        """A blob's bytes in pieces. Raises FileNotFoundError."""
        with self._files.open(f"{self._root}/{key}", "rb") as source:
            while chunk := source.read(size):
                yield chunk

    def piece(self, key: str, start: int, end: int, size: int = 1 << 18) -> Iterator[bytes]:
        """The bytes of a blob from `start` up to `end`, in pieces. Raises FileNotFoundError."""
        with self._files.open(f"{self._root}/{key}", "rb") as source:
            source.seek(start)
            while start < end and (chunk := source.read(min(size, end - start))):
                start += len(chunk)
                yield chunk

    def get(self, key: str) -> bytes:
        return b"".join(self.chunks(key))

    def below(self, folder: str) -> list[tuple[str, int]]:
        """Keys of the blobs directly below a folder with their sizes in bytes, whole ones only."""
        try:
            listed = self._files.ls(f"{self._root}/{folder}", detail=True)
        except FileNotFoundError:
            return []
        found = ((f"{folder}/{str(f['name']).rsplit('/', 1)[-1]}", int(f["size"])) for f in listed)
        return [(key, size) for key, size in found if ".part-" not in key]

    def remove(self, key: str) -> None:
        self.remove_path(f"{self._root}/{key}")

    def remove_path(self, path: str) -> None:
        if self._files.exists(path):
            self._files.rm(path)


def digest_of(chunks: Iterable[bytes]) -> str:
    """SHA-256 in hexadecimal."""
    digest = hashlib.sha256()
    for chunk in chunks:
        digest.update(chunk)
    return digest.hexdigest()
