"""The predicted schedule against what a queue of that kind must do."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from myriant.core.matrix.forecast import USUAL_SECONDS, Slot, Waiting, forecast

OFFERS = [frozenset({"lua 5.1"}), frozenset({"lua 5.1", "lua 5.4"}), frozenset[str]()]
slots = st.lists(st.builds(Slot, st.floats(0, 50), st.sampled_from(OFFERS)), max_size=6)
cells = st.lists(
    st.tuples(
        st.sampled_from([(), ("lua 5.1",), ("lua 5.4",), ("lua 9",)]),
        st.one_of(st.none(), st.floats(0.5, 40)),
        st.integers(0, 2),
        st.sampled_from([None, 1, 2]),
    ),
    max_size=14,
)


@given(slots, cells)
def test_no_slot_has_two_cells_and_none_starts_before_its_turn_allows(slots: list[Slot], cells: list[tuple]) -> None:
    waiting = [
        Waiting(i, wants, seconds, group, tuple(range(group)) if group == 2 else (), at_once)
        for i, (wants, seconds, group, at_once) in enumerate(cells)
    ]
    starts = forecast(slots, waiting, {0: [5.0]})
    lasting = {w.name: USUAL_SECONDS if w.seconds is None else w.seconds for w in waiting}
    for w in waiting:
        able = [s for s in slots if set(w.wants) <= s.offers]
        assert (w.name in starts) <= bool(able), "a cell that nobody can run has no start"
        if w.name in starts:
            assert starts[w.name] >= min(s.free for s in able) - 1e-9
        for other in waiting:  # a job waits for the ends of those before it
            if w.name in starts and other.name in starts and other.group in w.after:
                assert starts[w.name] >= starts[other.name] + lasting[other.name] - 1e-9
        if w.name in starts and 0 in w.after:
            assert starts[w.name] >= 5.0 - 1e-9
    for time in starts.values():
        running = [n for n, begin in starts.items() if begin <= time < begin + lasting[n]]
        assert len(running) <= sum(s.free <= time for s in slots)
        for group in {w.group for w in waiting}:
            limited = [w for w in waiting if w.group == group and w.name in running and w.at_once]
            if limited and all(w.at_once for w in waiting if w.group == group) and group != 0:
                assert len([w for w in waiting if w.group == group and w.name in running]) <= max(
                    w.at_once or 0 for w in limited
                )


def test_the_order_of_turns_is_kept_where_slots_are_alike() -> None:
    slots = [Slot(0, frozenset()), Slot(3, frozenset())]
    waiting = [Waiting(i, (), 4.0) for i in range(4)]
    assert forecast(slots, waiting, {}) == {0: 0.0, 1: 3.0, 2: 4.0, 3: 7.0}
