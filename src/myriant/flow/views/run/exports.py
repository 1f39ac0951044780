"""A run's results for other programs: merged JUnit XML, CSV, Parquet."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterator
from dataclasses import dataclass
from xml.sax.saxutils import escape, quoteattr

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from myriant.core.results.model import Outcome
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.store.cells import cells_of
from myriant.store.history import durations_of
from myriant.store.results import Shown, all_not_passed, outcomes_of, tests_numbered
from myriant.store.tables import Test

_SCHEMA = pa.schema(
    [("run", pa.int32()), ("commit", pa.string()), ("job", pa.string()), ("cell", pa.string()), ("attempt", pa.int32())]
    + [(name, pa.string()) for name in ("kind", "suite", "class", "name", "outcome")]
    + [("seconds", pa.float64()), ("message", pa.string()), ("signature", pa.string())]
)


_NOT_IN_XML = str.maketrans(dict.fromkeys([*range(9), 11, 12, *range(14, 32), 65534, 65535], "�"))


@dataclass(frozen=True, slots=True)
class _CellResults:
    """One cell's newest attempt: its tests with outcome and seconds, and what is said of those that did not pass."""

    run: int
    commit: str
    job: str
    key: str
    values: dict[str, str]
    attempt: int
    tests: list[Test]
    outcomes: list[Outcome]
    seconds: list[float]
    said: dict[int, Shown]  # by test number


def _cells(site: Site, name: str, number: int) -> Iterator[_CellResults]:
    with site.store.view() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        cells = [c for c in cells_of(session, row.id) if c.attempt_id is not None]
    for cell in cells:
        attempt = cell.attempt_id or 0
        with site.store.view() as session:
            outcomes = outcomes_of(session, [attempt])[attempt]
            seconds = durations_of(session, [attempt])[attempt]
            tests = tests_numbered(session, project.id, np.flatnonzero(outcomes).tolist())
            said = {s.number: s for s in all_not_passed(session, project.id, [attempt], skipped=True)}
        numbers = sorted(tests)  # seconds are kept within 0.1 %: more digits would say nothing
        yield _CellResults(
            row.number,
            row.commit,
            cell.job,
            cell.key,
            dict(cell.values),
            attempt,
            [tests[n] for n in numbers],
            [Outcome(int(outcomes[n])) for n in numbers],
            [float(f"{seconds[n]:.4g}") for n in numbers],
            said,
        )


def junit_xml(site: Site, name: str, number: int) -> Iterator[str]:
    """All results of a run as one JUnit XML: a suite for each cell, its dimension values as properties."""
    yield f'<?xml version="1.0" encoding="UTF-8"?>\n<testsuites name={_quoted(f"{name} #{number}")}>\n'
    for cell in _cells(site, name, number):
        counts = {o: cell.outcomes.count(o) for o in Outcome}
        time = math.fsum(s for s in cell.seconds if s == s)
        yield (
            f'<testsuite name={_quoted(f"{cell.job} {cell.key}".strip())} tests="{len(cell.tests)}" '
            f'failures="{counts[Outcome.FAILED]}" errors="{counts[Outcome.ERRORED]}" '
            f'skipped="{counts[Outcome.SKIPPED]}" time="{time:.3f}">\n<properties>'
        )
        for key, value in {"job": cell.job, **cell.values, "commit": cell.commit, "run": str(cell.run)}.items():
            yield f"<property name={_quoted(key)} value={_quoted(value)}/>"
        yield "</properties>\n"
        for test, outcome, seconds in zip(cell.tests, cell.outcomes, cell.seconds, strict=True):
            yield _case(test, outcome, seconds, cell.said.get(test.number))
        yield "</testsuite>\n"
    yield "</testsuites>\n"


def _case(test: Test, outcome: Outcome, seconds: float, said: Shown | None) -> str:
    time = f' time="{seconds:.6g}"' if seconds == seconds else ""
    head = f"<testcase name={_quoted(test.name)} classname={_quoted(test.klass or test.suite)}{time}"
    if outcome is Outcome.PASSED:
        return f"{head}/>\n"
    element = {
        Outcome.FAILED: "failure",
        Outcome.ERRORED: "error",
        Outcome.SKIPPED: "skipped",
        Outcome.FLAKY: "flakyFailure",
    }[outcome]
    message, text = (said.message, said.detail) if said is not None else ("", "")
    return (
        f"{head}><{element} message={_quoted(message)}>{escape(text.translate(_NOT_IN_XML))}</{element}></testcase>\n"
    )


def _quoted(text: str) -> str:
    return quoteattr(text.translate(_NOT_IN_XML), {"\n": "&#10;", "\r": "&#13;", "\t": "&#9;"})


def csv_rows(site: Site, name: str, number: int) -> Iterator[str]:
    """One line a result (RFC 4180), with a heading; a text that a spreadsheet would take for a formula gets a quote."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(_SCHEMA.names)
    for cell in _cells(site, name, number):
        writer.writerows([_harmless(v) for v in row] for row in _rows(cell))
        yield buffer.getvalue()
        buffer.seek(0)
        buffer.truncate()
    yield buffer.getvalue()


def _rows(cell: _CellResults) -> Iterator[tuple[object, ...]]:
    for test, outcome, seconds in zip(cell.tests, cell.outcomes, cell.seconds, strict=True):
        said = cell.said.get(test.number)
        yield (
            cell.run,
            cell.commit,
            cell.job,
            cell.key,
            cell.attempt,
            test.kind,
            test.suite,
            test.klass,
            test.name,
            outcome.name.lower(),
            seconds if seconds == seconds else None,
            said.message if said else "",
            said.signature if said else "",
        )


def _harmless(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") else value


def parquet(site: Site, name: str, number: int) -> bytes:
    """All results of a run as one Parquet file, a row group for each cell."""
    sink = io.BytesIO()
    with pq.ParquetWriter(sink, _SCHEMA, compression="zstd") as writer:
        for cell in _cells(site, name, number):
            columns = list(zip(*_rows(cell), strict=True)) or [()] * len(_SCHEMA)
            arrays = [pa.array(column, type=field.type) for column, field in zip(columns, _SCHEMA, strict=True)]
            writer.write_table(pa.Table.from_arrays(arrays, schema=_SCHEMA))
    return sink.getvalue()
