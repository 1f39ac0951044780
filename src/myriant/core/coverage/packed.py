"""A file's coverage as bytes: five arrays, delta-coded line numbers, compressed."""

from __future__ import annotations

import struct
import zlib

import numpy as np

from myriant.core.coverage.model import FileCoverage, Numbers

_HEAD = struct.Struct("<II")


def pack_file(file: FileCoverage) -> bytes:
    arrays = (
        np.diff(file.lines, prepend=0), file.hits, np.diff(file.branch_lines, prepend=0), file.branches_valid,
        file.branches_covered,
    )  # fmt: skip
    body = b"".join(np.asarray(a, "<i4").tobytes() for a in arrays)
    return _HEAD.pack(len(file.lines), len(file.branch_lines)) + zlib.compress(body, 6)


def unpack_file(data: bytes) -> FileCoverage:
    lines, branched = _HEAD.unpack_from(data)
    body = np.frombuffer(zlib.decompress(data[_HEAD.size :]), "<i4").astype(np.int32)
    parts: list[Numbers] = np.split(body, np.cumsum([lines, lines, branched, branched]))
    return FileCoverage(
        np.cumsum(parts[0]).astype(np.int32), parts[1], np.cumsum(parts[2]).astype(np.int32), parts[3], parts[4]
    )
