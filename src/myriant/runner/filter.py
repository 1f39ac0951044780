"""The filter of system calls within the walls: no user namespaces, in which a step would have every capability.

A classic BPF program (seccomp(2), linux/filter.h), small enough to be written by hand.
"""

from __future__ import annotations

import errno
import platform
import struct

_ARCHES = {"x86_64": (0xC000003E, 56, 272), "aarch64": (0xC00000B7, 220, 97)}  # audit arch, clone, unshare
_CLONE3 = 435
_NEW_USER = 0x10000000
_X32 = 0x40000000  # from here on another way of calling
_LOAD, _EQUAL, _AT_LEAST, _ANY_BIT, _RETURN = 0x20, 0x15, 0x35, 0x45, 0x06
_ALLOW, _REFUSE = 0x7FFF0000, 0x00050000
_NUMBER, _ARCH, _FLAGS = 0, 4, 16  # offsets in struct seccomp_data; flags in their low half


def program(machine: str = "") -> bytes:
    """The program for a machine (this one by default); empty for one that it is not known for."""
    known = _ARCHES.get(machine or platform.machine())
    if known is None:
        return b""
    arch, clone, unshare = known
    rows = (
        (_LOAD, 0, 0, _ARCH),
        (_EQUAL, 0, 10, arch),  # another architecture's calls: not there
        (_LOAD, 0, 0, _NUMBER),
        (_AT_LEAST, 8, 0, _X32),
        (_EQUAL, 7, 0, _CLONE3),  # its flags lie in memory; what calls it falls back to clone
        (_EQUAL, 2, 0, clone),
        (_EQUAL, 1, 0, unshare),
        (_RETURN, 0, 0, _ALLOW),
        (_LOAD, 0, 0, _FLAGS),
        (_ANY_BIT, 1, 0, _NEW_USER),
        (_RETURN, 0, 0, _ALLOW),
        (_RETURN, 0, 0, _REFUSE | errno.EPERM),
        (_RETURN, 0, 0, _REFUSE | errno.ENOSYS),
    )
    return b"".join(struct.pack("<HBBI", *row) for row in rows)
