"""New, known, fixed and first here, by test and cell; what earlier attempts still say."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.diagnosis.compare import RunOutcomes, Tally, compare, of_tests, tally, with_earlier
from myriant.core.diagnosis.expected import expected_and_actual
from myriant.core.diagnosis.explain import explain
from myriant.core.plan.selectors import parse_selector

A, B = ("unit", "lua=5.1"), ("unit", "lua=5.4")
LETTERS = {".": 0, "p": 1, "f": 2, "e": 3, "s": 4}


def outcomes(**cells: str) -> RunOutcomes:
    """Outcomes of cells a and b by letters: p passed, f failed, e errored, s skipped, . absent."""
    names = {"a": A, "b": B}
    return {names[k]: np.array([LETTERS[c] for c in v], np.uint8) for k, v in cells.items()}


@pytest.mark.parametrize(
    ("now", "before", "since", "counts"),
    [
        (outcomes(a="pf"), outcomes(a="pp"), [], {"new": 1}),
        (outcomes(a="pf"), outcomes(a="pf"), [], {"known": 1}),
        (outcomes(a="pp"), outcomes(a="pf"), [], {"fixed": 1}),
        (outcomes(a="pp"), outcomes(a="pp"), [outcomes(a="pf")], {"fixed": 1}),
        (outcomes(a="pf"), outcomes(a="pp"), [outcomes(a="pf")], {"new": 1}),
        (outcomes(a="pf"), None, [], {"new": 1}),
        (outcomes(a="pp", b="pe"), outcomes(a="pp"), [], {"new": 1}),
        (outcomes(a="ff", b="pf"), outcomes(a="fp", b="pf"), [], {"new": 1, "known": 1}),
        (outcomes(a="pp", b="pf"), outcomes(a="pf", b="pf"), [], {"known": 1}),
        (outcomes(a="ps"), outcomes(a="pf"), [], {}),
        (outcomes(a="ppf"), outcomes(a="pp"), [], {"new": 1}),
    ],
)
def test_counts_of_distinct_tests(
    now: RunOutcomes, before: RunOutcomes | None, since: list[RunOutcomes], counts: dict[str, int]
) -> None:
    found = tally(now, compare(now, before, since))
    assert {
        k: getattr(found, f"tests_{k}") for k in ("new", "known", "fixed") if getattr(found, f"tests_{k}")
    } == counts


def test_a_failure_in_a_cell_without_earlier_result_is_new_and_first_here() -> None:
    found = compare(outcomes(a="p", b="f"), outcomes(a="p"))
    assert found[B].new.tolist() == [True] and found[B].first_here and not found[A].first_here


@pytest.mark.parametrize(
    ("newest", "earlier", "told"),
    [
        ("p", ["f"], "y"),
        ("f", ["p"], "f"),
        ("s", ["f"], "f"),
        (".", ["e"], "e"),
        ("", ["f"], "f"),
        ("p", ["p"], "p"),
        ("s", ["p"], "s"),
        ("p", ["f", "p"], "y"),
        ("s", ["f", "p"], "f"),
        ("pp", ["fs"], "yp"),
    ],
)
def test_a_later_attempt_that_leaves_a_test_out_disproves_nothing(newest: str, earlier: list[str], told: str) -> None:
    letters = {**LETTERS, "y": 5}
    arrays = [np.array([letters[c] for c in row], np.uint8) for row in (newest, *earlier)]
    assert with_earlier(arrays[0], arrays[1:]).tolist() == [letters[c] for c in told]


def test_tests_are_counted_once_and_results_by_cell() -> None:
    now = outcomes(a="pfes.", b="ppps.")
    found = tally(now, compare(now, None))
    tests = (found.tests_total, found.tests_passed, found.tests_failed, found.tests_errored, found.tests_skipped)
    assert tests == (4, 1, 1, 1, 1)
    results = (
        found.results_total,
        found.results_passed,
        found.results_failed,
        found.results_errored,
        found.results_skipped,
    )
    assert results == (8, 4, 1, 1, 2)


PYTHONS = [{"python": v, "rounding": r} for v in ("3.8", "3.9", "3.10", "3.12") for r in ("nearest", "bankers")]


@pytest.mark.parametrize(
    ("selector", "said"),
    [
        ("python=3.8", "python=3.8"),
        ("python<=3.9", "python<=3.9"),
        ("python>=3.10", "python>=3.10"),
        ("python>=3.9,python<=3.10", "python>=3.9,python<=3.10"),
        ("rounding=bankers", "rounding=bankers"),
        ("python<=3.9,rounding=bankers", None),
        ("python=3.12,rounding=nearest", None),
    ],
)
def test_an_explanation_is_a_selector_that_holds_for_exactly_the_affected(selector: str, said: str | None) -> None:
    truth = parse_selector(selector)
    affected = [truth.holds(c) for c in PYTHONS]
    found = explain(PYTHONS, affected)
    assert found.exact and found.selector and [parse_selector(found.selector).holds(c) for c in PYTHONS] == affected
    assert said is None or found.selector == said


def test_without_a_pattern_nothing_is_claimed() -> None:
    assert explain(PYTHONS, [i in (0, 3, 6) for i in range(8)]).selector is None
    assert explain(PYTHONS, [True] * 8).selector is None and explain(PYTHONS, [False] * 8).selector is None


def test_what_nearly_fits_is_named_with_its_misses() -> None:
    affected = [c["python"] in ("3.8", "3.9") for c in PYTHONS]
    affected[0] = False
    told = explain(PYTHONS, affected)
    assert (told.selector, told.inside, told.outside, told.exact) == ("python=3.9", 0, 1, False)


def test_cells_without_a_result_leave_rivals_and_one_of_them_tells_them_apart() -> None:
    ran = [PYTHONS[0], PYTHONS[3], PYTHONS[6]]  # 3.8 nearest, 3.9 bankers, 3.12 nearest
    rest = [c for c in PYTHONS if c not in ran]
    for truth in map(parse_selector, ("python=3.9", "rounding=bankers")):
        cells, left = list(ran), list(rest)
        told = explain(cells, [truth.holds(c) for c in cells], left)
        assert told.exact and told.rivals
        while told.next is not None:
            cells.append(left.pop(told.next))
            told = explain(cells, [truth.holds(c) for c in cells], left)
        assert told.selector and not told.rivals
        assert [parse_selector(told.selector).holds(c) for c in PYTHONS] == [truth.holds(c) for c in PYTHONS]


@pytest.mark.parametrize(
    ("message", "pair"),
    [
        ('expected "a b", got "ab"', ('"a b"', '"ab"')),
        ("Expected: 3\n  Actual: 4", ("3", "4")),
        ("AssertionError: assert 4 == 3", ("3", "4")),
        ("AssertionError: 4 != 3", ("3", "4")),
        ("Expected 3 but was 4", ("3", "4")),
        ("division by zero", None),
    ],
)
def test_expected_and_actual_are_taken_from_the_message(message: str, pair: tuple[str, str] | None) -> None:
    found = expected_and_actual(message, "")
    assert (found and (found.expected, found.actual)) == pair


@given(st.integers(1, 40), st.data())
def test_what_is_counted_of_some_tests_and_of_the_others_adds_up(size: int, data: st.DataObject) -> None:
    def outcomes() -> np.ndarray:
        return np.array(data.draw(st.lists(st.integers(0, 5), min_size=size, max_size=size)), np.uint8)

    now, before = ({("unit", f"n={i}"): outcomes() for i in range(2)} for _ in range(2))
    cells = compare(now, before)
    mine = np.array(sorted(data.draw(st.sets(st.integers(0, size + 3)))), np.int64)
    others = np.setdiff1d(np.arange(size), mine)
    parts = [tally(*of_tests(now, cells, numbers)) for numbers in (mine, others)]
    whole = tally(now, cells)
    for field in Tally.__dataclass_fields__:
        assert sum(getattr(p, field) for p in parts) == getattr(whole, field), field
