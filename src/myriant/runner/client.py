"""The runner's side of the protocol: calls that go on trying while the server is away."""

from __future__ import annotations

import base64
import logging
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx

from myriant.runner.wire import PROTOCOL, Enrolled, Lease

_log = logging.getLogger(__name__)


class LeaseLost(Exception):
    """The server no longer takes anything for this attempt."""


class Refused(Exception):
    """The server refuses this runner or this call for good; the text says why."""


class Server:
    def __init__(self, address: str, token: str) -> None:
        self.address = address.rstrip("/")
        self._token = token
        limits = httpx.Limits(max_connections=200, max_keepalive_connections=50)
        self._http = httpx.Client(base_url=f"{self.address}/api/v1", timeout=httpx.Timeout(30, read=90), limits=limits)
        self.stopping = threading.Event()

    def enrol(self, told: dict[str, Any]) -> Enrolled:
        answer = self._call("POST", "/runners", token=self._token, json={"protocol": PROTOCOL, **told})
        return Enrolled.model_validate(answer.json())

    def claim(self, runner: int, boot: str, free: int, holding: list[int], wait: float) -> list[Lease]:
        body = {"boot": boot, "free": free, "holding": holding, "wait": wait}
        answer = self._call("POST", f"/runners/{runner}/claim", token=self._token, json=body)
        return [Lease.model_validate(item) for item in answer.json()]

    def heartbeat(self, runner: int, attempts: dict[int, str]) -> list[int]:
        body = {"attempts": {str(k): v for k, v in attempts.items()}}
        lost: list[int] = self._call("POST", f"/runners/{runner}/heartbeat", token=self._token, json=body).json()[
            "lost"
        ]
        return lost

    def step(self, lease: Lease, told: dict[str, Any]) -> None:
        self._call("POST", f"/attempts/{lease.attempt}/steps", token=lease.token, json=told)

    def log(self, lease: Lease, offset: int, data: bytes) -> int:
        path = f"/attempts/{lease.attempt}/log"
        size: int = self._call("PUT", path, token=lease.token, params={"offset": offset}, content=data).json()["size"]
        return size

    def report(self, lease: Lease, number: int, path: str, file: Path, params: dict[str, Any]) -> None:
        headers = {"X-Path": base64.b64encode(path.encode("utf-8", "replace")).decode()}
        url = f"/attempts/{lease.attempt}/reports/{number}"
        self._call("PUT", url, token=lease.token, params=params, headers=headers, content=lambda: file.open("rb"))

    def fetch_handed(self, lease: Lease, report: int, target: Path) -> None:
        """Write a file that an earlier job handed over."""
        answer = self._call("GET", f"/attempts/{lease.attempt}/handed/{report}", token=lease.token)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(answer.content)

    def finish(self, lease: Lease, told: dict[str, Any]) -> None:
        self._call("POST", f"/attempts/{lease.attempt}/finish", token=lease.token, json=told)

    def _call(
        self,
        method: str,
        path: str,
        *,
        token: str,
        headers: dict[str, str] | None = None,
        content: Any = None,
        **options: Any,
    ) -> httpx.Response:
        """One call; repeated with growing pauses while the server cannot be reached or says it cannot answer now."""
        pause = 0.2
        while True:
            opened = content() if isinstance(content, Callable) else content  # type: ignore[arg-type]
            try:
                answer = self._http.request(
                    method,
                    path,
                    headers={"Authorization": f"Bearer {token}", **(headers or {})},
                    content=opened,
                    **options,
                )
                if answer.status_code < 400:
                    return answer
                if answer.status_code < 500 and answer.status_code != 429:
                    self._refused(answer)
                said = f"{answer.status_code} {answer.reason_phrase}"
            except httpx.TransportError as error:
                said = str(error) or type(error).__name__
            finally:
                if hasattr(opened, "close"):
                    opened.close()
            if pause > 1:
                _log.warning("the server does not answer (%s %s: %s), trying again", method, path, said)
            if self.stopping.wait(pause):
                raise Refused("the runner is stopping")
            pause = min(pause * 2, 5.0)

    def _refused(self, answer: httpx.Response) -> None:
        try:
            body = answer.json()
        except ValueError:
            body = {}
        if body.get("type") == "/problems/lease-lost":
            raise LeaseLost(body.get("detail", ""))
        raise Refused(body.get("detail") or f"{answer.status_code} {answer.reason_phrase}")

    def close(self) -> None:
        self.stopping.set()
        self._http.close()
