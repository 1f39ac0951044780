"""The word of commits: the one function by which every screen, command and note says what a commit is."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from sqlalchemy.orm import Session

from myriant.core.gate.word import Word, word
from myriant.store.judged import verdicts_of_many


def words_of(session: Session, project_id: int, commits: Collection[str]) -> dict[str, Word]:
    """What each of these commits is said to be; NONE of those without a verdict."""
    return words_of_many(session, {project_id: commits})[project_id]


def words_of_many(session: Session, wanted: Mapping[int, Collection[str]]) -> dict[int, dict[str, Word]]:
    """As `words_of`, for the commits of several projects at once."""
    said = verdicts_of_many(session, wanted)
    return {
        project: {commit: word(said.get(project, {}).get(commit, ())) for commit in commits}
        for project, commits in wanted.items()
    }
