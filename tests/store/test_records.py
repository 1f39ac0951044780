"""What a row keeps as JSON comes back as it went in, and rows of earlier versions are read."""

from __future__ import annotations

import json
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter

from myriant.core.telling.template import VALUES
from myriant.store.records import (
    EXAMPLE,
    Counts,
    Finish,
    Less,
    Measures,
    Record,
    RuleJudged,
    RunWish,
    SendingTold,
    Telling,
    WaivedBy,
)

KINDS: list[Any] = [Measures, Counts, Finish, RunWish, tuple[RuleJudged, ...], Telling, SendingTold]
st.register_type_strategy(float, st.floats(allow_nan=False, allow_infinity=False))


@pytest.mark.parametrize("kind", KINDS, ids=str)
@given(data=st.data())
def test_a_record_comes_back_as_it_went_in(kind: Any, data: st.DataObject) -> None:
    value = data.draw(st.from_type(kind))
    column = Record(kind)
    kept = json.loads(json.dumps(column.process_bind_param(value, None)))
    assert column.process_result_value(kept, None) == value


def test_what_stands_at_its_default_is_not_kept() -> None:
    assert [Record(k).process_bind_param(k(), None) for k in (Measures, Counts, Finish, RunWish)] == [{}] * 4


EARLIER: list[tuple[Any, Any, Any]] = [
    (
        Measures,
        {"jobs": {"unit": {"tests.new": 1}}, "less": {"newly-skipped": [4]}, "coverage.changed": [1, 2], "since": [7]},
        Measures({"unit": {"tests.new": 1}}, less=Less(newly_skipped=(4,)), coverage_changed=(1, 2), since=(7,)),
    ),
    (Counts, {"total": 3, "vanished": 2, "unexplained": ["step 1 failed"]}, Counts(3, unexplained=("step 1 failed",))),
    (Finish, {"void": "", "missing": [], "failed_steps": [0], "odd": 1}, Finish(failed_steps=(0,))),
]


@pytest.mark.parametrize(("kind", "kept", "value"), EARLIER, ids=lambda x: getattr(x, "__name__", ""))
def test_a_row_of_an_earlier_version_is_read(kind: Any, kept: Any, value: Any) -> None:
    assert Record(kind).process_result_value(kept, None) == value


@pytest.mark.parametrize(
    ("kept", "share"), [(None, None), ((0, 0), None), ((0, 5), Fraction(0)), ((1, 2), Fraction(1, 2))]
)
def test_the_share_of_changed_lines_is_none_only_where_none_could_be_covered(kept: Any, share: Any) -> None:
    assert Measures(coverage_changed=kept).changed_share == share


def test_every_value_that_a_template_can_name_is_told() -> None:
    assert set(EXAMPLE.values()) == set(VALUES) and {v for _, v in VALUES.values()} <= set(EXAMPLE.values().values())


def test_a_waiver_keeps_its_moment() -> None:
    row = {"name": "r", "measure": "tests.new", "sign": "at-most", "level": "block", "line": 3, "met": False}
    read = TypeAdapter(RuleJudged).validate_python(
        {**row, "waived": {"by": "ada", "until": "2031-05-04T10:00:00+00:00", "reason": "known"}}
    )
    assert isinstance(read.waived, WaivedBy) and read.waived.until.isoformat() == "2031-05-04T10:00:00+00:00"
