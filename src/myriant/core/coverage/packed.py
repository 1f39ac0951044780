"""A file's coverage as bytes: arrays, delta-coded line numbers, compressed."""

from __future__ import annotations

import json
import struct
import zlib

import numpy as np

from myriant.core.coverage.model import Arms, FileCoverage, Function, Numbers

_FIRST = struct.Struct("<II")  # how files were packed before branches had names: lines, branch lines
_HEAD = struct.Struct("<IIII")  # NAMED, lines, branch lines, arms; the functions follow as JSON
_NAMED = 0xFFFFFFFF


def pack_file(file: FileCoverage) -> bytes:
    arrays = (
        np.diff(file.lines, prepend=0),
        file.hits,
        np.diff(file.branch_lines, prepend=0),
        file.branches_valid,
        file.branches_covered,
        np.diff(file.arms.lines, prepend=0),
        file.arms.ids,
        file.arms.taken,
    )
    body = b"".join(np.asarray(a, "<i4").tobytes() for a in arrays)
    functions = [[f.line, f.name, f.hits] for f in file.functions]
    body += json.dumps(functions, separators=(",", ":")).encode() if functions else b""
    head = _HEAD.pack(_NAMED, len(file.lines), len(file.branch_lines), len(file.arms.lines))
    return head + zlib.compress(body, 6)


def unpack_file(data: bytes) -> FileCoverage:
    named, _ = _FIRST.unpack_from(data)
    if named == _NAMED:
        _, lines, branched, arms = _HEAD.unpack_from(data)
        body = zlib.decompress(data[_HEAD.size :])
    else:
        (lines, branched), arms = _FIRST.unpack_from(data), 0
        body = zlib.decompress(data[_FIRST.size :])
    count = 2 * lines + 3 * branched + 3 * arms
    numbers = np.frombuffer(body, "<i4", count).astype(np.int32)
    sizes = [lines, lines, branched, branched, branched, arms, arms]
    parts: list[Numbers] = np.split(numbers, np.cumsum(sizes))
    rest = body[4 * count :]
    functions = tuple(Function(line, name, hits) for line, name, hits in json.loads(rest)) if rest else ()
    return FileCoverage(
        _summed(parts[0]),
        parts[1],
        _summed(parts[2]),
        parts[3],
        parts[4],
        Arms(_summed(parts[5]), parts[6], parts[7]),
        functions,
    )


def _summed(steps: Numbers) -> Numbers:
    return np.cumsum(steps).astype(np.int32)
