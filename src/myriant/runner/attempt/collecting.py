"""Collecting: what a step wrote since it began is delivered; what is missing is said."""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Sequence

from myriant.core.states import Content
from myriant.core.written import step_called
from myriant.runner.attempt.ground import Ground, Void
from myriant.runner.attempt.sending import Sender
from myriant.runner.porter import MOST_FILES
from myriant.runner.porter_stream import Found, Taken
from myriant.wire.lease import CollectWish, StepWish

Kept = list[tuple[str, Found]]  # reports of tests with their kind


class Collector:
    def __init__(self, ground: Ground, sender: Sender) -> None:
        self.ground, self.sender = ground, sender

    def collect(self, position: int, step: StepWish, since: int, *, keep: bool = False) -> Kept:
        """Deliver what a step wrote; the reports of tests, which the caller removes when it wants to keep them."""
        wishes = [
            (collect, content, glob)
            for collect in step.collect
            for content, globs in (
                (Content.TESTS, collect.tests),
                (Content.COVERAGE, collect.coverage),
                (Content.ANALYSIS, collect.analysis),
                (Content.ATTACHMENT, collect.attachments),
            )
            for glob in globs
        ]
        kept: Kept = []
        for row, taken in zip(wishes, self._take([glob for _, _, glob in wishes], since), strict=True):
            collect, content, glob = row
            found = self._collect(position, step, collect, content, glob, taken)
            if keep and content is Content.TESTS:
                kept += [(collect.kind, report) for report in found]
            else:
                forget(found)
        return kept

    def _take(self, globs: Sequence[str], since: int) -> list[Taken]:
        """By glob what it gave; one that is named twice gives its files twice."""
        taken = self.ground.porter.take(globs, since, self.ground.room.base / "reports")
        rows, used = [], set()
        for glob in globs:
            one = taken[glob]
            if glob in used:
                one = Taken([again(found) for found in one.found], one.stale, one.refused, one.odd, one.too_many)
            rows.append(one)
            used.add(glob)
        return rows

    def _collect(
        self, position: int, step: StepWish, collect: CollectWish, content: Content, glob: str, got: Taken
    ) -> list[Found]:
        ground, said = self.ground, self.ground.said
        if (
            content is Content.ATTACHMENT
        ):  # what is only shown beside the results is said in the log, and decides nothing
            self._deliver(content, collect.kind, glob, got, position, None)
            return []
        missing = said.missing_coverage if content is Content.COVERAGE else said.missing
        if got.too_many:
            missing.append(f"{_too_many(glob, got)} after {step_called(step.name)}: collect fewer, or merge them")
            return []
        missing += [f"{why}: it was not taken after {step_called(step.name)}" for why in got.refused]
        taken = []
        for report in got.found:
            ground.masker.mask_file(report.copy)
            taken.append(report)
        self.sender.send(taken, position, content, collect.kind)
        if not got.found and not got.refused and not collect.may_be_empty:
            why = f", and {got.stale[0]} was there before the step began" if got.stale else ""
            if got.odd and not got.stale:
                why = f"; {got.odd[0]} is a link or no regular file, and links are not followed: write the file there"
            missing.append(f"report missing: no file matches {glob} after {step_called(step.name)}{why}")
        for path in got.odd if got.found else ():
            ground.say(f"{path} is a link or no regular file: it was not read as a report")
        return taken

    def keep(self) -> None:
        """Deliver artifacts, and what is handed over when every step ended well. Raises Void."""
        ground = self.ground
        last = max(0, len(ground.lease.steps) - 1)
        kept = [(glob, artifact.keep) for artifact in ground.lease.artifacts for glob in artifact.files]
        handed = [] if ground.said.failed_steps else list(ground.lease.hand_over.items())
        rows = self._take([*(glob for glob, _ in kept), *(glob for _, glob in handed)], 0)
        for (glob, keep), got in zip(kept, rows, strict=False):
            if not self._deliver(Content.ARTIFACT, "", glob, got, last, keep):
                ground.say(f"no file was kept for the artifact {glob}")
        for (name, glob), got in zip(handed, rows[len(kept) :], strict=True):
            if not self._deliver(Content.HAND_OVER, name, glob, got, last, None):
                raise Void(f"nothing to hand over: no file matches {glob} ({name})")

    def _deliver(self, content: Content, kind: str, glob: str, got: Taken, step: int, keep: float | None) -> int:
        ground = self.ground
        if got.too_many:
            ground.say(f"{_too_many(glob, got)}: none of them is kept")
            return 0
        for path in got.odd:
            ground.say(f"{path} is no regular file and is not kept")
        for why in got.refused:
            ground.say(f"{why} and is not kept")
        taken = []
        for file in got.found:
            if ground.masker.masks(file.copy) or ground.masker.words(file.path) != file.path:
                ground.say(f"{file.path} holds a secret and is not kept")
            else:
                taken.append(file)
        self.sender.send(taken, step, content, kind, keep)
        forget(got.found)
        return len(taken)


def again(found: Found) -> Found:
    copy = found.copy.with_name(f"{found.copy.name}-again")
    shutil.copyfile(found.copy, copy)
    return Found(found.path, copy)


def _too_many(glob: str, got: Taken) -> str:
    return f"{got.too_many:,} files match {glob}, more than {MOST_FILES:,}"


def forget(files: Iterable[Found]) -> None:
    for file in files:
        file.copy.unlink(missing_ok=True)
