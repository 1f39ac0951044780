"""Selectors: one language in plans, commands, addresses and explanations."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.plan.globs import matches
from myriant.core.plan.selectors import SelectorError, parse_selector, written
from myriant.core.plan.versions import offered_names, version_key


@pytest.mark.parametrize(
    ("selector", "values", "holds"),
    [
        ("python<=3.9", {"python": "3.8"}, True),
        ("python<=3.9", {"python": "3.10"}, False),
        ("python>=3.10,python<3.13", {"python": "3.12"}, True),
        ("python>=3.10,python<3.13", {"python": "3.13"}, False),
        ("python=3.8|3.9", {"python": "3.9"}, True),
        ("python!=3.8", {"python": "3.8"}, False),
        ("python!=3.8,rounding=bankers", {"python": "3.9", "rounding": "bankers"}, True),
        ("branch=season/*", {"branch": "season/autumn"}, True),
        ("lua=5.1;lua=5.4", {"lua": "5.4"}, True),
        ("lua=5.1", {"python": "3.8"}, False),
    ],
)
def test_a_selector_holds_when_all_its_conditions_do(selector: str, values: dict[str, str], holds: bool) -> None:
    parsed = parse_selector(selector)
    assert parsed.holds(values) is holds
    assert parse_selector(str(parsed)).holds(values) is holds


@pytest.mark.parametrize("text", ["", "python", "=3", "python=", "Python=3", "python<", "a=1,,b=2"])
def test_a_text_that_is_no_selector_is_refused(text: str) -> None:
    with pytest.raises(SelectorError):
        parse_selector(text)


@given(
    st.dictionaries(
        st.from_regex(r"[a-z][a-z0-9-]{0,8}", fullmatch=True),
        st.from_regex(r"[a-z0-9.]{1,8}", fullmatch=True),
        min_size=1,
    )
)
def test_a_written_cell_selects_itself(values: dict[str, str]) -> None:
    assert parse_selector(written(values)).holds(values)


def test_versions_are_ordered_by_their_numbers() -> None:
    mixed = ["3.10", "4", "3.9.1", "3.9rc1", "3.10.2", "3.9"]
    assert sorted(mixed, key=version_key) == ["3.9rc1", "3.9", "3.9.1", "3.10", "3.10.2", "4"]
    assert offered_names("3.12.1") == ["3", "3.12", "3.12.1"]


@pytest.mark.parametrize(
    ("glob", "path", "fits"),
    [
        ("*.xml", "a/b/unit.xml", True),
        ("out/*.xml", "out/unit.xml", True),
        ("out/*.xml", "out/deep/unit.xml", False),
        ("out/*.xml", "x/out/unit.xml", False),
        ("out/**", "out/deep/unit.xml", True),
        ("**/unit.xml", "unit.xml", True),
        ("out/**/unit.xml", "out/unit.xml", True),
        ("out/", "out/a/b", True),
        ("unit-?.xml", "unit-1.xml", True),
        ("unit-[0-9].xml", "unit-x.xml", False),
        ("unit-[!0-9].xml", "unit-x.xml", True),
        ("[.xml", "[.xml", True),
    ],
)
def test_globs_follow_the_rules_of_gitignore(glob: str, path: str, fits: bool) -> None:
    assert matches(glob, path) is fits
