"""An attempt from its lease to its end."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from pathlib import Path

from myriant.runner import machine
from myriant.runner.attempt.beside import Companions
from myriant.runner.attempt.caching import Caches
from myriant.runner.attempt.collecting import Collector
from myriant.runner.attempt.ground import Ground, MachineTrouble, Said, Void
from myriant.runner.attempt.sending import Sender
from myriant.runner.attempt.steps import Steps
from myriant.runner.client import Counterpart, LeaseLost, Refused
from myriant.runner.inside.beneath import parts_of
from myriant.runner.masking import Masker
from myriant.runner.network import OwnNetwork
from myriant.runner.porter import Porter, SettingsMissing
from myriant.runner.porter_stream import PorterFailed
from myriant.runner.removal import remove
from myriant.runner.runtimes import Runtime, link_runtime
from myriant.runner.sandbox import WORKSPACE, Room, Sandbox
from myriant.runner.variables import Variables
from myriant.runner.workspace import Checkouts, SourceMissing
from myriant.wire.lease import Lease
from myriant.wire.limits import MOST_LISTED, MOST_REASON

_log = logging.getLogger(__name__)
_DESCRIBING = 20.0  # seconds that a tool may take to say what it is


class Execution:
    """An attempt being executed; `stop` may be called from another thread."""

    def __init__(
        self,
        lease: Lease,
        server: Counterpart,
        sandbox: Sandbox,
        runtimes: list[Runtime],
        shared: tuple[Path, ...],
        base: Path,
        user: int,
        *,
        checkouts: Checkouts | None = None,
        checkout: Callable[[Path], None] | None = None,
        steps: type[Steps] = Steps,
    ) -> None:
        self.lease = lease
        self._checkout = checkout
        self._checkouts = checkouts or Checkouts(base.parent / "checkouts", sandbox)
        chosen = [_chosen(wish, runtimes) for wish in lease.wants]
        roots = tuple(dict.fromkeys(r.root for r in chosen if r and r.root))
        room = Room(base, user, tuple(dict.fromkeys((*roots, *shared))))
        variables = Variables(lease, [r for r in chosen if r], room, shared, walled=sandbox.bubblewrap)
        porter = Porter(sandbox, room)
        self.ground = Ground(lease, server, sandbox, chosen, room, variables, Masker(lease.secrets), porter)
        sender = Sender(self.ground)
        self.caches = Caches(self.ground)
        self.companions = Companions(self.ground, sender)
        self.collector = Collector(self.ground, sender)
        self.steps = steps(self.ground, self.companions, self.collector, sender)

    def stop(self) -> None:
        """End the step that runs, with all its processes."""
        self.ground.stopped.set()
        if self.ground.running is not None:
            self.ground.running.kill()
        self.ground.porter.kill()

    def run(self) -> None:
        """Execute and deliver; whatever happens is told to the server, unless the lease is lost. `clean` follows."""
        ground, said = self.ground, self.ground.said
        try:
            ground.open()
            try:
                self._whole()
            except MachineTrouble as reason:
                said.void, said.machine = str(reason), True
            except (Void, SettingsMissing, PorterFailed) as reason:
                said.void = str(reason)
            except Refused as reason:
                said.void = f"the server did not take what the attempt delivers: {reason}"
            except OSError as error:
                said.void, said.machine = f"the runner's machine refused: {error}", True
            finally:
                self._end_companions()
            ground.close_log()
            if not ground.stopped.is_set():
                self._finish(said)
        except LeaseLost as error:
            _log.info("attempt %d is given up: %s", self.lease.attempt, error)
        except Refused as error:
            _log.warning("attempt %d could not be delivered: %s", self.lease.attempt, error)
        finally:
            ground.stopped.set()
            if ground.running is not None:
                ground.running.kill()

    def clean(self) -> None:
        """Take down what it stood on; the slot may be another attempt's meanwhile."""
        ground = self.ground
        if ground.network is not None:
            ground.network.end()
        if ground.hold is not None:
            ground.hold.end()
        if not remove(ground.sandbox, ground.room, ground.porter):
            _log.error("attempt %d: its room could not be removed; it was put aside", self.lease.attempt)

    def _end_companions(self) -> None:
        try:
            self.companions.end()
        except Refused as error:
            _log.warning("attempt %d: what companions printed was not taken: %s", self.lease.attempt, error)

    def _whole(self) -> None:
        ground = self.ground
        with ground.phase("prepare"):
            self._link_runtimes()
            ground.network = self._network()
            if ground.sandbox.warning:
                ground.say(ground.sandbox.warning)
        with ground.phase("fetch"):
            self._fetch_all()
        if self.lease.caches:
            with ground.phase("caches"):
                self.caches.restore()
        tools = self._describe()
        self.companions.begin()
        settings = ground.variables.traced(ground.porter.names)
        telling = threading.Thread(target=ground.tell, args=("settings", settings), daemon=True)
        telling.start()
        for row in settings:
            for place in [p for p in row["files"] if p["differs"]][:3]:
                where = f"{place['file']}:{place['line']}"
                ground.say(f"{where} sets {row['name']} to {place['value']!r}; in force is {row['value']!r}")
        ground.porter.begin()
        try:
            self.steps.run()
        finally:
            telling.join()
            if not ground.stopped.is_set():
                installed = ground.porter.packages()
                ground.record["machine"] = machine.record(ground.said.runtimes, tools, installed)
        self.caches.settle(self.steps.prepared)
        with ground.phase("keep"):
            self._end_companions()  # nothing may change any more what is kept
            self.collector.keep()
        if not ground.said.failed_steps and not ground.said.missing and self.lease.caches:
            with ground.phase("save caches"):
                self.caches.save(self.steps.prepared)

    def _network(self) -> OwnNetwork | None:
        """A network of the attempt's own, where this machine can make one and something is in it."""
        sandbox, out = self.ground.sandbox, any(s.network for s in self.lease.steps if not s.skipped)
        if not (sandbox.bubblewrap and sandbox.root) or not (sandbox.outward if out else self.lease.companions):
            return None
        return OwnNetwork(self.ground.room.etc, outward=out)

    def _fetch_all(self) -> None:
        ground = self.ground
        if self._checkout is None:
            ground.room.give_to_user()
            self._fetch()
        else:
            self._checkout(ground.room.workspace)
            ground.room.give_to_user()
        for handed in self.lease.handed:
            parts = [handed.job, *([handed.key.replace("/", "_")] if handed.key else []), handed.path]
            path = "/".join(parts_of("/".join(parts)))
            ground.server.fetch_handed(self.lease, handed.report, ground.room.handed / path)
        if self.lease.settings is not None:
            wish = self.lease.settings
            for line in ground.porter.place(wish.file, wish.example or "", wish.to or ""):
                ground.say(line)

    def _finish(self, said: Said) -> None:
        ground = self.ground
        workspace = WORKSPACE if ground.sandbox.bubblewrap else str(ground.room.workspace)
        record = {**ground.record, "phases": ground.phases, "caches": self.caches.told}
        told = {
            "void": said.void[:MOST_REASON],
            "machine": said.machine,
            "missing": said.missing[:MOST_LISTED],
            "missing_coverage": said.missing_coverage[:MOST_LISTED],
            "failed_steps": said.failed_steps,
            "runtimes": said.runtimes,
            "retested": said.retested,
            "workspace": workspace[:MOST_REASON],
        }
        try:
            ground.server.finish(self.lease, ground.masked({**told, "record": record}))
        except Refused as error:  # what is refused is void for that reason, and never without one
            void = said.void or f"the server did not take how the attempt ended: {error}"
            ground.server.finish(self.lease, {"void": ground.masker.words(void)[:MOST_REASON]})

    def _link_runtimes(self) -> None:
        ground = self.ground
        for wish, runtime in zip(self.lease.wants, ground.runtimes, strict=True):
            if runtime is None and not wish.startswith("label "):
                raise MachineTrouble(f"{wish} is no longer on this machine")
            if runtime is not None:
                ground.said.runtimes[runtime.family] = runtime.version
                link_runtime(runtime, ground.room.links)

    def _fetch(self) -> None:
        source = f"{self.ground.server.address}/api/v1/attempts/{self.lease.attempt}/source"
        try:
            self._checkouts.fill(self.lease, source, self.ground.room, self.ground.stopped)
        except SourceMissing as error:
            raise MachineTrouble(str(error)) from error

    def _describe(self) -> dict[str, str]:
        """What the tools that the plan asks about say of themselves."""
        tools = {}
        for words in self.lease.describe:
            said: list[bytes] = []
            ends = time.monotonic() + _DESCRIBING
            ended = self.ground.command(["/bin/sh", "-c", words], self.ground.variables.of(), "", said.append, ends)
            text = self.ground.masker.mask(b"".join(said)).decode("utf-8", "replace")
            tools[words] = machine.shown(text.splitlines()) or f"exit status {ended.status}"
        return tools


def _chosen(wish: str, runtimes: list[Runtime]) -> Runtime | None:
    family, _, version = wish.partition(" ")
    return next((r for r in runtimes if r.family == family and r.meets(version)), None)
