"""What an attempt's surroundings were made of: system, machine, runtimes, tools, packages."""

from __future__ import annotations

import json
import os
import platform
import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

Record = dict[str, dict[str, str]]  # section, name, value
_MOST_PACKAGES = 3000
_DIST = re.compile(r"(?P<name>.+?)-(?P<version>\d[^-]*)\.(?:dist|egg)-info")


def system() -> dict[str, str]:
    """The operating system and the machine."""
    release = {}
    try:
        for line in Path("/etc/os-release").read_text(encoding="utf-8").splitlines():
            name, _, value = line.partition("=")
            release[name] = value.strip().strip('"')
    except OSError:
        release = {}
    try:
        memory = f"{os.sysconf('SC_PAGE_SIZE') * os.sysconf('SC_PHYS_PAGES') / 2**30:.1f} GiB"
    except (ValueError, OSError):
        memory = "unknown"
    return {
        "system": release.get("PRETTY_NAME", platform.system()),
        "kernel": f"{platform.system()} {platform.release()}",
        "architecture": platform.machine(),
        "processors": str(len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()),
        "memory": memory,
        "C library": " ".join(platform.libc_ver()).strip() or "unknown",
    }


def system_name() -> str:
    """The system as caches are told apart by it: "Debian GNU/Linux 12 x86_64"."""
    return f"{system()['system']} {platform.machine()}"


def packages(workspace: Path) -> dict[str, str]:
    """Packages installed in the workspace, by reading what installers leave there: Python's and Node's."""
    found: dict[str, str] = {}
    for name, version in _packages(workspace):
        if len(found) >= _MOST_PACKAGES:
            break
        found[name] = version
    return dict(sorted(found.items()))


def _packages(workspace: Path) -> Iterator[tuple[str, str]]:
    for marker in _below(workspace, "pyvenv.cfg", 3):
        for folder in sorted(marker.parent.glob("lib*/python*/site-packages")):
            for entry in sorted(folder.iterdir()):
                if known := _DIST.fullmatch(entry.name):
                    yield f"python {known['name']}", known["version"]
    for modules in _below(workspace, "node_modules", 3):
        for file in sorted([*modules.glob("*/package.json"), *modules.glob("@*/*/package.json")]):
            try:
                told = json.loads(file.read_bytes()[: 1 << 20])
                yield f"node {told['name']}", str(told["version"])
            except (OSError, ValueError, KeyError, TypeError):
                continue


def _below(top: Path, name: str, depth: int) -> Iterator[Path]:
    for folder, folders, names in os.walk(top):
        here = Path(folder)
        if name in names or name in folders:
            yield here / name
        level = len(here.relative_to(top).parts)
        folders[:] = sorted(f for f in folders if f not in (".git", "node_modules")) if level < depth else []


def record(runtimes: Mapping[str, str], tools: Mapping[str, str], installed: Mapping[str, str]) -> Record:
    return {"machine": system(), "runtimes": dict(runtimes), "tools": dict(tools), "packages": dict(installed)}


def shown(said: Iterable[str]) -> str:
    """A tool's answer in one value."""
    return "\n".join(line.rstrip() for line in said if line.strip())[:2000]
