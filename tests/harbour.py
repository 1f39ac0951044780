"""Stand-ins of the outside, each in a process of its own."""

from __future__ import annotations

import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from waiting import until


@dataclass
class Harbour:
    """A stand-in (the host, or the shelf) in a process of its own, spoken to over HTTP only."""

    folder: Path
    port: int = 0
    token: str = "high-water-at-four"
    kind: str = "host"
    more: tuple[str, ...] = ()
    process: subprocess.Popen[bytes] | None = None

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def begin(self) -> None:
        words = ["stand-in", self.kind, "--folder", str(self.folder), "--port", str(self.port), *self.more]
        environment = {**os.environ, f"MYRIANT_{self.kind.upper()}_TOKEN": self.token}
        self.process = subprocess.Popen([sys.executable, "-m", "myriant.cli.main", *words], env=environment)
        until(lambda: self.answers())

    def answers(self) -> bool:
        try:
            return httpx.get(self.address, trust_env=False).is_success
        except httpx.TransportError:
            return False

    def end(self) -> None:
        if self.process is not None:
            self.process.terminate()
            self.process.wait(10)

    def ask(self, method: str, path: str, body: Any = None) -> httpx.Response:
        headers = {"Authorization": f"Bearer {self.token}"}
        return httpx.request(method, f"{self.address}/api{path}", json=body, headers=headers, trust_env=False)

    def did(self, method: str, path: str, body: Any = None) -> Any:
        answer = self.ask(method, path, body)
        assert answer.is_success, answer.text
        return answer.json()
