"""Failures grouped by cause."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import failing
from myriant.core.diagnosis.control import Answer
from myriant.core.diagnosis.expected import expected_and_actual
from myriant.core.diagnosis.explain import Explanation, beyond_chance, either, explain
from myriant.core.diagnosis.frames import frames_of
from myriant.core.diagnosis.kinds import Kind, kind_of
from myriant.core.diagnosis.signature import Group, Signature, group, signature_of
from myriant.core.results.model import Outcome
from myriant.core.results.titles import test_title
from myriant.core.states import OPEN
from myriant.flow.compare.outcomes import Compared
from myriant.flow.diagnose.controls import answers, controls_of
from myriant.flow.views.findings.joining import Failed, joined
from myriant.flow.views.findings.model import (
    AffectedCell,
    AttachmentView,
    FailedTest,
    Finding,
    KindView,
    Place,
    Repeated,
    SeenIn,
    TakenBy,
)
from myriant.store.attempts import attachments_before, attachments_of, workspaces_of
from myriant.store.history import Sight, sights_of
from myriant.store.results import Shown, all_not_passed, earlier_attempts, history_of_test
from myriant.store.runs import any_in_context
from myriant.store.tables import Cell, Project, Run, Taking
from myriant.store.takings import open_takings

MOST_FINDINGS = 500


MOST_TESTS = 300  # listed of one finding


_ORDER = {"new": 0, "first": 1, "known": 2, "quarantined": 3, "flaky": 4}


def causes_of(
    session: Session,
    project: Project,
    row: Run,
    compared: Compared,
    cells: Sequence[Cell],
    rules: Sequence[Kind],
    changed: Callable[[], Mapping[str, Collection[str]]],
) -> tuple[list[Finding], int, dict[str, int]]:
    """The most important causes, how many more there are, and distinct tests by mark.

    `changed` tells what changed since the baseline, functions by file; it is asked only where it could tell something.
    """
    failed = _failed(session, project.id, row, compared)
    groups = group([f.signature for f in failed])
    sights = sights_of(session, project.id, list({f.shown.signature for f in failed if f.shown.signature}))
    unproven: dict[tuple[str, str], set[int]] = {}
    for f in failed:
        if f.mark in ("new", "first"):
            unproven.setdefault(f.cell, set()).add(f.shown.number)
    control = answers(session, row, compared, controls_of(session, row), unproven)
    marks: dict[int, str] = {}
    for f in failed:
        marks[f.shown.number] = min(marks.get(f.shown.number, f.mark), f.mark, key=_ORDER.__getitem__)
    counts = {mark: sum(m == mark for m in marks.values()) for mark in _ORDER}
    taken = {t.signature: t for t in open_takings(session, project.id)}
    maker = _Maker(session, row, compared, cells, sights, control, rules, taken)
    groups = joined(failed, groups, maker.ran, changed)
    causes = [(sorted((failed[m] for m in g.members), key=_importance), g) for g in groups]
    causes.sort(key=lambda cause: (_ORDER[cause[0][0].mark], -len(cause[0]), cause[0][0].signature.headline))
    listed = [maker.finding(members, g) for members, g in causes[:MOST_FINDINGS]]
    return listed, len(causes) - len(listed), counts


def _importance(f: Failed) -> tuple[int, int]:
    return _ORDER[f.mark], f.shown.number


def _failed(session: Session, project_id: int, row: Run, compared: Compared) -> list[Failed]:
    by_attempt = {attempt: name for name, attempt in compared.attempts.items()}
    earlier = {a: name for name, ids in earlier_attempts(session, row).items() for a in ids}
    found: list[Failed] = []
    roots = workspaces_of(session, [*by_attempt, *earlier])
    known: dict[str, Signature] = {}
    rows = all_not_passed(session, project_id, [*by_attempt, *earlier])
    rows.sort(key=lambda r: (r.number, -r.attempt_id))  # of several attempts the newest first
    told = {(r.attempt_id, r.number) for r in rows if r.outcome in _BAD}
    kept: set[tuple[tuple[str, str], int]] = set()
    for shown in rows:
        name = by_attempt.get(shown.attempt_id) or earlier[shown.attempt_id]
        flaky = name in compared.current and _outcome(compared, name, shown.number) == Outcome.FLAKY
        lasting = name in compared.current and _outcome(compared, name, shown.number) in _BAD
        if shown.attempt_id not in by_attempt and not flaky:
            if not lasting or (compared.attempts[name], shown.number) in told or (name, shown.number) in kept:
                continue  # a later attempt says more of it
            kept.add((name, shown.number))
        result = compared.cells[name]
        mark = (
            "flaky"
            if flaky
            else "quarantined"
            if result.quarantined[shown.number]
            else "known"
            if result.known[shown.number]
            else "first"
            if result.first_here
            else "new"
        )
        signature = known.get(shown.signature) if shown.signature else None
        if signature is None:
            scope = shown.klass or shown.suite
            signature = signature_of(
                shown.message, shown.detail, shown.extra.get("type", ""), scope, roots[shown.attempt_id]
            )
            if shown.signature:
                known[shown.signature] = signature
        found.append(Failed(shown, name, mark, signature, roots[shown.attempt_id]))
    return found


_BAD = (Outcome.FAILED, Outcome.ERRORED)


def _outcome(compared: Compared, name: tuple[str, str], number: int) -> int:
    outcomes = compared.current[name]
    return int(outcomes[number]) if number < len(outcomes) else Outcome.ABSENT


class _Maker:
    def __init__(
        self,
        session: Session,
        row: Run,
        compared: Compared,
        cells: Sequence[Cell],
        sights: Mapping[str, list[Sight]],
        control: Mapping[int, Answer],
        rules: Sequence[Kind],
        taken: Mapping[str, Taking],
    ) -> None:
        self.session = session
        self.row = row
        self.compared = compared
        self.by_name = {(c.job, c.key): c for c in cells}
        self.sights = sights
        self.control = control
        self.rules = rules
        self.taken = taken
        self.bad = {n: failing(o) for n, o in compared.current.items()}
        self.ran = {n: (o != Outcome.ABSENT) & (o != Outcome.SKIPPED) for n, o in compared.current.items()}

    def seen(self, members: Sequence[Failed]) -> list[Sight]:
        """The runs that saw one of the signatures, oldest first."""
        every = {s.number: s for f in members for s in self.sights.get(f.shown.signature, [])}
        return [every[number] for number in sorted(every)]

    def back_since(self, members: Sequence[Failed], mark: str) -> SeenIn | None:
        """The newest earlier run in this one's context that failed by the same cause, and was mended since: there is
        a run between in which the test passed."""
        before = [s for s in self.seen(members) if s.context == self.row.context and s.number < self.row.number]
        if not before or mark != "new":
            return None
        last = before[-1]
        names = {f.cell[1] for f in members}
        between = [
            p.run
            for p in history_of_test(self.session, self.row.project_id, members[0].shown.number)
            if last.number < p.run < self.row.number and p.cell in names and p.outcome is Outcome.PASSED
        ]
        mended = any_in_context(self.session, self.row, between)
        return SeenIn(last.number, last.commit, last.at) if mended else None

    def finding(self, members: Sequence[Failed], g: Group) -> Finding:
        first = members[0]
        shown, sign = first.shown, first.signature
        tests = self.tests(members)
        cells = self.cells(members)
        seen = self.seen(members)
        pair = expected_and_actual(shown.message, shown.detail)
        kind = kind_of((shown.message, shown.detail, shown.extra.get("output", "")), None, self.rules)
        controls = {t.control for t in tests[:MOST_TESTS] if t.mark in ("new", "first")}
        said = next(
            (c for c in ("change", "world", "chance") if controls == {c}), "unsure" if controls - {None} else None
        )
        told = self.explained({(c.job, c.key) for c in cells}, [t.test for t in tests], said, first.mark)
        title = tests[0].title if len(tests) == 1 else sign.headline
        return Finding(
            id=shown.signature or sign.digest,
            title=title,
            headline=sign.headline,
            exception=sign.kind,
            because=g.because if len(tests) > 1 else "",
            job=cells[0].job,
            mark=first.mark,
            outcome=shown.outcome.name.lower(),
            setup=bool(shown.extra.get("setup")),
            message=shown.message,
            detail=shown.detail,
            output=shown.extra.get("output", "")[-8000:],
            expected=pair.expected if pair else None,
            actual=pair.actual if pair else None,
            **told,  # type: ignore[arg-type]  # the keys of explained
            control=said,
            repeated=self.repeated(tests) if said else None,
            told=KindView(kind.name, kind.part, kind.say, kind.line) if kind else None,
            first_seen=SeenIn(seen[0].number, seen[0].commit, seen[0].at) if seen else None,
            back_since=self.back_since(members, first.mark) if said != "chance" else None,
            seen=len(seen),
            taken=self.taken_by(members),
            places=[
                Place(f.file, f.line, f.name) for f in frames_of(shown.detail or shown.message, first.roots) if f.own
            ][:8],
            tests=tests[:MOST_TESTS],
            more_tests=max(0, len(tests) - MOST_TESTS),
            cells=cells,
            attachments=self.attachments(shown, first.cell),
        )

    def said(self, test: int) -> str | None:
        told = self.control.get(test)
        return told.said if told is not None else None

    def repeated(self, tests: Sequence[FailedTest]) -> Repeated | None:
        """How often its tests were repeated, and what came of it: of the one that was repeated least."""
        told = [self.control[t.test] for t in tests if t.test in self.control]
        least = min(told, key=lambda a: (a.here.all, a.baseline.all), default=None)
        if least is None:
            return None
        here, there = least.here, least.baseline
        return Repeated(here.passed, here.failed, there.passed, there.failed, least.absent)

    def taken_by(self, members: Sequence[Failed]) -> TakenBy | None:
        held = next((t for f in members if (t := self.taken.get(f.shown.signature))), None)
        return TakenBy(held.by, held.at, held.note) if held is not None else None

    def tests(self, members: Sequence[Failed]) -> list[FailedTest]:
        by_test: dict[int, list[Failed]] = {}
        for f in members:
            by_test.setdefault(f.shown.number, []).append(f)
        return [
            FailedTest(
                number,
                test_title(rows[0].shown.suite, rows[0].shown.klass, rows[0].shown.name),
                rows[0].shown.kind,
                rows[0].shown.suite,
                rows[0].mark,
                len({r.cell for r in rows}),
                self.said(number) if rows[0].mark in ("new", "first") else None,
            )
            for number, rows in by_test.items()
        ]

    def cells(self, members: Sequence[Failed]) -> list[AffectedCell]:
        by_cell: dict[tuple[tuple[str, str], int], list[Failed]] = {}
        for f in members:
            by_cell.setdefault((f.cell, f.shown.attempt_id), []).append(f)
        order = {name: i for i, name in enumerate(self.by_name)}
        return [
            AffectedCell(
                job,
                key,
                attempt,
                rows[0].mark,
                rows[0].shown.outcome.name.lower(),
                len({r.shown.number for r in rows}),
                rows[0].shown.seconds,
            )
            for ((job, key), attempt), rows in sorted(by_cell.items(), key=lambda item: (order[item[0][0]], item[0][1]))
        ]

    def explained(
        self, affected: set[tuple[str, str]], tests: Sequence[int], control: str | None, mark: str
    ) -> dict[str, object]:
        """Where it shows. A cell without a result of these tests, or where they fail otherwise, says nothing of it.

        What may be chance has no condition: not what passed when repeated. What cells that happened to fail would show
        as well is not sure, and named only where it is one value.
        """
        numbers = np.array(tests)
        ran = [
            name
            for name, flags in self.ran.items()
            if name in affected or self._passes(name, numbers[numbers < len(flags)])
        ]
        jobs = {job for job, _ in ran}
        every = {
            (c.job, c.key): {**c.values, "job": c.job} if len(jobs) > 1 else c.values for c in self.by_name.values()
        }
        without = [n for n, c in self.by_name.items() if c.job in jobs and n not in ran and not c.advisory]
        told = explain([every[n] for n in ran], [n in affected for n in ran], [every[n] for n in without])
        sure = control in ("change", "world") or mark == "known" or beyond_chance(told, len(affected), len(ran))
        two = either([every[n] for n in ran], [n in affected for n in ran]) if not told.exact else None
        if mark == "flaky" or control == "chance" or not (sure or told.parts == 1):
            told, two = Explanation(None), two if sure and control != "chance" else None
        ask = without[told.next] if told.next is not None and not two else None
        return {
            "where": two[0] if two else told.selector,
            "or_where": two[1] if two else None,
            "where_sure": sure and not any(self.by_name[n].state in OPEN for n in without),
            "missed": 0 if two else told.inside + told.outside,
            "rivals": [] if two else list(told.rivals),
            "next_cell": ",".join((f"job={ask[0]}", ask[1])).rstrip(",") if ask else None,
            "ran_in": len(ran),
            "silent": [f"{job}/{key}" for job, key in without],
        }

    def _passes(self, name: tuple[str, str], numbers: NDArray[np.int64]) -> bool:
        """Whether the better part of these tests passed in the cell; those that failed there did for another cause,
        which may hide this one.
        """
        return 2 * int((self.ran[name] & ~self.bad[name])[numbers].sum()) > int(self.ran[name][numbers].sum())

    def attachments(self, shown: Shown, cell: tuple[str, str]) -> list[AttachmentView]:
        """The kept files that the failed test names, each beside that of the newest earlier run whose cell passed."""
        wanted = shown.extra.get("attachments", [])
        if not wanted:
            return []
        kept = attachments_of(self.session, shown.attempt_id)
        before = attachments_before(self.session, self.row, *cell)
        return [
            AttachmentView(path, report, before.get(path))
            for name in wanted
            for path, report in kept
            if name == path or name.endswith("/" + path) or path.endswith("/" + name)
        ]
