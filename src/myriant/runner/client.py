"""The runner's side of the protocol: calls that go on trying while the server is away."""

from __future__ import annotations

import hashlib
import logging
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Protocol

import httpx

from myriant.wire.attempts import CacheAnswer, Expected
from myriant.wire.lease import Lease
from myriant.wire.limits import PROTOCOL
from myriant.wire.parcels import MEDIA_TYPE, CacheHead, CacheKey, ReportHead, head_bytes
from myriant.wire.runners import Enrolled

_log = logging.getLogger(__name__)


PART = 16 << 20  # bytes; a longer file is sent in parts, so that a lost connection costs one of them
MOST_TOGETHER = 500  # files in one call


def _part(file: Path, part: int) -> Callable[[], bytes]:
    def read() -> bytes:
        with file.open("rb") as source:
            source.seek(part * PART)
            return source.read(PART)

    return read


class LeaseLost(Exception):
    """The server no longer takes anything for this attempt."""


class Refused(Exception):
    """The server refuses this runner or this call for good; the text says why."""


class Counterpart(Protocol):
    """Whom an attempt tells what becomes of it: the server, or the command that runs it here."""

    address: str

    def step(self, lease: Lease, told: dict[str, Any]) -> None: ...
    def log(self, lease: Lease, offset: int, data: bytes, at: str) -> int: ...
    def reports(self, lease: Lease, rows: Sequence[tuple[ReportHead, Path]]) -> None: ...
    def expected(self, lease: Lease, step: int) -> list[str] | None: ...
    def tell(self, lease: Lease, kind: str, content: Any) -> None: ...
    def find_cache(self, lease: Lease, name: str, key: dict[str, Any]) -> CacheAnswer: ...
    def fetch_cache(self, lease: Lease, entry: int, target: Path, digest: str) -> None: ...
    def save_cache(
        self, lease: Lease, name: str, key: dict[str, Any], seconds: dict[str, float], archive: Path
    ) -> str: ...
    def fetch_handed(self, lease: Lease, report: int, target: Path) -> None: ...
    def finish(self, lease: Lease, told: dict[str, Any]) -> None: ...


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

    def leave(self, runner: int, boot: str) -> None:
        self._call("POST", f"/runners/{runner}/leave", token=self._token, params={"boot": boot})

    def log(self, lease: Lease, offset: int, data: bytes, at: str) -> int:
        path = f"/attempts/{lease.attempt}/log"
        params = {"offset": offset, "at": at}
        size: int = self._call("PUT", path, token=lease.token, params=params, content=data).json()["size"]
        return size

    def reports(self, lease: Lease, rows: Sequence[tuple[ReportHead, Path]]) -> None:
        """Deliver files: small ones together, a long one in parts, so that a lost connection costs one of them."""
        url = f"/attempts/{lease.attempt}/reports"
        together: list[tuple[ReportHead, Path]] = []
        for head, file in rows:
            if head.size > PART:
                parts = -(-head.size // PART)
                for part in range(parts):
                    self._call("PUT", f"{url}/{head.number}/parts/{part}", token=lease.token, content=_part(file, part))
                head = head.model_copy(update={"parts": parts, "size": 0})
            together.append((head, file))
            if sum(h.size for h, _ in together) > PART or len(together) >= MOST_TOGETHER:
                self._parcels(lease, url, together)
                together = []
        if together:
            self._parcels(lease, url, together)

    def _parcels(self, lease: Lease, url: str, rows: Sequence[tuple[ReportHead, Path]]) -> None:
        def body() -> bytes:
            return b"".join(head_bytes(head) + (file.read_bytes() if head.size else b"") for head, file in rows)

        self._call("PUT", url, token=lease.token, content=body, headers={"Content-Type": MEDIA_TYPE})

    def expected(self, lease: Lease, step: int) -> list[str] | None:
        """Keys of the tests that the baseline lists for a step; None when nothing is known of it."""
        answer = self._call("GET", f"/attempts/{lease.attempt}/steps/{step}/expected", token=lease.token)
        return Expected.model_validate(answer.json()).tests

    def tell(self, lease: Lease, kind: str, content: Any) -> None:
        """Keep a part of the attempt's record: phases, settings, machine, caches."""
        self._call("PUT", f"/attempts/{lease.attempt}/record/{kind}", token=lease.token, json=content)

    def find_cache(self, lease: Lease, name: str, key: dict[str, Any]) -> CacheAnswer:
        answer = self._call("POST", f"/attempts/{lease.attempt}/caches/find", token=lease.token,
                            json={"name": name, "key": key})  # fmt: skip
        return CacheAnswer.model_validate(answer.json())

    def fetch_cache(self, lease: Lease, entry: int, target: Path, digest: str) -> None:
        """Write a cache's archive. Raises ValueError when it is not what was kept."""
        self._download(f"/attempts/{lease.attempt}/caches/entries/{entry}", lease.token, target)
        with target.open("rb") as source:
            if hashlib.file_digest(source, "sha256").hexdigest() != digest:
                raise ValueError("its digest differs")

    def save_cache(self, lease: Lease, name: str, key: dict[str, Any], seconds: dict[str, float], archive: Path) -> str:
        """Keep an archive, should the attempt pass; what the server says."""
        with archive.open("rb") as source:
            digest = hashlib.file_digest(source, "sha256").hexdigest()
        url, size = f"/attempts/{lease.attempt}/caches", archive.stat().st_size
        parts = max(1, -(-size // PART))
        for part in range(parts):
            self._call("PUT", f"{url}/{digest}/parts/{part}", token=lease.token, content=_part(archive, part))
        head = CacheHead(name=name, key=CacheKey.model_validate(key), seconds=seconds, digest=digest, parts=parts)
        answer = self._call("POST", url, token=lease.token, json=head.model_dump())
        return str(answer.json()["said"])

    def fetch_handed(self, lease: Lease, report: int, target: Path) -> None:
        """Write a file that an earlier job handed over."""
        target.parent.mkdir(parents=True, exist_ok=True)
        self._download(f"/attempts/{lease.attempt}/handed/{report}", lease.token, target)

    def _download(self, path: str, token: str, target: Path) -> None:
        for last in (False, False, True):
            try:
                with (
                    self._http.stream("GET", path, headers={"Authorization": f"Bearer {token}"}) as answer,
                    target.open("wb") as out,
                ):
                    if answer.status_code < 400:
                        for piece in answer.iter_raw(1 << 20):
                            out.write(piece)
                        return
                    answer.read()
                    if answer.status_code < 500 or last:
                        self._refused(answer)
            except httpx.TransportError as error:
                if last:
                    raise Refused(f"{path} cannot be fetched: {error}") from error
            if self.stopping.wait(1.0):
                raise Refused("the runner is stopping")

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
