"""A streaming reader of JUnit XML: strict about safety, lenient about dialect.

There is no standard; what is read is the common ground of the JUnit XML that test frameworks write:
`testsuite` elements, nested or flat, holding `testcase` elements with at most one of `failure`,
`error` or `skipped`. Elements are counted, the totals in attributes are not believed.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from xml.parsers import expat

from myriant.core.results.model import Detail, Oddity, Outcome, Results
from myriant.core.xml import MOST_DEPTH, Refused, explained, feed, make_parser

MOST_CASES = 2_000_000
MOST_TEXT = 256 * 1024  # characters kept of one message or stack
MOST_NAME = 2_000
_VERDICTS = {"failure": Outcome.FAILED, "error": Outcome.ERRORED, "skipped": Outcome.SKIPPED}


def read_junit(chunks: Iterable[bytes]) -> Results:
    """Read one report. Never raises for what the file says: `Results.error` tells why it cannot be trusted.

    What was read before a fault is kept as evidence. Linear in time, memory is that of the results.
    """
    reader = _Reader()
    reader.read(chunks)
    return reader.results


class _Reader:
    def __init__(self) -> None:
        self.results = Results()
        self.parser = make_parser()
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.path: list[str] = []  # names of the suites that are open
        self.suite = ""
        self.depth = 0
        self.roots = 0
        self.in_case = False
        self.outcome = Outcome.PASSED
        self.detail: Detail | None = None
        self.collected: list[str] = []
        self.kept = 0
        self.bad_times = 0
        self.unnamed = 0
        self.file: str | None = None  # of the case that is open

    def read(self, chunks: Iterable[bytes]) -> None:
        reason = feed(self.parser, chunks, self.explain)
        if reason is not None:
            self.fault(reason)
            return
        if not len(self.results) and self.results.error is None:
            self.fault("the report holds no test")
        if self.bad_times:
            self.warn(f"{self.bad_times} cases with a time that is no number of seconds")
        if self.unnamed:
            self.warn(f"{self.unnamed} cases without a name")

    def fault(self, message: str) -> None:
        self.results.problems.append(Oddity("error", message, self.parser.CurrentLineNumber))

    def warn(self, message: str) -> None:
        self.results.problems.append(Oddity("warning", message, 0))

    def explain(self, error: expat.ExpatError) -> str:
        cases = len(self.results)
        return explained(error, seen_root=self.roots > 0, found=f"{cases} cases" if cases else "")

    def start(self, name: str, attributes: dict[str, str]) -> None:
        self.depth += 1
        if name == "testcase" and self.roots and not self.in_case:
            self.case(attributes)
        elif self.in_case:
            if name in _VERDICTS:
                self.verdict(name, attributes)
        elif name == "testsuite":
            self.roots += 1
            self.path.append(attributes.get("name", "")[:MOST_NAME])
            self.suite = " › ".join(filter(None, self.path))
        elif not self.roots:
            if name != "testsuites":
                raise Refused(f"its root element is <{name[:40]}>, not <testsuites> or <testsuite>")
            self.roots += 1
        if self.depth > MOST_DEPTH:
            raise Refused(f"elements are nested more than {MOST_DEPTH} deep")

    def case(self, attributes: dict[str, str]) -> None:
        results, get = self.results, attributes.get
        self.in_case = True
        self.outcome = Outcome.PASSED
        self.file = get("file")
        name = get("name", "")
        if not name:
            self.unnamed += 1
            name = f"(unnamed {self.unnamed})"
        results.suites.append(self.suite)
        results.classes.append(get("classname", ""))
        results.names.append(name if len(name) <= MOST_NAME else name[:MOST_NAME])
        time = get("time")
        if time is None:
            results.seconds.append(math.nan)
        else:
            try:
                seconds = float(time)
            except ValueError:
                seconds = self.odd_time(time)
            if not 0.0 <= seconds < 1e9:
                self.bad_times += 1
                seconds = math.nan
            results.seconds.append(seconds)

    def odd_time(self, time: str) -> float:
        """Times with thousands separators or a decimal comma; NaN for anything else."""
        text = time.strip()
        text = text.replace(",", "") if "." in text or text.count(",") > 1 else text.replace(",", ".")
        try:
            return float(text)
        except ValueError:
            return math.nan

    def verdict(self, name: str, attributes: dict[str, str]) -> None:
        outcome = _VERDICTS[name]
        message = attributes.get("message") or ""
        if outcome is not Outcome.SKIPPED and not message:
            message = attributes.get("type") or ""
        if self.outcome is Outcome.PASSED or self.outcome is Outcome.SKIPPED:
            self.outcome = outcome
            self.detail = Detail(message[:MOST_TEXT])
        elif self.detail is not None:
            self.detail.text += f"\n\nalso: {message[:MOST_TEXT]}\n"
        self.collected.clear()
        self.kept = 0
        self.parser.CharacterDataHandler = self.text

    def text(self, data: str) -> None:
        if self.kept < MOST_TEXT:
            self.collected.append(data[: MOST_TEXT - self.kept])
            self.kept += len(data)

    def end(self, name: str) -> None:
        self.depth -= 1
        if name == "testcase" and self.in_case:
            self.in_case = False
            results = self.results
            results.outcomes.append(self.outcome)
            if self.detail is not None:
                results.details[len(results.outcomes) - 1] = self.detail
                self.detail = None
                if self.file:
                    results.files[len(results.outcomes) - 1] = self.file[:MOST_NAME]
            if len(results.outcomes) > MOST_CASES:
                raise Refused(f"more than {MOST_CASES:,} cases in one file")
        elif self.in_case:
            if name in _VERDICTS and self.detail is not None:
                self.detail.text += "".join(self.collected).strip("\n")
                if self.kept > MOST_TEXT:
                    self.detail.text += f"\n… {self.kept - MOST_TEXT:,} more characters, see the raw report"
                if not self.detail.message:
                    self.detail.message = self.detail.text.strip().split("\n", 1)[0][:500]
                self.parser.CharacterDataHandler = None
        elif name == "testsuite" and self.path:
            self.path.pop()
            self.suite = " › ".join(filter(None, self.path))
