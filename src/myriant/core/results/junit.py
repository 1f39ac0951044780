"""A streaming reader of JUnit XML: strict about safety, lenient about dialect.

There is no standard; what is read is the common ground of the JUnit XML that test frameworks write:
`testsuite` elements, nested or flat, holding `testcase` elements with `failure`, `error` or `skipped`.
Elements are counted, the totals in attributes are not believed. docs/formats.md lists the dialects.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from xml.parsers import expat

from myriant.core.digits import number_of
from myriant.core.results.junit_words import (
    ATTACHED,
    BAD,
    COMMENT,
    EXPECTED,
    GOOD,
    MARKED,
    MOST_NAME,
    MOST_OUTPUT,
    MOST_PROPERTIES,
    MOST_TEXT,
    NO_SKIP,
    NOT_RUN,
    OUTPUTS,
    OUTSIDE,
    RANK,
    RETRIES,
    SETUP,
    SETUP_BEGINS,
    VERDICTS,
    Stated,
    odd_time,
)
from myriant.core.results.model import Detail, Oddity, Outcome, Results
from myriant.core.xml import MOST_DEPTH, Notes, Refused, explained, feed, make_parser

MOST_CASES = 2_000_000


def read_junit(chunks: Iterable[bytes]) -> Results:
    """Read one report. Never raises for what the file says: `Results.error` tells why it cannot be trusted.

    What was read before a fault is kept as evidence. Linear in time, memory is that of the results.
    """
    reader = _Reader()
    reader.read(chunks)
    return reader.results


class _Reader:
    def __init__(self) -> None:
        self.results = results = Results()
        self.names, self.suites, self.classes = results.names.append, results.suites.append, results.classes.append
        self.seconds, self.outcomes = results.seconds.append, results.outcomes.append
        self.parser = make_parser()
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CommentHandler = self.comment
        self.path: list[str] = []  # names of the suites that are open
        self.stated: list[Stated] = []  # what they say of themselves
        self.shown = self.shown_before = 0  # elements that tell a failure, and cases marked so: now, before this case
        self.bad = 0  # cases that failed or errored
        self.unknown = ""  # a state that a case gives itself and that says nothing
        self.reruns = False  # tries before the last are told
        self.superseded: set[int] = set()  # cases that a later try of the same test stands for
        self.suite = ""
        self.depth = 0
        self.roots = 0
        self.case_depth = 0  # of the case that is open, 0 for none
        self.attributes: dict[str, str] = {}  # of that case
        self.name = ""
        self.plain = True  # it says nothing beside its attributes
        self.outcome = Outcome.PASSED
        self.detail: Detail | None = None
        self.gathered = ""  # the element whose text is collected
        self.collected: list[str] = []
        self.kept = 0
        self.output: list[str] = []
        self.attached: list[str] = []
        self.retried = False
        self.expected = False  # its failure
        self.dropped = 0  # set-ups that passed
        self.liars, self.lying = 0, ("", 0)  # suites with wrong totals, the first of them
        self.odd: dict[str, tuple[int, int]] = {}  # oddity: how often, first line

    def read(self, chunks: Iterable[bytes]) -> None:
        notes = Notes()
        reason = feed(self.parser, chunks, self.explain, notes, self.watch)
        if reason is not None:
            self.results.problems.append(Oddity("error", reason, self.parser.CurrentLineNumber))
        if reason is None and not len(self.results) and self.results.error is None:
            self.results.says_none = True
            self.results.problems.append(Oddity("error", "the report holds no test", self.parser.CurrentLineNumber))
        self.drop_superseded()
        self.results.problems += [Oddity("warning", text, line) for text, line in notes.told()]
        for what, (count, line) in self.odd.items():
            self.results.problems.append(Oddity("warning", f"{count} {what}", line))
        if self.liars:
            suites = "1 suite states" if self.liars == 1 else f"{self.liars} suites state"
            said = f"{suites} totals that its elements do not have: {self.lying[0]}; the elements count"
            self.results.problems.append(Oddity("warning", said, self.lying[1]))

    def note(self, what: str) -> None:
        count, line = self.odd.get(what, (0, self.parser.CurrentLineNumber))
        self.odd[what] = (count + 1, line)

    def explain(self, error: expat.ExpatError) -> str:
        cases = len(self.results)
        return explained(error, seen_root=self.roots > 0, found=f"{cases} cases" if cases else "")

    def start(self, name: str, attributes: dict[str, str]) -> None:
        self.depth += 1
        if name == "testcase" and not self.case_depth and self.roots:
            self.case(attributes)
            return
        if ":" in name:
            name = name.rpartition(":")[2]
        if self.case_depth:
            self.plain = False
            self.within_case(name, attributes)
        elif name == "testcase" and self.roots:
            self.case(attributes)
        elif name == "testsuite":
            self.roots += 1
            self.path.append(attributes.get("name", "")[:MOST_NAME])
            self.suite = " › ".join(filter(None, self.path))
            self.state(attributes)
        elif not self.roots:
            if name != "testsuites":
                raise Refused(f"its root element is <{name[:40]}>, not <testsuites> or <testsuite>")
            self.roots += 1
            self.state(attributes)
        elif name in ("failure", "error"):
            self.case({"name": OUTSIDE})
            self.plain = False
            self.within_case(name, attributes)
            self.note("failures outside any case")
        elif name == "property":
            self.property(attributes)
        if self.depth > MOST_DEPTH:
            raise Refused(f"elements are nested more than {MOST_DEPTH} deep")

    def state(self, attributes: dict[str, str]) -> None:
        self.stated.append(
            Stated(attributes, self.parser.CurrentLineNumber, len(self.results), self.dropped, self.shown, self.bad)
        )

    def case(self, attributes: dict[str, str]) -> None:
        get = attributes.get
        self.case_depth = self.depth
        self.attributes = attributes
        self.shown_before = self.shown
        self.plain = True
        name = get("name", "")
        if not 0 < len(name) <= MOST_NAME:
            name = self.odd_name(name)
        self.name = name
        self.names(name)
        self.suites(self.suite)
        klass = get("classname") or get("class") or ""
        self.classes(klass if len(klass) <= MOST_NAME else klass[:MOST_NAME])
        time = get("time")
        if time is None:
            self.seconds(math.nan)
        else:
            try:
                seconds = float(time)
            except ValueError:
                seconds = odd_time(time)
            if not 0.0 <= seconds < 1e9:
                self.note("cases with a time that is no number of seconds")
                seconds = math.nan
            self.seconds(seconds)
        if len(attributes) == 3 and time is not None and klass and "name" in attributes:
            return  # nothing else is there
        if not MARKED.isdisjoint(attributes):
            self.mark(attributes)

    def odd_name(self, name: str) -> str:
        if name:
            return name[:MOST_NAME]
        self.note("cases without a name")
        return f"(unnamed {self.odd['cases without a name'][0]})"

    def mark(self, attributes: dict[str, str]) -> None:
        """Attributes that say that a case without further elements did not pass."""
        self.plain = False
        said = {attributes.get(key, "").strip().lower() for key in ("status", "result")}
        if (not_run := said & NOT_RUN) or attributes.get("executed", "").lower() == "false":
            self.outcome = Outcome.SKIPPED
            self.detail = Detail(f"not run: its report says {min(not_run) if not_run else 'that it was not executed'}")
        elif attributes.get("disabled", "").lower() in ("true", "1"):
            self.outcome = Outcome.SKIPPED
            self.detail = Detail("not run: its report says disabled")
        elif bad := said & BAD.keys():
            self.outcome = BAD[min(bad)]
            self.detail = Detail(f"its report says {min(bad)}, and no more")
        elif odd := said - GOOD:
            self.unknown = min(odd)[:MOST_NAME]

    def within_case(self, name: str, attributes: dict[str, str]) -> None:
        if name in VERDICTS:
            self.verdict(name, name, attributes)
        elif name.lower() in VERDICTS:
            self.note(f"elements written <{name[:40]}>")
            self.verdict(name, name.lower(), attributes)
        elif name in RETRIES:
            self.retry(name, attributes)
        elif name in OUTPUTS:
            self.gather(name)
        elif name == "property" and attributes.get("name", "").lower() in ("attachment", "attachments"):
            self.attached.append(attributes.get("value", "")[:1000])
            self.gather(name)

    def verdict(self, name: str, kind_of: str, attributes: dict[str, str]) -> None:
        """The worst of what a case says counts, in whatever order; only a stated expected failure excuses one."""
        outcome = VERDICTS[kind_of]
        message, kind = attributes.get("message") or "", attributes.get("type") or ""
        self.unknown = ""  # its element says more
        if outcome is not Outcome.SKIPPED:
            self.shown += 1
            message = message or kind
        elif NO_SKIP.search(message):
            outcome = Outcome.FAILED
            self.note("cases that passed although they were expected to fail, told as skipped")
        elif kind == "todo" or EXPECTED.search(message):
            self.expected = True
        told = self.detail is not None and not self.detail.message.startswith(("not run: its", "its report says"))
        worse = RANK[outcome] > RANK[self.outcome]
        if self.detail is None or not told or (worse and self.outcome is not Outcome.FAILED):
            earlier = self.detail.text if self.detail is not None and told else ""
            self.detail = Detail(message[:MOST_TEXT], text=earlier, type=kind[:MOST_NAME])
        elif outcome is not Outcome.SKIPPED:
            self.detail.text += f"\n\nalso: {message[:MOST_TEXT]}\n"
        if worse:
            self.outcome = outcome
        self.gather(name)

    def comment(self, text: str) -> None:
        """A skip that is told in a comment only."""
        if self.case_depth and self.outcome is Outcome.PASSED and (found := COMMENT.search(text)) is not None:
            self.plain = False
            self.outcome, self.detail = Outcome.SKIPPED, Detail(found[1][:MOST_TEXT])

    def retry(self, name: str, attributes: dict[str, str]) -> None:
        """A try before the last one: of a case that passed at last, or of one that failed each time."""
        message = attributes.get("message") or attributes.get("type") or ""
        if self.detail is None:
            self.detail = Detail(type=(attributes.get("type") or "")[:MOST_NAME])
        if name.startswith("flaky"):
            self.retried = True
            self.detail.message = self.detail.message or message[:MOST_TEXT]
        else:
            self.reruns = True
            self.detail.text += f"\n\nan earlier try: {message[:MOST_TEXT]}\n"
        self.shown += 1
        self.gather(name)

    def gather(self, name: str) -> None:
        self.gathered = name
        self.collected.clear()
        self.kept = 0
        self.parser.CharacterDataHandler = self.text

    def text(self, data: str) -> None:
        most = MOST_OUTPUT if self.gathered in OUTPUTS else MOST_TEXT
        if self.kept < most:
            self.collected.append(data[: most - self.kept])
        self.kept += len(data)

    def property(self, attributes: dict[str, str]) -> None:
        if len(self.results.properties) < MOST_PROPERTIES:
            name, value = attributes.get("name", "")[:MOST_NAME], attributes.get("value", "")[:MOST_NAME]
            self.results.properties.setdefault(name, value)

    def end(self, name: str) -> None:
        depth = self.depth
        self.depth = depth - 1
        if depth == self.case_depth:
            if self.plain and self.name[:3] not in SETUP_BEGINS:
                self.case_depth = 0
                self.outcomes(1)  # Outcome.PASSED
            else:
                self.case_ended(name)
        elif self.gathered:
            if name.rpartition(":")[2] == self.gathered:
                self.gathered_all()
        elif self.path and not self.case_depth and name.rpartition(":")[2] == "testsuite":
            self.path.pop()
            self.suite = " › ".join(filter(None, self.path))
            self.suite_ended(self.stated.pop())
        elif self.stated and not self.path and not self.depth:
            self.suite_ended(self.stated.pop())

    def gathered_all(self) -> None:
        text, name = "".join(self.collected), self.gathered
        self.gathered = ""
        self.parser.CharacterDataHandler = None
        if name in OUTPUTS:
            self.output.append(text)
            return
        if name == "property":
            if text.strip():
                self.attached.append(text.strip()[:1000])
            return
        assert self.detail is not None
        self.detail.text += text.strip("\n")
        if self.kept > MOST_TEXT:
            self.detail.text += f"\n… {self.kept - MOST_TEXT:,} more characters, see the raw report"
        if not self.detail.message:
            self.detail.message = self.detail.text.strip().split("\n", 1)[0][:500]

    def case_ended(self, name: str) -> None:
        if self.gathered and name.rpartition(":")[2] == self.gathered:  # a failure that stands for a case
            self.gathered_all()
        self.case_depth = 0
        self.weigh()
        results, detail = self.results, self.detail
        if self.retried:
            self.retried = False
            if self.outcome is Outcome.PASSED:
                self.outcome = Outcome.FLAKY
                self.note("cases that passed when they were tried again")
        at, outcome = len(results.outcomes), self.outcome
        self.outcome, self.expected, self.reruns, self.unknown = Outcome.PASSED, False, False, ""
        results.outcomes.append(outcome)
        if self.output or self.attached:
            detail = self.with_output(detail or Detail())
        self.detail = None
        if outcome is not Outcome.PASSED:
            self.placed(detail or Detail(), at)
        if outcome is Outcome.PASSED and SETUP.match(self.name):
            for column in (results.suites, results.classes, results.names, results.outcomes, results.seconds):
                column.pop()
            results.setups += 1
            self.dropped += 1

    def weigh(self) -> None:
        """What the elements of a case come to together."""
        if self.expected and self.outcome is Outcome.FAILED:
            self.outcome = Outcome.SKIPPED
        if self.unknown and self.outcome is Outcome.PASSED:
            self.outcome = Outcome.ERRORED
            self.detail = self.detail or Detail(f"its report says {self.unknown}, which no reader knows")
            self.note("cases in a state that is not known, counted as errored")
        if self.reruns and not self.retried and self.outcome is Outcome.PASSED:
            self.outcome = Outcome.FAILED
            self.note("cases with failed tries and nothing that passed")
        if self.outcome in (Outcome.FAILED, Outcome.ERRORED):
            self.bad += 1
            self.shown = max(self.shown, self.shown_before + 1)

    def watch(self) -> None:
        if len(self.results) > MOST_CASES:
            raise Refused(f"more than {MOST_CASES:,} cases in one file")

    def with_output(self, detail: Detail) -> Detail:
        detail.output = "\n".join(filter(None, (text.strip("\n") for text in self.output)))[-MOST_OUTPUT:]
        found = [*self.attached, *(m.strip() for text in self.output for m in ATTACHED.findall(text))]
        detail.attachments = list(dict.fromkeys(filter(None, found)))[:50]
        self.output, self.attached = [], []
        return detail

    def placed(self, detail: Detail, at: int) -> None:
        detail.file = (self.attributes.get("file") or self.attributes.get("filepath") or "")[:MOST_NAME]
        if not detail.message:
            first = next((t for t in (detail.text or detail.output).splitlines() if t.strip()), "")
            detail.message = first.strip()[:500] or f"it {self.outcome_word(at)}, and its report does not say why"
        line = self.attributes.get("line") or self.attributes.get("lineno") or ""
        detail.line = number_of(line, 8) or 0
        if SETUP.match(self.name) or SETUP.match(f"{self.results.classes[at]}.{self.name}"):
            detail.setup = True
            self.results.setups += 1
        self.results.details[at] = detail

    def outcome_word(self, at: int) -> str:
        return Outcome(self.results.outcomes[at]).name.lower()

    def suite_ended(self, suite: Stated) -> None:
        """Compare what a suite says of itself with what it holds: stated failures must be shown, tries are one test."""
        cases = len(self.results) - suite.cases + self.dropped - suite.dropped
        shown, said = self.shown - suite.shown, suite.failures
        if said is not None and said > shown:
            what = f"a suite states {said} failures and errors, and its elements show {shown}: it is not whole"
            self.results.problems.append(Oddity("error", what, suite.line))
        tests = suite.number("tests")
        if tests is None or tests == cases or self.tries(suite, tests):
            bad = self.bad - suite.bad
            if said is not None and said < bad:
                self.lie(f"{said} failures, not {bad}", suite.line)
            return
        self.lie(f"{tests} cases, not {cases}", suite.line)

    def lie(self, said: str, line: int) -> None:
        if not self.liars:
            self.lying = (said, line)
        self.liars += 1

    def tries(self, suite: Stated, tests: int) -> bool:
        """Whether a suite's total counts its tests, and its cases are tries of them: then the last one decides."""
        results = self.results
        found: dict[tuple[str, str, str], list[int]] = {}
        for i in range(suite.cases, len(results)):
            if i not in self.superseded:
                found.setdefault((results.suites[i], results.classes[i], results.names[i]), []).append(i)
        if len(found) + self.dropped - suite.dropped != tests:
            return False
        for places in found.values():
            *earlier, last = places
            odd = [i for i in earlier if results.outcomes[i] in (Outcome.FAILED, Outcome.ERRORED, Outcome.FLAKY)]
            if odd and results.outcomes[last] == Outcome.PASSED:
                results.outcomes[last] = Outcome.FLAKY
                results.details[last] = results.details[odd[-1]]
                self.note("cases that passed when they were tried again")
            elif odd and results.outcomes[last] == Outcome.SKIPPED:
                results.outcomes[last] = results.outcomes[odd[-1]]  # a try that did not run disproves nothing
                results.details[last] = results.details[odd[-1]]
            self.superseded.update(earlier)
        return True

    def drop_superseded(self) -> None:
        results, gone = self.results, self.superseded
        if not gone:
            return
        kept = [i for i in range(len(results.outcomes)) if i not in gone]
        for name in ("suites", "classes", "names", "seconds"):
            column = getattr(results, name)
            setattr(results, name, [column[i] for i in kept])
        results.outcomes = bytearray(results.outcomes[i] for i in kept)
        results.details = {at: results.details[i] for at, i in enumerate(kept) if i in results.details}
