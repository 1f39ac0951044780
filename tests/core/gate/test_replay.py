"""Rules over the past, beside a plain judgement of each run by hand."""

from __future__ import annotations

from fractions import Fraction
from typing import Any, Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.gate.replay import Past, can_be_told, replay, strictest
from myriant.core.plan.model import Rule
from myriant.core.plan.selectors import parse_selector
from myriant.core.states import Verdict

C, H = Verdict.CLEAR, Verdict.HELD


def rule(measure: str, sign: Literal["at-most", "at-least"], limit: Any, **more: Any) -> Rule:
    return Rule(f"{measure} {sign} {limit}", measure, sign, Fraction(limit) if limit != "baseline" else limit, **more)


def past(
    number: int,
    *,
    new: int = 0,
    line: str | None = None,
    verdict: Verdict = C,
    baseline: int | None = None,
    held: tuple[str, ...] = (),
    seconds: int | None = 10,
    changed: str | None = None,
) -> Past:
    jobs = {"unit": {"tests.new": new, "tests.passed": 9, "tests.failed": new, "tests.errored": 0}}
    shares = {"coverage.line": {"": Fraction(line)}} if line else {}
    return Past(
        number,
        verdict,
        jobs,
        shares,
        Fraction(changed) if changed else None,
        Fraction(seconds) if seconds is not None else None,
        baseline,
        held,
    )


@pytest.mark.parametrize(
    ("rules", "history", "now"),
    [
        ([], [past(1), past(2, verdict=H, held=("no new failures",))], [C, H]),
        ([rule("tests.new", "at-most", 2)], [past(1, new=2), past(2, new=3)], [C, H]),
        ([rule("tests.new", "at-most", 2, level="warn")], [past(2, new=3)], [C]),
        ([rule("tests.new", "at-most", 0, jobs=("none",))], [past(2, new=3)], [C]),  # not measured then
        ([rule("coverage.line", "at-least", "0.8")], [past(1, line="0.8"), past(2, line="0.79"), past(3)], [C, H, C]),
        (
            [rule("coverage.line", "at-least", "baseline")],
            [
                past(1, line="0.8"),
                past(2, line="0.7", baseline=1),
                past(3, line="0.7", baseline=2),
                past(4, line="0.1", baseline=9),
                past(5, line="0.9", baseline=4),
                past(6, line="0.8", baseline=5),
            ],
            [C, H, H, H, C, H],  # what it holds is no baseline of what comes later, whatever it was then
        ),
        (
            [rule("coverage.line", "at-least", "baseline", best_of=2)],
            [
                past(1, line="0.8"),
                past(2, line="0.7", baseline=1),
                past(3, line="0.7", baseline=2),
                past(4, line="0.7", baseline=3),
            ],
            [C, H, H, H],
        ),
        ([rule("coverage.changed", "at-least", "0.5")], [past(1, changed="1/3"), past(2)], [H, C]),
        (
            [rule("seconds.total", "at-most", 60)],
            [past(1, seconds=61), past(2, seconds=60), past(3, seconds=None)],
            [H, C, C],
        ),
    ],
)
def test_each_run_is_said_as_the_rules_say(rules: list[Rule], history: list[Past], now: list[Verdict]) -> None:
    assert [r.now for r in replay(rules, history[::-1])][::-1] == now


@pytest.mark.parametrize(
    ("asked", "told"),
    [
        (rule("tests.new", "at-most", 0), True),
        (rule("tests.new", "at-most", 0, cells=parse_selector("lua=5.1")), False),
        (rule("coverage.line", "at-least", 0, folder="src"), False),
        (rule("coverage.line", "at-least", 0, jobs=("unit",)), True),
        (rule("coverage.line", "at-least", 0, jobs=("unit", "more")), False),
        (rule("coverage.changed", "at-least", 0, jobs=("unit",)), False),
        (rule("analysis.new", "at-most", 0), False),
        (rule("coverage.change", "at-least", 0), False),
        (rule("coverage.lost", "at-most", 0), False),
        (rule("seconds.total", "at-most", 9), True),
        (rule("seconds.total", "at-most", 9, jobs=("unit",)), False),
    ],
)
def test_what_is_not_kept_is_said_and_not_guessed(asked: Rule, told: bool) -> None:
    assert can_be_told(asked) is told
    assert replay([asked], [past(1, new=5)])[0].untold == ([] if told else [asked.name])


def test_a_baseline_beyond_the_window_is_compared_with_too() -> None:
    asked = [rule("coverage.line", "at-least", "baseline")]
    late = [past(9, line="0.7", baseline=2)]
    assert [replay(asked, late)[0].now, replay(asked, late, [past(2, line="0.8")])[0].now] == [C, H]


@given(st.lists(st.tuples(st.integers(0, 9), st.booleans()), min_size=1), st.integers(0, 9))
def test_the_strictest_limit_holds_no_clear_run_and_the_next_one_does(runs: list[tuple[int, bool]], limit: int) -> None:
    history = [past(i, new=n, verdict=C if clear else H) for i, (n, clear) in enumerate(runs)]
    found = strictest([rule("tests.new", "at-most", limit)], history)[0]
    clear = [n for n, ok in runs if ok]
    assert found.runs == len(clear) and found.held == sum(n > limit for n in clear)
    if not clear:
        assert found.limit is None
        return
    assert found.limit is not None
    held = [
        r.now
        for r, (_, ok) in zip(replay([rule("tests.new", "at-most", found.limit)], history), runs, strict=True)
        if ok
    ]
    assert H not in held
    if found.limit > 0:
        stricter = replay([rule("tests.new", "at-most", found.limit - 1)], history)
        assert any(r.now is H for r, (_, ok) in zip(stricter, runs, strict=True) if ok)


def test_the_strictest_share_is_the_least_that_was_clear() -> None:
    history = [past(1, line="0.8"), past(2, line="0.7"), past(3, line="0.6", verdict=H), past(4)]
    found = strictest([rule("coverage.line", "at-least", "0.75")], history)[0]
    assert (found.limit, found.runs, found.held, found.unmeasured) == (Fraction(7, 10), 2, 1, 1)
