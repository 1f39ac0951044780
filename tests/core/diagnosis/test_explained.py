"""Which values explain affected cells: whatever the truth, what is said must hold of the cells, and be as short."""

from __future__ import annotations

import itertools

import hypothesis.strategies as st
from hypothesis import assume, given, settings

from myriant.core.diagnosis.explain import either, explain
from myriant.core.plan.selectors import parse_selector

DIMENSIONS = {
    "python": ["3.8", "3.9", "3.10", "3.11", "3.12", "3.13"],
    "rounding": ["nearest", "bankers", "down"],
    "gauge": ["low", "high"],
    "build": ["9", "10.0", "10.0-rc1"],
}
Cell = dict[str, str]


@st.composite
def matrices(draw: st.DrawFn) -> list[Cell]:
    """Cells of two to four dimensions, whole or with holes."""
    names = draw(st.lists(st.sampled_from(sorted(DIMENSIONS)), min_size=2, max_size=4, unique=True))
    cells = [dict(zip(names, values, strict=True)) for values in itertools.product(*(DIMENSIONS[n] for n in names))]
    kept = draw(st.lists(st.integers(0, 9), min_size=len(cells), max_size=len(cells)))
    holes = draw(st.sampled_from([0, 0, 3, 6]))
    return [cell for cell, chance in zip(cells, kept, strict=True) if chance >= holes]


@st.composite
def truths(draw: st.DrawFn, cells: list[Cell]) -> list[tuple[str, frozenset[str]]]:
    """A conjunction over up to three dimensions: one value, all but one, or values up to or from one on."""
    found = []
    for name in draw(st.lists(st.sampled_from(sorted(cells[0])), min_size=1, max_size=3, unique=True)):
        values = DIMENSIONS[name]
        at = draw(st.integers(0, len(values) - 1))
        shapes = [[values[at]], values[:at] + values[at + 1 :]]
        if name == "python":
            shapes += [values[: at + 1], values[at:]]
        found.append((name, frozenset(draw(st.sampled_from(shapes)))))
    return found


def holds(truth: list[tuple[str, frozenset[str]]], cell: Cell) -> bool:
    return all(cell[name] in values for name, values in truth)


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_a_true_condition_is_found_exactly_and_never_longer_than_it_is(data: st.DataObject) -> None:
    cells = data.draw(matrices())
    assume(len(cells) > 1)
    truth = data.draw(truths(cells))
    affected = [holds(truth, cell) for cell in cells]
    assume(any(affected) and not all(affected))
    found = explain(cells, affected)
    assert found.exact and found.selector is not None
    said = parse_selector(found.selector)
    assert [said.holds(cell) for cell in cells] == affected
    assert len(said.keys()) <= len(truth)


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_misses_are_counted_as_they_are_whatever_is_affected(data: st.DataObject) -> None:
    cells = data.draw(matrices())
    affected = data.draw(st.lists(st.booleans(), min_size=len(cells), max_size=len(cells)))
    found = explain(cells, affected)
    if found.selector is None:
        assert (found.inside, found.outside, found.rivals, found.next) == (0, 0, (), None)
        return
    said = [parse_selector(found.selector).holds(cell) for cell in cells]
    assert found.inside == sum(s and not a for s, a in zip(said, affected, strict=True))
    assert found.outside == sum(a and not s for s, a in zip(said, affected, strict=True))
    assert found.inside + found.outside < min(sum(affected), len(affected) - sum(affected)) or found.exact


@settings(max_examples=100, deadline=None)
@given(st.data())
def test_rivals_agree_on_what_ran_and_the_next_cell_tells_some_apart(data: st.DataObject) -> None:
    cells = data.draw(matrices())
    assume(len(cells) > 3)
    ran = data.draw(st.lists(st.booleans(), min_size=len(cells), max_size=len(cells)))
    there = [c for c, r in zip(cells, ran, strict=True) if r]
    without = [c for c, r in zip(cells, ran, strict=True) if not r]
    assume(there and without)
    truth = data.draw(truths(cells))
    affected = [holds(truth, cell) for cell in there]
    found = explain(there, affected, without)
    if not found.rivals:
        return
    rivals = [parse_selector(text) for text in (found.selector, *found.rivals) if text is not None]
    for rival in rivals:
        assert [rival.holds(cell) for cell in there] == affected
    assert found.next is not None
    assert len({rival.holds(without[found.next]) for rival in rivals}) == 2


@given(matrices())
@settings(max_examples=20)
def test_what_shows_in_every_cell_has_no_two_conditions_either(cells: list[Cell]) -> None:
    assert either(cells, [True] * len(cells)) is None
