"""The word of commits: the one function by which every screen, command and note says what a commit is."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy.orm import Session

from myriant.core.gate.word import Word, word
from myriant.store.judged import verdicts_of_commits


def words_of(session: Session, project_id: int, commits: Collection[str]) -> dict[str, Word]:
    """What each of these commits is said to be; NONE of those without a verdict."""
    said = verdicts_of_commits(session, project_id, commits)
    return {commit: word(said.get(commit, ())) for commit in commits}
