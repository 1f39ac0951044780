"""How the commands reach the server: MYRIANT_SERVER and MYRIANT_TOKEN, else the installation of this machine."""

from __future__ import annotations

import json
import random
from typing import Any

import httpx
from tenacity import RetryCallState, Retrying, retry_if_exception_type, retry_if_result, stop_after_attempt

from myriant.cli.errors import stop
from myriant.cli.place import Place, default_data
from myriant.core.digits import number_of
from myriant.core.written import plain, plain_within
from myriant.settings import settings
from myriant.wire.certificates import certificates_for

_BUSY = (429, 500, 502, 503, 504)
_LONGEST_WAIT = 30.0  # seconds before a server that is busy is asked again


def _is_busy(answer: httpx.Response) -> bool:
    return answer.status_code in _BUSY


def _as_told(state: RetryCallState) -> float:
    """How long to wait: as the server says, else longer each time, and not all who wait at the same moment."""
    usual = min(_LONGEST_WAIT, 0.5 * 2.0**state.attempt_number) * random.uniform(0.5, 1.0)
    answer = state.outcome.result() if state.outcome is not None and not state.outcome.failed else None
    told = answer.headers.get("Retry-After", "") if answer is not None else ""
    return min(_LONGEST_WAIT, max(usual, number_of(told) or 0.0))


class Connection:
    def __init__(self) -> None:
        address, token = settings().server, settings().token
        if not address:
            file = Place(default_data()).connection
            try:
                found = json.loads(file.read_text())
            except (OSError, ValueError):
                stop(
                    "there is no running Myriant on this machine",
                    "start it with: myriant up, or set MYRIANT_SERVER and MYRIANT_TOKEN",
                    status=4,
                )
            address, token = found["address"], found["token"]
        self.address = address.rstrip("/")
        self._http = httpx.Client(
            base_url=f"{self.address}/api/v1",
            headers={"Authorization": f"Bearer {token}"},
            timeout=60,
            verify=certificates_for(self.address),
        )

    def get(self, path: str, **params: Any) -> Any:
        return self._answer(self._send("GET", path, params={k: v for k, v in params.items() if v is not None}))

    def get_unless_away(self, path: str, **params: Any) -> Any:
        """As `get`, but None while the server or its database cannot be reached."""
        try:
            answer = self._http.get(path, params={k: v for k, v in params.items() if v is not None})
        except httpx.TransportError:
            return None
        return None if answer.status_code >= 500 else self._answer(answer)

    def text(self, path: str) -> str:
        answer = self._send("GET", path)
        return plain(answer.text) if answer.status_code < 400 else str(self._answer(answer))

    def data(self, path: str) -> bytes:
        answer = self._send("GET", path)
        return answer.content if answer.status_code < 400 else bytes(self._answer(answer))

    @property
    def authorization(self) -> str:
        return str(self._http.headers["Authorization"])

    def delete(self, path: str, **params: Any) -> Any:
        return self._answer(self._send("DELETE", path, params={k: v for k, v in params.items() if v is not None}))

    def post(self, path: str, body: Any) -> Any:
        return self._answer(self._send("POST", path, json=body))

    def put(self, path: str, body: Any) -> Any:
        return self._answer(self._send("PUT", path, json=body))

    def put_bytes(self, path: str, data: bytes, *, tries: int, **params: Any) -> Any:
        """PUT a piece; a broken connection, or a server that is busy, is tried again."""
        return self._again("PUT", path, tries, content=data, params=params)

    def post_again(self, path: str, body: Any, *, tries: int) -> Any:
        """POST what may be said twice; a broken connection, or a server that is busy, is tried again."""
        return self._again("POST", path, tries, json=body)

    def _again(self, method: str, path: str, tries: int, **options: Any) -> Any:
        again = Retrying(
            retry=retry_if_exception_type(httpx.TransportError) | retry_if_result(_is_busy),
            wait=_as_told,
            stop=stop_after_attempt(tries),
            retry_error_callback=lambda state: state.outcome.result() if state.outcome is not None else None,
        )
        try:
            return self._answer(again(self._http.request, method, path, **options))
        except httpx.TransportError as error:
            stop(f"{self.address} cannot be reached: {error}", "run the command again: it goes on")

    def _send(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            return self._http.request(method, path, **options)
        except httpx.TransportError as error:
            stop(f"the server at {self.address} cannot be reached: {error}", "start it with: myriant up", status=4)

    def _answer(self, answer: httpx.Response) -> Any:
        if answer.status_code < 400:
            return plain_within(answer.json()) if answer.content else None
        try:
            problem = plain_within(answer.json())
        except ValueError:
            problem = {"detail": f"{answer.status_code} {answer.reason_phrase}"}
        stop(problem.get("detail", "refused"), problem.get("mend", ""))
