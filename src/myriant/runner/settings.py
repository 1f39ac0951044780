"""Settings of a job: a file of names and values, compared with an example that names them all, copied into place."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from pathlib import Path

from myriant.wire.lease import SettingsWish

_LINE = re.compile(r"\s*(?:export\s+)?([A-Za-z_][\w.-]*)\s*[=:]\s*(.*)")
_MOST = 1 << 20


class SettingsMissing(Exception):
    """The settings are not there or not complete; the text says which."""


def place_settings(workspace: Path, wish: SettingsWish, say: Callable[[str], None]) -> None:
    """Check that every setting of the example has a value, and copy the file into place. Raises SettingsMissing."""
    source = inside(workspace, wish.file)
    values = _read(source, wish.file)
    if wish.example:
        example = _read(inside(workspace, wish.example), wish.example)
        lacking = [name for name in example if not values.get(name)]
        if lacking:
            raise SettingsMissing(
                f"{wish.file} gives no value for {', '.join(lacking[:20])}, which {wish.example} names"
            )
        more = [name for name in values if name not in example]
        if more:
            say(f"{wish.file} sets {', '.join(more[:20])}, which {wish.example} does not name")
    if wish.to and wish.to != wish.file:
        target = inside(workspace, wish.to)
        target.parent.mkdir(parents=True, exist_ok=True)
        if target.is_symlink():
            target.unlink()
        shutil.copyfile(source, target)
        say(f"{wish.file} was copied to {wish.to}")


def inside(workspace: Path, name: str) -> Path:
    """The path of a name below a folder. Raises SettingsMissing when it leads out of it."""
    path = (workspace / name).parent.resolve() / Path(name).name
    if not path.is_relative_to(workspace.resolve()):
        raise SettingsMissing(f"{name} leads out of its folder")
    return path


def _read(path: Path, name: str) -> dict[str, str]:
    if path.is_symlink() or not path.is_file():
        raise SettingsMissing(f"there is no file {name} for the settings")
    text = path.read_bytes()[:_MOST].decode("utf-8", "replace")
    rows = (_LINE.fullmatch(line.rstrip("\r")) for line in text.split("\n"))
    return {row[1]: row[2].strip().strip("\"'") for row in rows if row}
