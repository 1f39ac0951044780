"""The runner's side of the protocol: calls that go on trying while the server is away."""

from __future__ import annotations

import contextlib
import hashlib
import logging
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NoReturn, Protocol

import httpx
from tenacity import (
    RetryCallState,
    Retrying,
    retry_if_exception_type,
    stop_after_attempt,
    stop_never,
    wait_exponential,
)
from tenacity.stop import StopBaseT

from myriant.runner.untold import Untold
from myriant.wire.attempts import CacheAnswer, Expected
from myriant.wire.certificates import certificates_for
from myriant.wire.lease import Lease
from myriant.wire.limits import MOST_PIECE, PROTOCOL
from myriant.wire.parcels import MEDIA_TYPE, CacheHead, CacheKey, ReportHead, head_bytes
from myriant.wire.runners import Enrolled

_log = logging.getLogger(__name__)


PART = 16 << 20  # bytes; a longer file is sent in parts, so that a lost connection costs one of them
MOST_TOGETHER = 500  # files in one call
_FETCHES = 6  # tries for a file that can be missed


def _part(file: Path, part: int) -> Callable[[], bytes]:
    def read() -> bytes:
        with file.open("rb") as source:
            source.seek(part * PART)
            return source.read(PART)

    return read


class LeaseLost(Exception):
    """The server no longer takes anything for this attempt."""


class _Away(Exception):
    """The server cannot answer now; the text is its status."""


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
    def __init__(self, address: str, token: str, transport: httpx.BaseTransport | None = None) -> None:
        self.address = address.rstrip("/")
        self._token = token
        limits = httpx.Limits(max_connections=200, max_keepalive_connections=50)
        self._http = httpx.Client(
            base_url=f"{self.address}/api/v1",
            timeout=httpx.Timeout(30, read=90),
            limits=limits,
            verify=certificates_for(self.address),
            transport=transport,
        )
        self.stopping = threading.Event()
        self._untold = Untold(self._tell_now)

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
        """Tell of a step a moment later, when nothing newer is known of it: most steps have ended by then."""
        self._untold.add_step(lease, told)

    def _tell_now(self, lease: Lease, steps: list[dict[str, Any]], records: dict[str, Any]) -> None:
        for told in steps:
            self._call("POST", f"/attempts/{lease.attempt}/steps", token=lease.token, json=told)
        for kind, content in records.items():
            self._call("PUT", f"/attempts/{lease.attempt}/record/{kind}", token=lease.token, json=content)

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
        self._untold.tell(lease)
        answer = self._call("GET", f"/attempts/{lease.attempt}/steps/{step}/expected", token=lease.token)
        return Expected.model_validate(answer.json()).tests

    def tell(self, lease: Lease, kind: str, content: Any) -> None:
        """Keep a part of the attempt's record: phases, settings, machine, caches."""
        self._untold.add_record(lease, kind, content)

    def find_cache(self, lease: Lease, name: str, key: dict[str, Any]) -> CacheAnswer:
        answer = self._call(
            "POST", f"/attempts/{lease.attempt}/caches/find", token=lease.token, json={"name": name, "key": key}
        )
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
        def once() -> None:
            with (
                self._http.stream("GET", path, headers={"Authorization": f"Bearer {token}"}) as answer,
                target.open("wb") as out,
            ):
                if answer.status_code >= 400:
                    answer.read()
                    self._no_answer(answer)
                for piece in answer.iter_raw(1 << 20):
                    out.write(piece)

        try:
            self._again(f"GET {path}", stop_after_attempt(_FETCHES))(once)
        except (httpx.TransportError, _Away) as error:
            raise Refused(f"{path} cannot be fetched: {error}") from error

    def finish(self, lease: Lease, told: dict[str, Any]) -> None:
        """Tell of the end, with what was not told before. Raises Refused; the steps are told even then."""
        steps, records = self._untold.take(lease)
        if sum(len(str(step.get("command", ""))) for step in steps) > MOST_PIECE:
            self._tell_now(lease, steps, {})  # one by one: together they may be more than a call takes
            steps = []
        if steps:
            told = {**told, "steps": steps}
        if records:
            told = {**told, "record": {**records, **told.get("record", {})}}
        try:
            self._end(lease, told)
        except Refused:
            with contextlib.suppress(Refused):
                self._tell_now(lease, steps, {})
            raise

    def _end(self, lease: Lease, told: dict[str, Any]) -> None:
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

        def once() -> httpx.Response:
            answer = self._http.request(
                method,
                path,
                headers={"Authorization": f"Bearer {token}", **(headers or {})},
                content=content() if callable(content) else content,
                **options,
            )
            if answer.status_code >= 400:
                self._no_answer(answer)
            return answer

        return self._again(f"{method} {path}", stop_never)(once)

    def _again(self, doing: str, stop: StopBaseT) -> Retrying:
        """How every call is tried again: at once, then seldom, until `stop` or until the runner stops."""

        def say(state: RetryCallState) -> None:
            if state.attempt_number > 3 and state.outcome is not None:
                _log.warning("the server does not answer (%s: %s), trying again", doing, state.outcome.exception())

        def pause(seconds: float) -> None:
            if self.stopping.wait(seconds):
                raise Refused("the runner is stopping")

        return Retrying(
            retry=retry_if_exception_type((httpx.TransportError, _Away)),
            wait=wait_exponential(0.2, max=5.0),
            sleep=pause,
            stop=stop,
            before_sleep=say,
            reraise=True,
        )

    def _no_answer(self, answer: httpx.Response) -> NoReturn:
        """Raises _Away when the call is worth another try, else what the refusal means."""
        said = f"{answer.status_code} {answer.reason_phrase}"
        if answer.status_code >= 500 or answer.status_code == 429:
            raise _Away(said)
        try:
            body = answer.json()
        except ValueError:
            body = {}
        if body.get("type") == "/problems/lease-lost":
            raise LeaseLost(body.get("detail", ""))
        raise Refused(body.get("detail") or said)

    def close(self) -> None:
        self.stopping.set()
        self._untold.end()
        self._http.close()
