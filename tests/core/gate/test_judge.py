"""Rules, the verdict and the words it is told in."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.diagnosis.compare import Tally
from myriant.core.gate.judge import Measured, Verdict, judge, verdict_of
from myriant.core.gate.sentence import NotedCell, NotedFailure, Told, commit_note, sentence
from myriant.core.plan.model import Rule
from myriant.core.written import duration, percent


def measured(now: dict[str, Fraction | int | None], before: dict[str, Fraction] | None = None) -> Measured:
    def value(rule: Rule) -> Fraction | None:
        found = now.get(rule.measure)
        return None if found is None else Fraction(found)

    return Measured(value, lambda rule: (before or {}).get(rule.measure))


RATCHET = Rule("ratchet", "coverage.line", "at-least", "baseline")
NEW = Rule("no new failures", "tests.new", "at-most", Fraction(0))


@pytest.mark.parametrize(
    ("rules", "now", "before", "untrusted", "steps", "verdict"),
    [
        ([NEW], {"tests.new": 0}, None, [], [], "clear"),
        ([NEW], {"tests.new": 1}, None, [], [], "held"),
        ([NEW], {"tests.new": None}, None, [], [], "held"),
        ([NEW], {"tests.new": 0}, None, ["unit: void"], [], "held"),
        ([NEW], {"tests.new": 0}, None, [], ["style"], "held"),
        ([], {"tests.new": 0, "tests.vanished": 3}, None, [], [], "clear"),
        ([], {"tests.new": 2, "tests.vanished": 0}, None, [], [], "held"),
        ([RATCHET], {"coverage.line": Fraction(8, 10)}, {"coverage.line": Fraction(8, 10)}, [], [], "clear"),
        ([RATCHET], {"coverage.line": Fraction(799999, 1000000)}, {"coverage.line": Fraction(8, 10)}, [], [], "held"),
        ([RATCHET], {"coverage.line": Fraction(1, 10)}, None, [], [], "clear"),
        ([RATCHET], {"coverage.line": None}, {"coverage.line": Fraction(8, 10)}, [], [], "held"),
    ],
)
def test_a_verdict_follows_from_every_blocking_rule(
    rules: list[Rule],
    now: dict[str, Fraction | int | None],
    before: dict[str, Fraction] | None,
    untrusted: list[str],
    steps: list[str],
    verdict: str,
) -> None:
    assert verdict_of(judge(rules, measured(now, before), untrusted, steps)) == verdict


@given(st.fractions(0, 1), st.one_of(st.none(), st.fractions(0, 1, max_denominator=1000)))
def test_a_percentage_is_never_written_across_its_limit_or_up_to_100(value: Fraction, limit: Fraction | None) -> None:
    shown = Fraction(percent(value, limit).removesuffix(" %")) / 100
    assert abs(shown - value) <= Fraction(1, 1000)
    if value < 1 and value < Fraction(9999999, 10000000):
        assert shown < 1
    if limit is not None and abs(value - limit) > Fraction(1, 10**6):
        assert (shown - limit) * (value - limit) >= 0


@pytest.mark.parametrize(
    ("seconds", "said"),
    [(0.0042, "4 ms"), (0.42, "0.4 s"), (12.4, "12 s"), (108, "1 min 48 s"), (120, "2 min"), (7500, "2 h 5 min")],
)
def test_durations_read_as_people_say_them(seconds: float, said: str) -> None:
    assert duration(seconds) == said


def told(verdict: Verdict, **counts: int) -> Told:
    judged = judge([NEW], measured({"tests.new": counts.get("tests_new", 0)}), [], [])
    return Told(
        verdict, Tally(**counts), "python=3.8" if counts.get("tests_new") else None, 0, judged, 12, 12, 108.0, "9f3c21a"
    )


def test_the_sentence_says_what_a_person_would_paste_into_a_chat() -> None:
    said = sentence(told(Verdict.HELD, tests_new=3, tests_total=80, tests_passed=77, tests_failed=3))
    assert said == "Held: 3 tests newly fail, only where python=3.8. 12 of 12 cells in 1 min 48 s, against 9f3c21a."
    said = sentence(told(Verdict.CLEAR, tests_total=80, tests_passed=78, tests_skipped=2, tests_fixed=1))
    assert said.startswith("Clear: 1 test fixed; 78 of 78 tests passed.")


def test_the_note_lists_cells_new_failures_and_rules() -> None:
    judged = judge([NEW], measured({"tests.new": 60}), ["unit b: the runner was lost"], [])
    cells = [
        NotedCell("unit", "a", "failed", "", 1, 60, 0, 0),
        NotedCell("unit", "b", "void", "the runner\nwas lost", 0, 0, 0, 0),
    ]
    new = [NotedFailure("unit", "a", f"t{i}", "line one\nline two") for i in range(60)]
    note = commit_note(
        verdict=Verdict.HELD,
        purpose="push",
        branch="main",
        address="http://x",
        number=7,
        said="Held.",
        baseline=None,
        judged=judged,
        cells=cells,
        new=new,
    )
    assert note.startswith("verdict: held (push to main)\nrun: #7 http://x\n")
    assert "unit b  void" in note and "the runner was lost" in note
    assert "t49: line one line two" in note and "t50" not in note and "and 10 more" in note
    assert "not met  no new failures: 60, at most 0" in note
