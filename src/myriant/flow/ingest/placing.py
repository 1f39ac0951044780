"""Where the paths of a run's coverage reports lie: by the repository's files at its commit, and by its plan."""

from __future__ import annotations

from myriant.core.coverage.paths import Placing
from myriant.core.plan.model import CoveragePaths, Plan
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.tables import Project, Run


def placing_of(site: Site, project: Project, run: Run, plan: Plan | None, workspace: str) -> Placing:
    """For the reports of one attempt, whose workspace lay there; a commit that is not to be had tells no files."""
    try:
        present = frozenset(site.mirror(project).files(run.tested or run.commit))
    except GitError:
        present = None
    roots = dict.fromkeys((workspace, "/workspace"))
    return Placing(list(roots), present, plan.coverage if plan is not None else CoveragePaths())
