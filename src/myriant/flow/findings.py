"""Findings: what did not pass in a run, by cause, beside a baseline, with all that is known of each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.diagnosis.discovery import FOCUSABLE, leftovers, looks_like_test, not_run
from myriant.core.diagnosis.expected import expected_and_actual
from myriant.core.diagnosis.explain import explain
from myriant.core.diagnosis.frames import frames_of
from myriant.core.diagnosis.kinds import Kind, kind_of, usual_kinds
from myriant.core.diagnosis.signature import Group, Signature, group, signature_of
from myriant.core.diagnosis.slower import slower
from myriant.core.results.model import Outcome
from myriant.core.written import counted, duration, percent
from myriant.flow.conclude import Compared, ancestors, compare_runs, gate_baseline, runs_since, test_title
from myriant.flow.controls import answers, controls_of
from myriant.flow.errors import NotFound
from myriant.flow.kinds import kinds_of
from myriant.flow.lines import RunLine, run_line, the_project, the_run
from myriant.flow.logs import piece
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.analysis import analysis_of
from myriant.store.coverage import merged_coverage_of
from myriant.store.history import Sight, durations_of, moves_of, sights_of
from myriant.store.results import Shown, all_not_passed, earlier_attempts, tests_numbered, words_of_tests
from myriant.store.runs import cells_of
from myriant.store.tables import Attempt, Cell, Project, Report, Run, Step, Test

MOST_FINDINGS = 500
MOST_TESTS = 300  # listed of one finding
MOST_OTHERS = 60  # lines of one other finding
MOST_TIMED = 2_000_000  # results up to which durations are compared
_TAIL = 64 * 1024
_MOST_TROUBLED = 12
_ORDER = {"new": 0, "first": 1, "known": 2, "quarantined": 3, "flaky": 4}


@dataclass(frozen=True, slots=True)
class AffectedCell:
    job: str
    key: str
    attempt_id: int
    mark: str
    outcome: str
    tests: int  # of the finding that did not pass in it
    seconds: float | None  # of the first of them


@dataclass(frozen=True, slots=True)
class FailedTest:
    test: int
    title: str
    kind: str
    suite: str
    mark: str
    cells: int
    control: str | None


@dataclass(frozen=True, slots=True)
class Place:
    """A place that a stack names, in the repository."""

    file: str
    line: int
    name: str


@dataclass(frozen=True, slots=True)
class KindView:
    """What sort of failure it is, and what to do next."""

    name: str
    part: str
    say: str
    line: str


@dataclass(frozen=True, slots=True)
class SeenIn:
    number: int
    commit: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Finding:
    """One cause with every test and cell in which it shows."""

    id: str  # its signature
    title: str  # the test's, when it is one
    headline: str
    exception: str
    because: str  # why its failures are together
    job: str
    mark: str  # new, first, known, quarantined, flaky
    outcome: str
    setup: bool  # a set-up or tear-down failed, no test
    message: str
    detail: str
    output: str
    expected: str | None
    actual: str | None
    where: str | None  # the selector that explains it
    missed: int  # cells of which the selector is wrong, 0 when it is exact
    rivals: list[str]  # other selectors that fit as well, because of cells that did not run
    next_cell: str | None  # the selector of the cell that tells them apart
    ran_in: int  # cells that ran one of its tests
    control: str | None  # change, world or chance, once its control runs have ended
    told: KindView | None
    first_seen: SeenIn | None
    seen: int  # runs that saw it, this one included
    places: list[Place]  # the project's own, innermost first
    tests: list[FailedTest]
    more_tests: int
    cells: list[AffectedCell]
    attachments: list[AttachmentView]


@dataclass(frozen=True, slots=True)
class AttachmentView:
    """A file that a failed test names; `before` is the same file where the test passed last, if it was kept."""

    path: str
    report: int
    before: int | None


@dataclass(frozen=True, slots=True)
class OtherLine:
    text: str
    path: str = ""
    line: int = 0
    test: int | None = None


@dataclass(frozen=True, slots=True)
class OtherFinding:
    """What is odd beside failing tests: vanished, moved, not run, slower, less covered, newly marked by analysis."""

    kind: str
    title: str
    say: str
    lines: list[OtherLine]
    more: int


@dataclass(frozen=True, slots=True)
class TroubledCell:
    """What is known of a cell that gave no result or failed beside its tests."""

    job: str
    key: str
    told: KindView | None


@dataclass(frozen=True, slots=True)
class Findings:
    baseline: RunLine | None
    movable: bool  # the baseline was chosen by the reader
    tests: dict[str, int]  # distinct tests by mark
    findings: list[Finding]
    more: int  # findings beyond those listed
    others: list[OtherFinding]
    troubled: list[TroubledCell]
    fixed: int
    vanished: int


def findings(site: Site, name: str, number: int, base: int | None) -> Findings:
    """What did not pass in a run, by cause, beside its gate baseline or the run numbered `base`. Raises NotFound."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        baseline, compared = beside(site, session, project, row, base)
        cells = cells_of(session, row.id)
        rules = (*kinds_of(session, project.id), *usual_kinds())
        listed, more, tests = _causes(session, project, row, compared, cells, rules)
        vanished = {int(n) for c in compared.cells.values() for n in c.vanished.nonzero()[0]}
        fixed = {int(n) for c in compared.cells.values() for n in c.fixed.nonzero()[0]}
        others = _others(site, session, project, row, baseline, compared, cells, vanished)
        return Findings(
            run_line(baseline) if baseline else None, base is not None, tests, listed, more, others,
            _troubled(site, session, cells, rules), len(fixed),
            len(vanished),
        )  # fmt: skip


def beside(site: Site, session: Session, project: Project, row: Run, base: int | None) -> tuple[Run | None, Compared]:
    """A run's reading baseline and the comparison with it."""
    if base is not None:
        baseline: Run | None = the_run(session, project, base)
        return baseline, compare_runs(session, row, baseline, [])
    stored = session.get(Run, row.baseline_id) if row.baseline_id else None
    baseline = stored if row.verdict in ("clear", "held") else gate_baseline(site, session, row)
    since = runs_since(session, row, baseline, ancestors(site, session, row))
    return baseline, compare_runs(session, row, baseline, since)


@dataclass(frozen=True, slots=True)
class _Failed:
    """One result that did not pass, with what the comparison says of it."""

    shown: Shown
    cell: tuple[str, str]
    mark: str
    signature: Signature
    roots: tuple[str, ...]


def _causes(
    session: Session, project: Project, row: Run, compared: Compared, cells: Sequence[Cell], rules: Sequence[Kind]
) -> tuple[list[Finding], int, dict[str, int]]:
    """The most important causes, how many more there are, and distinct tests by mark."""
    failed = _failed(session, project.id, row, compared)
    groups = group([f.signature for f in failed])
    sights = sights_of(session, project.id, list({f.shown.signature for f in failed if f.shown.signature}))
    unproven: dict[tuple[str, str], set[int]] = {}
    for f in failed:
        if f.mark in ("new", "first"):
            unproven.setdefault(f.cell, set()).add(f.shown.number)
    control = answers(session, controls_of(session, row), unproven)
    marks: dict[int, str] = {}
    for f in failed:
        marks[f.shown.number] = min(marks.get(f.shown.number, f.mark), f.mark, key=_ORDER.__getitem__)
    counts = {mark: sum(m == mark for m in marks.values()) for mark in _ORDER}
    maker = _Maker(session, row, compared, cells, sights, control, rules)
    causes = [(sorted((failed[m] for m in g.members), key=_importance), g) for g in groups]
    causes.sort(key=lambda cause: (_ORDER[cause[0][0].mark], -len(cause[0]), cause[0][0].signature.headline))
    listed = [maker.finding(members, g) for members, g in causes[:MOST_FINDINGS]]
    return listed, len(causes) - len(listed), counts


def _importance(f: _Failed) -> tuple[int, int]:
    return _ORDER[f.mark], f.shown.number


def _failed(session: Session, project_id: int, row: Run, compared: Compared) -> list[_Failed]:
    by_attempt = {attempt: name for name, attempt in compared.attempts.items()}
    earlier = {a: name for name, ids in earlier_attempts(session, row).items() for a in ids}
    found: list[_Failed] = []
    roots = _workspaces(session, [*by_attempt, *earlier])
    known: dict[str, Signature] = {}
    for shown in all_not_passed(session, project_id, [*by_attempt, *earlier]):
        name = by_attempt.get(shown.attempt_id) or earlier[shown.attempt_id]
        flaky = name in compared.current and _outcome(compared, name, shown.number) == Outcome.FLAKY
        if shown.attempt_id not in by_attempt and not flaky:
            continue
        result = compared.cells[name]
        mark = (
            "flaky" if flaky
            else "quarantined" if result.quarantined[shown.number]
            else "known" if result.known[shown.number]
            else "first" if result.first_here
            else "new"
        )  # fmt: skip
        signature = known.get(shown.signature) if shown.signature else None
        if signature is None:
            scope = shown.klass or shown.suite
            signature = signature_of(
                shown.message, shown.detail, shown.extra.get("type", ""), scope, roots[shown.attempt_id]
            )
            if shown.signature:
                known[shown.signature] = signature
        found.append(_Failed(shown, name, mark, signature, roots[shown.attempt_id]))
    return found


def _workspaces(session: Session, attempts: Sequence[int]) -> dict[int, tuple[str, ...]]:
    """Where each attempt's workspace lay."""
    rows = session.execute(select(Attempt.id, Attempt.finish["workspace"].astext).where(Attempt.id.in_(attempts)))
    return {attempt: tuple(filter(None, ("/workspace", folder))) for attempt, folder in rows}


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
        control: Mapping[int, str],
        rules: Sequence[Kind],
    ) -> None:
        self.session = session
        self.row = row
        self.compared = compared
        self.by_name = {(c.job, c.key): c for c in cells}
        self.sights = sights
        self.control = control
        self.rules = rules
        self.ran = {n: (o != Outcome.ABSENT) & (o != Outcome.SKIPPED) for n, o in compared.current.items()}

    def seen(self, members: Sequence[_Failed]) -> list[Sight]:
        """The runs that saw one of the signatures, oldest first."""
        every = {s.number: s for f in members for s in self.sights.get(f.shown.signature, [])}
        return [every[number] for number in sorted(every)]

    def finding(self, members: Sequence[_Failed], g: Group) -> Finding:
        first = members[0]
        shown, sign = first.shown, first.signature
        tests = self.tests(members)
        cells = self.cells(members)
        told = self.explained({(c.job, c.key) for c in cells}, [t.test for t in tests])
        seen = self.seen(members)
        pair = expected_and_actual(shown.message, shown.detail)
        kind = kind_of((shown.message, shown.detail, shown.extra.get("output", "")), None, self.rules)
        controls = {t.control for t in tests[:MOST_TESTS] if t.mark in ("new", "first")}
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
            control=next((c for c in ("change", "world", "chance") if controls == {c}), None),
            told=KindView(kind.name, kind.part, kind.say, kind.line) if kind else None,
            first_seen=SeenIn(seen[0].number, seen[0].commit, seen[0].at) if seen else None,
            seen=len(seen),
            places=[
                Place(f.file, f.line, f.name) for f in frames_of(shown.detail or shown.message, first.roots) if f.own
            ][:8],
            tests=tests[:MOST_TESTS],
            more_tests=max(0, len(tests) - MOST_TESTS),
            cells=cells,
            attachments=self.attachments(shown, first.cell),
        )

    def tests(self, members: Sequence[_Failed]) -> list[FailedTest]:
        by_test: dict[int, list[_Failed]] = {}
        for f in members:
            by_test.setdefault(f.shown.number, []).append(f)
        return [
            FailedTest(
                number, test_title(rows[0].shown.suite, rows[0].shown.klass, rows[0].shown.name), rows[0].shown.kind,
                rows[0].shown.suite, rows[0].mark, len({r.cell for r in rows}),
                self.control.get(number) if rows[0].mark in ("new", "first") else None,
            )
            for number, rows in by_test.items()
        ]  # fmt: skip

    def cells(self, members: Sequence[_Failed]) -> list[AffectedCell]:
        by_cell: dict[tuple[tuple[str, str], int], list[_Failed]] = {}
        for f in members:
            by_cell.setdefault((f.cell, f.shown.attempt_id), []).append(f)
        order = {name: i for i, name in enumerate(self.by_name)}
        return [
            AffectedCell(
                job, key, attempt, rows[0].mark, rows[0].shown.outcome.name.lower(),
                len({r.shown.number for r in rows}), rows[0].shown.seconds,
            )
            for ((job, key), attempt), rows in sorted(by_cell.items(), key=lambda item: (order[item[0][0]], item[0][1]))
        ]  # fmt: skip

    def explained(self, affected: set[tuple[str, str]], tests: Sequence[int]) -> dict[str, object]:
        numbers = np.array(tests)
        ran = [name for name, flags in self.ran.items() if flags[numbers[numbers < len(flags)]].any()]
        jobs = {job for job, _ in ran}
        every = {
            (c.job, c.key): {**c.values, "job": c.job} if len(jobs) > 1 else c.values for c in self.by_name.values()
        }
        without = [
            n for n, c in self.by_name.items() if c.job in jobs and n not in self.compared.current and not c.advisory
        ]
        told = explain([every[n] for n in ran], [n in affected for n in ran], [every[n] for n in without])
        ask = without[told.next] if told.next is not None else None
        return {
            "where": told.selector, "missed": told.inside + told.outside, "rivals": list(told.rivals),
            "next_cell": ",".join((f"job={ask[0]}", ask[1])).rstrip(",") if ask else None, "ran_in": len(ran),
        }  # fmt: skip

    def attachments(self, shown: Shown, cell: tuple[str, str]) -> list[AttachmentView]:
        """The kept files that the failed test names, each beside that of the newest earlier run whose cell passed."""
        wanted = shown.extra.get("attachments", [])
        if not wanted:
            return []
        kept = self.session.execute(
            select(Report.path, Report.id).where(Report.attempt_id == shown.attempt_id, Report.content == "attachment")
        ).all()
        earlier = self.session.execute(
            select(Report.path, Report.id)
            .join(Attempt, Attempt.id == Report.attempt_id)
            .join(Cell, Cell.id == Attempt.cell_id)
            .join(Run, Run.id == Cell.run_id)
            .where(Run.project_id == self.row.project_id, Run.number < self.row.number, Report.content == "attachment")
            .where(Cell.job == cell[0], Cell.key == cell[1], Attempt.state == "passed")
            .order_by(Run.number)
        ).all()
        before = {row[0]: row[1] for row in earlier}  # the newest of each path
        return [
            AttachmentView(path, report, before.get(path))
            for name in wanted
            for path, report in kept
            if name == path or name.endswith("/" + path) or path.endswith("/" + name)
        ]


def _troubled(site: Site, session: Session, cells: Sequence[Cell], rules: Sequence[Kind]) -> list[TroubledCell]:
    """What cells that are void, or failed beside their tests, say in their logs."""
    odd = [c for c in cells if c.state == "void" or (c.state == "failed" and c.counts.get("unexplained"))]
    found = []
    for cell in odd[:_MOST_TROUBLED]:
        told = None
        if cell.attempt_id is not None:
            attempt = session.get_one(Attempt, cell.attempt_id)
            status = session.scalar(
                select(Step.exit_status)
                .where(Step.attempt_id == attempt.id, Step.state != "passed", Step.exit_status.is_not(None))
                .order_by(Step.position)
                .limit(1)
            )
            try:
                tail, _, _ = piece(site, attempt.id, max(0, attempt.log_size - _TAIL), _TAIL)
            except (NotFound, FileNotFoundError):
                tail = b""
            told = kind_of((cell.reason, tail.decode("utf-8", "replace")), status, rules)
        view = KindView(told.name, told.part, told.say, told.line) if told else None
        found.append(TroubledCell(cell.job, cell.key, view))
    return found


def _others(
    site: Site,
    session: Session,
    project: Project,
    row: Run,
    baseline: Run | None,
    compared: Compared,
    cells: Sequence[Cell],
    vanished: set[int],
) -> list[OtherFinding]:
    found = [
        _vanished(session, project, vanished),
        _moved(session, project, row),
        _discovered(site, session, project, row, compared, cells, lost=bool(vanished)),
        _analysed(session, compared, baseline),
        _less_covered(session, row, baseline),
        _slower(session, project, baseline, compared),
    ]
    return [f for f in found if f is not None]


def _other(kind: str, title: str, say: str, lines: Sequence[OtherLine]) -> OtherFinding | None:
    return (
        OtherFinding(kind, title, say, list(lines[:MOST_OTHERS]), max(0, len(lines) - MOST_OTHERS)) if lines else None
    )


def _vanished(session: Session, project: Project, numbers: set[int]) -> OtherFinding | None:
    tests = tests_numbered(session, project.id, sorted(numbers)[: 10 * MOST_OTHERS])
    lines = [OtherLine(test_title(t.suite, t.klass, t.name), test=n) for n, t in sorted(tests.items())]
    say = "They gave a result at the baseline and give none now: removed on purpose, filtered out, or no longer found?"
    return _other("vanished", f"{counted(len(numbers), 'test')} vanished", say, lines)


def _moved(session: Session, project: Project, row: Run) -> OtherFinding | None:
    moves = [m for m in moves_of(session, project.id).values() if m.run == row.number]
    tests = tests_numbered(session, project.id, [n for m in moves for n in (m.now, m.before)])
    lines = [
        OtherLine(
            f"{_title(tests, m.before)} → {_title(tests, m.now)}: {m.because}",
            test=m.now,
        )
        for m in moves
    ]
    return _other("moved", f"{counted(len(moves), 'test')} found under another name", "Their history goes on.", lines)


def _title(tests: Mapping[int, Test], number: int) -> str:
    test = tests.get(number)
    return test_title(test.suite, test.klass, test.name) if test is not None else f"test {number}"


def _discovered(
    site: Site, session: Session, project: Project, row: Run, compared: Compared, cells: Sequence[Cell], *, lost: bool
) -> OtherFinding | None:
    """Test files of which no result came, and marks that leave out other tests; nothing while a part did not run."""
    if (
        row.verdict not in ("clear", "held")
        or row.left_out
        or any(c.state not in ("passed", "failed") for c in cells if c.selected)
    ):
        return None
    mirror = site.mirror(project)
    try:
        files = [p for p in mirror.files(row.tested or row.commit) if looks_like_test(p)][:20_000]
        numbers = {int(n) for o in compared.current.values() for n in np.flatnonzero(o)}
        if not files or not numbers:
            return None
        told = words_of_tests(session, project.id, sorted(numbers))
        lines = [OtherLine(f"{p}: no result names it", p, 1) for p in not_run(files, told)]
        if lost:
            sources = [(p, mirror.file(row.tested or row.commit, p) or b"") for p in files if FOCUSABLE.search(p)][:300]
            marks = leftovers([(p, s.decode("utf-8", "replace")) for p, s in sources])
            lines += [OtherLine(f"{p}:{n}: {text}", p, n) for p, n, text in marks]
    except GitError:
        return None
    say = "They look like tests by their names; a mark such as .only leaves out every other test of its file."
    return _other("not-run", f"{counted(len(lines), 'place')} where tests may be left out", say, lines)


def _analysed(session: Session, compared: Compared, baseline: Run | None) -> OtherFinding | None:
    now = {r.key: r for r in analysis_of(session, list(compared.attempts.values())) if not r.suppressed}
    if not now:
        return None
    before = set()
    if baseline is not None:
        attempts = session.scalars(
            select(Cell.attempt_id).where(Cell.run_id == baseline.id, Cell.attempt_id.is_not(None))
        )
        before = {r.key for r in analysis_of(session, [a for a in attempts if a is not None])}
    new = sorted((r for r in now.values() if r.key not in before), key=lambda r: (r.level != "error", r.path, r.line))
    lines = [OtherLine(f"{r.level}: {r.message} ({r.rule})", r.path, r.line) for r in new]
    say = f"{len(now) - len(new)} more were there at the baseline." if baseline is not None else ""
    return _other("analysis", f"{counted(len(new), 'new result')} of static analysis", say, lines)


def _less_covered(session: Session, row: Run, baseline: Run | None) -> OtherFinding | None:
    if baseline is None:
        return None
    now = merged_coverage_of(session, row.id, [""]).get("", {})
    before = merged_coverage_of(session, baseline.id, [""]).get("", {})
    lines, lost = [], []
    for path, file in now.items():
        earlier = before.get(path)
        a, b = _share(file.totals), _share(earlier.totals) if earlier is not None else None
        if a is not None and b is not None and a < b:
            lost.append((a - b, path, f"{path}: {percent(b)} → {percent(a)}"))
    lines = [OtherLine(text, path, 1) for _, path, text in sorted(lost)]
    return _other(
        "coverage", f"{counted(len(lines), 'file')} covered less", "Line coverage, merged over all cells.", lines
    )


def _share(totals: Totals) -> Fraction | None:
    return totals.line_share


def _slower(session: Session, project: Project, baseline: Run | None, compared: Compared) -> OtherFinding | None:
    if baseline is None or compared.baseline is None:
        return None
    if sum(len(o) for o in compared.current.values()) > MOST_TIMED:
        return None
    rows = session.execute(
        select(Cell.job, Cell.key, Cell.attempt_id).where(Cell.run_id == baseline.id, Cell.attempt_id.is_not(None))
    )
    then = {(job, key): int(attempt or 0) for job, key, attempt in rows if (job, key) in compared.baseline}
    seconds = durations_of(session, [*compared.attempts.values(), *then.values()])
    found = slower({n: seconds[a] for n, a in compared.attempts.items()}, {n: seconds[a] for n, a in then.items()})
    tests = tests_numbered(session, project.id, [s.test for s in found[:MOST_OTHERS]])
    lines = [
        OtherLine(
            f"{_title(tests, s.test)}: {duration(s.before)} → {duration(s.now)} in {counted(s.cells, 'cell')}",
            test=s.test,
        )
        for s in found[:MOST_OTHERS]
    ]
    return _other(
        "slower", f"{counted(len(found), 'test')} slower", "In every cell that can be compared, beyond noise.", lines
    )
