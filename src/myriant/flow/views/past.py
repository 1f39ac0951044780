"""The past of a project: all its runs, and a search over what failed in them."""

from __future__ import annotations

import contextlib
import csv
import io
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from myriant.core.results.titles import test_title
from myriant.core.states import Verdict
from myriant.core.written import counted
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.evidence.log import hits_in, line_of
from myriant.flow.views.lines import RunLine, run_line, so_far
from myriant.flow.views.words import words_of
from myriant.store.logs import chunks_of_log
from myriant.store.past import FoundFailure, Wanted, count_fitting, failures_saying, logs_since, runs_fitting
from myriant.store.releases import artifacts_named
from myriant.store.results import tests_numbered, tests_with_words

MOST_EXPORTED = 20_000
MOST_FOUND = 5000  # results that a search looks at, the newest
MOST_CAUSES = 200
MOST_ARTIFACTS = 100
LEAST_TEXT = 3
MOST_SEARCHED = 2000  # logs that one answer looks into
MOST_LOGS = 100  # that are named in one answer
SEARCH_SECONDS = 3.0


@dataclass(frozen=True, slots=True)
class RunList:
    runs: list[RunLine]  # newest first
    fitting: int  # how many there are in all
    more: bool


@dataclass(frozen=True, slots=True)
class FoundArtifact:
    """A file that some run made, and where it is from."""

    path: str
    digest: str  # SHA-256
    size: int
    report: int | None  # None: it is kept no more
    until: datetime | None
    run: int
    verdict: Verdict
    of: str  # the tag, or the branch
    at: datetime
    job: str
    key: str


@dataclass(frozen=True, slots=True)
class ArtifactSearch:
    artifacts: list[FoundArtifact]  # the newest first
    before: int | None  # where to go on; None: that was all


@dataclass(frozen=True, slots=True)
class FoundCause:
    """Failures that look alike, over all runs that were searched."""

    signature: str
    message: str
    tests: list[str]  # some of their titles
    test_count: int
    results: int
    runs: list[int]  # newest first, some
    run_count: int
    first: int
    newest: int
    newest_at: datetime
    cells: list[str]  # some


@dataclass(frozen=True, slots=True)
class FailureSearch:
    said: str
    causes: list[FoundCause]  # the one met last first


def runs_of(site: Site, name: str, said: Mapping[str, Any], before: int | None, most: int) -> RunList:
    """The newest runs that fit what is said of them (the names of Wanted). Raises NotFound."""
    wanted = Wanted(**said)
    with site.store.view() as session:
        project = the_project(session, name)
        rows = list(runs_fitting(session, project.id, wanted, before, most + 1))
        more, rows = len(rows) > most, rows[:most]
        words = words_of(session, project.id, {r.commit for r in rows})
        far = so_far(session, rows)
        lines = [run_line(r, words[r.commit], far.get(r.id, "")) for r in rows]
        return RunList(lines, count_fitting(session, project.id, wanted), more)


def runs_as_csv(site: Site, name: str, said: Mapping[str, Any]) -> str:
    """The runs that fit, a line each. Raises NotFound."""
    out = io.StringIO()
    writer = csv.writer(out)
    fields = [
        "number",
        "commit",
        "title",
        "author",
        "branch",
        "event",
        "context",
        "verdict",
        "word",
        "sentence",
        "at",
        "started_at",
        "ended_at",
        "took",
    ]
    writer.writerow(fields)
    for line in runs_of(site, name, said, None, MOST_EXPORTED).runs:
        writer.writerow([_plain(getattr(line, f)) for f in fields])
    return out.getvalue()


def _plain(value: object) -> object:
    """A value of a table; a text that a spreadsheet would take for a formula is quoted."""
    text = value.isoformat() if isinstance(value, datetime) else str(value) if value is not None else ""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t") else text


def search_artifacts(site: Site, name: str, text: str, before: int | None) -> ArtifactSearch:
    """Artifacts of all runs by a part of their path, or the beginning of their digest. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        found = artifacts_named(session, project.id, text.strip(), before, MOST_ARTIFACTS + 1)
    shown = found[:MOST_ARTIFACTS]
    return ArtifactSearch(
        [
            FoundArtifact(
                f.path,
                f.digest,
                f.size,
                f.report if f.kept else None,
                f.until,
                f.run,
                f.verdict,
                f.tag or f.branch,
                f.at,
                f.job,
                f.key,
            )
            for f in shown
        ],
        shown[-1].report if len(found) > len(shown) else None,
    )


def search_failures(site: Site, name: str, text: str, days: int) -> FailureSearch:
    """What failed with a text in its message or its test's name, in the runs of the last days, by cause. Raises
    NotFound, BadInput for a text that is too short to search for.
    """
    text = text.strip()
    if len(text) < LEAST_TEXT:
        raise BadInput(f"a search takes {LEAST_TEXT} letters or more", "say more of what it said")
    with site.store.view() as session:
        project = the_project(session, name)
        named = tests_with_words(session, project.id, text.lower().split())
        since = datetime.now(UTC) - timedelta(days=days)
        found = failures_saying(session, project.id, text, named, since, MOST_FOUND)
        groups: dict[str, list[FoundFailure]] = {}
        for f in found:
            groups.setdefault(f.signature, []).append(f)
        titles = {
            n: test_title(t.suite, t.klass, t.name)
            for n, t in tests_numbered(session, project.id, sorted({f.test for f in found})).items()
        }
    causes = [_cause(signature, mine, titles) for signature, mine in list(groups.items())[:MOST_CAUSES]]
    return FailureSearch(_said(text, found, len(groups), days), causes)


@dataclass(frozen=True, slots=True)
class FoundLog:
    """An attempt in whose log a text stands."""

    run: int
    job: str
    key: str
    attempt_id: int
    attempt: int  # its number in the cell
    state: str
    at: datetime
    lines: int  # that have it
    line: int  # the first of them, from 1
    text: str  # of that line


@dataclass(frozen=True, slots=True)
class LogSearch:
    said: str
    found: list[FoundLog]  # newest run first
    before: int | None  # where to go on, None when everything was searched


def search_logs(site: Site, name: str, text: str, days: int, before: int | None) -> LogSearch:
    """Which logs of the last days have a text, capitals or not, the newest first; it stops after `SEARCH_SECONDS`, or
    with `MOST_LOGS` that have it, and says where to go on (`before`: an attempt's id). Raises NotFound, BadInput for a
    text that is too short to search for.
    """
    text = text.strip()
    if len(text) < LEAST_TEXT:
        raise BadInput(f"a search takes {LEAST_TEXT} letters or more", "say more of what it said")
    since = datetime.now(UTC) - timedelta(days=days)
    with site.store.view() as session:
        project = the_project(session, name)
        rows, there = logs_since(session, project.id, since, before, MOST_SEARCHED)
        end, searched = time.monotonic() + SEARCH_SECONDS, 0
        found: list[FoundLog] = []
        while searched < len(rows) and len(found) < MOST_LOGS and (not searched or time.monotonic() < end):
            row = rows[searched]
            searched += 1
            with contextlib.suppress(FileNotFoundError):  # its time of keeping has ended
                hits = hits_in(site, chunks_of_log(session, row.attempt_id), text, 1)
                if hits.count:
                    said = line_of(site, session, row.attempt_id, hits.lines[0])
                    where = (row.run, row.job, row.key, row.attempt_id, row.number, row.state, row.at)
                    found.append(FoundLog(*where, hits.count, hits.lines[0], said))
    left = there - searched
    logs = counted(searched, "log")
    over = f"the last {counted(days, 'day')}" if not left else f"{there:,}, back to #{rows[searched - 1].run}"
    told = f"stands in {counted(len(found), 'log')}" if found else "stands nowhere"
    return LogSearch(
        f"“{text[:60]}” {told}; {logs} of {over} searched.", found, rows[searched - 1].attempt_id if left else None
    )


def _cause(signature: str, mine: Sequence[FoundFailure], titles: dict[int, str]) -> FoundCause:
    tests = list(dict.fromkeys(f.test for f in mine))
    runs = list(dict.fromkeys(f.run for f in mine))
    cells = list(dict.fromkeys(f"{f.job} {f.key}".strip() for f in mine))
    return FoundCause(
        signature,
        mine[0].message,
        [titles[t] for t in tests[:5] if t in titles],
        len(tests),
        len(mine),
        runs[:8],
        len(runs),
        runs[-1],
        runs[0],
        mine[0].at,
        cells[:6],
    )


def _said(text: str, found: Sequence[FoundFailure], causes: int, days: int) -> str:
    over = f"the last {counted(days, 'day')}"
    if not found:
        return f"Nothing failed with “{text[:60]}” in {over}."
    runs = len({f.run for f in found})
    most = f", the newest {MOST_FOUND:,} of them" if len(found) >= MOST_FOUND else ""
    results = f"{counted(len(found), 'result')} of {counted(causes, 'cause')} in {counted(runs, 'run')}"
    return f"“{text[:60]}”: {results} of {over}{most}."
