"""Settings of a job: a file of names and values, compared with an example that names them all, copied into place."""

from __future__ import annotations

import contextlib
import os
import re

from myriant.runner.inside.beneath import make_folders, parts_of, read_small

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

_LINE = re.compile(r"\s*(?:export\s+)?([A-Za-z_][\w.-]*)\s*[=:]\s*(.*)")
_MOST = 1 << 20


class _Missing(Exception):
    pass


def place(top: int, *, file: str, example: str, to: str) -> dict[str, Any]:
    """Check that every setting of the example has a value, and copy the file into place: `missing` says what lacks."""
    try:
        return {"said": _place(top, file, example, to)}
    except _Missing as error:
        return {"missing": str(error)}
    except OSError as error:
        return {"missing": f"{error.filename or to} cannot be written: {error.strerror}"}


def _place(top: int, file: str, example: str, to: str) -> list[str]:
    said = []
    content, values = _read(top, file)
    if example:
        _, wanted = _read(top, example)
        lacking = [name for name in wanted if not values.get(name)]
        if lacking:
            raise _Missing(f"{file} gives no value for {', '.join(lacking[:20])}, which {example} names")
        more = [name for name in values if name not in wanted]
        if more:
            said.append(f"{file} sets {', '.join(more[:20])}, which {example} does not name")
    if to and to != file:
        *folders, name = _within(to)
        here = make_folders(top, folders)
        try:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(name, dir_fd=here)
            new = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644, dir_fd=here)
            with os.fdopen(new, "wb") as out:
                out.write(content)
        finally:
            os.close(here)
        said.append(f"{file} was copied to {to}")
    return said


def _within(name: str) -> list[str]:
    try:
        return parts_of(name)
    except OSError as error:
        raise _Missing(f"{name} leads out of its folder") from error


def _read(top: int, name: str) -> tuple[bytes, dict[str, str]]:
    _within(name)
    try:
        content = read_small(top, name, _MOST)
    except OSError as error:
        raise _Missing(f"there is no file {name} for the settings") from error
    rows = (_LINE.fullmatch(line.rstrip("\r")) for line in content.decode("utf-8", "replace").split("\n"))
    return content, {row[1]: row[2].strip().strip("\"'") for row in rows if row}
