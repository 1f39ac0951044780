"""What becomes of an attempt, told a moment later: what is known at its end by then travels with its end."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from myriant.wire.lease import Lease

MOMENT = 0.3  # seconds
Tell = Callable[[Lease, list[dict[str, Any]], dict[str, Any]], None]


@dataclass(slots=True)
class _Waiting:
    lease: Lease
    due: float  # monotonic
    steps: dict[int, dict[str, Any]] = field(default_factory=dict)  # by position, the newest word
    records: dict[str, Any] = field(default_factory=dict)  # by kind


class Untold:
    """Steps and records of attempts that wait to be told; `tell` delivers them. Safe across threads."""

    def __init__(self, tell: Tell) -> None:
        self._tell = tell
        self._waiting: dict[int, _Waiting] = {}  # by attempt
        self._errors: dict[int, Exception] = {}
        self._changed = threading.Condition()
        self._telling = threading.Lock()  # in order: one at a time
        self._thread: threading.Thread | None = None
        self._ended = False

    def add_step(self, lease: Lease, told: dict[str, Any]) -> None:
        """Raises what telling of this attempt failed with before."""
        with self._changed:
            self._mine(lease).steps[told["position"]] = dict(told)

    def add_record(self, lease: Lease, kind: str, content: Any) -> None:
        """Raises what telling of this attempt failed with before."""
        with self._changed:
            self._mine(lease).records[kind] = content

    def take(self, lease: Lease) -> tuple[list[dict[str, Any]], dict[str, Any]]:
        """What was not told yet, in order; whoever takes it tells it. Raises what telling failed with before."""
        with self._telling, self._changed:
            if error := self._errors.pop(lease.attempt, None):
                raise error
            found = self._waiting.pop(lease.attempt, None)
        return ([found.steps[p] for p in sorted(found.steps)], found.records) if found is not None else ([], {})

    def tell(self, lease: Lease) -> None:
        """Tell now what waits of an attempt. Raises what telling fails with."""
        with self._telling:
            with self._changed:
                found = self._waiting.pop(lease.attempt, None)
            if found is not None:
                self._tell(lease, [found.steps[p] for p in sorted(found.steps)], found.records)

    def end(self) -> None:
        with self._changed:
            self._ended = True
            self._changed.notify_all()

    def _mine(self, lease: Lease) -> _Waiting:
        if error := self._errors.pop(lease.attempt, None):
            raise error
        if lease.attempt not in self._waiting:
            self._waiting[lease.attempt] = _Waiting(lease, time.monotonic() + MOMENT)
            if self._thread is None:
                self._thread = threading.Thread(target=self._tell_what_is_due, daemon=True)
                self._thread.start()
            self._changed.notify_all()
        return self._waiting[lease.attempt]

    def _tell_what_is_due(self) -> None:
        while True:
            with self._changed:
                if self._ended:
                    return
                soonest = min(self._waiting.values(), key=lambda w: w.due, default=None)
                pause = soonest.due - time.monotonic() if soonest is not None else None
                if soonest is None or (pause is not None and pause > 0):
                    self._changed.wait(pause)
                    continue
            try:
                self.tell(soonest.lease)
            except Exception as error:  # the attempt hears of it when it tells more
                with self._changed:
                    self._errors[soonest.lease.attempt] = error
