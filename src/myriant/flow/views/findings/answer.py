"""Findings: what did not pass in a run, by cause, beside a baseline, with all that is known of each."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path

from myriant.core.diagnosis.compare import tally
from myriant.core.diagnosis.frames import is_test_file
from myriant.core.diagnosis.kinds import usual_kinds
from myriant.flow.diagnose.beside import beside
from myriant.flow.diagnose.kinds import kinds_of
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.views.findings.causes import causes_of
from myriant.flow.views.findings.model import Findings
from myriant.flow.views.findings.others import less_in, others_of
from myriant.flow.views.findings.troubled import troubles_of
from myriant.flow.views.lines import run_line
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.repos.remote import Remote
from myriant.store.cells import cells_of

MOST_FILES = 200  # of a change that is looked at function by function


@lru_cache(maxsize=256)
def _functions(path: Path, before: str, after: str) -> Mapping[str, frozenset[str]]:
    mirror = Mirror(path, Remote(""))
    if len(mirror.changed_files(before, after) or ()) > MOST_FILES:
        return {}
    changed = mirror.changed_functions(before, after)
    return {file: frozenset(names) for file, names in changed.items() if not is_test_file(file)}


def _changed(mirror: Mirror, before: str, after: str) -> Mapping[str, frozenset[str]]:
    """The functions that changed between two commits by file, but for tests; none where it cannot be told."""
    try:
        return _functions(mirror.path, before, after) if before and before != after else {}
    except GitError:
        return {}


def findings_of(site: Site, name: str, number: int, base: int | None) -> Findings:
    """What did not pass in a run, by cause, beside its gate baseline or the run numbered `base`. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        baseline, compared = beside(session, project, row, base)
        cells = cells_of(session, row.id)
        rules = (*kinds_of(session, project.id), *usual_kinds())

        def changed() -> Mapping[str, frozenset[str]]:
            return _changed(
                site.mirror(project), (baseline.tested or baseline.commit) if baseline else "", row.tested or row.commit
            )

        listed, more, tests = causes_of(session, project, row, compared, cells, rules, changed)
        lessened = less_in(session, row, compared, base)
        others = others_of(site, session, project, row, baseline, compared, cells, lessened)
        return Findings(
            run_line(baseline) if baseline else None,
            base is not None,
            tests,
            listed,
            more,
            others,
            troubles_of(site, session, cells, rules),
            tally(compared.current, compared.cells).tests_fixed,
            len(lessened["vanished"]),
        )
