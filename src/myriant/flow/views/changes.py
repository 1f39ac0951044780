"""Listening: what changed, for whoever shows it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from myriant.flow.site import Site
from myriant.store.changes import CELLS, CHANGES, changes_after, changes_by_id, changes_lately
from myriant.store.tables import Change

__all__ = ["CELLS", "CHANGES", "Change", "changes", "missed_since"]


def changes(site: Site, ids: Sequence[int]) -> list[Change]:
    """The changes that a notification named."""
    with site.store.view() as session:
        return changes_by_id(session, list(ids))


LATELY = timedelta(seconds=30)  # that a page may take from its first question until it listens


def missed_since(site: Site, last: int | None) -> list[Change]:
    """What a listener has missed since change `last`; a few earlier ones come again. None: it listens for the first
    time, and what it shows may be that old.
    """
    with site.store.view() as session:
        return changes_after(session, last) if last is not None else changes_lately(session, LATELY)
