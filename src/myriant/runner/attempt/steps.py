"""The steps of an attempt, one after another."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from myriant.core.states import State
from myriant.core.written import step_called
from myriant.runner.attempt.beside import Companions
from myriant.runner.attempt.collecting import Collector, forget
from myriant.runner.attempt.ground import Ground, MachineTrouble, Void, now
from myriant.runner.attempt.judging import Judge
from myriant.runner.attempt.sending import Sender
from myriant.runner.client import LeaseLost
from myriant.runner.porter import time_mark
from myriant.runner.process import Ended
from myriant.runner.workspace import explain_status
from myriant.wire.lease import StepWish
from myriant.wire.limits import MOST_REASON

_CRASHES = {128 + s: signal.Signals(s).name for s in (4, 6, 7, 8, 9, 11, 31)}


class Steps:
    def __init__(self, ground: Ground, companions: Companions, collector: Collector, sender: Sender) -> None:
        self.ground, self.companions, self.collector = ground, companions, collector
        self.judge = Judge(ground, sender, self._execute)
        self.prepared: dict[str, float] = {}  # seconds of the steps before the first that collects
        self._failed = ""  # the step that failed, so that only those that always run follow
        self._reasons: list[str] = []  # why the attempt is void
        self._disk_full = False

    def run(self) -> None:
        """Run them all. Raises Void, LeaseLost."""
        ends = time.monotonic() + self.ground.lease.timeout
        preparing = True
        for position, step in enumerate(self.ground.lease.steps):
            preparing = preparing and not step.collect
            self._step(position, step, ends, preparing=preparing)
        if self._disk_full:
            raise MachineTrouble("; ".join(self._reasons))
        if self._reasons:
            raise Void("; ".join(self._reasons))

    def _step(self, position: int, step: StepWish, ends: float, *, preparing: bool) -> None:
        ground = self.ground
        told: dict[str, Any] = {
            "position": position,
            "name": step.name,
            "command": _shown(step.command),
            "state": State.RUNNING,
            "started_at": now(),
            "log_from": ground.log.size,
        }
        if step.skipped or (self._failed and not step.always):
            why = step.skipped or f"{step_called(self._failed)} did not end well"
            told |= {"state": State.SKIPPED, "reason": why[:MOST_REASON], "started_at": None, "log_from": None}
            ground.server.step(ground.lease, told)
            return
        ground.server.step(ground.lease, told)
        since, began = time_mark(ground.room.base), time.monotonic()
        step_ends = min(ends, began + step.timeout) if step.timeout else ends
        ended = self._execute(step, step_ends)
        if preparing:
            self.prepared[step.name] = time.monotonic() - began
        void = self._why_void(step, ended, step_ends < ends)
        aside = None if ground.stopped.is_set() else self._collect(position, step, since, ended, step_ends, void)
        ground.log.append(ground.masker.end())
        if ground.log.left_out:
            ground.log.say(f"\nmyriant: {ground.log.left_out:,} more bytes of output were not kept")
            ground.log.left_out = 0
        self._tell(told, step, ended, void, aside)
        if ground.stopped.is_set():
            raise LeaseLost("stopped")
        if void:
            self._reasons.append(void)
            self._disk_full = self._disk_full or ended.disk_full
            self._failed = self._failed or step.name
        elif ended.status != 0 and not step.may_fail:
            ground.said.failed_steps.append(position)
            if aside != "":
                self._failed = self._failed or step.name
        died = self.companions.died()
        if died and not self._reasons:
            self._reasons.append(died)
            self._failed = self._failed or step.name

    def _collect(self, position: int, step: StepWish, since: int, ended: Ended, ends: float, void: str) -> str | None:
        """Deliver what the step wrote; empty when all that failed in it is set aside."""
        reads = self.judge.reads and not void
        kept = self.collector.collect(position, step, since, keep=reads)
        try:
            return self.judge.settle(position, step, kept, ended, ends) if reads and kept else None
        finally:
            forget(report for _, report in kept)

    def _tell(self, told: dict[str, Any], step: StepWish, ended: Ended, void: str, aside: str | None) -> None:
        ground, well = self.ground, ended.status == 0
        reason = ground.masker.words(void)
        if not well and not reason:
            if aside == "":
                reason = "all that failed is set aside"
            elif step.may_fail:
                reason = "it may fail"
            else:
                folder = ground.room.workspace / step.folder.strip("/")
                reason = aside or explain_status(ended.status, step.command, folder)
        told |= {
            "ended_at": now(),
            "log_to": ground.log.size,
            "exit_status": ended.status,
            "state": State.VOID if void else State.PASSED if well else State.FAILED,
            "reason": reason[:MOST_REASON],
        }
        ground.server.step(ground.lease, told)

    def _why_void(self, step: StepWish, ended: Ended, own_time: bool) -> str:
        if ended.over:
            return f"{step_called(step.name)} was ended: {ended.over}"
        if ended.timed_out:
            whose, seconds = ("its", step.timeout) if own_time else ("the job's", self.ground.lease.timeout)
            return f"{step_called(step.name)} was ended: {whose} time of {seconds:g} s is over"
        if ended.status in _CRASHES:
            return f"{step_called(step.name)} crashed by {_CRASHES[ended.status]}"
        return ""

    def _execute(
        self, step: StepWish, ends: float, command: str | list[str] | None = None, more: Mapping[str, str] | None = None
    ) -> Ended:
        ground = self.ground
        folder = step.folder.strip("/")
        top = os.path.realpath(ground.room.workspace)
        inside_it = os.path.realpath(ground.room.workspace / folder)  # a string: links that go in circles are no error
        problem = ""
        if folder and not Path(inside_it).is_relative_to(top):
            problem = f"the folder {step.folder} leads out of the workspace"
        elif folder and not Path(inside_it).is_dir():
            problem = f"there is no folder {step.folder} in the workspace"
        elif not step.network and not ground.sandbox.bubblewrap:
            problem = "this machine cannot take the network away from a step: bubblewrap does not work here"
        if problem:
            ground.say(problem)
            return Ended(127)
        words = _inner(step, command if command is not None else step.command)
        environment = ground.variables.of(step, more)
        try:
            return ground.command(
                words,
                environment,
                folder,
                lambda data: ground.log.append(ground.masker.feed(data)),
                ends,
                network=step.network,
            )
        except OSError as error:
            ground.say(f"{words[0]} cannot be started: {error}")
            return Ended(127)


def _inner(step: StepWish, command: str | list[str]) -> list[str]:
    if not isinstance(command, str):
        return list(command)
    if step.shell == "bash":
        return ["/bin/bash", "-e", "-o", "pipefail", "-c", command]
    return ["/bin/sh", "-e", "-c", command]


def _shown(command: str | list[str]) -> str:
    return command if isinstance(command, str) else " ".join(command)
