"""What rules are about, measured: counts of tests, coverage, time, static analysis; now and at the baselines."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Unit
from myriant.core.diagnosis.compare import of_tests, tally
from myriant.core.diagnosis.slower import slower
from myriant.core.gate.judge import Measured
from myriant.core.gate.measures import measures_of, value_of
from myriant.core.gate.replay import best
from myriant.core.plan.keys import SHARES
from myriant.core.plan.model import Rule
from myriant.core.states import Content
from myriant.flow.compare.baseline_coverage import CoveredBefore
from myriant.flow.compare.outcomes import Compared
from myriant.flow.conclude.coverage import Changed, coverage_share
from myriant.store.analysis import analysis_of
from myriant.store.attempts import attempts_of, attempts_with
from myriant.store.cells import cells_of_runs
from myriant.store.coverage import coverage_totals_of
from myriant.store.history import durations_of
from myriant.store.releases import made_in
from myriant.store.results import numbers_of_kinds
from myriant.store.runs import baselines_back
from myriant.store.tables import Cell, Run

_COMPARED = ("analysis.new", "analysis.new-errors", "coverage.change", "coverage.lost", "seconds.slower")


@dataclass(frozen=True, slots=True)
class Known:
    """All that is known of a run when its rules are judged. `now` are the counts of each job."""

    run: Run
    compared: Compared
    now: Mapping[str, Mapping[str, int]]
    loosened: int
    coverage: Fraction | None  # line share over all; None: some of it is missing
    changed: Changed
    then: CoveredBefore
    binding: Sequence[Cell]

    def measured(self, session: Session) -> Measured:
        return Measured(
            lambda rule: self._now(session, rule),
            lambda rule: self._before(session, rule),
            lambda rule: self._nothing(rule.measure) or self._uncompared(session, rule),
        )

    def _nothing(self, measure: str) -> str:
        """Why a measure has nothing to be taken of, which is no fault."""
        if measure in _COMPARED and not any(self.compared.baselines.values()):
            return "there is no baseline to compare with yet"
        return self.changed.nothing if measure == "coverage.changed" else ""

    def _uncompared(self, session: Session, rule: Rule) -> str:
        """Why coverage that was reported cannot be compared, which is no fault."""
        if rule.measure != "coverage.change" or self.coverage is None:
            return ""
        before = self.then.share(session, rule.jobs, rule.folder)
        return "the baseline has no coverage to compare with" if before is None else ""

    def _before_about(self, session: Session, rule: Rule) -> list[Cell]:
        """The same cells as they are at the baselines of their jobs."""
        wanted = {(c.job, c.key) for c in self._about(rule)}
        by_job = {job: base for job, base in self.compared.baselines.items() if base is not None}
        found = cells_of_runs(session, {b.id for b in by_job.values()})
        return [c for c in found if (c.job, c.key) in wanted and by_job.get(c.job) and by_job[c.job].id == c.run_id]

    def _now(self, session: Session, rule: Rule) -> Fraction | None:
        family = rule.measure.partition(".")[0]
        if family == "coverage":
            return self._coverage(session, rule)
        if family == "analysis":
            if self._nothing(rule.measure):
                return None
            return _analysis(session, _attempts(self._about(rule)), self._earlier(session, rule), rule.measure)
        if rule.measure == "seconds.total":
            return seconds_of(session, self._about(rule))
        if rule.measure == "seconds.slower":
            return None if self._nothing(rule.measure) else self._slower(session, rule)
        if rule.measure == "artifacts.bytes":
            return _bytes(session, [self.run.id], self._about(rule))
        if rule.measure == "plan.loosened":
            return Fraction(self.loosened)
        if rule.cells is None and not rule.kinds:
            return value_of(of_jobs(self.now, rule) or [], rule.measure)
        current = self.compared.current
        within = {n: current[n] for c in self._about(rule) if (n := (c.job, c.key)) in current}
        compared = {n: self.compared.cells[n] for n in within}
        if rule.kinds:
            within, compared = of_tests(within, compared, numbers_of_kinds(session, self.run.project_id, rule.kinds))
        counts = tally(within, compared)
        return value_of([measures_of(counts)], rule.measure) if within and counts.tests_total else None

    def _about(self, rule: Rule) -> list[Cell]:
        """The cells that a rule is about."""
        return [
            c
            for c in self.binding
            if (not rule.jobs or c.job in rule.jobs)
            and (rule.cells is None or rule.cells.holds({**c.values, "job": c.job}))
        ]

    def _slower(self, session: Session, rule: Rule) -> Fraction:
        """Tests that take longer than at the baselines of their jobs, in every cell that can be compared."""
        now = {n: a for c in self._about(rule) if (a := self.compared.attempts.get(n := (c.job, c.key))) is not None}
        then = {(c.job, c.key): c.attempt_id for c in self._before_about(session, rule) if c.attempt_id is not None}
        seconds = durations_of(session, [*now.values(), *then.values()])
        return Fraction(len(slower({n: seconds[a] for n, a in now.items()}, {n: seconds[a] for n, a in then.items()})))

    def _earlier(self, session: Session, rule: Rule) -> list[int]:
        return _attempts(self._before_about(session, rule))

    def _coverage(self, session: Session, rule: Rule) -> Fraction | None:
        if rule.measure == "coverage.changed":
            return self.changed.share(rule.jobs, rule.folder)
        if self.coverage is None or self._nothing(rule.measure):
            return None
        if rule.measure == "coverage.lost":
            return self.changed.lost(rule.jobs, rule.folder)
        now = coverage_share(session, self.run, rule.jobs, rule.folder, unit_of(rule))
        if rule.measure != "coverage.change":
            return now
        before = self.then.share(session, rule.jobs, rule.folder)
        return now - before if now is not None and before is not None else None

    def _before(self, session: Session, rule: Rule) -> Fraction | None:
        if rule.measure in SHARES:
            if rule.best_of > 1:
                return _best_share(session, self.then, rule)
            return self.then.share(session, rule.jobs, rule.folder, unit_of(rule))
        if rule.measure == "seconds.total":
            return seconds_of(session, self._before_about(session, rule))
        if rule.measure in ("analysis.total", "analysis.errors"):
            return _analysis(session, self._earlier(session, rule), [], rule.measure)
        if rule.measure == "artifacts.bytes":
            bases = {b.id for b in self.compared.baselines.values() if b is not None}
            return _bytes(session, sorted(bases), self._before_about(session, rule))
        found = of_jobs(_measures_at(self.compared), rule)
        return value_of(found, rule.measure) if found else None


def of_jobs(by_job: Mapping[str, Mapping[str, int]], rule: Rule) -> list[Mapping[str, int]] | None:
    """The measures of the jobs that a rule names, of all without names; None when one of them gave none."""
    if any(job not in by_job for job in rule.jobs):
        return None
    return [by_job[j] for j in rule.jobs or by_job]


def seconds_of(session: Session, cells: Sequence[Cell]) -> Fraction | None:
    """What the newest attempts of cells took together: no queue, no rerun a day later and no slot makes it longer."""
    ended = [a for a in attempts_of(session, cells).values() if a.ended_at is not None]
    whole = sum((a.ended_at - (a.started_at or a.created_at)).total_seconds() for a in ended if a.ended_at is not None)
    return Fraction(round(max(0.0, whole) * 1000), 1000) if ended else None


def _analysis(session: Session, now: Sequence[int], before: Sequence[int], measure: str) -> Fraction | None:
    """Results of static analysis: all, or those that the baseline has not; None where no analysis was reported."""
    if not attempts_with(session, now, Content.ANALYSIS):
        return None
    errors = measure.endswith("errors")
    found = {r.key for r in analysis_of(session, now) if not r.suppressed and (r.level == "error" or not errors)}
    known = {r.key for r in analysis_of(session, before)} if measure.startswith("analysis.new") else set()
    return Fraction(len(found - known))


def _bytes(session: Session, runs: Sequence[int], cells: Sequence[Cell]) -> Fraction | None:
    """What the artifacts of cells weigh; None where they left none."""
    wanted = {(c.run_id, c.job, c.key) for c in cells}
    sizes = [m.size for m in made_in(session, runs) if (m.run_id, m.job, m.key) in wanted]
    return Fraction(sum(sizes)) if sizes else None


def _attempts(cells: Sequence[Cell]) -> list[int]:
    return [c.attempt_id for c in cells if c.attempt_id is not None]


def _measures_at(compared: Compared) -> dict[str, Mapping[str, Any]]:
    """Each job's measures at its own baseline."""
    found: dict[str, Mapping[str, Any]] = {}
    for job, base in compared.baselines.items():
        told = base.measures.jobs.get(job) if base is not None else None
        if told is not None:
            found[job] = told
    return found


def unit_of(rule: Rule) -> Unit:
    """What is counted by a rule about coverage."""
    return SHARES.get(rule.measure, "lines")


def _best_share(session: Session, then: CoveredBefore, rule: Rule) -> Fraction | None:
    """The best of the baselines' shares: of the parts put together, and of those before them, the oldest part's."""
    base = then.since(session, rule.jobs)
    if base is None:
        return None
    job = rule.jobs[0] if rule.jobs else ""
    runs = baselines_back(session, base, rule.best_of)
    totals = coverage_totals_of(session, runs)
    shares = [totals[run, job].share(unit_of(rule)) for run in runs if (run, job) in totals]
    parts = then.parts(session, rule.jobs)
    together = [then.share(session, rule.jobs, rule.folder, unit_of(rule))] if len(parts) > 1 else []
    return best(rule, [*together, *shares])
