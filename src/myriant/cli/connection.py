"""How the commands reach the server: MYRIANT_SERVER and MYRIANT_TOKEN, else the installation of this machine."""

from __future__ import annotations

import json
from typing import Any

import httpx
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt, wait_incrementing

from myriant.cli.errors import stop
from myriant.cli.place import Place, default_data
from myriant.core.written import plain, plain_within
from myriant.settings import settings
from myriant.wire.certificates import certificates_for


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
        """PUT a piece; a broken connection is tried again."""
        again = Retrying(
            retry=retry_if_exception_type(httpx.TransportError),
            wait=wait_incrementing(2.0, 2.0),
            stop=stop_after_attempt(tries),
            reraise=True,
        )
        try:
            return self._answer(again(self._http.request, "PUT", path, content=data, params=params))
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
