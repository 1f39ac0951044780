"""Collecting: what a step wrote since it began is delivered; what is missing is said."""

from __future__ import annotations

from collections.abc import Iterable

from myriant.core.states import Content
from myriant.runner.attempt.ground import Ground, Void
from myriant.runner.attempt.sending import Sender
from myriant.runner.reports import Found, TooMany, find_reports, links_matching
from myriant.wire.lease import CollectWish, StepWish

Kept = list[tuple[str, Found]]  # reports of tests with their kind


class Collector:
    def __init__(self, ground: Ground, sender: Sender) -> None:
        self.ground, self.sender = ground, sender

    def collect(self, position: int, step: StepWish, since: int, *, keep: bool = False) -> Kept:
        """Deliver what a step wrote; the reports of tests, which the caller removes when it wants to keep them."""
        kept: Kept = []
        for collect in step.collect:
            for content, globs in (
                (Content.TESTS, collect.tests),
                (Content.COVERAGE, collect.coverage),
                (Content.ANALYSIS, collect.analysis),
                (Content.ATTACHMENT, collect.attachments),
            ):
                for glob in globs:
                    found = self._collect(position, step, collect, content, glob, since)
                    if keep and content is Content.TESTS:
                        kept += [(collect.kind, report) for report in found]
                    else:
                        forget(found)
        return kept

    def _collect(
        self, position: int, step: StepWish, collect: CollectWish, content: Content, glob: str, since: int
    ) -> list[Found]:
        ground, said = self.ground, self.ground.said
        missing = said.missing_coverage if content in (Content.COVERAGE, Content.ATTACHMENT) else said.missing
        try:
            found, stale = find_reports(ground.room.workspace, glob, since, ground.room.base / "reports")
        except TooMany as error:
            missing.append(f"{error} after step {step.name}: collect fewer, or merge them")
            return []
        taken = []
        for report in found:
            if content is Content.ATTACHMENT and ground.masker.masks(report.copy):
                missing.append(f"{report.path} holds a secret and is not kept")
                report.copy.unlink()
                continue
            ground.masker.mask_file(report.copy)
            taken.append(Found.of(report.path, report.copy))
        self.sender.send(taken, position, content, collect.kind)
        if not found and not collect.may_be_empty and content is not Content.ATTACHMENT:
            why = f", and {stale[0]} was there before the step began" if stale else ""
            missing.append(f"report missing: no file matches {glob} after step {step.name}{why}")
        return taken

    def keep(self) -> None:
        """Deliver artifacts, and what is handed over when every step ended well. Raises Void."""
        ground = self.ground
        last = max(0, len(ground.lease.steps) - 1)
        for artifact in ground.lease.artifacts:
            for glob in artifact.files:
                if not self._deliver(Content.ARTIFACT, "", glob, last, artifact.keep):
                    ground.say(f"no file was kept for the artifact {glob}")
        for name, glob in () if ground.said.failed_steps else ground.lease.hand_over.items():
            if not self._deliver(Content.HAND_OVER, name, glob, last, None):
                raise Void(f"nothing to hand over: no file matches {glob} ({name})")

    def _deliver(self, content: Content, kind: str, glob: str, step: int, keep: float | None) -> int:
        ground = self.ground
        try:
            found, _ = find_reports(ground.room.workspace, glob, 0, ground.room.base / "reports")
        except TooMany as error:
            ground.say(f"{error}: none of them is kept")
            return 0
        for link in links_matching(ground.room.workspace, glob):
            ground.say(f"{link} is no regular file and is not kept")
        taken = []
        for file in found:
            if ground.masker.masks(file.copy) or ground.masker.words(file.path) != file.path:
                ground.say(f"{file.path} holds a secret and is not kept")
            else:
                taken.append(file)
        self.sender.send(taken, step, content, kind, keep)
        forget(found)
        return len(taken)


def forget(files: Iterable[Found]) -> None:
    for file in files:
        file.copy.unlink(missing_ok=True)
