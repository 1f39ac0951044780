"""Tests that have their result under another job now, or as another parameter of their function: they moved."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from sqlalchemy.orm import Session

from myriant.core.results.identity import Identity
from myriant.core.results.moved import function_of
from myriant.flow.compare.outcomes import Compared, present
from myriant.flow.plans import names_of_jobs
from myriant.store.results import identity_of, numbers_under, tests_numbered
from myriant.store.tables import Run

_MOST = 20_000  # tests of a job whose names are looked at


def moved_elsewhere(
    session: Session, run: Run, compared: Compared, vanished: Mapping[str, Sequence[int]]
) -> dict[str, set[int]]:
    """By job, those of its vanished tests (numbers) that only moved.

    The same test has a result in the same job under another number, in a job of the same lineage, or in another job
    where it had none before; or its function has at least as many parameters as it had.
    """
    missed = {n for tests in vanished.values() for n in tests}
    if not missed:
        return {}
    now = {job: present(o for (j, _), o in compared.current.items() if j == job) for job, _ in compared.current}
    before = present(compared.before.values())
    there = set().union(*now.values()) if now else set()
    known = tests_numbered(session, run.project_id, list(missed))
    names = {name for job, every in names_of_jobs(session, run).items() for name in (job, *every)}
    known_as = numbers_under(session, run.project_id, sorted(names), map(identity_of, known.values()))
    found: dict[str, set[int]] = {}
    for job, tests in vanished.items():
        for n in tests:
            others = known_as.get(identity_of(known[n]), set()) if n in known else set()
            mine = now.get(job, set())
            if n in there or others & mine or (others & there) - before:
                found.setdefault(job, set()).add(n)
        left = [n for n in tests if n not in found.get(job, ()) and n in known]
        found.setdefault(job, set()).update(_other_parameters(session, run, compared, job, left))
    return found


def _other_parameters(session: Session, run: Run, compared: Compared, job: str, tests: Sequence[int]) -> set[int]:
    now = present(o for (j, _), o in compared.current.items() if j == job)
    before = present(o for (j, _), o in compared.before.items() if j == job) | set(tests)
    if not tests or len(now | before) > _MOST:
        return set()
    known = {n: identity_of(t) for n, t in tests_numbered(session, run.project_id, sorted(now | before)).items()}

    def counts(numbers: set[int]) -> Counter[Identity]:
        return Counter(f for n in numbers if n in known and (f := function_of(known[n])) is not None)

    then, today = counts(before), counts(now)
    functions = {n: function_of(known[n]) for n in tests if n in known}
    return {n for n, f in functions.items() if f is not None and today[f] >= then[f]}
