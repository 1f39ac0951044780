"""The runner's main loop: enrol, claim what fits the free slots, keep the leases alive."""

from __future__ import annotations

import logging
import os
import platform
import re
import signal
import socket
import threading
import uuid
from collections.abc import Sequence
from dataclasses import asdict
from itertools import count
from pathlib import Path

from myriant import __version__
from myriant.runner import held
from myriant.runner.attempt import Execution
from myriant.runner.client import Refused, Server
from myriant.runner.machine import system
from myriant.runner.removal import remove_left
from myriant.runner.runtimes import find_runtimes, trace
from myriant.runner.sandbox import FIRST_USER, find_sandbox
from myriant.runner.workspace import Checkouts
from myriant.wire.lease import Lease
from myriant.wire.runners import Enrolled

_log = logging.getLogger(__name__)
_WAIT = 20.0
_IDLE_BEATS = 6  # of so many, a runner without work sends one


def machine_labels() -> list[str]:
    """What the machine says of itself: its system and its processor."""
    return [
        platform.system().lower() or "unknown",
        re.sub(r"[^a-z0-9._-]", "-", platform.machine().lower()) or "unknown",
    ]


class _Ended(Exception):
    """A signal asked the runner to end."""


class Runner:
    def __init__(
        self,
        server: Server,
        *,
        name: str | None,
        slots: int,
        work: Path,
        shared: Sequence[Path],
        labels: Sequence[str] = (),
        price: float = 0.0,
        registered: Path | None = None,
        machine_class: str = "",
    ) -> None:
        self.machine_class = machine_class
        self.registered = registered
        self.server, self.slots, self.work, self.labels, self.price = server, slots, work, labels, price
        self.shared = tuple(p.resolve() for p in shared if p.is_dir())
        self.name = name or socket.gethostname()
        work.mkdir(parents=True, exist_ok=True)
        work.chmod(0o711)
        self.sandbox = find_sandbox(work)
        held.clear(held.name_of(work))
        for odd in remove_left(self.sandbox, work):
            _log.error("%s, left by an earlier start, could not be removed; it was put aside", odd)
        self._trace = trace()
        self.runtimes = find_runtimes(registered)
        self._checkouts = Checkouts(work / "checkouts", self.sandbox)
        self.boot = uuid.uuid4().hex
        self._running: dict[int, Execution] = {}  # by slot
        self._changed = threading.Condition()
        self._stopping = threading.Event()
        self._leaving = threading.Event()

    def run(self) -> None:
        """Work until `stop` is called. Raises Refused when the server does not want this runner."""
        if self.sandbox.warning:
            _log.warning("%s", self.sandbox.warning)
        found = ", ".join(f"{r.family} {r.version}" for r in self.runtimes) or "none"
        if os.geteuid() == 0:
            _log.info(
                "it runs as root, so that each slot has a user of its own; steps never do"
                if self.sandbox.bubblewrap
                else "it runs as root WITHOUT a sandbox: steps run as root too; install bubblewrap, or use another user"
            )
        _log.info("runner %s: %d slots, %s, runtimes: %s", self.name, self.slots, self.sandbox.kind, found)
        enrolled = self._enrol()
        threading.Thread(target=self._keep_alive, args=(enrolled,), daemon=True).start()
        while not self._stopping.is_set() and not self._leaving.is_set():
            with self._changed:
                while len(self._running) >= self.slots and not self._stopping.is_set():
                    self._changed.wait()
                free = self.slots - len(self._running)
                holding = [e.lease.attempt for e in self._running.values()]
            if self._stopping.is_set():
                break
            for lease in self.server.claim(enrolled.runner, self.boot, free, holding, _WAIT):
                self._begin(lease)
        if self._leaving.is_set() and not self._stopping.is_set():
            self.server.leave(enrolled.runner, self.boot)
            with self._changed:
                while self._running and not self._stopping.is_set():
                    self._changed.wait(1)

    def leave(self) -> None:
        """Take nothing more, finish what runs, then end; another start of this name can take its place meanwhile."""
        self._leaving.set()

    def stop(self) -> None:
        """End everything; the server gives the cells to another start of this runner, or another runner."""
        self._stopping.set()
        self.server.stopping.set()
        with self._changed:
            running = list(self._running.values())
            self._changed.notify_all()
        for execution in running:
            execution.stop()

    def _enrol(self) -> Enrolled:
        return self.server.enrol(
            {
                "name": self.name,
                "slots": self.slots,
                "runtimes": [asdict(r) | {"path": str(r.path)} for r in self.runtimes],
                "labels": list(dict.fromkeys([*machine_labels(), *self.labels])),
                "price": self.price,
                "machine": {**system(), **({"class": self.machine_class} if self.machine_class else {})},
                "isolation": self.sandbox.kind + (f"; {self.sandbox.warning[:150]}" if self.sandbox.warning else ""),
                "version": __version__,
                "boot": self.boot,
            }
        )

    def _begin(self, lease: Lease) -> None:
        with self._changed:
            slot = next(i for i in range(self.slots) if i not in self._running)
            execution = Execution(
                lease,
                self.server,
                self.sandbox,
                self.runtimes,
                self.shared,
                self.work / f"attempt-{lease.attempt}",
                FIRST_USER + slot,
                checkouts=self._checkouts,
            )
            self._running[slot] = execution
        threading.Thread(target=self._work, args=(slot, execution), daemon=True).start()

    def _work(self, slot: int, execution: Execution) -> None:
        try:
            execution.run()
        except Exception:
            _log.exception("attempt %d failed inside the runner", execution.lease.attempt)
        finally:
            with self._changed:
                self._running.pop(slot, None)
                self._changed.notify_all()
            execution.clean()

    def _keep_alive(self, enrolled: Enrolled) -> None:
        for beat in count():
            if self._stopping.wait(enrolled.heartbeat):
                return
            with self._changed:
                running = {e.lease.attempt: e for e in self._running.values()}
            if not running and beat % _IDLE_BEATS:
                continue  # nothing is to be kept alive, and the claim that waits says that it is there
            try:
                lost = self.server.heartbeat(enrolled.runner, {k: e.lease.token for k, e in running.items()})
            except Refused as error:
                if not self._stopping.is_set():
                    _log.error("the server refuses this runner: %s", error)
                    self.stop()
                return
            for attempt in lost:
                if attempt in running:
                    running[attempt].stop()
            self._look_again()

    def _look_again(self) -> None:
        """Tell the server when a runtime was installed or removed while the runner works."""
        now = trace()
        if now == self._trace:
            return
        self._trace, found = now, find_runtimes(self.registered)
        if found != self.runtimes:
            self.runtimes = found
            _log.info("the runtimes of this machine changed; there are %d now", len(found))
            self._enrol()


def run_runner(
    address: str,
    token: str,
    *,
    name: str | None,
    slots: int,
    work: Path,
    shared: Sequence[Path] = (),
    labels: Sequence[str] = (),
    price: float = 0.0,
    registered: Path | None = None,
    machine_class: str = "",
) -> None:
    """Be a runner until a signal ends it: SIGTERM at once, SIGHUP when what it has is done."""
    server = Server(address, token)
    runner = Runner(
        server,
        name=name,
        slots=slots,
        work=work,
        shared=shared,
        labels=labels,
        price=price,
        registered=registered,
        machine_class=machine_class,
    )

    def end(*_: object) -> None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_IGN)
        raise _Ended  # out of a claim that waits; no lock may be asked for here, this thread may hold it

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, end)
    signal.signal(signal.SIGHUP, lambda *_: runner.leave())
    try:
        runner.run()
    except _Ended:
        return
    except Refused:
        if not server.stopping.is_set():
            raise
    finally:
        runner.stop()
        server.close()
