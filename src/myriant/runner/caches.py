"""Caches: files kept between attempts, as one archive for each cache."""

from __future__ import annotations

import hashlib
import os
import stat
import tarfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import zstandard

from myriant.core.plan.globs import matches
from myriant.runner.reports import files_below

MOST_CACHE = 4 << 30


class BadArchive(Exception):
    """A cache's archive cannot be unpacked; the text says why."""


def renewed_by(workspace: Path, globs: Sequence[str]) -> dict[str, str]:
    """The files that a cache depends on, with the digest (SHA-256) of their content."""
    found = {}
    for path in files_below(workspace):
        name = str(path.relative_to(workspace))
        if any(matches(glob, name) for glob in globs):
            with path.open("rb") as source:
                found[name] = hashlib.file_digest(source, "sha256").hexdigest()
    return found


def pack(workspace: Path, keep: Sequence[str], target: Path, holds_secret: Callable[[Path], bool]) -> tuple[int, str]:
    """Write what the globs name into an archive; how many entries, and why there are none.

    Regular files, folders and links only; hard links become files of their own.
    """
    count, size = 0, 0
    with (
        target.open("wb") as raw,
        zstandard.ZstdCompressor(level=1, threads=-1).stream_writer(raw) as packed,
        tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
    ):
        for path in _kept(workspace, keep):
            status = path.lstat()
            info = tarfile.TarInfo(str(path.relative_to(workspace)))
            info.mode, info.mtime = stat.S_IMODE(status.st_mode), status.st_mtime
            count += 1
            if stat.S_ISLNK(status.st_mode):
                info.type, info.linkname = tarfile.SYMTYPE, os.readlink(path)  # noqa: PTH115  # the text, not a path
                archive.addfile(info)
            elif stat.S_ISDIR(status.st_mode):
                info.type = tarfile.DIRTYPE
                archive.addfile(info)
            else:
                if holds_secret(path):
                    return 0, f"{info.name} holds a secret"
                size += status.st_size
                if size > MOST_CACHE:
                    return 0, f"its files take more than {MOST_CACHE >> 30} GiB"
                info.size = status.st_size
                with path.open("rb") as source:
                    archive.addfile(info, source)
    return count, "" if count else "nothing matches what it keeps"


def _kept(workspace: Path, keep: Sequence[str]) -> Iterator[Path]:
    """Every file, folder and link that a glob names, or that lies below a folder it names."""
    within: list[str] = []
    for folder, folders, names in os.walk(workspace):
        if folder == str(workspace) and ".git" in folders:
            folders.remove(".git")
        folders.sort()
        for name in sorted((*folders, *names)):
            path = Path(folder) / name
            relative = str(path.relative_to(workspace))
            if any(relative.startswith(top) for top in within):
                pass
            elif any(matches(glob, relative) for glob in keep):
                if name in folders:
                    within.append(relative + "/")
            else:
                continue
            mode = path.lstat().st_mode
            if stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode):
                yield path


def unpack(archive: Path, workspace: Path) -> int:
    """Put an archive's files into the workspace; how many. Nothing is written outside it. Raises BadArchive."""
    count = 0
    links: list[tuple[Path, str]] = []
    top = workspace.resolve()
    try:
        with (
            archive.open("rb") as raw,
            zstandard.ZstdDecompressor().stream_reader(raw) as packed,
            tarfile.open(fileobj=packed, mode="r|") as found,
        ):
            for info in found:
                target = workspace / info.name
                parent = target.parent.resolve()
                if Path(info.name).is_absolute() or ".." in Path(info.name).parts or not parent.is_relative_to(top):
                    raise BadArchive(f"{info.name} leads out of the workspace")
                count += 1
                if info.issym():
                    links.append((target, info.linkname))
                elif info.isdir():
                    if target.is_symlink():
                        raise BadArchive(f"{info.name} would be written through a link")
                    target.mkdir(parents=True, exist_ok=True)
                elif info.isfile():
                    target.parent.mkdir(parents=True, exist_ok=True)
                    _write(found, info, target)
                else:
                    raise BadArchive(f"{info.name} is neither file, folder nor link")
    except (tarfile.TarError, zstandard.ZstdError, EOFError, OSError) as error:
        raise BadArchive(str(error)) from error
    for target, text in links:
        if target.is_dir() and not target.is_symlink():
            raise BadArchive(f"{target.relative_to(workspace)} is both a folder and a link")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        target.symlink_to(text)
    return count


def _write(found: tarfile.TarFile, info: tarfile.TarInfo, target: Path) -> None:
    source = found.extractfile(info)
    assert source is not None
    target.unlink(missing_ok=True)
    descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, info.mode & 0o777)
    with os.fdopen(descriptor, "wb") as out:
        while piece := source.read(1 << 20):
            out.write(piece)
        os.fchmod(out.fileno(), info.mode & 0o777)
    os.utime(target, (info.mtime, info.mtime))
