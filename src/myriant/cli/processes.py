"""Keeping the parts running: started together, started again when one is lost, stopped together."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from myriant.cli.users import User


@dataclass(slots=True)
class Part:
    """One of our processes; `words` are the arguments of this program."""

    name: str
    words: list[str]
    user: User | None = None  # whose process it is; None: ours
    process: subprocess.Popen[bytes] | None = None
    lost: int = 0
    again_at: float = 0.0

    def start(self, environment: dict[str, str]) -> None:
        theirs = self.user.words() if self.user is not None else []
        command = [
            "setpriv",
            *theirs,
            "--pdeathsig",
            "TERM",
            "--",
            sys.executable,
            "-m",
            "myriant.cli.main",
            *self.words,
        ]
        self.process = subprocess.Popen(
            command, env=environment, stdin=subprocess.DEVNULL, start_new_session=True, umask=0o022
        )


@dataclass(slots=True)
class Parts:
    say: Callable[[str], None]
    environment: dict[str, str] = field(default_factory=lambda: dict(os.environ))
    parts: list[Part] = field(default_factory=list)

    def start(self, name: str, words: list[str], user: User | None = None) -> None:
        part = Part(name, words, user)
        part.start(self.environment)
        self.parts.append(part)

    def tend(self) -> None:
        """Start again what ended, with growing pauses when it keeps ending."""
        now = time.monotonic()
        for part in self.parts:
            if part.process is not None and part.process.poll() is not None:
                self.say(f"{part.name} ended ({_ending(part.process.returncode)}) and is started again")
                part.process, part.lost = None, part.lost + 1
                part.again_at = now + min(0.2 * 2 ** min(part.lost, 6), 10)
            if part.process is None and now >= part.again_at:
                part.start(self.environment)

    def stop(self, timeout: float = 8) -> None:
        """End the parts, the newest first; what does not end in time is killed."""
        for part in reversed(self.parts):
            if part.process is not None and part.process.poll() is None:
                part.process.send_signal(signal.SIGTERM)
        end = time.monotonic() + timeout
        for part in reversed(self.parts):
            if part.process is not None:
                try:
                    part.process.wait(max(0.1, end - time.monotonic()))
                except subprocess.TimeoutExpired:
                    part.process.kill()
                    part.process.wait()


def _ending(status: int) -> str:
    return f"killed by {signal.Signals(-status).name}" if status < 0 else f"exit status {status}"
