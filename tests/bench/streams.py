"""10,000 browsers that listen: what they cost the server, and how long somebody else waits meanwhile."""

from __future__ import annotations

import json
import resource
import socket
import time
from pathlib import Path

import httpx
from tests.bench.measure import report, timed
from tests.bench.place import installed

from myriant.store.changes import tell
from myriant.store.tables import Project

STREAMS, ADDRESSES, CHANGES = 10_000, 50, 5


def measure() -> None:
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    with installed(slots=1) as installation:
        assert installation.site is not None
        token = json.loads(installation.place.connection.read_text())["token"]
        server = next(p.process.pid for p in installation.parts.parts if p.name == "server" and p.process is not None)
        host = installation.address.removeprefix("http://")
        asked = {"Authorization": f"Bearer {token}"}
        with httpx.Client(base_url=f"{installation.address}/api/v1", headers=asked, timeout=60) as http:

            def waits(times: int = 20) -> list[float]:
                return [timed(lambda: http.get("/projects").raise_for_status()) for _ in range(times)]

            report("somebody's request with nobody listening", waits(), "s")
            before = _memory(server)
            streams = [_opened(host, token, i) for i in range(STREAMS)]
            answered = sum(b" 200 " in s.recv(4096)[:16] for s in streams)
            report("streams that are served", [answered], "streams", asked=STREAMS)
            report("memory of the server a stream", [(_memory(server) - before) / answered], "kB")
            report("somebody's request with all listening", waits(), "s")
            with installation.site.store.transaction() as session:
                session.add(Project(name="told", address="/nowhere", main_branch="main", paused=True))
            for _ in range(CHANGES):
                with installation.site.store.transaction() as session:
                    tell(session, "project", "told")
            report("somebody's request while all are told", waits(), "s", changes=CHANGES)
            heard = sum(_hears(s) for s in streams[::100])
            report("of each hundredth stream, those that heard every change", [heard], "streams", of=STREAMS // 100)
            for stream in streams:
                stream.close()
            report("somebody's request after all have gone", waits(), "s")


def _memory(pid: int) -> int:
    """What a process holds, in kB."""
    rows = Path(f"/proc/{pid}/status").read_text().splitlines()
    return int(next(row for row in rows if row.startswith("VmRSS")).split()[1])


def _opened(host: str, token: str, number: int) -> socket.socket:
    """A stream from one of many addresses of this machine: each may hold so many only."""
    stream = socket.create_connection(
        ("127.0.0.1", int(host.partition(":")[2])), 60, (f"127.0.1.{1 + number % ADDRESSES}", 0)
    )
    head = f"GET /api/v1/live HTTP/1.1\r\nHost: {host}\r\nAuthorization: Bearer {token}\r\n\r\n"
    stream.sendall(head.encode())
    return stream


def _hears(stream: socket.socket) -> bool:
    said, ends = b"", time.monotonic() + 60
    while said.count(b'"told"') < CHANGES and time.monotonic() < ends:
        piece = stream.recv(65536)
        if not piece:
            return False
        said += piece
    return said.count(b'"told"') >= CHANGES
