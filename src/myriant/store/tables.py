"""The tables. Times are UTC, durations seconds, digests hexadecimal, sizes bytes."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Any, ClassVar

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Computed,
    Date,
    DateTime,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    SmallInteger,
    String,
    Text,
    TypeDecorator,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from myriant.core.states import (
    ApprovalState,
    BatchState,
    Content,
    ControlState,
    EventKind,
    Mark,
    Page,
    Place,
    PullState,
    SearchState,
    State,
    Verdict,
    Wants,
    Why,
)
from myriant.store.records import Counts, Finish, Measures, Record, RuleJudged, RunWish, SendingTold, Telling

Json = dict[str, Any]


class Word(TypeDecorator[Any]):
    """A text that is one of an enumeration's words; a CHECK constraint holds the database to them."""

    impl = Text
    cache_ok = True

    def __init__(self, words: type[StrEnum]) -> None:
        super().__init__()
        self.words = words

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        return None if value is None else str(value)

    def process_result_value(self, value: Any, dialect: Any) -> StrEnum | None:
        return None if value is None else self.words(value)


_WORDS: tuple[type[StrEnum], ...] = (
    ApprovalState, BatchState, Content, ControlState, EventKind, Mark, Page, Place, PullState, SearchState, State,
    Verdict, Wants, Why,
)  # fmt: skip


class Base(DeclarativeBase):
    type_annotation_map: ClassVar[dict[Any, Any]] = {
        int: Integer,
        str: Text,
        float: Float,
        bool: Boolean,
        bytes: LargeBinary,
        datetime: DateTime(timezone=True),
        date: Date,
        Json: JSONB,
        list[Any]: JSONB,
        list[str]: ARRAY(Text),
        list[int]: ARRAY(Integer),
    } | {words: Word(words) for words in _WORDS}


def _now() -> Mapped[datetime]:
    return mapped_column(server_default=func.now())


class Account(Base):
    __tablename__ = "account"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    role: Mapped[str]  # viewer, member, maintainer, admin
    created_at: Mapped[datetime] = _now()


class Token(Base):
    """A way in: a one-time sign-in link, a browser session, a command-line token, a runner's or a hook's."""

    __tablename__ = "token"
    __table_args__ = (Index("token_of_runner", "runner", unique=True, postgresql_where=text("runner IS NOT NULL")),)
    digest: Mapped[str] = mapped_column(primary_key=True)  # SHA-256; the token itself is never stored
    kind: Mapped[str]  # link, session, command, runner, hook
    account_id: Mapped[int | None] = mapped_column(ForeignKey("account.id", ondelete="CASCADE"), index=True)
    project_id: Mapped[int | None] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    runner: Mapped[str | None]  # whose own it is
    projects: Mapped[list[int] | None]  # whose cells that runner is given; None: all
    ends_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = _now()
    used_at: Mapped[datetime | None]  # a runner's: when it last enrolled


class Project(Base):
    __tablename__ = "project"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    description: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str]  # of the repository: a path or what git fetches from
    credential: Mapped[bytes | None]  # what opens it, sealed
    main_branch: Mapped[str] = mapped_column(server_default="main")
    hooked: Mapped[bool] = mapped_column(server_default=text("false"))
    looked_at: Mapped[datetime | None]
    trouble: Mapped[str | None]  # why the last look failed
    plan: Mapped[str | None]  # kept on the server, for a repository that has none
    plan_by: Mapped[str] = mapped_column(server_default="")
    plan_at: Mapped[datetime | None]
    paused: Mapped[bool] = mapped_column(server_default=text("false"))  # nothing is started by itself
    tracker: Mapped[str] = mapped_column(server_default="")  # where the team's notes lie: https://…/{id}
    keep_days: Mapped[int | None]  # how long logs and files of older runs are kept; None: for ever
    budget: Mapped[int | None]  # minutes of runners a month that it may take; None: nobody said
    event_budgets: Mapped[Json] = mapped_column(server_default="{}")  # the same by event
    badge_key: Mapped[str] = mapped_column(server_default="")  # stands in the addresses of its badges
    pull_refs: Mapped[str] = mapped_column(server_default="")  # refs that are pull requests: refs/changes/*/head
    pull_target: Mapped[str] = mapped_column(server_default="")  # into which they go; empty: the main branch
    pull_strangers: Mapped[bool] = mapped_column(server_default=text("false"))  # such refs are of strangers
    pull_refresh: Mapped[str] = mapped_column(server_default="")  # "at once", or a time: tested anew when it moved
    pull_refresh_at: Mapped[datetime | None]
    stranger_minutes: Mapped[int | None]  # of runners, that a stranger's pull request may take; None: no bound
    drill_words: Mapped[str] = mapped_column(server_default="")  # "monday 06:00 Europe/Oslo": its gate is tried then
    drill_at: Mapped[datetime | None]
    drilled_at: Mapped[datetime | None]  # the last time
    drilled: Mapped[Json] = mapped_column(server_default="{}")  # what came of it: passed, said
    foreign: Mapped[Json] = mapped_column("foreign_events", server_default="{}")  # how another host's are read
    foreign_secret: Mapped[bytes | None]  # by which they are known, sealed
    event_secret: Mapped[str] = mapped_column(server_default="")  # what events told over HTTP are signed with
    next_number: Mapped[int] = mapped_column(server_default="1")
    next_test: Mapped[int] = mapped_column(server_default="0")
    served: Mapped[float] = mapped_column(server_default="0")  # the rank of its last cell in the shared queue
    created_at: Mapped[datetime] = _now()


class Ref(Base):
    """The commit that a branch or tag was last seen at."""

    __tablename__ = "ref"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    commit: Mapped[str] = mapped_column("commit_id")


class Run(Base):
    __tablename__ = "run"
    __table_args__ = (
        UniqueConstraint("project_id", "number"),
        Index("run_on_branch", "project_id", "branch", "depth", "number"),
        Index("run_of_commit", "commit_id", "project_id"),
        Index("run_in_context", "project_id", "context", "number"),
        Index("run_of_baseline", "baseline_id"),
        Index("run_of_plan", "plan_digest"),
        Index("run_of_asked", "asked_digest"),
        Index("run_of_batch", "batch_id"),
        Index("run_open", "project_id", postgresql_where=text("state in ('waiting', 'running')")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    number: Mapped[int]
    event: Mapped[EventKind]
    context: Mapped[str]  # where its verdict holds, "push main", "tag v1"; empty: it is evidence only
    branch: Mapped[str]
    commit: Mapped[str] = mapped_column("commit_id")
    before: Mapped[str | None]  # the branch's commit before the event
    tree: Mapped[str | None]  # of what was tested
    tag: Mapped[str] = mapped_column(server_default="")
    source: Mapped[str] = mapped_column(server_default="")  # a pull request's own branch; `branch` is its target
    pull_request: Mapped[int | None]
    batch_id: Mapped[int | None] = mapped_column(ForeignKey("batch.id", ondelete="SET NULL"))
    base: Mapped[str | None]  # the target's commit that a pull request was merged into
    tested: Mapped[str | None]  # the merge that was tested, when it is not the commit itself
    wish: Mapped[RunWish] = mapped_column(Record(RunWish), default=RunWish(), server_default="{}")
    left_out: Mapped[list[Any]] = mapped_column(server_default="[]")  # jobs that do not run, and why; blind spots
    asked_digest: Mapped[str | None] = mapped_column(ForeignKey("plan_text.digest"))  # of the target's plan
    gated_said: Mapped[str] = mapped_column(server_default="")  # how the jobs behind the verdict ended
    depth: Mapped[int] = mapped_column(server_default="0")  # number of first-parent ancestors: order is ancestry
    title: Mapped[str] = mapped_column(server_default="")
    author: Mapped[str] = mapped_column(server_default="")
    author_mail: Mapped[str] = mapped_column(server_default="")
    authored_at: Mapped[datetime | None]
    plan_digest: Mapped[str | None] = mapped_column(ForeignKey("plan_text.digest"))  # of the plan at the commit
    problems: Mapped[list[Any]] = mapped_column(server_default="[]")  # of the plan
    state: Mapped[State]
    verdict: Mapped[Verdict]
    taken: Mapped[list[Any]] = mapped_column(server_default="[]")  # artifacts of other projects, by job (Taken)
    why: Mapped[Why] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    sentence: Mapped[str] = mapped_column(server_default="")
    note: Mapped[str | None]  # what the run adds to its commit's note
    noted: Mapped[str | None]  # the note as it was written last
    noted_at: Mapped[datetime | None]
    note_trouble: Mapped[str | None]
    baseline_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="SET NULL"))  # the gate baseline
    measures: Mapped[Measures] = mapped_column(Record(Measures), default=Measures(), server_default="{}")
    totals: Mapped[list[int]] = mapped_column(  # of its jobs, in the order of store.trends.TOTALS
        ARRAY(Integer), Computed("totals_of_jobs(measures)", persisted=True), nullable=True, deferred=True
    )
    judged: Mapped[tuple[RuleJudged, ...]] = mapped_column(
        Record(tuple[RuleJudged, ...]), default=(), server_default="[]"
    )
    created_at: Mapped[datetime] = _now()
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]


class SizeOfDay(Base):
    """What a part of the database weighed on a day."""

    __tablename__ = "size_of_day"
    day: Mapped[date] = mapped_column(primary_key=True)
    what: Mapped[str] = mapped_column(primary_key=True)
    bytes: Mapped[int] = mapped_column(BigInteger)


class PlanText(Base):
    """A plan as it was written, once however many runs were made by it."""

    __tablename__ = "plan_text"
    digest: Mapped[str] = mapped_column(primary_key=True)  # SHA-256 of the file
    text: Mapped[str]


class JobResult(Base):
    """What a run says of one of its jobs. `good`: it can be trusted and held nobody up, so it is a baseline."""

    __tablename__ = "job_result"
    __table_args__ = (Index("job_result_of_commit", "project_id", "job", "commit_id"),)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    commit: Mapped[str] = mapped_column("commit_id")
    context: Mapped[str]
    number: Mapped[int]  # of the run
    asked: Mapped[bool]  # false: the event did not ask for it
    trusted: Mapped[bool | None]  # None: not judged yet
    good: Mapped[bool | None]
    baseline_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="SET NULL"), index=True)


class Acceptance(Base):
    """A person's word that something less than before may be so, with the reason."""

    __tablename__ = "acceptance"
    __table_args__ = (Index("acceptance_of_project", "project_id", "kind"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    kind: Mapped[str]  # loosened, vanished, newly-skipped, start
    subject: Mapped[str]  # what is accepted: a line of what is loosened, a test's number, a commit
    run: Mapped[int]  # the number of the run in which it was accepted
    reason: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class Lasting(Base):
    """A test that is less than it was (vanished, newly skipped), from the run that showed it until it is settled."""

    __tablename__ = "lasting"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    test: Mapped[int] = mapped_column(primary_key=True)
    since: Mapped[int] = mapped_column(primary_key=True)  # the number of the run
    what: Mapped[str]  # vanished, newly-skipped
    commit: Mapped[str] = mapped_column("commit_id")
    back: Mapped[list[str]] = mapped_column(server_default="{}")  # commits at which it was seen again


class Waiver(Base):
    """A person's word that a rule of the plan need not hold for a time, with the reason."""

    __tablename__ = "waiver"
    __table_args__ = (Index("waiver_of_project", "project_id", "rule"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    rule: Mapped[str]  # its name
    context: Mapped[str]  # where it holds, "push main"; empty: everywhere
    run: Mapped[int]  # the number of the run that showed what is waived
    about: Mapped[str]  # its measure and sign
    worst: Mapped[str]  # the value that was seen there, as a fraction: nothing worse is waived
    shown: Mapped[str]  # the same in words, with its limit
    reason: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = _now()
    until: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class Taking(Base):
    """A person's name on a cause of failures, until it is fixed or given back."""

    __tablename__ = "taking"
    __table_args__ = (Index("taking_open", "project_id", postgresql_where=text("ended_at IS NULL")),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    signature: Mapped[str]
    title: Mapped[str]  # of the finding when it was taken
    context: Mapped[str]  # of the run in which it was taken: there it has to be fixed
    run: Mapped[int]  # that run's number
    by: Mapped[str]
    note: Mapped[str] = mapped_column(server_default="")
    at: Mapped[datetime] = _now()
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class Way(Base):
    """Where a project's outcomes are told: a request by template, or a mail."""

    __tablename__ = "way"
    __table_args__ = (UniqueConstraint("project_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    name: Mapped[str]
    kind: Mapped[str]  # request, mail
    shown: Mapped[str]  # what anybody may see of where it leads: the host, or the receivers
    sealed: Mapped[bytes]  # the template, or receivers; addresses of requests often are secrets
    always: Mapped[bool]  # every outcome, pending ones too; otherwise only what is news
    moments: Mapped[list[str]] = mapped_column(server_default="{}")  # of news: held, cleared, released; none: each
    planned: Mapped[bool] = mapped_column(server_default=text("false"))  # it stands in the plan on the main branch
    branches: Mapped[list[str]] = mapped_column(server_default="{}")  # globs; none: all
    events: Mapped[list[str]] = mapped_column(server_default="{}")  # push, pull-request, …; none: all
    on: Mapped[bool] = mapped_column("in_force", server_default=text("true"))
    morning: Mapped[str] = mapped_column(server_default="")  # "weekday 07:30 Europe/Oslo": a page is told then
    morning_at: Mapped[datetime | None]  # when it comes next; None: outcomes are told
    page: Mapped[Page] = mapped_column(server_default="morning")  # which
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class Hearer(Base):
    """How a person hears of a project's news by mail, whatever its ways say."""

    __tablename__ = "hearer"
    __table_args__ = (UniqueConstraint("project_id", "address"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    address: Mapped[str]
    wants: Mapped[Wants]
    quiet: Mapped[str] = mapped_column(server_default="")  # "22:00-07:00 Europe/Oslo": kept until it ends
    gathered: Mapped[str] = mapped_column(server_default="")  # "weekday 08:00 Europe/Oslo": told then, in one mail
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class KeptNews(Base):
    """A piece of news that is kept for somebody until they want to hear."""

    __tablename__ = "kept_news"
    __table_args__ = (
        UniqueConstraint("delivery_id", "address"), Index("kept_news_of_project", "project_id"),
        Index("kept_news_due", "due_at", postgresql_where=text("told_in IS NULL")),
    )  # fmt: skip
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    address: Mapped[str]
    delivery_id: Mapped[int] = mapped_column(BigInteger, ForeignKey("delivery.id", ondelete="CASCADE"))
    due_at: Mapped[datetime]
    told_in: Mapped[int | None] = mapped_column(BigInteger)  # the delivery that told it with others


class Delivery(Base):
    """Something that was, or is to be, told on a way: once for each subject."""

    __tablename__ = "delivery"
    __table_args__ = (
        UniqueConstraint("way_id", "subject"),
        Index("delivery_of_run", "project_id", "run"),
        Index("delivery_in_context", "way_id", "context", "id"),
        Index("delivery_waiting", "way_id", "id", postgresql_where=text("state = 'waiting'")),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    way_id: Mapped[int] = mapped_column(ForeignKey("way.id", ondelete="CASCADE"))
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    run: Mapped[int]  # its number
    context: Mapped[str]  # of the run
    subject: Mapped[str]  # what makes it one thing that is told once
    said: Mapped[str]  # in a few words
    told: Mapped[Telling] = mapped_column("named_values", Record(Telling))
    state: Mapped[str]  # waiting, sent, kept, aside, unwanted
    tries: Mapped[int] = mapped_column(server_default="0")
    next_at: Mapped[datetime] = _now()
    sent_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    created_at: Mapped[datetime] = _now()


class Outcome(Base):
    """What was said of a run, in the order in which it was said; for those who read along."""

    __tablename__ = "outcome"
    __table_args__ = (Index("outcome_of_project", "project_id", "id"), Index("outcome_of_run", "run_id"))
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    verdict: Mapped[Verdict]
    news: Mapped[str]  # held, cleared; empty where nothing changed in its context
    sentence: Mapped[str]
    at: Mapped[datetime] = _now()


class Audit(Base):
    """What a person did that changes what is asked or told."""

    __tablename__ = "audit"
    __table_args__ = (Index("audit_of_project", "project_id", "id"),)
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int | None] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    by: Mapped[str]
    what: Mapped[str]
    said: Mapped[str]
    at: Mapped[datetime] = _now()


class Cell(Base):
    __tablename__ = "cell"
    __table_args__ = (
        UniqueConstraint("run_id", "job", "key"),
        Index("cell_waiting", "rank", "id", postgresql_where=text("state = 'waiting' AND ready")),
        Index("cell_running", "rank", postgresql_where=text("state = 'running'")),
        Index("cell_of_content", "content"),
        Index("cell_housekeeping", "run_id", postgresql_where=text("housekeeping")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    job: Mapped[str]
    job_title: Mapped[str]
    position: Mapped[int]  # in the order of the plan
    key: Mapped[str]  # "python=3.12,rounding=nearest"
    values: Mapped[Json] = mapped_column("dimension_values")
    wants: Mapped[list[str]]  # runtimes: "python 3.12"
    advisory: Mapped[bool] = mapped_column(server_default=text("false"))
    selected: Mapped[bool] = mapped_column(server_default=text("true"))
    housekeeping: Mapped[bool] = mapped_column(server_default=text("false"))  # gated, and waits for no verdict
    gated: Mapped[bool] = mapped_column(server_default=text("false"))
    ready: Mapped[bool] = mapped_column(server_default=text("true"))  # nothing of the plan keeps it from starting
    at_once: Mapped[int | None]
    reused: Mapped[int | None]  # the run whose attempt answers for this cell: same content
    content: Mapped[str | None]  # digest of all that decides its result, but the exact runtimes
    state: Mapped[State]
    why: Mapped[Why] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    mark: Mapped[Mark] = mapped_column(server_default="waiting")  # what the strip draws
    attempt_id: Mapped[int | None]  # the newest
    counts: Mapped[Counts] = mapped_column(Record(Counts), default=Counts(), server_default="{}")  # of the newest
    rank: Mapped[float] = mapped_column(server_default="0")  # its turn in the shared queue, the least first
    predicted: Mapped[float | None]  # seconds, by what it took before


class Attempt(Base):
    __tablename__ = "attempt"
    __table_args__ = (
        UniqueConstraint("cell_id", "number"),  # control runs have negative numbers
        Index("attempt_leased", "lease_until", postgresql_where=text("state = 'running'")),
        Index("attempt_of_runner", "runner_id", "created_at"),
        Index("attempt_running", "runner_id", postgresql_where=text("state = 'running'")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    number: Mapped[int]
    state: Mapped[State]
    reason: Mapped[str] = mapped_column(server_default="")
    runner: Mapped[str]
    runner_id: Mapped[int | None] = mapped_column(ForeignKey("runner.id", ondelete="SET NULL"))
    lease_digest: Mapped[str]
    lease_until: Mapped[datetime]
    runtimes: Mapped[Json] = mapped_column(server_default="{}")  # exact versions
    finish: Mapped[Finish | None] = mapped_column(Record(Finish))  # what the runner said at the end
    log_size: Mapped[int] = mapped_column(BigInteger, server_default="0")
    log_lines: Mapped[int] = mapped_column(BigInteger, server_default="0")  # line ends in it
    created_at: Mapped[datetime] = _now()
    started_at: Mapped[datetime | None]  # first step
    proof: Mapped[list[Json] | None] = mapped_column(JSONB)  # files that it looked for at its target (Proven)
    pruned_at: Mapped[datetime | None]  # since then its log and files are kept no more
    ended_at: Mapped[datetime | None]


class Step(Base):
    __tablename__ = "step"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    command: Mapped[str]
    state: Mapped[State]
    reason: Mapped[str] = mapped_column(server_default="")
    exit_status: Mapped[int | None]
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    log_from: Mapped[int | None] = mapped_column(BigInteger)
    log_to: Mapped[int | None] = mapped_column(BigInteger)
    tests: Mapped[bytes | None]  # the list of tests in its reports (test_list)
    failures: Mapped[int | None]  # of them that failed or errored, once its reports have been read


class LogChunk(Base):
    __tablename__ = "log_chunk"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    offset: Mapped[int] = mapped_column("log_offset", BigInteger, primary_key=True)
    size: Mapped[int]
    blob: Mapped[str]
    packed: Mapped[bool] = mapped_column(server_default=text("false"))  # a zstd frame
    first_line: Mapped[int] = mapped_column(BigInteger, server_default="0")  # line ends before it
    lines: Mapped[int] = mapped_column(server_default="0")  # line ends in it
    at: Mapped[datetime] = _now()


class AttemptRecord(Base):
    """What a runner told of an attempt beside its steps: phases, settings, machine, caches."""

    __tablename__ = "attempt_record"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    kind: Mapped[str] = mapped_column(primary_key=True)
    content: Mapped[list[Any]] = mapped_column(JSONB)


class UsualLines(Base):
    """Digests of the lines that passing attempts of a step print, newest last."""

    __tablename__ = "usual_lines"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    step: Mapped[str] = mapped_column(primary_key=True)
    digests: Mapped[bytes]
    attempts: Mapped[int]


class CacheEntry(Base):
    """An archive kept between attempts. `scope` is who may be given it: a branch, or one pull request."""

    __tablename__ = "cache_entry"
    __table_args__ = (
        UniqueConstraint("project_id", "scope", "job", "name", "key"),
        Index("cache_by_use", "project_id", "used_at"),
        Index("cache_of_attempt", "attempt_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    scope: Mapped[str]
    job: Mapped[str]
    name: Mapped[str]
    key: Mapped[str]  # digest of `parts`
    parts: Mapped[Json]  # what it depends on: files, runtimes, system
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))  # that saved it
    kept: Mapped[bool] = mapped_column(server_default=text("false"))  # true once that attempt passed
    seconds: Mapped[Json]  # of its preparing steps, by name
    digest: Mapped[str]
    size: Mapped[int] = mapped_column(BigInteger)
    blob: Mapped[str]
    created_at: Mapped[datetime] = _now()
    used_at: Mapped[datetime] = _now()
    uses: Mapped[int] = mapped_column(server_default="0")


class Secret(Base):
    """A value that only runners are given; sealed with the installation's key, which is not in the database."""

    __tablename__ = "secret"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    sealed: Mapped[bytes]
    jobs: Mapped[list[str]] = mapped_column(server_default="{}")  # none: every job
    events: Mapped[list[str]] = mapped_column(server_default="{}")  # none: all but pull requests
    branches: Mapped[list[str]] = mapped_column(server_default="{}")  # patterns; none: every branch
    set_by: Mapped[str]
    set_at: Mapped[datetime] = _now()
    used_at: Mapped[datetime | None]
    used_by: Mapped[str] = mapped_column(server_default="")  # "#214 unit"


class Control(Base):
    """A cell of a held run that is repeated: here, or on the gate baseline today."""

    __tablename__ = "control"
    __table_args__ = (
        Index("control_waiting", "id", postgresql_where=text("state = 'waiting'")),
        Index("control_of_run", "run_id"),
        Index("control_of_cell", "cell_id"),
        Index("control_of_search", "search_id"),
        Index("control_of_attempt", "attempt_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    place: Mapped[Place]
    search_id: Mapped[int | None] = mapped_column(ForeignKey("search.id", ondelete="CASCADE"))
    commit: Mapped[str] = mapped_column("commit_id")
    state: Mapped[ControlState]
    attempt_id: Mapped[int | None]


class Report(Base):
    """A file of results or coverage that a step wrote, kept as it came, with its totals."""

    __tablename__ = "report"
    __table_args__ = (UniqueConstraint("attempt_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    number: Mapped[int]
    step: Mapped[int]
    content: Mapped[Content]
    kind: Mapped[str]  # unit, integration, …
    path: Mapped[str]
    digest: Mapped[str]  # SHA-256
    size: Mapped[int] = mapped_column(BigInteger)
    blob: Mapped[str]
    until: Mapped[datetime | None]  # artifacts: the end of keeping
    problems: Mapped[list[Any]] = mapped_column(server_default="[]")
    total: Mapped[int] = mapped_column(server_default="0")
    passed: Mapped[int] = mapped_column(server_default="0")
    failed: Mapped[int] = mapped_column(server_default="0")
    errored: Mapped[int] = mapped_column(server_default="0")
    skipped: Mapped[int] = mapped_column(server_default="0")
    seconds: Mapped[float] = mapped_column(server_default="0")


class Test(Base):
    """A test's identity in its project; `number` is dense, so that neighbours share a packed segment."""

    __tablename__ = "test"
    __table_args__ = (UniqueConstraint("project_id", "key"),)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[bytes]
    job: Mapped[str]
    kind: Mapped[str]
    suite: Mapped[str]
    klass: Mapped[str] = mapped_column("class")
    name: Mapped[str]
    words: Mapped[str] = mapped_column(Computed("lower(suite || ' ' || class || ' ' || name)", persisted=True))


class TestList(Base):
    """The numbers of an ordered list of tests: most reports list the tests of the report before."""

    __tablename__ = "test_list"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    digest: Mapped[bytes] = mapped_column(primary_key=True)
    numbers: Mapped[bytes]


class Failure(Base):
    """A result that is not passed, in full."""

    __tablename__ = "failure"
    __table_args__ = (
        Index("failure_of_signature", "signature", postgresql_where=text("signature <> ''")),
        Index("failure_of_test", "test"),
    )
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    test: Mapped[int] = mapped_column(primary_key=True)
    outcome: Mapped[int] = mapped_column(SmallInteger)
    message: Mapped[str]
    detail: Mapped[str]
    seconds: Mapped[float | None]
    signature: Mapped[str] = mapped_column(server_default="")  # of what failed or errored
    extra: Mapped[Json] = mapped_column(server_default="{}")  # type, output, file, line, attachments, setup


class Quarantine(Base):
    """A test whose failures are recorded but hold no run, with who said so and until when."""

    __tablename__ = "quarantine"
    __table_args__ = (Index("quarantine_of_project", "project_id", "ended_at"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    test: Mapped[int]
    reason: Mapped[str]
    owner: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = _now()
    until: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class Search(Base):
    """A search for the first bad commit of one test in one cell; its tries are control runs."""

    __tablename__ = "search"
    __table_args__ = (Index("search_of_run", "run_id", "test"), Index("search_of_cell", "cell_id"))
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    test: Mapped[int]
    good: Mapped[str] = mapped_column(server_default="")  # where the test last passed
    commits: Mapped[list[str]]  # after it, oldest first; the last is known to be bad
    slots: Mapped[int]
    random: Mapped[float] = mapped_column(server_default="0")  # chance, from its past, that it fails at times anyway
    rate: Mapped[float] = mapped_column(server_default="0")  # how often then
    state: Mapped[SearchState]
    said: Mapped[str] = mapped_column(server_default="")
    answer: Mapped[str] = mapped_column(server_default="")  # the commit that it ended with, where it found one
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class AnalysisResult(Base):
    """One result of static analysis of an attempt."""

    __tablename__ = "analysis_result"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)  # the same for the same result in another run
    tool: Mapped[str]
    rule: Mapped[str]
    level: Mapped[str]  # error, warning, note, none
    path: Mapped[str]
    line: Mapped[int]
    message: Mapped[str]
    about: Mapped[str]
    suppressed: Mapped[bool]
    related: Mapped[list[Any]] = mapped_column(server_default="[]")


class MovedTest(Base):
    """A test found again under another name: its history goes on."""

    __tablename__ = "moved_test"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    now: Mapped[int] = mapped_column(primary_key=True)
    before: Mapped[int]
    run: Mapped[int]  # the number of the run that showed it
    because: Mapped[str]
    proven: Mapped[bool] = mapped_column(server_default=text("false"))  # git or the test's own lines show it


class KindRule(Base):
    """Shapes of failures that a project adds to the usual ones, as TOML."""

    __tablename__ = "kind_rule"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    text: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class KeptFilter(Base):
    """What a project's people look for again and again, under a name."""

    __tablename__ = "kept_filter"
    __table_args__ = (UniqueConstraint("project_id", "page", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    page: Mapped[str]  # runs, failures, logs, tests
    name: Mapped[str]
    query: Mapped[str]  # as it stands in the page's address
    by: Mapped[str]
    at: Mapped[datetime] = _now()


class Sending(Base):
    """A file of results made elsewhere that is being sent, piece by piece."""

    __tablename__ = "sending"
    id: Mapped[str] = mapped_column(primary_key=True)  # the sender's own, random
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    told: Mapped[SendingTold] = mapped_column(Record(SendingTold))
    run: Mapped[int | None]
    at: Mapped[datetime] = _now()


class Segment(Base):
    """Packed outcomes and durations of neighbouring tests of one attempt."""

    __tablename__ = "segment"
    __table_args__ = (Index("segment_of_attempt", "attempt_id"),)
    number: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    outcomes: Mapped[bytes]
    durations: Mapped[bytes]


class SourceFile(Base):
    """A path that coverage names, in its project."""

    __tablename__ = "source_file"
    __table_args__ = (UniqueConstraint("project_id", "path"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    path: Mapped[str]


class CoverageTotal(Base):
    """Coverage of one attempt, or merged over the cells of a job (no attempt) or of all jobs (empty job)."""

    __tablename__ = "coverage_total"
    __table_args__ = (
        Index("coverage_of_run", "run_id", "job", unique=True, postgresql_where=text("attempt_id IS NULL")),
        Index("coverage_of_attempt", "attempt_id", unique=True, postgresql_where=text("attempt_id IS NOT NULL")),
        Index("coverage_by_run", "run_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    job: Mapped[str]
    attempt_id: Mapped[int | None] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    lines_valid: Mapped[int]
    lines_covered: Mapped[int]
    branches_valid: Mapped[int]
    branches_covered: Mapped[int]
    functions_valid: Mapped[int] = mapped_column(server_default="0")
    functions_covered: Mapped[int] = mapped_column(server_default="0")


class CoverageVector(Base):
    """One file's packed coverage, kept once for a project however many cells and runs have it."""

    __tablename__ = "coverage_vector"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    digest: Mapped[bytes] = mapped_column(primary_key=True)  # SHA-256
    packed: Mapped[bytes]


class CoverageFile(Base):
    """One file's coverage under a total."""

    __tablename__ = "coverage_file"
    __table_args__ = (Index("coverage_file_of_vector", "digest"),)
    total_id: Mapped[int] = mapped_column(ForeignKey("coverage_total.id", ondelete="CASCADE"), primary_key=True)
    file_id: Mapped[int] = mapped_column(ForeignKey("source_file.id", ondelete="CASCADE"), primary_key=True, index=True)
    digest: Mapped[bytes]  # of its vector
    lines_valid: Mapped[int | None]  # None: it was kept before they were
    lines_covered: Mapped[int | None]


class Runner(Base):
    __tablename__ = "runner"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    slots: Mapped[int]
    runtimes: Mapped[list[Any]]  # {family, version, path}
    offers: Mapped[list[str]]  # every wish it meets: "python 3", "python 3.12", "python 3.12.1"
    isolation: Mapped[str]
    version: Mapped[str]
    boot: Mapped[str]  # changes with each start of the runner
    price: Mapped[float] = mapped_column(server_default="0")  # of a minute of one slot
    labels: Mapped[list[str]] = mapped_column(server_default="{}")
    machine: Mapped[Json] = mapped_column(server_default="{}")  # class, system, processors, memory
    drained: Mapped[str] = mapped_column(server_default="")  # why it is given nothing more, empty when it is
    troubles: Mapped[int] = mapped_column(server_default="0")  # attempts in a row that its machine made void
    projects: Mapped[list[int] | None]  # whose cells it is given; None: all
    seen_at: Mapped[datetime] = _now()


class ServerBeat(Base):
    """A server that answers runners; `since` begins anew when its beats were interrupted."""

    __tablename__ = "server_beat"
    server: Mapped[str] = mapped_column(primary_key=True)
    since: Mapped[datetime] = _now()
    beat_at: Mapped[datetime] = _now()


class PullRequest(Base):
    """A wish to merge one branch into another, as it was told."""

    __tablename__ = "pull_request"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    source: Mapped[str]
    target: Mapped[str]
    title: Mapped[str] = mapped_column(server_default="")
    author: Mapped[str] = mapped_column(server_default="")
    state: Mapped[PullState]
    stranger: Mapped[bool] = mapped_column(server_default=text("false"))  # its author may not write here
    allowed: Mapped[str] = mapped_column(server_default="")  # the head that a maintainer let run all the same
    opened_at: Mapped[datetime] = _now()


class Batch(Base):
    """Pull requests that are tested together, merged one upon the other in the order given."""

    __tablename__ = "batch"
    __table_args__ = (
        UniqueConstraint("project_id", "number"),
        Index("batch_open", "project_id", postgresql_where=text("state = 'testing'")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    number: Mapped[int]
    target: Mapped[str]
    base: Mapped[str]  # the target's commit that they are merged into
    asked: Mapped[list[Any]]  # {pull, head, title}, in the order given
    stack: Mapped[list[Any]] = mapped_column(server_default="[]")  # {pull, commit}: those that are merged now
    out: Mapped[list[Any]] = mapped_column(server_default="[]")  # {pull, why, run}: those that are left out
    again: Mapped[list[int]] = mapped_column(server_default="{}")  # runs that were run again before a pull was named
    merge: Mapped[bool] = mapped_column(server_default=text("false"))  # into the target, once they are clear
    merged: Mapped[str] = mapped_column(server_default="")  # the commit that the target became
    state: Mapped[BatchState]
    said: Mapped[str] = mapped_column(server_default="")
    by: Mapped[str]
    at: Mapped[datetime] = _now()
    ended_at: Mapped[datetime | None]


class Schedule(Base):
    """A schedule of the plan on the main branch, and when it comes next."""

    __tablename__ = "schedule"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    branch: Mapped[str]
    words: Mapped[str]
    next_at: Mapped[datetime]


class SeenEvent(Base):
    """An event that was told over HTTP, so that a repeat is recognised."""

    __tablename__ = "seen_event"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    event_id: Mapped[str] = mapped_column(primary_key=True)
    said: Mapped[str]
    at: Mapped[datetime] = _now()


class Approval(Base):
    """A word that a job of a run waits for."""

    __tablename__ = "approval"
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[ApprovalState]
    by: Mapped[str] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    until: Mapped[datetime]
    at: Mapped[datetime | None]


class Untested(Base):
    """A commit that came with others and has no run of its own."""

    __tablename__ = "untested"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    commit: Mapped[str] = mapped_column("commit_id", primary_key=True)
    branch: Mapped[str] = mapped_column(primary_key=True)
    run: Mapped[int]  # the number of the run that tested the push it came with
    title: Mapped[str]
    reason: Mapped[str]


class Change(Base):
    """Something a browser may want to know of; its id is the event id of the live stream."""

    __tablename__ = "change"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project: Mapped[str | None] = mapped_column(String)
    run: Mapped[int | None]
    kind: Mapped[str]
    at: Mapped[datetime] = _now()


for _table in Base.metadata.tables.values():
    for _column in _table.columns:
        if isinstance(_column.type, Word):
            _words = ", ".join(f"'{word}'" for word in _column.type.words)
            _table.append_constraint(
                CheckConstraint(f"{_column.name} IN ({_words})", name=f"{_table.name}_{_column.name}_word")
            )
