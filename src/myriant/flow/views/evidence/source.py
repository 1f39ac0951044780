"""The repository's files at a commit, for looking at."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.repos.git import GitError, is_object_id

MOST_SHOWN = 2 << 20  # bytes


@dataclass(frozen=True, slots=True)
class SourceFile:
    path: str
    commit: str
    text: str
    cut: bool  # it is longer than what is shown


def file_at(site: Site, name: str, commit: str, path: str) -> SourceFile:
    """A text file at a commit. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
    try:
        data = site.mirror(project).file(commit, path) if is_object_id(commit) else None
    except GitError:
        data = None
    if data is None:
        raise NotFound(f"{commit[:12]} has no file {path[:300]}", "a step may make it, or it has another name")
    if b"\0" in data[:8000]:
        raise NotFound(f"{path[:300]} is no text", "fetch the commit to look at it")
    return SourceFile(path, commit, data[:MOST_SHOWN].decode("utf-8", "replace"), len(data) > MOST_SHOWN)


def files_named(site: Site, name: str, commit: str, part: str, most: int = 20) -> list[str]:
    """Paths at a commit that hold a text, whatever its case; those whose own name holds it first. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
    try:
        every = site.mirror(project).files(commit) if is_object_id(commit) else []
    except GitError as error:
        raise NotFound(f"the commit {commit[:12]} is not known here") from error
    wanted = part.lower()
    fitting = [p for p in every if wanted in p.lower()]
    fitting.sort(key=lambda p: (wanted not in p.rsplit("/", 1)[-1].lower(), len(p), p))
    return fitting[:most]
