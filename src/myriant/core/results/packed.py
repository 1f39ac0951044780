"""Results packed into segments of neighbouring test numbers: outcomes and durations apart, compressed.

Neighbours mostly share an outcome: such a segment is its outcome and its size. Durations are kept on a
logarithmic scale of 16 bits (step 0.2 %, so within 0.1 % of the value from 0.1 ms up); exact totals stand in
the totals rows. The two bytes of the codes are stored as planes, because the upper one hardly varies.
"""

from __future__ import annotations

import struct
import threading
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import zstandard
from numpy.typing import NDArray

Outcomes = NDArray[np.uint8]
Durations = NDArray[np.float64]

SEGMENT = 256
_STEP = 0.002
_UNIFORM = struct.Struct("<BH")
_MIXED = b"\xff"
_LEAST = 1e-4


@dataclass(frozen=True, slots=True)
class Segment:
    """Tests number * SEGMENT … + SEGMENT - 1 of one attempt."""

    number: int
    outcomes: bytes
    durations: bytes


def encode_durations(seconds: Durations) -> NDArray[np.uint16]:
    """Codes of durations in seconds; 0 for NaN, 1 for anything below 0.1 ms."""
    codes = np.zeros(seconds.shape, np.uint16)
    known = ~np.isnan(seconds)
    scaled = np.log(np.maximum(seconds[known], _LEAST) / _LEAST) / _STEP
    exact = np.minimum(np.rint(scaled) + 2, 65535).astype(np.uint16)
    codes[known] = np.where(seconds[known] < _LEAST, 1, exact)
    return codes


def decode_durations(codes: NDArray[np.uint16]) -> Durations:
    seconds = _LEAST * np.exp((codes.astype(np.float64) - 2) * _STEP)
    seconds[codes == 1] = 0.0
    seconds[codes == 0] = np.nan
    return seconds


def pack(numbers: NDArray[np.int64], outcomes: Outcomes, seconds: Durations) -> Iterator[Segment]:
    """Segments of the tests `numbers` (project-wide, distinct, any order) with their outcomes and seconds."""
    if not len(numbers):
        return
    order = np.argsort(numbers, kind="stable")
    numbers, outcomes, codes = numbers[order], outcomes[order], encode_durations(seconds)[order]
    owners = numbers // SEGMENT
    starts: list[int] = np.flatnonzero(np.r_[True, owners[1:] != owners[:-1]]).tolist()
    for begin, end in zip(starts, [*starts[1:], len(owners)], strict=True):
        places = numbers[begin:end] % SEGMENT
        size = int(places[-1]) + 1
        dense_outcomes = np.zeros(size, np.uint8)
        dense_codes = np.zeros(size, np.uint16)
        dense_outcomes[places] = outcomes[begin:end]
        dense_codes[places] = codes[begin:end]
        planes = dense_codes.astype("<u2").view(np.uint8).reshape(-1, 2).T.tobytes()
        yield Segment(int(owners[begin]), _pack_outcomes(dense_outcomes), _zstd.compress(planes))


def _pack_outcomes(outcomes: Outcomes) -> bytes:
    if (outcomes == outcomes[0]).all():
        return _UNIFORM.pack(outcomes[0], len(outcomes))
    return _MIXED + _zstd.compress(outcomes.tobytes())


def unpack_outcomes_into(whole: Outcomes, at: int, data: bytes) -> int:
    """Write a segment's outcomes into an array from the place `at` on; the place behind its end."""
    if data[:1] == _MIXED:
        part = np.frombuffer(_zstd.decompress(data[1:]), np.uint8)
        whole[at : at + len(part)] = part
        return at + len(part)
    outcome, size = _UNIFORM.unpack(data)
    whole[at : at + size] = outcome
    return at + int(size)


def duration_codes(data: bytes) -> NDArray[np.uint16]:
    """The codes of a segment's durations: the greater the longer, 0 where none was given."""
    planes = np.frombuffer(_zstd.decompress(data), np.uint8).reshape(2, -1)
    return np.ascontiguousarray(planes.T).view("<u2").reshape(-1)


def unpack_durations(data: bytes) -> Durations:
    """Seconds of a segment's tests, NaN where none was given."""
    return decode_durations(duration_codes(data))


def outcome_at(outcomes: bytes, at: int) -> int:
    """Outcome of one test of a segment; absent beyond its end."""
    if outcomes[:1] == _MIXED:
        part = _zstd.decompress(outcomes[1:])
        return part[at] if at < len(part) else 0
    outcome, size = _UNIFORM.unpack(outcomes)
    return int(outcome) if at < size else 0


def result_at(outcomes: bytes, durations: bytes, at: int) -> tuple[int, int]:
    """Outcome and duration code of one test of a segment, without unpacking the rest; absent beyond its end."""
    outcome = outcome_at(outcomes, at)
    if not outcome:
        return 0, 0
    planes = _zstd.decompress(durations)
    return outcome, planes[at] | planes[len(planes) // 2 + at] << 8


class _Zstd(threading.local):
    """Zstandard contexts (RFC 8878), which threads cannot share."""

    def __init__(self) -> None:
        self.compress = zstandard.ZstdCompressor(level=3, write_checksum=False).compress
        self.decompress = zstandard.ZstdDecompressor().decompress


_zstd = _Zstd()
