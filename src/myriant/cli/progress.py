"""Waiting for a process as long as it gets on: a slow machine is no reason to give up."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

PATIENCE = 60.0  # seconds without any progress


def while_it_gets_on(session: Callable[[], int], patience: float = PATIENCE, pause: float = 0.05) -> Iterator[None]:
    """Come again and again until a session's processes have used no processor time for so many seconds."""
    used, since, looked = (0, 0.0), time.monotonic(), time.monotonic()
    while time.monotonic() - since < patience:
        yield
        time.sleep(pause)
        if time.monotonic() - looked > min(1.0, patience / 4):
            looked = time.monotonic()
            now = (session(), processor_seconds(session()))
            if now[0] != used[0] or now[1] > used[1]:
                used, since = now, looked


def processor_seconds(session: int) -> float:
    """Seconds of processor time that the living processes of a session have used."""
    ticks = 0
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                fields = (entry / "stat").read_text().rsplit(")", 1)[1].split()
            except (OSError, IndexError):
                continue  # it ended meanwhile
            if int(fields[3]) == session:
                ticks += int(fields[11]) + int(fields[12])
    return ticks / os.sysconf("SC_CLK_TCK")
