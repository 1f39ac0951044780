"""What a row keeps as JSON: one frozen type each, read and written here only.

What stands at its default is not written, and a key that nobody knows any more is passed over, so rows of earlier
versions stay readable.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime
from fractions import Fraction
from typing import Annotated, Any

from pydantic import Field, TypeAdapter
from sqlalchemy import ColumnElement, TypeDecorator, type_coerce
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import InstrumentedAttribute

from myriant.core.gate.drilled import LONGEST, Drill
from myriant.core.telling.outcome import Told
from myriant.core.telling.template import VALUES

JobCounts = dict[str, int]  # by the name of the measure: "tests.passed"


class Record(TypeDecorator[Any]):
    """A JSON column that is read as, and written from, a frozen type."""

    impl = JSONB
    cache_ok = True

    def __init__(self, kind: Any) -> None:
        super().__init__(none_as_null=True)
        self.kind = kind
        self._adapter: TypeAdapter[Any] = TypeAdapter(kind)

    def process_bind_param(self, value: Any, dialect: Any) -> Any:
        return None if value is None else written(self._adapter, value)

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        return None if value is None else self._adapter.validate_python(value)


def written(adapter: TypeAdapter[Any], value: Any) -> Any:
    return adapter.dump_python(value, mode="json", by_alias=True, exclude_defaults=True, warnings="error")


def as_json(column: InstrumentedAttribute[Any]) -> ColumnElement[Any]:
    """A record's column as the JSON that it is in the database, for questions about a part of it."""
    return type_coerce(column, JSONB)


@dataclass(frozen=True, slots=True)
class Less:
    """Numbers of tests that a run has less than its baselines."""

    vanished: tuple[int, ...] = ()
    newly_skipped: Annotated[tuple[int, ...], Field(alias="newly-skipped")] = ()
    removed: tuple[int, ...] = ()

    def of(self, what: str) -> tuple[int, ...]:
        """By the word that is kept with acceptances and lasting tests."""
        return {"vanished": self.vanished, "newly-skipped": self.newly_skipped, "removed": self.removed}[what]


@dataclass(frozen=True, slots=True)
class Causes:
    """New failures as messages name them, and how many more there are."""

    listed: tuple[Told, ...] = ()
    more: int = 0


@dataclass(frozen=True, slots=True)
class Measures:
    """What was measured in a run."""

    jobs: dict[str, JobCounts] = field(default_factory=dict)
    early: dict[str, JobCounts] = field(default_factory=dict)  # while it is held and some cells have not ended
    since: tuple[int, ...] = ()  # ids of the runs after its baselines
    aside: tuple[int, ...] | None = None  # tests in quarantine when it was judged; None: not kept then
    less: Less = Less()
    loosened: tuple[str, ...] = ()
    accepted: tuple[str, ...] = ()
    coverage_changed: Annotated[tuple[int, int] | None, Field(alias="coverage.changed")] = None
    seconds: float | None = None
    uncovered: tuple[str, ...] = ()  # changed lines, by file
    causes: Causes = Causes()
    places: tuple[str, ...] = ()  # files and tests that owners are looked for by
    control: dict[str, int] | None = None  # tests by what the control runs say; None while they say nothing

    @property
    def changed_share(self) -> Fraction | None:
        """The share of changed lines that is covered; None where nothing was measured."""
        top, bottom = self.coverage_changed or (0, 0)
        return Fraction(top, bottom) if bottom else None


@dataclass(frozen=True, slots=True)
class Counts:
    """The results of a cell by outcome, and since judging beside its baseline."""

    total: int = 0
    passed: int = 0
    failed: int = 0
    errored: int = 0
    skipped: int = 0
    flaky: int = 0
    retested: int = 0
    unexplained: tuple[str, ...] = ()  # failed steps that no test explains, in words
    coverage_trouble: tuple[str, ...] = ()
    explained: datetime | None = None  # when failed steps were looked at again
    new: int = 0
    known: int = 0
    fixed: int = 0
    first: int = 0
    quarantined: int = 0

    def alone(self) -> Counts:
        """Without what judging added, for another run that takes the results over."""
        return replace(self, new=0, known=0, fixed=0, first=0, quarantined=0, explained=None)


@dataclass(frozen=True, slots=True)
class Finish:
    """What a runner says at the end of an attempt."""

    void: str = ""
    machine: bool = False  # the runner's machine is why it is void
    retested: int = 0
    missing: tuple[str, ...] = ()
    missing_coverage: tuple[str, ...] = ()
    workspace: str = ""
    failed_steps: tuple[int, ...] = ()
    runtimes: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class RunWish:
    """What was wanted of a run beside what its plan asks at an event."""

    jobs: tuple[str, ...] = ()
    cells: str = ""  # a selector
    by: str = ""
    said: str = ""  # added to the sentence


@dataclass(frozen=True, slots=True)
class WaivedBy:
    by: str
    until: datetime
    reason: str


@dataclass(frozen=True, slots=True)
class RuleJudged:
    """A rule as it was judged in a run; value and limit in words, the exact value as a fraction."""

    name: str
    measure: str
    sign: str
    level: str
    line: int
    met: bool
    reason: str = ""
    value: str | None = None
    limit: str | None = None
    against_baseline: bool = False
    best_of: int = 1
    built_in: str | None = None
    exact: str = ""
    waived: WaivedBy | None = None


@dataclass(frozen=True, slots=True)
class Telling:
    """What is told on a way: the values that a template can name, and whom a mail is for."""

    project: str
    number: int
    context: str
    state: str
    sentence: str
    address: str
    text: str
    commit: str = ""
    short: str = ""
    title: str = ""
    author: str = ""
    branch: str = ""
    source: str = ""
    pull_request: int | None = None
    base: str = ""
    tag: str = ""
    news: str = ""
    new: Annotated[int | None, Field(alias="tests.new")] = None
    fixed: Annotated[int | None, Field(alias="tests.fixed")] = None
    total: Annotated[int | None, Field(alias="tests.total")] = None
    coverage_line: Annotated[float | None, Field(alias="coverage.line")] = None  # percent
    coverage_changed: Annotated[float | None, Field(alias="coverage.changed")] = None
    mail: str = ""  # the author's
    failing: tuple[str, ...] = ()  # signatures
    authors: tuple[str, ...] = ()
    owners: tuple[str, ...] = ()
    before: tuple[str, ...] = ()  # who heard that it was held
    split: bool = False  # authors are told apart from the others
    receivers: tuple[str, ...] | None = None  # of a mail; None: not known yet
    subject: str = ""  # of a mail, where it is not made of the values
    page: str = ""  # made for print, sent with a mail

    def values(self) -> dict[str, Any]:
        """By the names that templates use."""
        told = _TELLING.dump_python(self, by_alias=True)
        return {name: told[name] for name in VALUES}


_TELLING: TypeAdapter[Telling] = TypeAdapter(Telling)
EXAMPLE = _TELLING.validate_python({name: example for name, (_, example) in VALUES.items()})


@dataclass(frozen=True, slots=True)
class DrillAsked:
    """A drill that somebody asked for, and what came of it."""

    by: str
    at: datetime
    over: datetime | None = None
    came: Drill | None = None
    refused: str = ""  # why it could not be tried

    def goes_on(self, now: datetime) -> bool:
        """Whether it is not over; one whose worker was killed is, after a while."""
        return self.over is None and now - self.at < LONGEST


@dataclass(frozen=True, slots=True)
class FileSent:
    path: str
    digest: str  # SHA-256
    size: int
    content: str = "tests"


@dataclass(frozen=True, slots=True)
class SendingTold:
    """What is being sent: results of one cell of a job, for a commit."""

    commit: str
    branch: str
    job: str
    values: dict[str, str]
    kind: str
    version: str
    files: tuple[FileSent, ...]
    expected: int = 0  # cells of the job that are sent in all; 0: nobody said
