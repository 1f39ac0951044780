"""`myriant up`: database, server, worker and one runner as one foreground command."""

from __future__ import annotations

import fcntl
import os
import signal
import socket
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack, suppress
from dataclasses import replace
from pathlib import Path
from typing import IO

import httpx
import typer

from myriant.blobs import Blobs
from myriant.cli.database import Database, free_port
from myriant.cli.errors import Trouble
from myriant.cli.place import Place
from myriant.cli.processes import Parts
from myriant.cli.progress import while_it_gets_on
from myriant.cli.users import User, server_user
from myriant.flow.admin.people import ensure_account, make_token, sign_in_link
from myriant.flow.admin.projects import seal_passwords
from myriant.flow.site import Site
from myriant.settings import settings
from myriant.store.engine import Store
from myriant.wire.certificates import certificates_for

ADMIN = "admin"
_MOST_STARTS = 5


def say(text: str) -> None:
    typer.echo(f"{time.strftime('%H:%M:%S')}  {text}")


class Installation:
    """One running installation; `begin` brings everything up, `stop` takes everything down."""

    def __init__(
        self,
        place: Place,
        port: int,
        slots: int,
        share: Sequence[Path] = (),
        *,
        tell: Callable[[str], None] = say,
        with_host: bool = False,
    ) -> None:
        self.place, self.port, self.slots, self.share, self.say = place, port, slots, share, tell
        self.host_port = (port + 1 if _is_free(port + 1) else free_port()) if with_host else None
        self.shelf_port = (port + 2 if _is_free(port + 2) else free_port()) if with_host else None
        self.address = f"http://127.0.0.1:{port}"
        self.database = Database(place.postgres)
        self.parts = Parts(tell)
        self.site: Site | None = None
        self.user: User | None = None  # of server and worker, where they have one of their own
        self._open = ExitStack()

    def begin(self) -> Site:
        """Start every part and wait until the server answers. Raises Trouble."""
        self.user = server_user(self.say)
        self.place.make()
        self._lock()
        if self.user is not None:
            self.place.prepare(self.user)
            os.umask(0o002)  # what we add to their folders ourselves they can work on
        _port_is_free(self.port)
        self.say("starting the database")
        self.database.start()
        store = Store(self.database.url)
        self._open.callback(store.close)
        self.say("bringing its tables up to date")
        store.migrate()
        self.site = Site(store, Blobs(str(self.place.blobs)), self.place.mirrors, self.address, self.place.key)
        self.place.make_key(self.user)
        seal_passwords(self.site)
        account = ensure_account(self.site, ADMIN, "admin")
        with store.transaction() as session:
            command = make_token(session, "command", account=account)
            runner = make_token(session, "runner")
        self.place.write_connection(self.address, command, self.database.url)
        self.parts.environment |= {
            "MYRIANT_DATABASE_URL": self.database.url,
            "MYRIANT_ADDRESS": self.address,
            "MYRIANT_DATA": str(self.place.data),
            "MYRIANT_RUNNER_TOKEN": runner,
        }
        if self.host_port is not None:
            reachable = [settings().tell_to, f"127.0.0.1:{self.host_port}"]
            self.parts.environment["MYRIANT_TELL_TO"] = ",".join(filter(None, reachable))
            self.parts.start(
                "host", ["stand-in", "host", "--folder", str(self.place.demo), "--port", str(self.host_port)]
            )
            shelf = f"127.0.0.1:{self.shelf_port}"
            may_reach = filter(None, [settings().reachable, shelf])
            self.parts.environment["MYRIANT_REACHABLE"] = ",".join(may_reach)
            self.parts.start(
                "shelf",
                ["stand-in", "shelf", "--folder", str(self.place.demo / "shelf"), "--port", str(self.shelf_port)],
            )
        if self.user is not None:
            self.parts.environment["MYRIANT_DOOR"] = str(self.place.door)
            self.parts.start("door", ["door", str(self.place.door), str(self.user.uid)])
        self.say("starting server, worker and runner")
        self.parts.start("server", ["server", "--port", str(self.port)], self.user)
        self.parts.start("worker", ["worker"], self.user)
        self._wait_for_server()  # before the runner, which would say that nobody answers
        self.parts.start(
            "runner",
            [
                "runner",
                "--server",
                self.address,
                "--slots",
                str(self.slots),
                "--work",
                str(self.place.work),
                *(w for p in self.share for w in ("--share", str(p))),
            ],
        )
        return self.site

    def link(self) -> str:
        assert self.site is not None
        return sign_in_link(self.site, ensure_account(self.site, ADMIN, "admin"))

    def tend(self) -> None:
        """Start again whatever was lost."""
        if not self.database.alive():
            self.say("the database ended and is started again")
            self._restart_database()
        self.parts.tend()

    def _restart_database(self) -> None:
        port = self.database.port
        for attempt in range(20):
            try:
                self.database.start(port=port)
                return
            except Trouble as trouble:
                if attempt == 19:
                    raise
                self.say(f"not yet: {trouble}")
                time.sleep(0.5)

    def stop(self) -> None:
        self.parts.stop()
        self._open.close()
        self.database.stop()

    def _lock(self) -> None:
        lock = self._open.enter_context((self.place.data / "lock").open("a+"))
        _locked(lock, self.place)
        with suppress(OSError):  # where an earlier version locked, which may run yet
            earlier = os.open(self.place.private / "lock", os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
            _locked(self._open.enter_context(os.fdopen(earlier)), self.place)
        lock.truncate(0)
        lock.write(str(os.getpid()))
        lock.flush()

    def _wait_for_server(self) -> None:
        """Wait as long as the server gets on. Raises Trouble."""
        server = next(part for part in self.parts.parts if part.name == "server")
        with httpx.Client(timeout=2, trust_env=False, verify=certificates_for(self.address)) as http:
            for _ in while_it_gets_on(lambda: server.process.pid if server.process is not None else 0):
                self.parts.tend()
                if server.lost >= _MOST_STARTS:
                    raise Trouble(f"the server ended {server.lost} times while it started", "what it said stands above")
                with suppress(httpx.TransportError):
                    if http.get(f"{self.address}/healthz").status_code == 200:
                        return
        raise Trouble(f"the server does not answer at {self.address} and does nothing any more")


def _locked(lock: IO[str], place: Place) -> None:
    """Hold a file of an installation that runs. Raises Trouble when another process does."""
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        lock.seek(0)
        raise Trouble(
            f"Myriant runs on {place.data} already (process {lock.read().strip() or 'unknown'})",
            "stop it with Ctrl-C where it runs, or choose another directory with --data",
        ) from error


def _port_is_free(port: int) -> None:
    if not _is_free(port):
        raise Trouble(f"port {port} of 127.0.0.1 is taken by another program", "choose another with --port")


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except (OSError, OverflowError):
            return False
    return True


class _Asked(BaseException):
    """A signal asked for the end while the demo was loaded."""


def up(
    data: Path,
    port: int,
    slots: int,
    share: list[Path],
    prepare: Callable[[Site, Path, Sequence[Path], Callable[[str], None], str, str], None] | None,
) -> None:
    """Run an installation until Ctrl-C; what is prepared is given the address of a stand-in host beside it."""
    began = time.monotonic()
    installation = Installation(Place(data), port, slots, share, with_host=prepare is not None)
    asked: list[int] = []  # an Event would deadlock: a signal may come while this thread holds its lock
    loading = False

    def end(number: int, _: object) -> None:
        nonlocal loading
        asked.append(number)
        if loading:  # it takes minutes; the next signal finds us stopping
            loading = False
            raise _Asked

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, end)
    try:
        site = installation.begin()
        if prepare is not None and not asked:
            loading = True
            quick = replace(site, store=Store(site.store.url, durable=False))
            host = f"http://127.0.0.1:{installation.host_port}"
            shelf = f"http://127.0.0.1:{installation.shelf_port}"
            prepare(quick, installation.place.demo, share, say, host, shelf)
            loading = False
            quick.store.close()
            if installation.user is not None:
                installation.place.give_to(installation.user)
        say(f"ready after {time.monotonic() - began:.1f} s; stop with Ctrl-C")
        if prepare is not None:
            typer.echo(f"\n  a made-up host of its code: {host}\n  a made-up shelf for its packages: {shelf}")
        typer.echo(f"\n  {installation.address}\n  sign in once within the hour: {installation.link()}\n")
        while not asked:
            installation.tend()
            time.sleep(0.2)
    except _Asked:
        say("not all of the demo is loaded: the next start goes on with it")
    finally:
        say("stopping")
        installation.stop()
        say("stopped")
