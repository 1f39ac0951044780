"""Sending what an attempt wrote: many small files in one call, long ones in parts."""

from __future__ import annotations

from collections.abc import Sequence

from myriant.core.states import Content
from myriant.runner.attempt.ground import Ground
from myriant.runner.porter_stream import Found
from myriant.wire.parcels import ReportHead


class Sender:
    def __init__(self, ground: Ground) -> None:
        self.ground = ground
        self._sent = 0

    def send(self, files: Sequence[Found], step: int, content: str, kind: str, keep: float | None = None) -> None:
        """Deliver copies of files; they stay where they are."""
        rows = []
        for file in files:
            head = ReportHead(
                number=self._sent,
                step=step,
                content=Content(content),
                kind=kind,
                digest=file.digest(),
                path=self.ground.masker.words(file.path),
                size=file.copy.stat().st_size,
                keep=keep,
                parts=0,
            )
            rows.append((head, file.copy))
            self._sent += 1
        if rows:
            self.ground.server.reports(self.ground.lease, rows)
