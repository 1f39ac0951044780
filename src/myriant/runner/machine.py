"""What an attempt's surroundings were made of: system, machine, runtimes, tools, packages."""

from __future__ import annotations

import os
import platform
from collections.abc import Iterable, Mapping
from pathlib import Path

Record = dict[str, dict[str, str]]  # section, name, value


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


def record(runtimes: Mapping[str, str], tools: Mapping[str, str], installed: Mapping[str, str]) -> Record:
    return {"machine": system(), "runtimes": dict(runtimes), "tools": dict(tools), "packages": dict(installed)}


def shown(said: Iterable[str]) -> str:
    """A tool's answer in one value."""
    return "\n".join(line.rstrip() for line in said if line.strip())[:2000]
