"""What a runner told of an attempt: phases, settings, machine, caches."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.store.attempts import records_of
from myriant.store.tables import Attempt


@dataclass(frozen=True, slots=True)
class PhaseView:
    name: str
    started_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class PlaceView:
    file: str
    line: int
    value: str
    differs: bool


@dataclass(frozen=True, slots=True)
class OverrodeView:
    origin: str
    value: str


@dataclass(frozen=True, slots=True)
class SettingView:
    """A variable: its value in force, where it came from, what that overrode, files that set the same name."""

    name: str
    value: str
    origin: str
    step: str  # the only step that sees it so, empty for all
    overrode: list[OverrodeView]
    files: list[PlaceView]


@dataclass(frozen=True, slots=True)
class CacheView:
    name: str
    found: bool
    said: str
    seconds: float
    size: int
    saved: int
    won: float | None  # seconds, negative when unpacking cost more than it won


@dataclass(frozen=True, slots=True)
class RecordView:
    attempt: int
    phases: list[PhaseView]
    settings: list[SettingView]
    machine: dict[str, dict[str, str]]
    caches: list[CacheView]


def record(site: Site, attempt_id: int) -> RecordView:
    with site.store.view() as session:
        if session.get(Attempt, attempt_id) is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        told = {kind: content for (_, kind), content in records_of(session, [attempt_id]).items()}
    return RecordView(
        attempt_id,
        [p for row in rows_of(told.get("phases")) if (p := phase_of(row)) is not None],
        [_setting(s) for s in rows_of(told.get("settings"))],
        _machine(told.get("machine")),
        [
            CacheView(
                str(c.get("name")),
                bool(c.get("found")),
                str(c.get("said", "")),
                float(c.get("seconds", 0.0)),
                int(c.get("bytes", 0)),
                int(c.get("saved", 0)),
                c.get("won"),
            )
            for c in rows_of(told.get("caches"))
        ],
    )


def rows_of(content: Any) -> list[dict[str, Any]]:
    """What a runner told as a list of objects; anything else is nothing."""
    return [row for row in content if isinstance(row, dict)] if isinstance(content, list) else []


def phase_of(row: dict[str, Any]) -> PhaseView | None:
    try:
        ended = row.get("ended_at")
        return PhaseView(
            str(row["name"]),
            datetime.fromisoformat(row["started_at"]),
            datetime.fromisoformat(ended) if ended else None,
        )
    except (KeyError, TypeError, ValueError):
        return None


def _setting(row: dict[str, Any]) -> SettingView:
    return SettingView(
        str(row.get("name")),
        str(row.get("value")),
        str(row.get("origin")),
        str(row.get("step", "")),
        [OverrodeView(str(o), str(v)) for o, v in row.get("overrode", ())],
        [PlaceView(str(f["file"]), int(f["line"]), str(f["value"]), bool(f["differs"])) for f in row.get("files", ())],
    )


def _machine(content: Any) -> dict[str, dict[str, str]]:
    sections = content if isinstance(content, dict) else {}
    return {
        str(s): {str(k): str(v) for k, v in values.items()}
        for s, values in sections.items()
        if isinstance(values, dict)
    }
