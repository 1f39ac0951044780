"""The tables. Times are UTC, durations seconds, digests hexadecimal, sizes bytes."""

from sqlalchemy import CheckConstraint

from myriant.store.tables.base import Base, Json, Word
from myriant.store.tables.cells import (
    Attempt,
    AttemptRecord,
    CacheEntry,
    Cell,
    Control,
    LogChunk,
    Report,
    Search,
    Sending,
    Step,
    UsualLines,
)
from myriant.store.tables.coverage import CoverageFile, CoverageTotal, CoverageVector, SourceFile
from myriant.store.tables.machines import Change, Runner, ServerBeat
from myriant.store.tables.people import Account, Audit, Token
from myriant.store.tables.projects import (
    Batch,
    KeptFilter,
    KindRule,
    Project,
    PullRequest,
    Ref,
    Schedule,
    Secret,
    SeenEvent,
    SizeOfDay,
)
from myriant.store.tables.results import AnalysisResult, Failure, Segment, Test, TestList
from myriant.store.tables.runs import Approval, JobResult, Outcome, PlanText, Run, Untested
from myriant.store.tables.ways import Delivery, Hearer, KeptNews, Way
from myriant.store.tables.words import Acceptance, Lasting, MovedTest, Quarantine, Taking, Waiver

for _table in Base.metadata.tables.values():
    for _column in _table.columns:
        if isinstance(_column.type, Word):
            _words = ", ".join(f"'{word}'" for word in _column.type.words)
            _table.append_constraint(
                CheckConstraint(f"{_column.name} IN ({_words})", name=f"{_table.name}_{_column.name}_word")
            )

__all__ = [
    "Acceptance",
    "Account",
    "AnalysisResult",
    "Approval",
    "Attempt",
    "AttemptRecord",
    "Audit",
    "Base",
    "Batch",
    "CacheEntry",
    "Cell",
    "Change",
    "Control",
    "CoverageFile",
    "CoverageTotal",
    "CoverageVector",
    "Delivery",
    "Failure",
    "Hearer",
    "JobResult",
    "Json",
    "KeptFilter",
    "KeptNews",
    "KindRule",
    "Lasting",
    "LogChunk",
    "MovedTest",
    "Outcome",
    "PlanText",
    "Project",
    "PullRequest",
    "Quarantine",
    "Ref",
    "Report",
    "Run",
    "Runner",
    "Schedule",
    "Search",
    "Secret",
    "SeenEvent",
    "Segment",
    "Sending",
    "ServerBeat",
    "SizeOfDay",
    "SourceFile",
    "Step",
    "Taking",
    "Test",
    "TestList",
    "Token",
    "Untested",
    "UsualLines",
    "Waiver",
    "Way",
    "Word",
]
