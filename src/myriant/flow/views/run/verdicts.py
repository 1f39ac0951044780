"""What a commit is said to be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.gate.word import Said, Word, newest_of_each, word
from myriant.core.states import Verdict
from myriant.flow.site import Site
from myriant.flow.views.lines import said_of, so_far
from myriant.store.judged import verdicts_of_commits
from myriant.store.projects import reasons_untested
from myriant.store.runs import runs_of_commit
from myriant.store.tables import Project, Run


@dataclass(frozen=True, slots=True)
class VerdictView:
    """What one context says of a commit."""

    project: str
    context: str  # "push main"; empty: evidence, which is no verdict
    verdict: Verdict
    sentence: str
    run: int
    address: str
    final: bool  # nothing more is coming
    ended: bool  # the context is over: it counts only where no other has a verdict


@dataclass(frozen=True, slots=True)
class CommitWord:
    """What a project says of a commit: the worst of its contexts, and each of them, worst first."""

    project: str
    verdict: Verdict
    context: str
    sentence: str
    run: int | None
    address: str
    final: bool
    contexts: list[VerdictView]
    evidence: list[VerdictView]  # runs whose results are no verdict, newest first
    untested: list[str]  # why it has no run of its own


def word_of_commit(site: Site, commit: str, project_name: str | None, only: str = "") -> list[CommitWord]:
    """The word of a commit in each project that knows it; `only` asks one context."""
    with site.store.view() as session:
        runs = runs_of_commit(session, commit)
        reasons = reasons_untested(session, commit)
        found = []
        for owner in sorted({r.project_id for r in runs}):
            project = session.get_one(Project, owner)
            if project_name in (None, project.name):
                of_project = [r for r in runs if r.project_id == owner]
                untested = [r for p, r in reasons if p == project.name]
                found.append(_word(site, session, project, of_project, only, untested))
        told = {w.project for w in found}
        lone = [(p, r) for p, r in reasons if p not in told and project_name in (None, p)]
        for name in dict.fromkeys(p for p, _ in lone):
            why = [r for p, r in lone if p == name]
            found.append(
                CommitWord(name, Verdict.NONE, "", "No verdict: " + "; ".join(why), None, "", True, [], [], why)
            )
        return found


def _word(
    site: Site, session: Session, project: Project, of_commit: list[Run], only: str, untested: list[str]
) -> CommitWord:
    """The word of the commit that these runs, newest first, are of."""
    commit = of_commit[0].commit
    said = verdicts_of_commits(session, project.id, [commit]).get(commit, [])
    if only:
        said = [s for s in said if s.context == only]
    every = newest_of_each(said)
    rows = {r.number: r for r in of_commit}
    far = so_far(session, of_commit)
    contexts = [_view(site, project, rows[s.number], s, far) for s in every if s.number in rows]
    evidence = [] if only else [_view(site, project, r, None, far) for r in of_commit if not r.context]
    whole: Word = word(said)
    if whole.verdict is Verdict.NONE:
        unasked = [r for r in of_commit if r.verdict is Verdict.NONE and (not only or r.context == only)]
        why = (
            unasked[0].sentence
            if unasked
            else "No verdict: nothing tested it."
            if not evidence
            else ("No verdict: parts of it were tested by hand, or results were sent for it.")
        )
        number = unasked[0].number if unasked else evidence[0].run if evidence else None
        address = site.run_address(project.name, number) if number is not None else ""
        final = all(v.final for v in evidence)
        return CommitWord(project.name, whole.verdict, only, why, number, address, final, [], evidence, untested)
    run = rows[whole.number]
    final = all(v.final for v in contexts)
    return CommitWord(
        project.name,
        whole.verdict,
        whole.context,
        said_of(run, far),
        run.number,
        site.run_address(project.name, run.number),
        final,
        contexts,
        evidence,
        untested,
    )


def _view(site: Site, project: Project, row: Run, said: Said | None, far: Mapping[int, str]) -> VerdictView:
    return VerdictView(
        project.name,
        row.context,
        row.verdict if said is not None else Verdict.NONE,
        said_of(row, far),
        row.number,
        site.run_address(project.name, row.number),
        row.ended_at is not None,
        said.ended if said is not None else False,
    )
