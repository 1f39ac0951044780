"""What is asked of the database."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import event

from myriant.flow.site import Site


def statements(site: Site, ask: Callable[[], object]) -> list[str]:
    """What is asked of the database while something is answered."""
    asked: list[str] = []

    def note(_connection: object, _cursor: object, statement: str, *_: object) -> None:
        asked.append(statement)

    event.listen(site.store.engine, "before_cursor_execute", note)
    try:
        ask()
    finally:
        event.remove(site.store.engine, "before_cursor_execute", note)
    return asked
