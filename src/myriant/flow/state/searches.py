"""What a search for the first bad commit may become."""

from __future__ import annotations

from myriant.core.states import SEARCH_MOVES, SearchState, check_move
from myriant.store.tables import Search


def go_on(search: Search) -> None:
    """It was stopped, or had given up, and is wanted again."""
    _become(search, SearchState.RUNNING, "")


def stop(search: Search) -> None:
    if search.state == SearchState.RUNNING:
        _become(search, SearchState.STOPPED, "stopped by a person")


def end(search: Search, *, found: bool, said: str) -> None:
    _become(search, SearchState.FOUND if found else SearchState.GIVEN_UP, said)


def _become(search: Search, then: SearchState, said: str) -> None:
    check_move(f"search {search.id}", SEARCH_MOVES, SearchState(search.state), then)
    search.state, search.said = then, said
