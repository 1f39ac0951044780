"""A run beside its baselines: what is compared with what, and what comes of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import (
    CellComparison,
    CellName,
    RunOutcomes,
    compare,
    joined,
    renamed,
    with_earlier,
    without_failures,
)
from myriant.core.gate.less import counterparts
from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes
from myriant.flow.plans import names_of_jobs
from myriant.store.cells import cell_values
from myriant.store.exemptions import jobs_brought_along
from myriant.store.history import moves_of, quarantined_tests, set_aside_at
from myriant.store.results import (
    earlier_attempts,
    failing_outcomes_of,
    identity_of,
    outcomes_of,
    tests_numbered,
    trusted_attempts,
)
from myriant.store.runs import judged_runs_of
from myriant.store.tables import Run

MOST_SINCE = 50  # commits looked back for what a repair fixed
MOST_RENUMBERED = 20_000
MOST_COMPARED = 5  # of their runs, the nearest: enough for cells that the very nearest lacks


@dataclass(frozen=True, slots=True)
class Compared:
    """A run beside its baselines. `before` is by the baselines' cells, `pairs` say which is whose counterpart."""

    current: RunOutcomes
    before: RunOutcomes
    pairs: Mapping[CellName, CellName]
    cells: Mapping[CellName, CellComparison]
    attempts: Mapping[CellName, int]
    baselines: Mapping[str, Run | None]  # by job
    aside: tuple[int, ...]  # tests in quarantine

    @property
    def nearest(self) -> Run | None:
        """The baseline that is named where only one can be: the newest."""
        known = [r for r in self.baselines.values() if r is not None]
        return max(known, key=lambda r: (r.depth, r.number), default=None)


def compare_run(
    session: Session,
    run: Run,
    baselines: Mapping[str, Run | None],
    since: Sequence[Run] = (),
    aside: Sequence[int] | None = None,
) -> Compared:
    """Compare the trusted, non-advisory cells of a run, each with its counterpart at its job's baseline.

    `since` are runs after the baselines, the nearest first: what failed in them and passes now is fixed.
    `aside` are tests in quarantine; None: those that are now.
    """
    attempts = trusted_attempts(session, run)
    current = _outcomes(session, run, attempts)
    moves = moves_of(session, run.project_id)
    there = present(current.values())
    proven = [(m.now, m.before) for m in moves.values() if m.proven and m.now in there and m.before not in there]
    before, values = _at_baselines(session, run, baselines, proven)
    before = _by_todays_numbers(session, run.project_id, current, before)
    pairs = counterparts({n: v for n, v in cell_values(session, run.id).items() if n in current}, values)
    paired = {name: before[pairs[name]] for name in current if name in pairs and pairs[name] in before}
    old = jobs_brought_along(session, run.id) if since else set()  # they passed before what lies between
    between = [
        renamed(by_cell(found, failing_outcomes_of(session, list(found.values()))), proven)
        for other in since[:MOST_COMPARED]
        for found in ({n: a for n, a in trusted_attempts(session, other).items() if n[0] not in old},)
    ]
    set_aside = tuple(quarantined_tests(session, run.project_id) if aside is None else aside)
    first = any(b is not None for b in baselines.values())
    cells = compare(current, paired if first else None, between, list(set_aside))
    return Compared(current, before, pairs, cells, attempts, baselines, set_aside)


def _outcomes(session: Session, run: Run, attempts: Mapping[CellName, int]) -> dict[CellName, Outcomes]:
    """What each cell of a run says: its newest attempt, with what earlier ones still say."""
    found = dict(by_cell(attempts, outcomes_of(session, list(attempts.values()))))
    for name, earlier in earlier_attempts(session, run).items():
        if name in found:
            found[name] = with_earlier(found[name], list(outcomes_of(session, earlier).values()))
    return found


def present(cells: Iterable[Outcomes]) -> set[int]:
    """Tests with a result in some cell."""
    found: set[int] = set()
    for outcomes in cells:
        found |= set((outcomes != Outcome.ABSENT).nonzero()[0].tolist())
    return found


def _at_baselines(
    session: Session, run: Run, baselines: Mapping[str, Run | None], moved: Sequence[tuple[int, int]]
) -> tuple[dict[CellName, Outcomes], dict[CellName, Mapping[str, str]]]:
    """Outcomes and dimension values of the baselines' cells, under the jobs' names of today.

    What was quarantined there makes no failure known, but for a pull request, whose target's failures are its own.
    """
    names = names_of_jobs(session, run)
    before: dict[CellName, Outcomes] = {}
    values: dict[CellName, Mapping[str, str]] = {}
    for base in {b.id: b for b in baselines.values() if b is not None}.values():
        mine = [job for job, b in baselines.items() if b is not None and b.id == base.id]
        found = trusted_attempts(session, base)
        then: RunOutcomes = _outcomes(session, base, found)
        if not run.base:
            then = without_failures(then, set_aside_at(session, run.project_id, base.ended_at or base.created_at))
        then = renamed(then, moved)
        told = cell_values(session, base.id)
        here = {job for job, _ in then}
        for job in mine:
            known_as = [name for name in names.get(job, (job,)) if name in here]
            for name in known_as[:1] if known_as[:1] == [job] else known_as:
                for (_, key), outcomes in ((n, o) for n, o in then.items() if n[0] == name):
                    there = before.get((job, key))
                    before[(job, key)] = outcomes if there is None else joined(there, outcomes)
                    values.setdefault((job, key), told.get((name, key), {}))
    return before, values


def _by_todays_numbers(
    session: Session, project_id: int, current: RunOutcomes, before: dict[CellName, Outcomes]
) -> dict[CellName, Outcomes]:
    """The baselines' outcomes with every test under the number that it has now in the same job.

    A test has another number where its job had another name when it was first seen, and the line that says so came
    with the name, before it or after it.
    """
    for job in {job for job, _ in before}:
        now = present(o for (j, _), o in current.items() if j == job)
        then = present(o for (j, _), o in before.items() if j == job)
        gone, new = then - now, now - then
        if not gone or not new or max(len(gone), len(new)) > MOST_RENUMBERED:
            continue
        tests = tests_numbered(session, project_id, [*gone, *new])
        numbers = {identity_of(tests[n]): n for n in new if n in tests}
        pairs = [(numbers[i], n) for n in gone if n in tests and (i := identity_of(tests[n])) in numbers]
        before |= renamed({n: o for n, o in before.items() if n[0] == job}, pairs)
    return before


def listed_by(session: Session, run: Run, other: Run) -> dict[str, set[int]]:
    """By job, as a run calls it today, the tests that have a trusted result in another run."""
    today = {name: job for job, names in names_of_jobs(session, run).items() for name in reversed(names)}
    attempts = trusted_attempts(session, other)
    found: dict[str, set[int]] = {}
    for (job, _), outcomes in by_cell(attempts, outcomes_of(session, list(attempts.values()))).items():
        found.setdefault(today.get(job, job), set()).update(present([outcomes]))
    return found


def runs_since(
    session: Session, run: Run, baselines: Mapping[str, Run | None], nearest: Sequence[str]
) -> Sequence[Run]:
    """Judged runs on the `nearest` ancestors that come after the oldest baseline, the nearest first."""
    places = {commit: i for i, commit in enumerate(nearest[:MOST_SINCE])}
    known = [b for b in baselines.values() if b is not None]
    ends = [places[b.commit] for b in known if b.commit in places]
    if known and ends:
        places = {commit: i for commit, i in places.items() if i < max(ends)}
    found = [r for r in judged_runs_of(session, run.project_id, list(places)) if r.context.startswith("push ")]
    return sorted(found, key=lambda r: (places[r.commit], -r.number))


def by_cell(attempts: Mapping[CellName, int], outcomes: Mapping[int, Outcomes]) -> dict[CellName, Outcomes]:
    return {name: outcomes[attempt] for name, attempt in attempts.items()}
