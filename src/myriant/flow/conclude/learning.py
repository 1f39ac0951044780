"""What a project learns from run to run: tests that moved, quarantines that have served."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.diagnosis.flaky import is_steady
from myriant.core.gate.less import name_token, tells_file
from myriant.core.results.model import Outcome
from myriant.core.results.moved import MOST_COMPARED, moved, own_lines
from myriant.flow.compare.outcomes import Compared
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.history import keep_moves, newest_number_at, open_quarantines
from myriant.store.results import history_of_test, tests_numbered
from myriant.store.tables import Project, Run, Test
from myriant.store.takings import failed_with, open_takings


def learn_moves(site: Site, session: Session, project: Project, run: Run, compared: Compared) -> int:
    """Recognise tests of the baselines that go by another name now, in the cells that both have; how many.

    A move is proven where only what changes with each run differs, git sees the file renamed, or the test's own lines
    are the same: only then what failed under the old name makes the failure known.
    """
    both = [(name, pair) for name, pair in compared.pairs.items() if pair in compared.before]
    if not both:
        return 0
    now, before = _present([compared.current[n] for n, _ in both]), _present([compared.before[p] for _, p in both])
    size = max(len(now), len(before))
    now, before = np.pad(now, (0, size - len(now))), np.pad(before, (0, size - len(before)))
    gone, new = np.flatnonzero(before & ~now).tolist(), np.flatnonzero(now & ~before).tolist()
    if not gone or not new or max(len(gone), len(new)) > MOST_COMPARED:
        return 0
    tests = tests_numbered(session, run.project_id, [*gone, *new])
    rows = []
    for job in {t.job for t in tests.values()}:
        vanished = [n for n in gone if n in tests and tests[n].job == job]
        appeared = [n for n in new if n in tests and tests[n].job == job]
        base = compared.baselines.get(job) or compared.nearest
        for move in moved([_identity(tests[n]) for n in vanished], [_identity(tests[n]) for n in appeared]):
            then, here = tests[vanished[move.before]], tests[appeared[move.now]]
            proven = move.incidental or (base is not None and _is_same(site, project, run, base, then, here))
            rows.append(
                {
                    "project_id": run.project_id,
                    "now": here.number,
                    "before": then.number,
                    "run": run.number,
                    "because": move.because,
                    "proven": proven,
                }
            )
    return keep_moves(session, rows)


def _is_same(site: Site, project: Project, run: Run, base: Run, then: Test, now: Test) -> bool:
    """Whether git or the sources show that a test only moved. A renamed file proves nothing of another name in it."""
    mirror, before, after = site.mirror(project), base.tested or base.commit, run.tested or run.commit
    try:
        renames = mirror.renames(before, after) if then.name == now.name else {}
        for here, there in renames.items():
            if tells_file(here, now.suite, now.klass) and tells_file(there, then.suite, then.klass):
                return True
        old, new = name_token(then.name), name_token(now.name)
        files = mirror.files_with(before, [old]).get(old, set()), mirror.files_with(after, [new]).get(new, set())
        lines = [
            {body for path in sorted(found)[:5] if (body := own_lines(_text(mirror, commit, path), name))}
            for found, commit, name in ((files[0], before, old), (files[1], after, new))
        ]
    except GitError:
        return False
    return bool(lines[0] & lines[1])


def _text(mirror: Mirror, commit: str, path: str) -> str:
    return (mirror.file(commit, path) or b"").decode("utf-8", "replace")


def _present(
    cells: list[np.ndarray[tuple[int, ...], np.dtype[np.uint8]]],
) -> np.ndarray[tuple[int, ...], np.dtype[np.bool_]]:
    found = np.zeros(max(len(c) for c in cells), np.bool_)
    for outcomes in cells:
        found[: len(outcomes)] |= outcomes != Outcome.ABSENT
    return found


def _identity(test: Test) -> tuple[str, str, str, str]:
    return test.kind, test.suite, test.klass, test.name


def settle_quarantines(session: Session, project: Project, run: Run) -> None:
    """End quarantines whose time is over, and those whose test has proved steady since on the main branch."""
    rows = open_quarantines(session, project.id)
    for held in rows:
        if held.until <= datetime.now(UTC):
            held.ended_at, held.ended_why = func.now(), "its time was over"
        elif run.branch == project.main_branch:
            since = newest_number_at(session, project.id, held.at)
            told = [p for p in history_of_test(session, project.id, held.test, 150) if p.run > (since or 0)]
            ran = [p for p in told if p.outcome is not Outcome.SKIPPED]
            odd = sum(p.outcome is not Outcome.PASSED for p in ran)
            if is_steady(odd, len(ran)):
                held.ended_at = func.now()
                held.ended_why = f"it proved steady: {len(ran)} results without a failure since it began"


def settle_takings(session: Session, run: Run, compared: Compared) -> None:
    """End what somebody took in this context once all that failed with it has passed again.

    A test that is gone, skipped or did not run proves nothing: what was taken stays taken.
    """
    for held in open_takings(session, run.project_id):
        if held.context != run.context or held.run >= run.number:
            continue
        failed = failed_with(session, run.project_id, held.run, held.signature)
        if failed and all(_passed(compared, job, key, test) for job, key, test in failed):
            held.ended_at, held.ended_why = func.now(), f"fixed in #{run.number}"


def _passed(compared: Compared, job: str, key: str, test: int) -> bool:
    outcomes = compared.current.get((job, key))
    return outcomes is not None and test < len(outcomes) and outcomes[test] == Outcome.PASSED
