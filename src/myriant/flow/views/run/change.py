"""What a run's commit changed: its files and lines beside the baseline's, or beside the commit before it."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, run_line
from myriant.repos.changes import FileChange
from myriant.repos.changes import difference as between
from myriant.repos.git import GitError
from myriant.repos.mirror import Commit
from myriant.store.tables import Run

MOST_COMMITS = 100


@dataclass(frozen=True, slots=True)
class Difference:
    """`before` is the commit that it is compared with: a run's, or the first parent where no run is known."""

    before: str
    baseline: RunLine | None
    now: str
    commits: list[Commit]  # after it, newest first; none when history was rewritten
    files: list[FileChange]
    more: int


def difference_of(site: Site, name: str, number: int, base: int | None) -> Difference:
    """What lies between a run's baseline, or the run numbered `base`, and what it tested. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        other = the_run(session, project, base) if base is not None else None
        if other is None and row.baseline_id:
            other = session.get(Run, row.baseline_id)
        mirror = site.mirror(project)
        line = run_line(other) if other is not None else None
        now, before = row.tested or row.commit, (other.tested or other.commit) if other is not None else None
    try:
        if before is None:
            parents = mirror.commit(now).parents
            before = parents[0] if parents else _EMPTY
        files, more = between(mirror.path, before, now)
        commits = mirror.between(before, now, MOST_COMMITS) if before != _EMPTY else []
        own = [] if before == now else [mirror.commit(now)]
    except GitError as error:
        raise NotFound(f"the commits of #{number} cannot be compared: {error}") from error
    return Difference(before, line, now, own + [c for c in commits if c.id != now], files, more)


_EMPTY = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"  # git's tree without files
