"""Results made elsewhere: files that are sent in pieces, taken up where they broke off, and become a run's cell."""

from __future__ import annotations

import hashlib
import re
import secrets
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import EVIDENCE
from myriant.core.plan.selectors import written
from myriant.core.states import EventKind, State, Verdict
from myriant.core.written import counted
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.files import take_file
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.cells import deliver_again
from myriant.flow.state.runs import reopen
from myriant.flow.state.starting import branch_of, describe
from myriant.flow.who import Person
from myriant.repos.git import GitError, is_object_id
from myriant.repos.mirror import Commit
from myriant.store.attempts import highest_attempt
from myriant.store.cells import cells_of
from myriant.store.changes import tell
from myriant.store.judged import plan_job_results
from myriant.store.projects import next_run_number
from myriant.store.queue import defer
from myriant.store.records import FileSent, Finish, SendingTold
from myriant.store.runs import newest_upload
from myriant.store.sendings import begin_sending, sent_for_run, take_unfinished_sendings
from myriant.store.tables import Attempt, Cell, Project, Report, Run, Sending

MOST_FILES = 50


MOST_FILE = 1 << 30


MOST_PIECE = 16 << 20


KEPT = timedelta(days=2)  # an unfinished sending


_NAME = re.compile(r"[a-z][a-z0-9-]{0,59}")


_KIND = re.compile(r"[a-z][a-z0-9-]{0,39}")


_ID = re.compile(r"[0-9a-f]{32}")


@dataclass(frozen=True, slots=True)
class SentFile:
    """A file to be sent; `content` is tests, coverage or analysis."""

    path: str
    digest: str  # SHA-256
    size: int
    content: str = "tests"


@dataclass(frozen=True, slots=True)
class Offer:
    """What is to be sent: results of one cell of a job, for a commit."""

    id: str  # 32 hexadecimal digits, the same whenever the same is sent
    commit: str
    branch: str  # that it is for; empty, or one that the commit is not on: the branch that it is on
    job: str
    values: Mapping[str, str]
    kind: str
    version: str  # of the application that was tested
    files: Sequence[SentFile]
    expected: int = 0  # cells of the job that are sent in all; 0: nobody said


@dataclass(frozen=True, slots=True)
class SendingStanding:
    """How many bytes of each file are there; `run` once all of it has become a run."""

    id: str
    offsets: list[int]
    run: int | None


def offer(site: Site, name: str, wish: Offer) -> SendingStanding:
    """Begin to send, or learn how far it had come. Raises BadInput, NotFound."""
    _checked(wish)
    with site.store.transaction() as session:
        project = the_project(session, name)
        known = _commit(site, project, wish.commit)
        branch = branch_of(site.mirror(project), project.main_branch, wish.branch, known.id)
        told = SendingTold(
            known.id,
            branch,
            wish.job,
            dict(wish.values),
            wish.kind,
            wish.version,
            tuple(FileSent(f.path, f.digest, f.size, f.content) for f in wish.files),
            wish.expected,
        )
        begin_sending(session, wish.id, project.id, told)
        row = session.get_one(Sending, wish.id)
        if row.project_id != project.id:
            raise Refused("this sending is another project's", "send it anew")
        return SendingStanding(row.id, [_there(site, row.id, n) for n in range(len(row.told.files))], row.run)


def take_piece(site: Site, name: str, sending: str, number: int, offset: int, data: bytes) -> int:
    """Keep a piece of a file; how many bytes of it are there now. A piece that is there already changes nothing."""
    row = _sending(site, name, sending)
    files = row.told.files
    if not 0 <= number < len(files):
        raise NotFound(f"this sending has no file {number}")
    if len(data) > MOST_PIECE:
        raise BadInput(f"a piece of more than {MOST_PIECE:,} bytes", "send smaller ones")
    there = _there(site, sending, number)
    if offset > there:
        raise BadInput(f"{there} bytes of this file are there, the piece begins at {offset}", "send what is missing")
    data = data[there - offset :]
    if there + len(data) > files[number].size:
        raise BadInput(f"the file is longer than the {files[number].size} bytes that were promised", "send it anew")
    if data:
        site.blobs.put(_piece(sending, number, there), [data])
    return there + len(data)


def finish(site: Site, name: str, sending: str, who: Person) -> int:
    """Make what was sent a cell of the commit's upload run; the run's number. Finishing twice gives the same run.

    The worker reads and judges it, as it does with what a runner delivered.
    """
    row = _sending(site, name, sending)
    if row.run is not None:
        _forget_pieces(site, sending, len(row.told.files))  # the server may have been killed before it did
        return row.run
    files = row.told.files
    for number, file in enumerate(files):
        there = _there(site, sending, number)
        if there != file.size:
            raise BadInput(f"{there} of {file.size} bytes of {file.path} are there", "send the rest first")
    with site.store.transaction() as session:
        project = session.get_one(Project, row.project_id, with_for_update=True)
        again = session.get_one(Sending, sending, with_for_update=True)
        if again.run is not None:
            return again.run
        run, attempt = _attempt(site, session, project, again.told, who)
        for number, file in enumerate(files):
            key = f"reports/{attempt.id}/{number:04d}"
            size = take_file(site, key, _pieces(site, sending, number), file.digest, MOST_FILE, file.path)
            session.add(
                Report(
                    attempt_id=attempt.id,
                    number=number,
                    step=0,
                    content=file.content,
                    kind=row.told.kind,
                    path=file.path,
                    digest=file.digest,
                    size=size,
                    blob=key,
                )
            )
        again.run = run.number
        defer(session, "ingest", lock=f"attempt-{attempt.id}", priority=5, attempt_id=attempt.id)
        tell(session, "run", project.name, run.number)
    _forget_pieces(site, sending, len(files))
    return run.number


def forget_unfinished(site: Site) -> None:
    """Remove sendings that nobody has gone on with for two days."""
    with site.store.transaction() as session:
        old = take_unfinished_sendings(session, datetime.now(UTC) - KEPT)
    for sending in old:
        _forget_pieces(site, sending.id, len(sending.told.files))


def _checked(wish: Offer) -> None:
    said = None
    if not _ID.fullmatch(wish.id):
        said = "an id has 32 hexadecimal digits"
    elif not _NAME.fullmatch(wish.job) or not _KIND.fullmatch(wish.kind):
        said = "job and kind are lower-case names such as unit or on-site"
    elif any(not _NAME.fullmatch(k) or not v or len(v) > 200 or set(v) & set(",;=|\n") for k, v in wish.values.items()):
        said = "dimension values are written such as python=3.12"
    elif not 0 < len(wish.files) <= MOST_FILES:
        said = f"between 1 and {MOST_FILES} files are sent at once"
    elif any(not 0 < f.size <= MOST_FILE or not re.fullmatch(r"[0-9a-f]{64}", f.digest) for f in wish.files):
        said = f"each file has a SHA-256 digest and between 1 and {MOST_FILE:,} bytes"
    elif any(f.content not in ("tests", "coverage", "analysis") for f in wish.files):
        said = "files are tests, coverage or analysis"
    if said is not None:
        raise BadInput(said, "use: myriant send")


def _commit(site: Site, project: Project, commit: str) -> Commit:
    mirror = site.mirror(project)
    if not is_object_id(commit):
        raise BadInput(f"{commit[:80]!r} is no commit id", "give all 40 digits: git rev-parse HEAD")
    try:
        if not mirror.has(commit):
            mirror.fetch()
        return mirror.commit(commit)
    except GitError as error:
        raise NotFound(f"the repository of {project.name} has no commit {commit[:12]}", "push it first") from error


def _sending(site: Site, name: str, sending: str) -> Sending:
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = session.get(Sending, sending)
        if row is None or row.project_id != project.id:
            raise NotFound("there is no such sending", "begin it anew")
        return row


def _piece(sending: str, number: int, offset: int) -> str:
    return f"sendings/{sending}/{number}/{offset:014d}"


def _there(site: Site, sending: str, number: int) -> int:
    return sum(size for _, size in _kept(site, sending, number))


def _kept(site: Site, sending: str, number: int) -> list[tuple[str, int]]:
    """Pieces of a file in their order, up to the first gap, with their sizes."""
    found, at = [], 0
    for key, size in sorted(site.blobs.below(f"sendings/{sending}/{number}")):
        if int(key.rsplit("/", 1)[-1]) != at:
            break
        found.append((key, size))
        at += size
    return found


def _pieces(site: Site, sending: str, number: int) -> Iterator[bytes]:
    for key, _ in _kept(site, sending, number):
        yield from site.blobs.chunks(key)


def _forget_pieces(site: Site, sending: str, files: int) -> None:
    for number in range(files):
        for key, _ in site.blobs.below(f"sendings/{sending}/{number}"):
            site.blobs.remove(key)


def _attempt(site: Site, session: Session, project: Project, told: SendingTold, who: Person) -> tuple[Run, Attempt]:
    """The next attempt of the cell that was sent, in the commit's newest upload run or a new one."""
    run = newest_upload(session, project.id, told.commit, told.branch)
    if run is None:
        run = Run(
            project_id=project.id,
            number=next_run_number(session, project.id),
            event=EventKind.UPLOAD,
            context=EVIDENCE,
            branch=told.branch,
            commit=told.commit,
            state=State.RUNNING,
            verdict=Verdict.UNDECIDED,
            started_at=datetime.now(UTC),
        )
        mirror = site.mirror(project)
        describe(run, mirror.commit(told.commit), mirror.depth(told.commit))
        session.add(run)
        session.flush()
    key = written(told.values)
    cells = cells_of(session, run.id)
    cell = next((c for c in cells if c.job == told.job and c.key == key), None)
    if cell is None:
        cell = Cell(
            run_id=run.id,
            job=told.job,
            job_title=told.job,
            position=len(cells),
            key=key,
            values=dict(told.values),
            wants=[],
            state=State.RUNNING,
        )
        session.add(cell)
        plan_job_results(session, run, dict.fromkeys((*(c.job for c in cells), told.job), (True, None)))
    number = highest_attempt(session, cell.id)
    now = datetime.now(UTC)
    attempt = Attempt(
        cell_id=cell.id,
        number=number + 1,
        state=State.READING,
        runner=f"sent by {who.name}",
        started_at=now,
        ended_at=now,
        lease_digest=hashlib.sha256(secrets.token_bytes(16)).hexdigest(),
        lease_until=now,
        finish=Finish(),
        runtimes={"application": told.version} if told.version else {},
    )
    session.add(attempt)
    session.flush()
    deliver_again(cell, attempt)
    reopen(run)
    run.wish = replace(run.wish, said=_missing(session, run, told))
    return run, attempt


def _missing(session: Session, run: Run, told: SendingTold) -> str:
    """How many cells of each job have not come yet, of as many as its newest sending says that there are."""
    expected = {s.job: s.expected for s in (*sent_for_run(session, run.project_id, run.number), told) if s.expected}
    there = Counter(c.job for c in cells_of(session, run.id))
    left = {job: (n - there[job], n) for job, n in expected.items() if n > there[job]}
    said = "; ".join(f"{k} of {counted(n, 'cell')} of {job}" for job, (k, n) in left.items())
    return f"{said} have not been sent yet" if said else ""
