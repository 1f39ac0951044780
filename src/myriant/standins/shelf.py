"""The stand-in shelf: a small package index with a trial section, and boards that say what is in use. JSON and pages.

A file of a version is kept once and never changed; the same file again does no harm. What is in use at a section is one
of its versions, so that an older one can be brought back.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import re
import secrets
import threading
from html import escape
from pathlib import Path

import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, Response
from starlette.routing import Route

from myriant.standins.pages import whole

SECTIONS = ("trial", "harbour")
MOST_BYTES = 64 << 20
_PART = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,99}")


class Refused(Exception):
    """What the shelf does not take, and the status that says so."""

    def __init__(self, said: str, status: int) -> None:
        super().__init__(said)
        self.status = status


class Shelf:
    """Files by section, package and version in a folder; `lies` keeps other bytes than it was given."""

    def __init__(self, folder: Path, token: str = "", *, lies: bool = False) -> None:
        self.folder, self.lies = folder, lies
        folder.mkdir(parents=True, exist_ok=True)
        kept = folder / "token"
        self.token = token or (kept.read_text() if kept.exists() else secrets.token_urlsafe(24))
        kept.touch(mode=0o600)
        kept.write_text(self.token)
        self._lock = threading.Lock()

    def place(self, section: str, *parts: str) -> Path:
        if section not in SECTIONS or not all(_PART.fullmatch(p) for p in parts):
            raise Refused(f"there is no such place; sections are {' and '.join(SECTIONS)}", 404)
        return self.folder.joinpath(section, *parts)

    def bring(self, section: str, package: str, version: str, file: str, data: bytes) -> str:
        """Keep a file; its SHA-256. Raises Refused when another one lies there."""
        target = self.place(section, package, version, file)
        if self.lies:
            data = data[:-1] + bytes([data[-1] ^ 1]) if data else b"?"
        with self._lock:
            if target.exists() and target.read_bytes() != data:
                raise Refused(f"{file} of {package} {version} lies here already, and is another one", 409)
            target.parent.mkdir(parents=True, exist_ok=True)
            beside = target.with_name(f".{target.name}")
            beside.write_bytes(data)
            beside.replace(target)
        return hashlib.sha256(data).hexdigest()

    def put_in_use(self, section: str, package: str, version: str) -> None:
        """Say which version is in use. Raises Refused for one that does not lie here."""
        if not self.place(section, package, version).is_dir():
            raise Refused(f"{package} {version} does not lie on the {section} shelf", 422)
        (self.place(section, package) / ".in-use").write_text(version)

    def told(self, section: str, package: str) -> dict[str, object]:
        """The versions of a package with the digests of their files, and which one is in use."""
        at = self.place(section, package)
        rows = {
            v.name: {f.name: hashlib.sha256(f.read_bytes()).hexdigest() for f in sorted(v.iterdir()) if _shown(f)}
            for v in (sorted(at.iterdir()) if at.is_dir() else ())
            if v.is_dir()
        }
        used = at / ".in-use"
        return {"package": package, "versions": rows, "in_use": used.read_text() if used.exists() else ""}

    def packages(self, section: str) -> list[str]:
        at = self.place(section)
        return sorted(p.name for p in at.iterdir()) if at.is_dir() else []


def _shown(path: Path) -> bool:
    return not path.name.startswith(".")


class Doors:
    """What the shelf answers over HTTP: reading is anybody's, writing asks for the token."""

    def __init__(self, shelf: Shelf) -> None:
        self.shelf = shelf

    def _may_write(self, request: Request) -> bool:
        given = request.headers.get("authorization", "").removeprefix("Bearer ")
        return hmac.compare_digest(given.encode("latin-1"), self.shelf.token.encode())

    async def file(self, request: Request) -> Response:
        at = [request.path_params[k] for k in ("section", "package", "version", "file")]
        try:
            if request.method != "PUT":
                found = self.shelf.place(*at)
                if not found.is_file():
                    raise Refused("it does not lie here", 404)
                return Response(await run_in_threadpool(found.read_bytes), media_type="application/octet-stream")
            if not self._may_write(request):
                raise Refused("this is not the shelf's token", 401)
            data = bytearray()
            async for piece in request.stream():
                data += piece
                if len(data) > MOST_BYTES:
                    raise Refused("too much at once", 413)
            section, package, version, name = at
            digest = await run_in_threadpool(self.shelf.bring, section, package, version, name, bytes(data))
            return JSONResponse({"sha256": digest}, 201)
        except Refused as error:
            return JSONResponse({"said": str(error)}, error.status)

    async def package(self, request: Request) -> Response:
        section, package = request.path_params["section"], request.path_params["package"]
        try:
            if request.method == "POST":
                if not self._may_write(request):
                    raise Refused("this is not the shelf's token", 401)
                body = json.loads(await request.body())
                await run_in_threadpool(self.shelf.put_in_use, section, package, str(body["version"]))
            return JSONResponse(await run_in_threadpool(self.shelf.told, section, package))
        except Refused as error:
            return JSONResponse({"said": str(error)}, error.status)
        except (ValueError, KeyError, TypeError):
            return JSONResponse({"said": 'send {"version": "0.1.0"}'}, 422)

    async def page(self, _: Request) -> Response:
        return HTMLResponse(await run_in_threadpool(self._page))

    def _page(self) -> str:
        parts = ["<p>A made-up shelf for packages, for trying things out. What is in use stands first.</p>"]
        for section in SECTIONS:
            rows = []
            for package in self.shelf.packages(section):
                told = self.shelf.told(section, package)
                versions = told["versions"]
                assert isinstance(versions, dict)
                files = "".join(
                    f"<li>{escape(version)}: {escape(file)} <code>{digest[:16]}…</code></li>"
                    for version, kept in reversed(versions.items())
                    for file, digest in kept.items()
                )
                rows.append(
                    f"<li>{escape(package)}: <b>{escape(str(told['in_use']) or 'none in use')}</b><ul>{files}</ul></li>"
                )
            parts.append(f"<h2>{section}</h2><ul>{''.join(rows) or '<li>empty</li>'}</ul>")
        return whole("The shelf", *parts)

    def routes(self) -> list[Route]:
        return [
            Route("/", self.page),
            Route("/{section}/{package}", self.package, methods=["GET", "POST"]),
            Route("/{section}/{package}/{version}/{file}", self.file, methods=["GET", "PUT"]),
        ]


def serve_shelf(folder: Path, port: int, token: str = "", *, lies: bool = False) -> None:
    """Serve the stand-in shelf on loopback until it is ended."""
    os.umask(0o077)
    app = Starlette(routes=Doors(Shelf(folder, token, lies=lies)).routes())
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="warning", access_log=False)
