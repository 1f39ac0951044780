"""Tests that were taken out of the sources: nobody waits for their results."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sqlalchemy.orm import Session

from myriant.core.gate.less import name_token, removed
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.results import tests_numbered
from myriant.store.tables import Project, Run

_MOST_LOOKED_AT = 300  # changed files that are read to see which tests can have gone


def gone_since(
    site: Site, session: Session, project: Project, run: Run, base: Run | None, tests: Sequence[int]
) -> set[int]:
    """Of these tests, those that stood in the sources at a run's baseline and stand there no more."""
    if base is None or not tests:
        return set()
    named = {n: (t.suite, t.klass, t.name) for n, t in tests_numbered(session, project.id, tests).items()}
    mirror, before, after = site.mirror(project), base.tested or base.commit, run.tested or run.commit
    try:
        words = _touched(mirror, before, after, {name_token(name) for _, _, name in named.values()})
        stood, stands = _places_of(mirror, before, words), _places_of(mirror, after, words)
    except GitError:
        return set()  # nothing shows that they were taken out
    return removed(named, stood, stands)


def _touched(mirror: Mirror, before: str, after: str, words: Collection[str]) -> set[str]:
    """Those of the words that a file which changed names: the others stand where they stood."""
    changed = mirror.changed_files(before, after)
    if changed is None or len(changed) > _MOST_LOOKED_AT:
        return set(words)
    texts = [(mirror.file(before, path) or b"").decode("utf-8", "replace") for path in changed]
    return {word for word in words if word in changed or any(word in text for text in texts)}


def _places_of(mirror: Mirror, commit: str, words: Collection[str]) -> dict[str, set[str]]:
    """By word, the files that it stands in or is the path of. Raises GitError."""
    found = mirror.files_with(commit, words)
    for path in set(mirror.files(commit)) & set(words):
        found.setdefault(path, set()).add(path)
    return found
