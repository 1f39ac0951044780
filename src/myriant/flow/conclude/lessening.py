"""Less than before: which vanished tests were removed from the sources, what lasts from earlier runs, what a person
has accepted.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from myriant.core.gate.less import less
from myriant.core.gate.loosened import loosened
from myriant.core.results.model import Outcome
from myriant.flow.compare.baselines import PlanBefore, merged_head, plans_before
from myriant.flow.compare.moved_tests import moved_elsewhere
from myriant.flow.compare.outcomes import Compared, listed_by, present
from myriant.flow.compare.removed import gone_since
from myriant.flow.plans import names_of_jobs, plan_with
from myriant.flow.site import Site
from myriant.store.history import moves_of
from myriant.store.judged import acceptances, begin_lasting, lasting_at, newest_with_plan
from myriant.store.records import Less
from myriant.store.results import tests_numbered
from myriant.store.tables import Project, Run

VANISHED, REMOVED, SKIPPED, LOOSENED = "vanished", "removed", "newly-skipped", "loosened"
MOST_LASTING = 20_000  # tests of the past that are looked at
MOST_TOLD = 20_000  # numbers of tests kept with a run


@dataclass(frozen=True, slots=True)
class Lessened:
    """By job, the numbers of tests that are less than they were; and what the plan asks less."""

    vanished: Mapping[str, list[int]] = field(default_factory=dict)
    removed: Mapping[str, list[int]] = field(default_factory=dict)
    newly_skipped: Mapping[str, list[int]] = field(default_factory=dict)
    loosened: Sequence[str] = ()
    accepted: Sequence[str] = ()  # of what would be loosened
    accepted_by: Sequence[str] = ()
    accepted_tests: int = 0  # vanished or newly skipped, and accepted by a person

    def told(self) -> Less:
        every = (self.vanished, self.newly_skipped, self.removed)
        return Less(*(tuple(sorted(t for tests in by.values() for t in tests)[:MOST_TOLD]) for by in every))


def lessened(
    site: Site,
    session: Session,
    project: Project,
    run: Run,
    compared: Compared,
    nearest: Sequence[str],
    ended: Collection[str],
) -> Lessened:
    """What of the baselines is no more, with what lasts from earlier runs; `ended` are jobs with all their results."""
    found = less(compared.current, compared.before, compared.pairs, ended)
    vanished = {job: list(tests) for job, tests in found.vanished.items()}
    skipped = {job: list(tests) for job, tests in found.newly_skipped.items()}
    there, skips = _present(compared)
    places = {commit: i for i, commit in enumerate([run.commit, *nearest])}
    # what a pull request's target had lost before is no loss of the pull request's
    lasting = () if run.base else lasting_at(session, project.id, list(places), MOST_LASTING)
    rows = [r for r in lasting if r.commit != run.commit]
    today = {name: job for job, names in names_of_jobs(session, run).items() for name in reversed(names)}
    known = tests_numbered(session, project.id, [r.test for r in rows])
    jobs = {n: today.get(test.job, test.job) for n, test in known.items()}
    for row in rows:
        by_job, job = (vanished if row.what == VANISHED else skipped), jobs.get(row.test)
        still = row.test not in there if row.what == VANISHED else row.test in skips
        if job is not None and still and job in ended and row.test not in by_job.get(job, ()):
            by_job.setdefault(job, []).append(row.test)
    bases = dict(compared.baselines)
    former = merged_head(site, session, project, run, nearest)
    for job, listed in listed_by(session, run, former).items() if former is not None else ():
        lost = [t for t in listed if t not in there and t not in vanished.get(job, ())] if job in ended else []
        if lost and not vanished.get(job):
            bases[job] = former  # where they stood
        vanished.setdefault(job, []).extend(lost)
    elsewhere = moved_elsewhere(session, run, compared, vanished)
    told: set[int] = set()  # a test of a job that was split is missed once
    for job, tests in vanished.items():
        vanished[job] = [n for n in tests if n not in elsewhere.get(job, ()) and n not in told]
        told.update(vanished[job])
    gone = {job: gone_since(site, session, project, run, bases.get(job), tests) for job, tests in vanished.items()}
    word = _accepted(session, project.id, compared, places)
    lines, accepted = _loosened(site, session, project, run, nearest)
    moved = {m.before for m in moves_of(session, project.id).values() if m.now in there}  # they are told as such
    left = {j: [n for n in t if n not in gone[j] and (n, VANISHED) not in word] for j, t in vanished.items()}
    skips_left = {j: [n for n in t if (n, SKIPPED) not in word] for j, t in skipped.items()}
    return Lessened(
        {j: t for j, t in left.items() if t},
        {j: sorted(g - moved) for j, g in gone.items() if g - moved},
        {j: t for j, t in skips_left.items() if t},
        lines,
        list(accepted),
        list(dict.fromkeys(accepted.values())),
        sum(
            (n, what) in word and n not in gone.get(j, ())
            for what, by in ((VANISHED, vanished), (SKIPPED, skipped))
            for j, t in by.items()
            for n in t
        ),
    )


def keep_lasting(session: Session, run: Run, found: Lessened, compared: Compared, nearest: Sequence[str]) -> None:
    """Note what is less since this run, and where it came back; only what a branch, tag or schedule says counts."""
    if not run.context or run.base:
        return
    rows = [
        {"project_id": run.project_id, "test": test, "since": run.number, "what": what, "commit": run.commit}
        for what, by_job in ((VANISHED, found.vanished), (SKIPPED, found.newly_skipped))
        for tests in by_job.values()
        for test in tests
    ]
    lasting = lasting_at(session, run.project_id, [run.commit, *nearest], MOST_LASTING)
    known = {(r.test, r.what) for r in lasting}
    begin_lasting(session, [r for r in rows if (r["test"], r["what"]) not in known][:MOST_TOLD])
    there, skips = _present(compared)
    for row in lasting:
        if row.test in there and (row.what == VANISHED or row.test not in skips):
            row.back = [*row.back, run.commit]


def _present(compared: Compared) -> tuple[set[int], set[int]]:
    """Tests with a result in some cell, and those that some cell skips."""
    skips: set[int] = set()
    for outcomes in compared.current.values():
        skips |= set((outcomes == Outcome.SKIPPED).nonzero()[0].tolist())
    return present(compared.current.values()), skips


def _accepted(session: Session, project_id: int, compared: Compared, places: Mapping[str, int]) -> set[tuple[int, str]]:
    """Tests whose lack a person has accepted since the baselines: what comes back may be missed anew."""
    known = [places[b.commit] for b in compared.baselines.values() if b is not None and b.commit in places]
    oldest = max(known, default=len(places))
    found = set()
    for kind in (VANISHED, SKIPPED):
        for word in acceptances(session, project_id, kind):
            test, _, commit = word.subject.partition("\n")
            if places.get(commit, oldest) < oldest and test.isdigit():
                found.add((int(test), kind))
    return found


def _loosened(
    site: Site, session: Session, project: Project, run: Run, nearest: Sequence[str]
) -> tuple[list[str], dict[str, str]]:
    """What the plan asks less than the gate baseline's and nobody has accepted; what was, with by whom and why.

    A word that was given before the plan asked for it again is used up: asking less once more is another matter.
    """
    own = plan_with(session, run.plan_digest)
    left: list[str] = []
    word: dict[str, str] = {}
    for before in plans_before(site, session, project, run, nearest):
        then = plan_with(session, before.digest)
        if own is None or then is None or before.digest == run.plan_digest:
            continue
        lines = [line for line in loosened(own, then) if line not in left and line not in word]
        word |= _accepted_lines(site, session, project, run, nearest, before, lines)
        left += [line for line in lines if line not in word]
    return left, word


def _accepted_lines(
    site: Site,
    session: Session,
    project: Project,
    run: Run,
    nearest: Sequence[str],
    before: PlanBefore,
    lines: Sequence[str],
) -> dict[str, str]:
    """Of these lines, those that a person has accepted: by whom and why."""
    if not lines:
        return {}
    mirror, word, own_digest = site.mirror(project), {}, run.plan_digest or ""
    pair = f"{before.digest[:16]}→{own_digest[:16]}"
    past = nearest[nearest.index(before.commit) :] if before.commit in nearest else ()
    taken = newest_with_plan(session, project.id, past, own_digest)  # and the baseline asks for it again
    for accepted in acceptances(session, project.id, LOOSENED):
        line, commit, plans = (*accepted.subject.split("\n"), "", "")[:3]
        about = line in lines and (plans == pair or commit == run.commit or mirror.is_ancestor(commit, run.commit))
        used_up = bool(before.commit) and mirror.is_ancestor(commit, before.commit)
        if about and accepted.run > taken and not used_up:
            word[line] = f"accepted by {accepted.by}: {accepted.reason}"
    return word


def subject_of_loosened(run: Run, line: str, before: str) -> str:
    """How an accepted line is kept: with the commit it was accepted at, and both plans."""
    return "\n".join((line, run.commit, f"{before[:16]}→{(run.plan_digest or '')[:16]}"))
