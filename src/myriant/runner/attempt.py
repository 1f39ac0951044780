"""One attempt: a fresh workspace of the exact commit, the steps one after another, the reports they wrote."""

from __future__ import annotations

import json
import logging
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from myriant.runner import caches, machine, retest
from myriant.runner.client import Counterpart, LeaseLost, Refused
from myriant.runner.companions import Companion, CompanionFailed, answers, free_port, variable
from myriant.runner.log import MOST_BYTES, AttemptLog
from myriant.runner.masking import Masker
from myriant.runner.process import MOST_DISK, Bounds, Ended, Watched, free_on
from myriant.runner.reports import Found, find_reports, links_matching, time_mark
from myriant.runner.runtimes import Runtime, link_runtime
from myriant.runner.sandbox import WORKSPACE, OwnNetwork, Room, Sandbox
from myriant.runner.settings import SettingsMissing, inside, place_settings
from myriant.runner.variables import Variables
from myriant.runner.wire import CacheAnswer, CacheWish, CompanionWish, Lease, StepWish
from myriant.runner.workspace import Checkouts, SourceMissing, explain_status

_log = logging.getLogger(__name__)
_CRASHES = {128 + s: signal.Signals(s).name for s in (4, 6, 7, 8, 9, 11, 31)}
_MOST_RETESTED = 500  # failed tests; more than that is no accident


class Void(Exception):
    """The attempt gives no result that can be trusted; the text says why."""


class MachineTrouble(Void):
    """So it is, and the runner's machine is why: another runner may do better."""


@dataclass(slots=True)
class _Said:
    """What the runner tells at the end."""

    missing: list[str] = field(default_factory=list)
    missing_coverage: list[str] = field(default_factory=list)
    failed_steps: list[int] = field(default_factory=list)
    runtimes: dict[str, str] = field(default_factory=dict)
    void: str = ""
    machine: bool = False  # the runner's machine is why it is void
    retested: int = 0


class Execution:
    """An attempt being executed; `stop` may be called from another thread."""

    def __init__(
        self, lease: Lease, server: Counterpart, sandbox: Sandbox, runtimes: list[Runtime], shared: tuple[Path, ...],
        base: Path, user: int, *, checkouts: Checkouts | None = None, checkout: Callable[[Path], None] | None = None,
    ) -> None:  # fmt: skip
        self.lease, self.server, self.sandbox = lease, server, sandbox
        self._checkout = checkout or self._fetch
        self._checkouts = checkouts or Checkouts(base.parent / "checkouts")
        self.runtimes = [_chosen(wish, runtimes) for wish in lease.wants]
        roots = tuple(dict.fromkeys(r.root for r in self.runtimes if r and r.root))
        self.room = Room(base, user, tuple(dict.fromkeys((*roots, *shared))))
        self.variables = Variables(lease, [r for r in self.runtimes if r], self.room, shared, walled=sandbox.bubblewrap)
        self.masker = Masker(lease.secrets)
        self.stopped = threading.Event()
        self._running: Watched | None = None
        self._companions: list[Companion] = []
        self._network: OwnNetwork | None = None
        self._record: dict[str, Any] = {}
        self._phases: list[dict[str, Any]] = []
        self._caches: list[dict[str, Any]] = []
        self._keys: dict[str, dict[str, Any]] = {}  # of the caches, before the steps change anything
        self._prepared: dict[str, float] = {}  # seconds of the steps before the first that collects
        self._reports = 0
        self._free = 0

    def run(self) -> None:
        """Execute and deliver; whatever happens is told to the server, unless the lease is lost."""
        said = _Said()
        log: AttemptLog | None = None
        try:
            self.room.make()
            (self.room.base / "reports").mkdir()
            self._free = free_on(self.room.base)
            most = self.lease.limits.output or int(os.environ.get("MYRIANT_MOST_LOG_BYTES", MOST_BYTES))
            log = AttemptLog(self.room.base / "log", lambda *piece: self.server.log(self.lease, *piece), most)
            try:
                self._whole(said, log)
            except MachineTrouble as reason:
                said.void, said.machine = str(reason), True
            except (Void, SettingsMissing) as reason:
                said.void = str(reason)
            except OSError as error:
                said.void, said.machine = f"the runner's machine refused: {error}", True
            finally:
                self._end_companions()
            log.append(self.masker.end())
            log.close()
            log = None
            if not self.stopped.is_set():
                self._finish(said)
        except LeaseLost as error:
            _log.info("attempt %d is given up: %s", self.lease.attempt, error)
        except Refused as error:
            _log.warning("attempt %d could not be delivered: %s", self.lease.attempt, error)
        finally:
            self.stop()
            if self._network is not None:
                self._network.end()
            self.room.remove()

    def _whole(self, said: _Said, log: AttemptLog) -> None:
        with self._phase("prepare"):
            self._link_runtimes(said)
            if self.sandbox.warning:
                self._say(log, f"myriant: {self.sandbox.warning}")
        with self._phase("fetch"):
            self._checkout(self.room.workspace)
            for handed in self.lease.handed:
                parts = [handed.job, *([handed.key.replace("/", "_")] if handed.key else []), handed.path]
                self.server.fetch_handed(self.lease, handed.report, inside(self.room.handed, "/".join(parts)))
            if self.lease.settings is not None:
                place_settings(self.room.workspace, self.lease.settings, lambda text: self._say(log, text))
        found = {}
        if self.lease.caches:
            with self._phase("caches"):
                found = {wish.name: self._restore(wish, log) for wish in self.lease.caches}
        self.room.give_to_user()
        tools = self._describe()
        self._begin_companions(log)
        settings = self.variables.traced()
        telling = threading.Thread(target=self._tell, args=("settings", settings), daemon=True)
        telling.start()
        for row in settings:
            for place in [p for p in row["files"] if p["differs"]][:3]:
                where = f"{place['file']}:{place['line']}"
                log_line = f"myriant: {where} sets {row['name']} to {place['value']!r}; in force is {row['value']!r}"
                self._say(log, log_line)
        installed: dict[str, str] = {}
        try:
            self._steps(said, log)
        finally:
            telling.join()
            if not self.stopped.is_set():
                installed = machine.packages(self.room.workspace)
                self._record["machine"] = machine.record(said.runtimes, tools, installed)
        self._won(found)
        with self._phase("keep"):
            self._keep(said, log)
        if not said.failed_steps and not said.missing and self.lease.caches:
            with self._phase("save caches"):
                for wish in self.lease.caches:
                    if found[wish.name].entry is None:
                        self._save(wish, log)

    def stop(self) -> None:
        """End the step that runs, with all its processes."""
        self.stopped.set()
        if self._running is not None:
            self._running.kill()

    @contextmanager
    def _phase(self, name: str) -> Iterator[None]:
        told = {"name": name, "started_at": _now(), "ended_at": None}
        self._phases.append(told)
        try:
            yield
        finally:
            told["ended_at"] = _now()

    def _say(self, log: AttemptLog, text: str) -> None:
        log.say(self.masker.words(text))

    def _tell(self, kind: str, content: Any) -> None:
        try:
            self.server.tell(self.lease, kind, self._masked(content))
        except (LeaseLost, Refused) as error:
            _log.info("attempt %d: its %s were not taken: %s", self.lease.attempt, kind, error)

    def _masked(self, content: Any) -> Any:
        return content if self.masker.idle else json.loads(self.masker.words(json.dumps(content)))

    def _finish(self, said: _Said) -> None:
        workspace = WORKSPACE if self.sandbox.bubblewrap else str(self.room.workspace)
        told = {
            "void": said.void[:4000], "machine": said.machine, "missing": said.missing, "workspace": workspace,
            "missing_coverage": said.missing_coverage, "failed_steps": said.failed_steps, "runtimes": said.runtimes,
            "retested": said.retested, "record": {**self._record, "phases": self._phases, "caches": self._caches},
        }  # fmt: skip
        self.server.finish(self.lease, self._masked(told))

    def _link_runtimes(self, said: _Said) -> None:
        for wish, runtime in zip(self.lease.wants, self.runtimes, strict=True):
            if runtime is None and not wish.startswith("label "):
                raise MachineTrouble(f"{wish} is no longer on this machine")
            if runtime is not None:
                said.runtimes[runtime.family] = runtime.version
                link_runtime(runtime, self.room.links)

    def _fetch(self, workspace: Path) -> None:
        source = f"{self.server.address}/api/v1/attempts/{self.lease.attempt}/source"
        try:
            self._checkouts.fill(self.lease, source, workspace, self.stopped)
        except SourceMissing as error:
            raise MachineTrouble(str(error)) from error

    def _describe(self) -> dict[str, str]:
        """What the tools that the plan asks about say of themselves."""
        tools = {}
        for words in self.lease.describe:
            said: list[bytes] = []
            ended = self._command(["/bin/sh", "-c", words], self.variables.of(), "", said.append, time.monotonic() + 20)
            text = self.masker.mask(b"".join(said)).decode("utf-8", "replace")
            tools[words] = machine.shown(text.splitlines()) or f"exit status {ended.status}"
        return tools

    # caches

    def _key(self, wish: CacheWish) -> dict[str, Any]:
        runtimes = {r.family: r.version for r in self.runtimes if r}
        renewed = caches.renewed_by(self.room.workspace, wish.renew_on)
        return {"renew": renewed, "runtimes": runtimes, "system": machine.system_name(), "keep": wish.keep}

    def _restore(self, wish: CacheWish, log: AttemptLog) -> CacheAnswer:
        began = time.monotonic()
        self._keys[wish.name] = self._key(wish)
        answer = self.server.find_cache(self.lease, wish.name, self._keys[wish.name])
        told: dict[str, Any] = {"name": wish.name, "found": answer.entry is not None, "said": answer.said}
        if answer.entry is not None:
            archive = self.room.base / "cache"
            try:
                self.server.fetch_cache(self.lease, answer.entry, archive, answer.digest)
                files = caches.unpack(archive, self.room.workspace)
                told |= {"bytes": answer.size, "files": files}
            except (caches.BadArchive, ValueError) as error:
                told |= {"found": False, "said": f"what was kept is damaged: {error}"}
                answer = CacheAnswer(said=told["said"])
            finally:
                archive.unlink(missing_ok=True)
        told["seconds"] = time.monotonic() - began
        self._caches.append(told)
        self._say(log, f"myriant: cache {wish.name}: {'found' if told['found'] else 'missed'}; {told['said']}")
        return answer

    def _won(self, found: Mapping[str, CacheAnswer]) -> None:
        """Seconds that found caches won: the preparing steps when they were saved against now, less unpacking."""
        for told in self._caches:
            answer = found[told["name"]]
            if told["found"]:
                both = self._prepared.keys() & answer.seconds.keys()
                before, now = sum(answer.seconds[n] for n in both), sum(self._prepared[n] for n in both)
                told |= {"won": before - now - told["seconds"], "before": before, "now": now}

    def _save(self, wish: CacheWish, log: AttemptLog) -> None:
        archive = self.room.base / "cache"
        try:
            count, why = caches.pack(self.room.workspace, wish.keep, archive, self.masker.masks)
            if not count:
                self._say(log, f"myriant: cache {wish.name} is not saved: {why}")
                return
            size = archive.stat().st_size
            said = self.server.save_cache(self.lease, wish.name, self._keys[wish.name], self._prepared, archive)
            next(t for t in self._caches if t["name"] == wish.name)["saved"] = size
            self._say(log, f"myriant: cache {wish.name}: {said}")
        finally:
            archive.unlink(missing_ok=True)

    # companions

    def _begin_companions(self, log: AttemptLog) -> None:
        """Start each and wait until it is ready. Raises Void."""
        if not self.lease.companions:
            return
        own = all(not s.network for s in self.lease.steps if not s.skipped)
        if own:
            if not (self.sandbox.bubblewrap and self.sandbox.root):
                raise MachineTrouble(
                    "companions of a job without a network need a runner that runs as root, with bubblewrap"
                )
            self._network = OwnNetwork()
        ports = {}
        for wish in self.lease.companions:
            if wish.port is not None:
                ports[wish.name] = wish.port if own else free_port()
                self.variables.ports[variable(wish.name)] = str(ports[wish.name])
        for wish in self.lease.companions:
            with self._phase(f"companion {wish.name}"):
                try:
                    companion = self._begin_companion(wish)
                    self._companions.append(companion)
                    probe = self._prober(wish)
                    seconds = companion.wait_until_ready(probe, ports.get(wish.name), self.stopped)
                except CompanionFailed as error:
                    raise Void(str(error)) from error
            self._say(log, f"myriant: companion {wish.name} is ready after {seconds:.1f} s")

    def _begin_companion(self, wish: CompanionWish) -> Companion:
        words = ["/bin/sh", "-e", "-c", wish.command] if isinstance(wish.command, str) else list(wish.command)
        command = self._walled(words, self.variables.of(more=wish.env), wish.folder.strip("/"))
        log = self.room.base / "reports" / f"companion-{wish.name}"
        return Companion(wish, command, log, self._bounds(), self.masker.mask)

    def _prober(self, wish: CompanionWish) -> Callable[[list[str]], bool]:
        def probe(words: list[str]) -> bool:
            if words[0] == "/bin/sh" or words == wish.ready.command:
                return answers(*self._walled(words, self.variables.of(more=wish.env), wish.folder.strip("/")))
            joined = ["nsenter", f"--net=/proc/{self._network.pid}/ns/net", "--"] if self._network else []
            return answers([*joined, *words])

        return probe

    def _end_companions(self) -> None:
        for companion in reversed(self._companions):
            companion.stop()
        for companion in self._companions:
            if self.stopped.is_set() or not companion.log.exists():
                continue
            self.masker.mask_file(companion.log)
            found = Found.of(f"companion-{companion.wish.name}.log", companion.log)
            self._send(found, 0, "companion", companion.wish.name)

    # steps

    def _steps(self, said: _Said, log: AttemptLog) -> None:
        since = time_mark(self.room.base)
        ends = time.monotonic() + self.lease.timeout
        failed = ""  # the step that failed, so that only those that always run follow
        reasons: list[str] = []
        preparing = True
        for position, step in enumerate(self.lease.steps):
            told: dict[str, Any] = {
                "position": position, "name": step.name, "command": _shown(step.command), "state": "running",
                "started_at": _now(), "log_from": log.size,
            }  # fmt: skip
            preparing = preparing and not step.collect
            if step.skipped or (failed and not step.always):
                why = step.skipped or f"step {failed} did not end well"
                told |= {"state": "skipped", "reason": why, "started_at": None, "log_from": None}
                self.server.step(self.lease, told)
                continue
            self.server.step(self.lease, told)
            began = time.monotonic()
            step_ends = min(ends, time.monotonic() + step.timeout) if step.timeout else ends
            ended = self._execute(step, step_ends, log)
            if preparing:
                self._prepared[step.name] = time.monotonic() - began
            reason = self._why_void(step, ended, step_ends < ends)
            if not reason and not self.stopped.is_set():
                ended = self._collect_and_retest(position, step, since, step_ends, said, log, ended)
            elif not self.stopped.is_set():
                self._collect(position, step, since, said)
            log.append(self.masker.end())
            if log.left_out:
                log.say(f"\nmyriant: {log.left_out:,} more bytes of output were not kept")
                log.left_out = 0
            well = ended.status == 0
            told |= {
                "ended_at": _now(), "log_to": log.size, "exit_status": ended.status,
                "state": "void" if reason else "passed" if well else "failed",
                "reason": self.masker.words(reason) or ("it may fail" if step.may_fail and not well else ""),
            }  # fmt: skip
            if not well and not told["reason"]:
                told["reason"] = explain_status(
                    ended.status, step.command, self.room.workspace / step.folder.strip("/")
                )
            self.server.step(self.lease, told)
            if self.stopped.is_set():
                raise LeaseLost("stopped")
            if reason:
                reasons.append(reason)
                failed = failed or step.name
            elif not well and not step.may_fail:
                said.failed_steps.append(position)
                failed = failed or step.name
            died = next(filter(None, (c.died() for c in self._companions)), "")
            if died and not reasons:
                reasons.append(died)
                failed = failed or step.name
        if any("disk is full" in reason for reason in reasons):
            raise MachineTrouble("; ".join(reasons))
        if reasons:
            raise Void("; ".join(reasons))

    def _why_void(self, step: StepWish, ended: Ended, own_time: bool) -> str:
        if ended.over:
            return f"step {step.name} was ended: {ended.over}"
        if ended.timed_out:
            whose, seconds = ("its", step.timeout) if own_time else ("the job's", self.lease.timeout)
            return f"step {step.name} was ended: {whose} time of {seconds:g} s is over"
        if ended.status in _CRASHES:
            return f"step {step.name} crashed by {_CRASHES[ended.status]}"
        return ""

    def _execute(
        self, step: StepWish, ends: float, log: AttemptLog, command: str | list[str] | None = None,
        more: Mapping[str, str] | None = None,
    ) -> Ended:  # fmt: skip
        folder = step.folder.strip("/")
        inside_it = self.room.workspace / folder
        problem = ""
        if folder and not inside_it.resolve().is_relative_to(self.room.workspace.resolve()):
            problem = f"the folder {step.folder} leads out of the workspace"
        elif folder and not inside_it.is_dir():
            problem = f"there is no folder {step.folder} in the workspace"
        elif not step.network and not self.sandbox.bubblewrap:
            problem = "this machine cannot take the network away from a step: bubblewrap does not work here"
        if problem:
            self._say(log, f"myriant: {problem}")
            return Ended(127)
        words = _inner(step, command if command is not None else step.command)
        environment = self.variables.of(step, more)
        try:
            return self._command(
                words, environment, folder, lambda data: log.append(self.masker.feed(data)), ends, network=step.network
            )
        except OSError as error:
            self._say(log, f"myriant: {words[0]} cannot be started: {error}")
            return Ended(127)

    def _command(
        self, words: Sequence[str], environment: Mapping[str, str], folder: str, say: Callable[[bytes], None],
        ends: float, *, network: bool = True,
    ) -> Ended:  # fmt: skip
        self._running = Watched(*self._walled(words, environment, folder, network=network))
        return self._running.follow(say, ends, self._bounds(), self.stopped)

    def _walled(
        self, words: Sequence[str], environment: Mapping[str, str], folder: str, *, network: bool = True
    ) -> tuple[list[str], dict[str, str], Path | None]:
        limits = self.lease.limits
        return self.sandbox.command(
            words, room=self.room, environment=environment, folder=folder, network=network,
            net=self._network.pid if self._network else None, memory=limits.memory, processes=limits.processes,
            file_size=limits.disk or MOST_DISK,
        )  # fmt: skip

    def _bounds(self) -> Bounds:
        limits = self.lease.limits
        user = self.room.user if self.sandbox.root and self.sandbox.bubblewrap else None
        return Bounds(self.room.base, user, self._free, limits.memory, limits.disk or MOST_DISK, limits.output)

    # reports

    def _collect_and_retest(
        self, position: int, step: StepWish, since: int, ends: float, said: _Said, log: AttemptLog, ended: Ended
    ) -> Ended:
        """Deliver a step's reports; while tests failed and may be run again, run them again."""
        found = self._collect(position, step, since, said, keep=self.lease.retries > 0)
        try:
            failed = retest.failed_tests([f.copy for f in found], self.room.workspace) if found else []
            for number in range(1, self.lease.retries + 1):
                if not 0 < len(failed) <= _MOST_RETESTED or ended.status == 0 or self.stopped.is_set():
                    break
                self._say(log, f"myriant: retest {number} of {len(failed)} failed tests")
                failed = self._retest(position, step, number, failed, ends, log)
                said.retested = number
                if not failed:
                    break
        finally:
            for report in found:
                report.copy.unlink(missing_ok=True)
        return ended

    def _retest(
        self, position: int, step: StepWish, number: int, failed: list[dict[str, str]], ends: float, log: AttemptLog
    ) -> list[dict[str, str]]:
        """Run failed tests once more; those that failed again."""
        more, command = {}, None
        if step.retest is not None:
            command = step.retest.command
            lists = self.room.tmp / f"retest-{number}"
            lists.write_text(retest.listed(failed, step.retest.each), encoding="utf-8")
            lists.chmod(0o644)
            more["MYRIANT_RETEST"] = f"/tmp/{lists.name}" if self.sandbox.bubblewrap else str(lists)
        since = time_mark(self.room.base)
        self._execute(step, ends, log, command, more)
        still: list[Found] = []
        for collect in step.collect:
            for glob in retest.beside(collect.tests):
                found, _ = find_reports(self.room.workspace, glob, since, self.room.base / "reports")
                for report in found:
                    if any(report.path == s.path for s in still):
                        report.copy.unlink()
                        continue
                    self.masker.mask_file(report.copy)
                    report = Found.of(report.path, report.copy)
                    self._send(report, position, "retest", collect.kind)
                    still.append(report)
        names = {(t["class"], t["name"]) for t in retest.failed_tests([f.copy for f in still], self.room.workspace)}
        for report in still:
            report.copy.unlink()
        return [t for t in failed if not still or (t["class"], t["name"]) in names]

    def _collect(self, position: int, step: StepWish, since: int, said: _Said, *, keep: bool = False) -> list[Found]:
        """Deliver what a step wrote; the reports of tests, which the caller removes when it wants to keep them."""
        kept = []
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
                        if content == "attachment" and self.masker.masks(report.copy):
                            said.missing_coverage.append(f"{report.path} holds a secret and is not kept")
                            report.copy.unlink()
                            continue
                        self.masker.mask_file(report.copy)
                        report = Found.of(report.path, report.copy)
                        self._send(report, position, content, collect.kind)
                        if keep and content == "tests":
                            kept.append(report)
                        else:
                            report.copy.unlink()
                    if not found and not collect.may_be_empty and content != "attachment":
                        why = f", and {stale[0]} was there before the steps began" if stale else ""
                        missing = said.missing_coverage if content == "coverage" else said.missing
                        missing.append(f"report missing: no file matches {glob} after step {step.name}{why}")
        return kept

    def _keep(self, said: _Said, log: AttemptLog) -> None:
        """Deliver artifacts, and what is handed over when every step ended well. Raises Void."""
        last = max(0, len(self.lease.steps) - 1)
        for artifact in self.lease.artifacts:
            keep = {"keep": artifact.keep} if artifact.keep is not None else {}
            for glob in artifact.files:
                if not self._deliver("artifact", "", glob, last, keep, log):
                    self._say(log, f"myriant: no file was kept for the artifact {glob}")
        for name, glob in () if said.failed_steps else self.lease.hand_over.items():
            if not self._deliver("hand-over", name, glob, last, {}, log):
                raise Void(f"nothing to hand over: no file matches {glob} ({name})")

    def _deliver(self, content: str, kind: str, glob: str, step: int, more: dict[str, Any], log: AttemptLog) -> int:
        found, _ = find_reports(self.room.workspace, glob, 0, self.room.base / "reports")
        for link in links_matching(self.room.workspace, glob):
            self._say(log, f"myriant: {link} is no regular file and is not kept")
        sent = 0
        for file in found:
            if self.masker.masks(file.copy) or self.masker.words(file.path) != file.path:
                self._say(log, f"myriant: {file.path} holds a secret and is not kept")
            else:
                self._send(file, step, content, kind, more)
                sent += 1
            file.copy.unlink()
        return sent

    def _send(self, file: Found, step: int, content: str, kind: str, more: Mapping[str, Any] | None = None) -> None:
        params = {"step": step, "content": content, "kind": kind, "digest": file.digest, **(more or {})}
        self.server.report(self.lease, self._reports, self.masker.words(file.path), file.copy, params)
        self._reports += 1


def _chosen(wish: str, runtimes: list[Runtime]) -> Runtime | None:
    family, _, version = wish.partition(" ")
    return next((r for r in runtimes if r.family == family and r.meets(version)), None)


def _inner(step: StepWish, command: str | list[str]) -> list[str]:
    if not isinstance(command, str):
        return list(command)
    if step.shell == "bash":
        return ["/bin/bash", "-e", "-o", "pipefail", "-c", command]
    return ["/bin/sh", "-e", "-c", command]


def _shown(command: str | list[str]) -> str:
    return command if isinstance(command, str) else " ".join(command)


def _now() -> str:
    return datetime.now(UTC).isoformat()
