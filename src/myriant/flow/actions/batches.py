"""Pull requests tested together: the target as it would become, and which of them makes the gate hold."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.gate.batch import Does, next_step
from myriant.core.gate.contexts import of_batch
from myriant.core.states import BatchState, EventKind, PullState, Verdict, Why
from myriant.core.written import joined
from myriant.flow.actions.again import again_in
from myriant.flow.actions.stopping import stop_run
from myriant.flow.errors import BadInput, FlowError, NotFound, Refused
from myriant.flow.intake.refs import look
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.batches import end
from myriant.flow.state.starting import start_run
from myriant.flow.who import Person
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.audit import record
from myriant.store.batches import batch_numbered, next_batch_number, open_batches, runs_of_batches
from myriant.store.cells import cells_of
from myriant.store.changes import tell
from myriant.store.projects import branch_at
from myriant.store.tables import Batch, Project, PullRequest, Run

MOST_TOGETHER = 20
_FINE = (Verdict.CLEAR, Verdict.EXEMPT)


def begin_batch(site: Site, name: str, pulls: Sequence[int], who: Person, *, merge: bool = False) -> int:
    """Test open pull requests of one target together, in the order given; the batch's number.

    With `merge` they are pushed to the target once they are clear together. Raises BadInput, Refused.
    """
    if len(set(pulls)) != len(pulls) or not 2 <= len(pulls) <= MOST_TOGETHER:
        raise BadInput(f"2 to {MOST_TOGETHER} different pull requests are tested together", "choose others")
    look(site, name)
    with site.store.transaction() as session:
        project = the_project(session, name)
        session.refresh(project, with_for_update=True)
        if project.paused:
            raise Refused(f"{name} is paused", "resume it first")
        asked, targets = [], set()
        for number in pulls:
            pull = session.get(PullRequest, (project.id, number))
            head = branch_at(session, project.id, pull.source) if pull is not None else None
            if pull is None or pull.state is not PullState.OPEN or head is None:
                raise BadInput(f"there is no open pull request {number}", "choose others")
            if pull.stranger and pull.allowed != head:
                raise Refused(f"pull request {number} is a stranger's, and waits for a maintainer's word")
            targets.add(pull.target)
            asked.append({"pull": number, "head": head, "title": pull.title})
        if len(targets) != 1:
            raise BadInput(f"they go into {joined(sorted(targets))}", "choose those of one target")
        target = targets.pop()
        base = branch_at(session, project.id, target)
        if base is None:
            raise BadInput(f"the repository has no branch {target[:200]}", "push it first")
        batch = Batch(
            project_id=project.id,
            number=next_batch_number(session, project.id),
            target=target,
            base=base,
            asked=asked,
            merge=merge,
            state=BatchState.TESTING,
            by=who.name,
            at=datetime.now(UTC),
        )
        session.add(batch)
        session.flush()
        _pile(site.mirror(project), batch)
        said = f"batch {batch.number}: {joined([str(n) for n in pulls])} into {target}"
        record(session, project.id, who.name, "batch", f"{said}, to be merged once clear" if merge else said)
        _go_on(site, session, project, batch)
        return batch.number


def stop_batch(site: Site, name: str, number: int, who: Person) -> None:
    """Test no more of it; what is known stays. Raises NotFound."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        batch = batch_numbered(session, project.id, number)
        if batch is None:
            raise NotFound(f"there is no batch {number}")
        if batch.state is not BatchState.TESTING:
            return
        _end(session, project, batch, f"Stopped by {who.name}.", BatchState.STOPPED)
        going = [r.number for r in runs_of_batches(session, [batch.id]).get(batch.id, []) if r.ended_at is None]
    for one in going:
        stop_run(site, name, one, who)


def go_on_with_batches(site: Site) -> None:
    """Take the next step of each batch: its last run may have been judged. Safe to repeat."""
    with site.store.transaction() as session:
        numbers = open_batches(session)
    for number in numbers:
        with site.store.transaction() as session:
            batch = session.get(Batch, number, with_for_update={"skip_locked": True})
            if batch is not None:
                _go_on(site, session, session.get_one(Project, batch.project_id), batch)


def _go_on(site: Site, session: Session, project: Project, batch: Batch) -> None:
    mirror = site.mirror(project)
    while batch.state is BatchState.TESTING:
        runs = {r.commit: r for r in runs_of_batches(session, [batch.id]).get(batch.id, [])}
        here = {i: runs[s["commit"]] for i, s in enumerate(batch.stack, 1) if s["commit"] in runs}
        lost = next((r for r in here.values() if _ended_without(session, r)), None)
        if lost is not None:
            _end(session, project, batch, f"#{lost.number} gave no verdict: {lost.reason or lost.sentence}")
            return
        step = next_step(len(batch.stack), {i: _is_clear(r) for i, r in here.items()})
        match step.what:
            case Does.TEST:
                _test(session, project, batch, step.size)
                return
            case Does.WAIT:
                return
            case Does.CLEAR:
                _clear(site, session, project, batch, here.get(step.size))
                return
            case Does.BREAKS:
                if not _tried_again(session, project, batch, here[step.size]):
                    return
                _leave_out(mirror, batch, step.size, here)


def _is_clear(run: Run) -> bool | None:
    return None if run.verdict is Verdict.UNDECIDED or run.ended_at is None else run.verdict in _FINE


def _ended_without(session: Session, run: Run) -> bool:
    """A run that ended and says nothing of what it tested: nothing was asked, it was stopped, or a newer one came."""
    if run.ended_at is None or run.verdict in _FINE:
        return False
    stopped = any(c.why is Why.BY_PERSON for c in cells_of(session, run.id))
    return run.verdict is not Verdict.HELD or stopped


def _pile(mirror: Mirror, batch: Batch) -> None:
    """Merge what is not left out, one upon the other; what cannot be merged is left out, and says with what."""
    left = {o["pull"] for o in batch.out}
    at, stack, out = batch.base, list[dict[str, object]](), list(batch.out)
    for one in batch.asked:
        number = one["pull"]
        if number in left:
            continue
        message = f"Merge pull request {number}: {one['title']}\n"
        try:
            made = mirror.merge_upon(at, one["head"], message, batch.at, f"{batch.id}-{number}")
        except GitError as error:
            out.append({"pull": number, "why": f"it cannot be merged: {error}", "run": None})
            continue
        if made.commit is None:
            files = ", ".join(made.conflicts[:10])
            upon = f" upon {joined([str(s['pull']) for s in stack])}" if stack else f" into {batch.target}"
            out.append({"pull": number, "why": f"it cannot be merged{upon}: conflicts in {files}", "run": None})
            continue
        at = made.commit
        stack.append({"pull": number, "commit": made.commit})
    batch.stack, batch.out = stack, out


def _test(session: Session, project: Project, batch: Batch, size: int) -> None:
    pulls = [s["pull"] for s in batch.stack[:size]]
    start_run(
        session,
        project,
        event=EventKind.PULL_REQUEST,
        context=of_batch(batch.number),
        branch=batch.target,
        commit=batch.stack[size - 1]["commit"],
        source=f"pull requests {joined([str(n) for n in pulls])}",
        base=batch.base,
        batch_id=batch.id,
    )


def _tried_again(session: Session, project: Project, batch: Batch, held: Run) -> bool:
    """Whether what holds has held twice: what did not pass has another attempt before a pull request is named."""
    if held.number in batch.again:
        return True
    try:
        again_in(session, project, held, "not-passed", None, f"batch {batch.number}")
    except FlowError:
        return True  # it is held by something else than what its cells gave
    batch.again = [*batch.again, held.number]
    return False


def _leave_out(mirror: Mirror, batch: Batch, size: int, here: Mapping[int, Run]) -> None:
    held, before = here[size], here.get(size - 1)
    one = batch.stack[size - 1]
    twice = ", in both of two attempts" if held.number in batch.again else ""
    without = (
        f"without it clear (#{before.number})" if before is not None else f"{batch.target} without it is as it was"
    )
    upon = joined([str(s["pull"]) for s in batch.stack[: size - 1]])
    together = f"upon {upon} " if upon else ""
    why = f"{together}it is held{twice} (#{held.number}), {without}"
    batch.out = [*batch.out, {"pull": one["pull"], "why": why, "run": held.number}]
    _pile(mirror, batch)


def _clear(site: Site, session: Session, project: Project, batch: Batch, run: Run | None) -> None:
    pulls = [str(s["pull"]) for s in batch.stack]
    parts = []
    if run is None:
        parts.append("None of them can be merged")
    else:
        how = "is clear" if len(pulls) == 1 else "are clear together"
        parts.append(f"{joined(pulls)} {how} (#{run.number})")
        if batch.merge:
            parts.append(_merge(site, session, project, batch))
    parts += [f"{o['pull']} is left out: {o['why']}" for o in batch.out]
    _end(session, project, batch, f"{'. '.join(parts)}.")


def _merge(site: Site, session: Session, project: Project, batch: Batch) -> str:
    """Push what is clear to the target, if that and the heads are where they were; what came of it."""
    moved = [
        a["pull"]
        for a in batch.asked
        if (p := session.get(PullRequest, (project.id, a["pull"]))) is None
        or p.state is not PullState.OPEN
        or branch_at(session, project.id, p.source) != a["head"]
    ]
    mine = {s["pull"] for s in batch.stack}
    if moved := [n for n in moved if n in mine]:
        verb = "has" if len(moved) == 1 else "have"
        return f"Nothing was merged: {joined([str(n) for n in moved])} {verb} moved since"
    commit = batch.stack[-1]["commit"]
    try:
        site.mirror(project).send(commit, batch.target, batch.base)
    except GitError as error:
        return f"Nothing was merged: {batch.target} was not to be pushed to ({str(error).splitlines()[-1][:200]})"
    batch.merged = commit
    record(
        session, project.id, batch.by, "batch", f"batch {batch.number} was merged into {batch.target} as {commit[:12]}"
    )
    return f"Merged into {batch.target} as {commit[:7]}"


def _end(session: Session, project: Project, batch: Batch, said: str, state: BatchState = BatchState.DONE) -> None:
    end(batch, state, said)
    tell(session, "project", project.name)
