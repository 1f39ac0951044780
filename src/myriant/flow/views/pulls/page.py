"""Pull requests: what is said of each, at which heads, and what stands in the way of a merge."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from myriant.core.states import OPEN, PullState, State, Verdict, Why
from myriant.core.written import counted, percent
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, counted_in, is_undecided, run_line, so_far
from myriant.flow.views.pulls.batches import BatchView, batch_views
from myriant.flow.views.strip import LETTERS
from myriant.store.cells import marks_of_runs
from myriant.store.projects import commits_of_refs, newest_pulls, ref_of
from myriant.store.runs import runs_of_pulls
from myriant.store.tables import PullRequest, Run

MOST_PULLS = 500
MOST_HEADS = 30


@dataclass(frozen=True, slots=True)
class PullHead:
    """A run of a pull request at one of its heads, in a few marks."""

    number: int
    commit: str
    title: str
    verdict: Verdict
    marks: str
    new: int
    fixed: int
    at: datetime


@dataclass(frozen=True, slots=True)
class PullLine:
    number: int
    title: str
    author: str
    source: str
    target: str
    state: PullState
    opened_at: datetime
    newest: RunLine | None
    verdict: Verdict
    new: int
    changed_covered: str | None
    merge: str  # what stands in the way of merging, or that nothing does
    mergeable: bool
    asks: str  # the head of a stranger's that waits for a maintainer's word; empty otherwise
    stale: bool  # its target, or its own head, is another now than was tested
    heads: list[PullHead]  # oldest first


@dataclass(frozen=True, slots=True)
class Pulls:
    said: str
    pulls: list[PullLine]
    closed: int
    batches: list[BatchView]  # the newest first


def pulls_of(site: Site, name: str, *, closed: bool = False) -> Pulls:
    """Open pull requests, or those that are over, the ones that need a person first."""
    with site.store.view() as session:
        project = the_project(session, name)
        every = newest_pulls(session, project.id, MOST_PULLS)
        wanted = [p for p in every if (p.state is PullState.OPEN) is not closed]
        runs = runs_of_pulls(session, project.id, [p.number for p in wanted], MOST_HEADS)
        marks: dict[int, list[str]] = {r.id: [] for rows in runs.values() for r in rows}
        for run_id, _, _, _, mark, advisory in marks_of_runs(session, list(marks)):
            marks[run_id].append(LETTERS[mark].upper() if advisory else LETTERS[mark])
        refs = commits_of_refs(session, project.id)
        far = so_far(session, (r for rows in runs.values() for r in rows[:1]))
        lines = [_line(p, runs.get(p.number, []), marks, refs, far) for p in wanted]
        batches = batch_views(session, project.id)
    lines.sort(key=lambda line: (_ORDER.get(line.verdict, 9), not line.stale, -line.number))
    return Pulls(_said(lines, closed), lines, len(every) - len(wanted) if not closed else len(wanted), batches)


_MERGED = (Verdict.CLEAR, Verdict.EXEMPT)
_ORDER = {Verdict.HELD: 0, Verdict.UNDECIDED: 1, Verdict.CLEAR: 2, Verdict.EXEMPT: 3}


def _line(
    pull: PullRequest,
    runs: Sequence[Run],
    marks: Mapping[int, list[str]],
    refs: Mapping[str, str],
    far: Mapping[int, str],
) -> PullLine:
    head, target = refs.get(ref_of(pull.source)), refs.get(ref_of(pull.target))
    newest = runs[0] if runs else None
    current = newest is not None and newest.commit == head
    stale = newest is not None and (not current or newest.base != target)
    verdict = Verdict(newest.verdict) if newest is not None and current else Verdict.UNDECIDED
    asks = head if head and pull.stranger and pull.allowed != head and pull.state is PullState.OPEN else ""
    merge, mergeable = _merge(pull, newest, head, target)
    if asks:
        merge, mergeable = "its author may not write here, so a maintainer looks at it before it runs", False
    changed = newest.measures.changed_share if newest is not None and not is_undecided(newest) else None
    line = run_line(newest, None, far.get(newest.id, "")) if newest else None
    return PullLine(
        pull.number,
        pull.title or (newest.title if newest else ""),
        pull.author or (newest.author if newest else ""),
        pull.source,
        pull.target,
        pull.state,
        pull.opened_at,
        line,
        verdict,
        counted_in(newest, "tests.new"),
        percent(changed) if changed is not None else None,
        merge,
        mergeable,
        asks,
        stale,
        [
            PullHead(
                r.number,
                r.commit,
                r.title,
                Verdict(r.verdict),
                "".join(marks.get(r.id, [])),
                counted_in(r, "tests.new"),
                counted_in(r, "tests.fixed"),
                r.created_at,
            )
            for r in reversed(runs)
        ],
    )


def _merge(pull: PullRequest, newest: Run | None, head: str | None, target: str | None) -> tuple[str, bool]:
    """What stands in the way of merging a pull request, most certain first."""
    if pull.state is not PullState.OPEN:
        return f"it is {pull.state}", False
    if head is None:
        return f"its branch {pull.source} is gone", False
    if target is None:
        return f"its target {pull.target} is gone", False
    if newest is None or newest.commit != head:
        return "its head has not been tested", False
    if newest.why is Why.CONFLICT:
        return newest.reason, False
    if newest.state in OPEN or newest.verdict is Verdict.UNDECIDED:
        return "it is being tested" if newest.state is not State.STOPPED else "its run was stopped", False
    if newest.verdict is Verdict.HELD:
        return "its gate is held", False
    if newest.verdict not in _MERGED:
        return f"nothing was asked of it: {newest.reason}" if newest.reason else "nothing was asked of it", False
    if newest.base != target:
        return f"{pull.target} has moved since it was tested", False
    return "it can be merged", True


def _said(lines: Sequence[PullLine], closed: bool) -> str:
    if closed:
        return f"{counted(len(lines), 'pull request')} {'is' if len(lines) == 1 else 'are'} over."
    if not lines:
        return "No pull request is open."
    held = sum(line.verdict is Verdict.HELD for line in lines)
    ready = sum(line.mergeable for line in lines)
    asking = sum(bool(line.asks) for line in lines)
    stale = sum(line.stale and line.verdict is not Verdict.HELD for line in lines)
    parts = [
        f"{held} held" if held else "",
        f"{ready} can be merged" if ready else "",
        f"{asking} of strangers to be looked at" if asking else "",
        f"{stale} to be tested anew" if stale else "",
    ]
    return f"{counted(len(lines), 'pull request')} open: {', '.join(filter(None, parts)) or 'all are being tested'}."
