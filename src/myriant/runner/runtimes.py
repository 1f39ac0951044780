"""Which runtimes this machine has: found by looking, known by asking them."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Family:
    """How programs of a family are called, how they tell their version, and the plain names a cell calls them by."""

    names: re.Pattern[str]
    ask: tuple[str, ...]
    answer: re.Pattern[str]
    plain: tuple[str, ...]
    companions: tuple[str, ...] = ()  # programs beside it that share its suffix: luac5.1


FAMILIES = {
    "lua": Family(re.compile(r"lua(5\.\d)?"), ("-v",), re.compile(r"^Lua (\d+\.\d+\.\d+)", re.M), ("lua",), ("luac",)),
    "python": Family(
        re.compile(r"python(3(\.\d+)?)?"),
        ("-V",),
        re.compile(r"^Python (\d+\.\d+\.\d+)\s*$", re.M),
        ("python", "python3"),
    ),
}
_VERSION_FOLDERS = ("~/.pyenv/versions/*/bin",)
_SYSTEM = (Path("/usr/bin"), Path("/bin"), Path("/usr/local/bin"))


@dataclass(frozen=True, slots=True)
class Runtime:
    family: str
    version: str
    path: Path
    system: bool = False

    @property
    def root(self) -> Path | None:
        """The folder to show in the sandbox beside /usr: the runtime's own, None when it lies in /usr."""
        return None if self.path.is_relative_to("/usr") else self.path.parent.parent

    def meets(self, wish: str) -> bool:
        return self.version == wish or self.version.startswith(wish + ".") or (wish == "system" and self.system)


def find_runtimes() -> list[Runtime]:
    """Every runtime found on PATH and in version managers' folders, newest first in its family."""
    folders = [Path(p) for p in os.environ.get("PATH", "").split(":") if p] + list(_SYSTEM)
    for glob in _VERSION_FOLDERS:
        base = Path(glob).expanduser()
        folders += sorted(Path(base.anchor).glob(str(base.relative_to(base.anchor))))
    programs = list(dict.fromkeys(_programs(dict.fromkeys(folders))))
    with ThreadPoolExecutor(8) as asking:
        answers = list(asking.map(lambda p: _ask(*p), programs))
    found: dict[tuple[str, str], Runtime] = {}
    for runtime in answers:
        if runtime is not None:
            key = (runtime.family, runtime.version)
            if key not in found or (runtime.system and not found[key].system):
                found[key] = runtime
    return sorted(found.values(), key=lambda r: (r.family, [-int(p) for p in r.version.split(".")]))


def _programs(folders: dict[Path, None]) -> Iterator[tuple[str, Path]]:
    for folder in folders:
        if folder.name == "shims" or not folder.is_dir():
            continue
        for entry in sorted(folder.iterdir()):
            for family, described in FAMILIES.items():
                if described.names.fullmatch(entry.name):
                    real = entry.resolve()
                    if os.access(real, os.X_OK):
                        yield family, real


def _ask(family: str, path: Path) -> Runtime | None:
    described = FAMILIES[family]
    try:
        done = subprocess.run(
            [path, *described.ask],
            capture_output=True,
            text=True,
            timeout=10,
            env={},
            stdin=subprocess.DEVNULL,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired, UnicodeDecodeError):
        return None
    said = described.answer.search(done.stdout + done.stderr)
    if said is None:
        return None
    system = path.parent in _SYSTEM and any((path.parent / n).resolve() == path for n in described.plain)
    return Runtime(family, said[1], path, system)


def link_runtime(runtime: Runtime, folder: Path) -> None:
    """Make `folder` offer the runtime under its plain names: lua, python, python3."""
    described = FAMILIES[runtime.family]
    for name in described.plain:
        (folder / name).symlink_to(runtime.path)
    suffix = runtime.path.name.removeprefix(described.plain[0])
    for companion in described.companions:
        beside = runtime.path.with_name(companion + suffix)
        if beside.exists():
            (folder / companion).symlink_to(beside)
