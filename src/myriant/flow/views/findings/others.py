"""What is odd beside failing tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.diagnosis.discovery import FOCUSABLE, leftovers, looks_like_test, not_run
from myriant.core.diagnosis.slower import slower
from myriant.core.gate.less import less
from myriant.core.results.titles import test_title
from myriant.core.states import DECIDED, TRUSTED
from myriant.core.written import counted, duration, percent
from myriant.flow.compare.levels import changes_at, said_or
from myriant.flow.compare.outcomes import Compared
from myriant.flow.site import Site
from myriant.flow.views.findings.model import OtherFinding, OtherLine
from myriant.repos.git import GitError
from myriant.store.analysis import analysis_of
from myriant.store.cells import cells_of
from myriant.store.coverage import merged_coverage_of
from myriant.store.history import durations_of, moves_of
from myriant.store.results import tests_numbered, words_of_tests
from myriant.store.tables import Cell, Project, Run, Test

MOST_OTHERS = 60  # lines of one other finding


MOST_TIMED = 2_000_000  # results up to which durations are compared


def others_of(
    site: Site,
    session: Session,
    project: Project,
    row: Run,
    baseline: Run | None,
    compared: Compared,
    cells: Sequence[Cell],
    lessened: Mapping[str, list[int]],
) -> list[OtherFinding]:
    found = [
        _loosened(row),
        *(_lessened(session, project, what, lessened.get(what, [])) for what in _SAY),
        _moved(session, project, row),
        _discovered(site, session, project, row, compared, cells, lost=bool(lessened.get("vanished"))),
        _analysed(session, compared, baseline),
        _less_covered(session, row, baseline),
        _slower(session, project, baseline, compared),
        _levels(session, row),
    ]
    return [f for f in found if f is not None]


def _levels(session: Session, row: Run) -> OtherFinding | None:
    """Measures of the branch whose level changed with this run, as the runs since tell."""
    lines = [OtherLine(f"{c.said}; with this run{said_or(c)}") for c in changes_at(session, row)]
    say = "Seen over all its runs: what lasts, not what one run happened to measure. Trends draws it."
    return _other("levels", f"{counted(len(lines), 'measure')} of the branch likely changed with this run", say, lines)


def _other(kind: str, title: str, say: str, lines: Sequence[OtherLine]) -> OtherFinding | None:
    return (
        OtherFinding(kind, title, say, list(lines[:MOST_OTHERS]), max(0, len(lines) - MOST_OTHERS)) if lines else None
    )


_SAY = {
    "vanished": (
        "vanished",
        "They gave a result at the baseline and give none now, while their source still stands: filtered out, or no "
        "longer found? They hold the run until they come back or a maintainer accepts it.",
    ),
    "newly-skipped": ("newly skipped", "They passed at the baseline and are skipped now."),
    "removed": ("removed", "They gave a result at the baseline; their source is gone."),
}


def less_in(session: Session, row: Run, compared: Compared, base: int | None) -> dict[str, list[int]]:
    """Tests that are less than at the reading baseline: as judged, or as compared with a run that was chosen."""
    if base is None:
        return {what: list(row.measures.less.of(what)) for what in _SAY}
    cells = cells_of(session, row.id)
    ended = {c.job for c in cells} - {c.job for c in cells if c.state not in TRUSTED and c.selected and not c.advisory}
    found = less(compared.current, compared.before, compared.pairs, ended)
    told = {"vanished": found.vanished, "newly-skipped": found.newly_skipped, "removed": {}}
    return {what: sorted(t for tests in by.values() for t in tests) for what, by in told.items()}


def _loosened(row: Run) -> OtherFinding | None:
    """What the plan asks less than before, and what of that a person has accepted."""
    lines = [OtherLine(line) for line in row.measures.loosened]
    lines += [OtherLine(f"{line} (accepted)") for line in row.measures.accepted]
    say = "A maintainer can accept it with a reason; until then it holds the run."
    return _other("loosened", f"The plan asks less in {counted(len(lines), 'place')}", say, lines)


def _lessened(session: Session, project: Project, what: str, numbers: list[int]) -> OtherFinding | None:
    tests = tests_numbered(session, project.id, numbers[: 10 * MOST_OTHERS])
    lines = [OtherLine(test_title(t.suite, t.klass, t.name), test=n) for n, t in sorted(tests.items())]
    title, say = _SAY[what]
    return _other(what, f"{counted(len(numbers), 'test')} {title}", say, lines)


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
    if row.verdict not in DECIDED or row.left_out or any(c.state not in TRUSTED for c in cells if c.selected):
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
        attempts = [c.attempt_id for c in cells_of(session, baseline.id) if c.attempt_id is not None]
        before = {r.key for r in analysis_of(session, attempts)}
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
    if baseline is None or not compared.before:
        return None
    if sum(len(o) for o in compared.current.values()) > MOST_TIMED:
        return None
    rows = cells_of(session, baseline.id)
    then = {
        (c.job, c.key): c.attempt_id for c in rows if c.attempt_id is not None and (c.job, c.key) in compared.before
    }
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
