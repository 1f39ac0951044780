"""The companions of an attempt: started and waited for before its steps, ended after them."""

from __future__ import annotations

from collections.abc import Callable

from myriant.runner.attempt.ground import Ground, MachineTrouble, Void
from myriant.runner.attempt.sending import Sender
from myriant.runner.companions import Companion, CompanionFailed, answers, free_port, variable
from myriant.runner.porter_stream import Found
from myriant.wire.lease import CompanionWish


class Companions:
    def __init__(self, ground: Ground, sender: Sender) -> None:
        self.ground, self.sender = ground, sender
        self._begun: list[Companion] = []

    def begin(self) -> None:
        """Start each and wait until it is ready. Raises Void."""
        ground = self.ground
        if not ground.lease.companions:
            return
        own = ground.network is not None
        if not own and all(not s.network for s in ground.lease.steps if not s.skipped):
            raise MachineTrouble(
                "companions of a job without a network need a runner that runs as root, with bubblewrap"
            )
        ports = {}
        for wish in ground.lease.companions:
            if wish.port is not None:
                ports[wish.name] = wish.port if own else free_port()
                ground.variables.ports[variable(wish.name)] = str(ports[wish.name])
        for wish in ground.lease.companions:
            with ground.phase(f"companion {wish.name}"):
                try:
                    companion = self._begin(wish)
                    self._begun.append(companion)
                    seconds = companion.wait_until_ready(self._prober(wish), ports.get(wish.name), ground.stopped)
                except CompanionFailed as error:
                    raise Void(str(error)) from error
            ground.say(f"companion {wish.name} is ready after {seconds:.1f} s")

    def died(self) -> str:
        """Which of them has ended by itself, and how; empty when none has."""
        return next(filter(None, (c.died() for c in self._begun)), "")

    def _begin(self, wish: CompanionWish) -> Companion:
        ground = self.ground
        words = ["/bin/sh", "-e", "-c", wish.command] if isinstance(wish.command, str) else list(wish.command)
        command = ground.walled(words, ground.variables.of(more=wish.env), wish.folder.strip("/"))
        log = ground.room.base / "reports" / f"companion-{wish.name}"
        return Companion(wish, command, log, ground.bounds(), ground.masker.mask)

    def _prober(self, wish: CompanionWish) -> Callable[[list[str]], bool]:
        ground = self.ground

        def probe(words: list[str]) -> bool:
            if words[0] == "/bin/sh" or words == wish.ready.command:
                return answers(*ground.walled(words, ground.variables.of(more=wish.env), wish.folder.strip("/")))
            joined = ["nsenter", f"--net=/proc/{ground.network.pid}/ns/net", "--"] if ground.network else []
            return answers([*joined, *words])

        return probe

    def end(self) -> None:
        """End them all, and deliver what they printed."""
        for companion in reversed(self._begun):
            companion.stop()
        begun, self._begun = self._begun, []
        for companion in begun:
            if not self.ground.stopped.is_set() and companion.log.exists():
                self.ground.masker.mask_file(companion.log)
                found = Found(f"companion-{companion.wish.name}.log", companion.log)
                self.sender.send([found], 0, "companion", companion.wish.name)
