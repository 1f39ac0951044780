"""What every part of an attempt stands on: its lease and room, how a command is run in it, how something is said."""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from threading import Event
from typing import Any

from myriant.runner.client import Counterpart, LeaseLost, Refused
from myriant.runner.held import Hold, hold, name_of
from myriant.runner.log import AttemptLog
from myriant.runner.masking import Masker
from myriant.runner.network import OwnNetwork
from myriant.runner.porter import Porter
from myriant.runner.process import MOST_DISK, Bounds, Ended, Watched, free_on, spared
from myriant.runner.runtimes import Runtime
from myriant.runner.sandbox import MOST_PROCESSES, Room, Sandbox
from myriant.runner.variables import Variables
from myriant.settings import settings
from myriant.wire.lease import Lease

_log = logging.getLogger(__name__)
OUR_PROCESSES = 32  # that the walls themselves need, besides those of the attempt


class Void(Exception):
    """The attempt gives no result that can be trusted; the text says why."""


class MachineTrouble(Void):
    """So it is, and the runner's machine is why: another runner may do better."""


@dataclass(slots=True)
class Said:
    """What the runner tells at the end."""

    missing: list[str] = field(default_factory=list)
    missing_coverage: list[str] = field(default_factory=list)
    failed_steps: list[int] = field(default_factory=list)
    runtimes: dict[str, str] = field(default_factory=dict)
    void: str = ""
    machine: bool = False  # the runner's machine is why it is void
    retested: int = 0


@dataclass(slots=True)
class Ground:
    """`stopped` may be set, and `running` ended, from another thread."""

    lease: Lease
    server: Counterpart
    sandbox: Sandbox
    runtimes: list[Runtime | None]  # by the lease's wants
    room: Room
    variables: Variables
    masker: Masker
    porter: Porter
    stopped: Event = field(default_factory=Event)
    running: Watched | None = None
    network: OwnNetwork | None = None
    hold: Hold | None = None
    said: Said = field(default_factory=Said)
    record: dict[str, Any] = field(default_factory=dict)
    phases: list[dict[str, Any]] = field(default_factory=list)
    _log: AttemptLog | None = None
    _free: int = 0

    def open(self) -> None:
        """Make the room, and begin its log."""
        self.room.make()
        (self.room.base / "reports").mkdir()
        self._free = free_on(self.room.base)
        limits = self.lease.limits
        most = limits.memory if limits.memory is not None else spared()
        if self.sandbox.bubblewrap:
            name = f"{name_of(self.room.base.parent)}-{self.lease.attempt}"
            self.hold = hold(name, most, (limits.processes or MOST_PROCESSES) + OUR_PROCESSES)
        most = self.lease.limits.output or settings().most_log_bytes
        self._log = AttemptLog(self.room.base / "log", lambda *piece: self.server.log(self.lease, *piece), most)

    @property
    def log(self) -> AttemptLog:
        assert self._log is not None
        return self._log

    def close_log(self) -> None:
        if self._log is not None:
            self._log.append(self.masker.end())
            self._log.close()
            self._log = None

    @contextmanager
    def phase(self, name: str) -> Iterator[None]:
        told = {"name": name, "started_at": now(), "ended_at": None}
        self.phases.append(told)
        try:
            yield
        finally:
            told["ended_at"] = now()

    def say(self, text: str) -> None:
        """A line of ours in the attempt's log."""
        self.log.say(f"myriant: {self.masker.words(text)}")

    def tell(self, kind: str, content: Any) -> None:
        """A part of the attempt's record; it costs nothing when it is not taken."""
        try:
            self.server.tell(self.lease, kind, self.masked(content))
        except (LeaseLost, Refused) as error:
            _log.info("attempt %d: its %s were not taken: %s", self.lease.attempt, kind, error)

    def masked(self, content: Any) -> Any:
        return content if self.masker.idle else json.loads(self.masker.words(json.dumps(content)))

    def command(
        self,
        words: Sequence[str],
        environment: Mapping[str, str],
        folder: str,
        say: Callable[[bytes], None],
        ends: float,
        *,
        network: bool = True,
    ) -> Ended:
        """Run a command in the room until it ends, or until a time."""
        self.running = Watched(*self.walled(words, environment, folder, network=network))
        return self.running.follow(say, ends, self.bounds(), self.stopped)

    def walled(
        self, words: Sequence[str], environment: Mapping[str, str], folder: str, *, network: bool = True
    ) -> tuple[list[str], dict[str, str], Path | None]:
        """The command that runs another one inside the room's walls."""
        limits, own = self.lease.limits, self.network
        joined = own.pid if own is not None and (network or not own.outward) else None
        command, values, where = self.sandbox.command(
            words,
            room=self.room,
            environment=environment,
            folder=folder,
            network=network,
            net=joined,
            memory=limits.memory,
            processes=limits.processes,
            file_size=limits.disk or MOST_DISK,
        )
        return self.hold.within(command) if self.hold is not None else command, values, where

    def bounds(self) -> Bounds:
        limits = self.lease.limits
        user = self.room.user if self.sandbox.root and self.sandbox.bubblewrap else None
        return Bounds(
            self.room.base,
            user,
            self._free,
            limits.memory,
            limits.disk or MOST_DISK,
            limits.output,
            self.porter.pid,
            self.hold,
        )


def now() -> str:
    return datetime.now(UTC).isoformat()
