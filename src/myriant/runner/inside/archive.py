"""Unpacking a cache's archive below a folder."""

from __future__ import annotations

import os
import stat
import tarfile
from typing import IO

from myriant.runner.inside.beneath import make_folders, parts_of

MOST_ENTRIES = 1_000_000
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL


class BadArchive(Exception):
    """It cannot be unpacked; the text says why."""


class Unpacked:
    """A folder that an archive is unpacked into; nothing is written through a link, whoever made it."""

    def __init__(self, top: int, most_bytes: int) -> None:
        self._top, self._left, self.count = top, most_bytes, 0
        self._at, self._folder = "", os.dup(top)  # the folder of the last file

    def all_of(self, source: IO[bytes]) -> int:
        """Unpack a stream; how many entries. Links are made last. Raises BadArchive."""
        links: list[tuple[str, str]] = []
        try:
            with tarfile.open(fileobj=source, mode="r|") as found:
                for info in found:
                    self.count += 1
                    if self.count > MOST_ENTRIES:
                        raise BadArchive(f"it holds more than {MOST_ENTRIES:,} files")
                    if info.issym():
                        parts_of(info.name)
                        links.append((info.name, info.linkname))
                    else:
                        self._one(found, info)
                    found.members = []  # type: ignore[attr-defined]  # it keeps them all otherwise
            for name, text in links:
                self._link(name, text)
        except (tarfile.TarError, EOFError, UnicodeError, ValueError, OverflowError) as error:
            raise BadArchive(str(error)) from error
        except OSError as error:
            raise BadArchive(f"{error.filename or 'it'}: {error.strerror or error}") from error
        finally:
            os.close(self._folder)
        return self.count

    def _one(self, found: tarfile.TarFile, info: tarfile.TarInfo) -> None:
        if info.isdir():
            os.close(make_folders(self._top, parts_of(info.name)))
            return
        if not info.isfile():
            raise BadArchive(f"{info.name} is neither file, folder nor link")
        self._left -= info.size
        if self._left < 0:
            raise BadArchive("its files take more than a cache may")
        content = found.extractfile(info)
        assert content is not None
        file = os.open(self._place(info.name), _NEW | os.O_NOFOLLOW, 0o600, dir_fd=self._folder)
        with os.fdopen(file, "wb") as out:
            while piece := content.read(1 << 20):
                out.write(piece)
            out.flush()
            os.fchmod(file, info.mode & 0o777)
            os.utime(file, (info.mtime, info.mtime))

    def _place(self, path: str) -> str:
        """Go to the folder of a path, and clear its place there; its name."""
        *folders, name = parts_of(path)
        at = "/".join(folders)
        if at != self._at:
            os.close(self._folder)
            self._folder = os.dup(self._top)  # what is open if the next line raises
            made = make_folders(self._top, folders)
            os.close(self._folder)
            self._folder = made
            self._at = at
        try:
            if stat.S_ISDIR(os.stat(name, dir_fd=self._folder, follow_symlinks=False).st_mode):
                raise BadArchive(f"{path} is both a folder and a file or link")
            os.unlink(name, dir_fd=self._folder)
        except FileNotFoundError:
            return name
        return name

    def _link(self, path: str, text: str) -> None:
        os.symlink(text, self._place(path), dir_fd=self._folder)
