"""One attempt: a fresh workspace of the exact commit, the steps one after another, the reports they wrote."""

from __future__ import annotations

import logging
import os
import selectors
import signal
import subprocess
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from myriant.runner.client import LeaseLost, Refused, Server
from myriant.runner.log import MOST_BYTES, AttemptLog
from myriant.runner.reports import find_reports, time_mark
from myriant.runner.runtimes import Runtime, home_of, link_runtime
from myriant.runner.sandbox import WORKSPACE, Room, Sandbox
from myriant.runner.settings import SettingsMissing, inside, place_settings
from myriant.runner.wire import Lease, StepWish

_log = logging.getLogger(__name__)
_CRASHES = {128 + s: signal.Signals(s).name for s in (4, 6, 7, 8, 9, 11, 31)}


_FETCH_PAUSES = (0.5, 1.0, 2.0, 4.0, 8.0)  # seconds between tries while the server is away


class Void(Exception):
    """The attempt gives no result that can be trusted; the text says why."""


@dataclass(slots=True)
class _Said:
    """What the runner tells at the end."""

    missing: list[str] = field(default_factory=list)
    missing_coverage: list[str] = field(default_factory=list)
    failed_steps: list[int] = field(default_factory=list)
    runtimes: dict[str, str] = field(default_factory=dict)
    void: str = ""


class Execution:
    """An attempt being executed; `stop` may be called from another thread."""

    def __init__(
        self,
        lease: Lease,
        server: Server,
        sandbox: Sandbox,
        runtimes: list[Runtime],
        shared: tuple[Path, ...],
        base: Path,
        user: int,
    ) -> None:
        self.lease, self.server, self.sandbox = lease, server, sandbox
        self.runtimes = [_chosen(wish, runtimes) for wish in lease.wants]
        roots = tuple(dict.fromkeys(r.root for r in self.runtimes if r and r.root))
        self.shared = shared
        self.room = Room(base, user, tuple(dict.fromkeys((*roots, *shared))))
        self.stopped = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._reports = 0

    def run(self) -> None:
        """Execute and deliver; whatever happens is told to the server, unless the lease is lost."""
        said = _Said()
        log: AttemptLog | None = None
        try:
            self.room.make()
            (self.room.base / "reports").mkdir()
            most = int(os.environ.get("MYRIANT_MOST_LOG_BYTES", MOST_BYTES))
            log = AttemptLog(self.room.base / "log", lambda at, data: self.server.log(self.lease, at, data), most)
            try:
                self._prepare(said, log)
                self._steps(said, log)
                self._keep(said, log)
            except Void as reason:
                said.void = str(reason)
            except SettingsMissing as error:
                said.void = str(error)
            except OSError as error:
                said.void = f"the runner's machine refused: {error}"
            log.close()
            log = None
            if not self.stopped.is_set():
                self.server.finish(
                    self.lease,
                    {
                        "void": said.void[:4000],
                        "missing": said.missing,
                        "missing_coverage": said.missing_coverage,
                        "workspace": WORKSPACE if self.sandbox.bubblewrap else str(self.room.workspace),
                        "failed_steps": said.failed_steps,
                        "runtimes": said.runtimes,
                    },
                )
        except LeaseLost as error:
            _log.info("attempt %d is given up: %s", self.lease.attempt, error)
        except Refused as error:
            _log.warning("attempt %d could not be delivered: %s", self.lease.attempt, error)
        finally:
            self.stop()
            self.room.remove()

    def stop(self) -> None:
        """End the step that runs, with all its processes."""
        self.stopped.set()
        process = self._process
        if process is not None and process.poll() is None:
            try:
                os.killpg(process.pid, signal.SIGKILL)
            except ProcessLookupError:
                return

    def _prepare(self, said: _Said, log: AttemptLog) -> None:
        for wish, runtime in zip(self.lease.wants, self.runtimes, strict=True):
            if runtime is None:
                raise Void(f"{wish} is no longer on this machine")
            said.runtimes[runtime.family] = runtime.version
            link_runtime(runtime, self.room.links)
        if self.sandbox.warning:
            log.say(f"myriant: {self.sandbox.warning}")
        self._fetch()
        for handed in self.lease.handed:
            parts = [handed.job, *([handed.key.replace("/", "_")] if handed.key else []), handed.path]
            self.server.fetch_handed(self.lease, handed.report, inside(self.room.handed, "/".join(parts)))
        if self.lease.settings is not None:
            place_settings(self.room.workspace, self.lease.settings, log.say)
        self.room.give_to_user()

    def _fetch(self) -> None:
        source = f"{self.server.address}/api/v1/attempts/{self.lease.attempt}/source"
        environment = {
            "PATH": os.environ.get("PATH", "/usr/bin:/bin"), "HOME": "/nonexistent", "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_TERMINAL_PROMPT": "0", "LC_ALL": "C.UTF-8", "GIT_CONFIG_COUNT": "2",
            "GIT_CONFIG_KEY_0": "http.extraHeader", "GIT_CONFIG_VALUE_0": f"Authorization: Bearer {self.lease.token}",
            "GIT_CONFIG_KEY_1": "safe.directory", "GIT_CONFIG_VALUE_1": "*",
        }  # fmt: skip
        wish = self.lease.source
        depth = [] if wish.full else ["--depth=1"]
        tags = ["+refs/tags/*:refs/tags/*"] if wish.tags else []
        for words in (
            ["init", "--quiet", "--template="],
            ["fetch", "--quiet", *depth, "--no-tags", source, self.lease.commit, *tags],
            ["-c", "advice.detachedHead=false", "checkout", "--quiet", "--detach", "FETCH_HEAD"],
        ):
            self._git(words, environment)

    def _git(self, words: list[str], environment: dict[str, str]) -> None:
        """Run git in the workspace; a fetch is tried again while the server is away. Raises Void."""
        for pause in (*_FETCH_PAUSES, None):
            done = subprocess.run(
                ["git", *words],
                cwd=self.room.workspace,
                env=environment,
                capture_output=True,
                check=False,
                stdin=subprocess.DEVNULL,
            )
            if done.returncode == 0:
                return
            if pause is None or words[0] != "fetch" or self.stopped.wait(pause):
                said = done.stderr.decode("utf-8", "replace").strip()
                raise Void(f"the commit could not be fetched: {said[-1000:]}")

    def _steps(self, said: _Said, log: AttemptLog) -> None:
        since = time_mark(self.room.base)
        ends = time.monotonic() + self.lease.timeout
        failed = ""  # the step that failed, so that only those that always run follow
        reasons = []
        for position, step in enumerate(self.lease.steps):
            told: dict[str, Any] = {
                "position": position, "name": step.name, "command": _shown(step.command), "state": "running",
                "started_at": _now(), "log_from": log.size,
            }  # fmt: skip
            if step.skipped or (failed and not step.always):
                why = step.skipped or f"step {failed} did not end well"
                told |= {"state": "skipped", "reason": why, "started_at": None, "log_from": None}
                self.server.step(self.lease, told)
                continue
            self.server.step(self.lease, told)
            step_ends = min(ends, time.monotonic() + step.timeout) if step.timeout else ends
            status, timed_out = self._execute(step, step_ends, log)
            if log.left_out:
                log.say(f"\nmyriant: {log.left_out:,} more bytes of output were not kept")
                log.left_out = 0
            told |= {
                "ended_at": _now(),
                "log_to": log.size,
                "exit_status": status,
                "state": "passed" if status == 0 else "failed",
            }
            reason = ""
            if timed_out:
                whose, seconds = ("its", step.timeout) if step_ends < ends else ("the job's", self.lease.timeout)
                reason = f"step {step.name} was ended: {whose} time of {seconds:g} s is over"
            elif status in _CRASHES:
                reason = f"step {step.name} crashed by {_CRASHES[status]}"
            if reason:
                told |= {"state": "void", "reason": reason}
            elif status != 0 and step.may_fail:
                told |= {"reason": "it may fail"}
            if not self.stopped.is_set():
                self._collect(position, step, since, said)
            self.server.step(self.lease, told)
            if self.stopped.is_set():
                raise LeaseLost("stopped")
            if reason:
                reasons.append(reason)
                failed = failed or step.name
            elif status != 0 and not step.may_fail:
                said.failed_steps.append(position)
                failed = failed or step.name
        if reasons:
            raise Void("; ".join(reasons))

    def _keep(self, said: _Said, log: AttemptLog) -> None:
        """Deliver artifacts, and what is handed over when every step ended well. Raises Void."""
        last = max(0, len(self.lease.steps) - 1)
        for artifact in self.lease.artifacts:
            keep = {"keep": artifact.keep} if artifact.keep is not None else {}
            for glob in artifact.files:
                if not self._deliver("artifact", "", glob, last, keep):
                    log.say(f"myriant: no file matches the artifact {glob}")
        for name, glob in () if said.failed_steps else self.lease.hand_over.items():
            if not self._deliver("hand-over", name, glob, last, {}):
                raise Void(f"nothing to hand over: no file matches {glob} ({name})")

    def _deliver(self, content: str, kind: str, glob: str, step: int, more: dict[str, Any]) -> int:
        found, _ = find_reports(self.room.workspace, glob, 0, self.room.base / "reports")
        for file in found:
            params = {"step": step, "content": content, "kind": kind, "digest": file.digest, **more}
            self.server.report(self.lease, self._reports, file.path, file.copy, params)
            self._reports += 1
            file.copy.unlink()
        return len(found)

    def _execute(self, step: StepWish, ends: float, log: AttemptLog) -> tuple[int, bool]:
        folder_inside = step.folder.strip("/")
        if folder_inside and not (self.room.workspace / folder_inside).resolve().is_relative_to(
            self.room.workspace.resolve()
        ):
            log.say(f"myriant: the folder {step.folder} leads out of the workspace")
            return 127, False
        if folder_inside and not (self.room.workspace / folder_inside).is_dir():
            log.say(f"myriant: there is no folder {step.folder} in the workspace")
            return 127, False
        if not step.network and not self.sandbox.bubblewrap:
            log.say("myriant: this machine cannot take the network away from a step: bubblewrap does not work here")
            return 127, False
        variables = self._environment(step.env)
        command, environment, folder = self.sandbox.command(
            _inner(step), room=self.room, environment=variables, folder=folder_inside, network=step.network
        )
        try:
            process = subprocess.Popen(
                command,
                env=environment,
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        except OSError as error:
            log.say(f"myriant: {command[0]} cannot be started: {error}")
            return 127, False
        self._process = process
        timed_out = False
        with process, selectors.DefaultSelector() as ready:
            assert process.stdout is not None
            descriptor = process.stdout.fileno()
            os.set_blocking(descriptor, False)
            ready.register(descriptor, selectors.EVENT_READ)
            while True:
                if not timed_out and time.monotonic() >= ends:
                    timed_out = True
                    self._kill(process)
                if ready.select(timeout=0.2):
                    data = os.read(descriptor, 1 << 16)
                    if not data:
                        break
                    log.append(data)
                elif process.poll() is not None:
                    break  # a child that outlives its step (without a sandbox) keeps the pipe open
            self._kill(process)
            status = process.wait()
        return (128 - status if status < 0 else status), timed_out

    def _kill(self, process: subprocess.Popen[bytes]) -> None:
        try:
            os.killpg(process.pid, signal.SIGKILL)
        except (ProcessLookupError, PermissionError):
            return

    def _environment(self, more: Mapping[str, str] | None = None) -> dict[str, str]:
        lease = self.lease
        folders = [str(r.path.parent) for r in self.runtimes if r and r.root]
        first = "/run/runtime" if self.sandbox.bubblewrap else str(self.room.links)
        return {
            **{k: v for r in self.runtimes if r for k, v in home_of(r).items()},
            **lease.env,
            **(more or {}),
            "PATH": ":".join([first, *folders, "/usr/local/bin", "/usr/bin", "/bin"]),
            "HOME": "/home/cell",
            "USER": "cell",
            "LOGNAME": "cell",
            "TMPDIR": "/tmp",
            "LANG": "C.UTF-8",
            "TERM": "xterm-256color",
            "CI": "true",
            "MYRIANT": "1",
            "MYRIANT_PROJECT": lease.project,
            "MYRIANT_RUN": str(lease.run),
            "MYRIANT_ATTEMPT": str(lease.number),
            "MYRIANT_JOB": lease.job,
            "MYRIANT_EVENT": lease.event,
            "MYRIANT_BRANCH": lease.branch,
            "MYRIANT_TAG": lease.tag,
            "MYRIANT_COMMIT": lease.commit,
            "MYRIANT_SHARED": ":".join(map(str, self.shared)),
            "MYRIANT_BASE_COMMIT": lease.before,
            "MYRIANT_FROM": "/run/from" if self.sandbox.bubblewrap else str(self.room.handed),
            "MYRIANT_WORKSPACE": WORKSPACE if self.sandbox.bubblewrap else str(self.room.workspace),
            **{f"MYRIANT_CELL_{k.upper().replace('-', '_')}": v for k, v in lease.values.items()},
        }

    def _collect(self, position: int, step: StepWish, since: int, said: _Said) -> None:
        for collect in step.collect:
            for content, globs in (
                ("tests", collect.tests),
                ("coverage", collect.coverage),
                ("analysis", collect.analysis),
                ("attachment", collect.attachments),
            ):
                for glob in globs:
                    found, stale = find_reports(self.room.workspace, glob, since, self.room.base / "reports")
                    for report in found:
                        params = {"step": position, "content": content, "kind": collect.kind, "digest": report.digest}
                        self.server.report(self.lease, self._reports, report.path, report.copy, params)
                        self._reports += 1
                        report.copy.unlink()
                    if not found and not collect.may_be_empty and content != "attachment":
                        why = f", and {stale[0]} was there before the steps began" if stale else ""
                        missing = said.missing_coverage if content == "coverage" else said.missing
                        missing.append(f"report missing: no file matches {glob} after step {step.name}{why}")


def _chosen(wish: str, runtimes: list[Runtime]) -> Runtime | None:
    family, _, version = wish.partition(" ")
    return next((r for r in runtimes if r.family == family and r.meets(version)), None)


def _inner(step: StepWish) -> list[str]:
    if not isinstance(step.command, str):
        return list(step.command)
    if step.shell == "bash":
        return ["/bin/bash", "-e", "-o", "pipefail", "-c", step.command]
    return ["/bin/sh", "-e", "-c", step.command]


def _shown(command: str | list[str]) -> str:
    return command if isinstance(command, str) else " ".join(command)


def _now() -> str:
    return datetime.now(UTC).isoformat()
