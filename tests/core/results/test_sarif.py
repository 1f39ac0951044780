"""SARIF 2.1.0: levels, messages, places and suppressions as the standard says; what is no SARIF says why."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.results.sarif import Marked, read_sarif, said_of

RULES = [
    {"id": "T1", "defaultConfiguration": {"level": "error"}, "messageStrings": {"m": {"text": "{0} is {{not}} {1}"}}},
    {"id": "T2", "shortDescription": {"text": "about two"}},
]


def log(*results: Any, **more: Any) -> bytes:
    return json.dumps(
        {
            "version": "2.1.0",
            "runs": [{"tool": {"driver": {"name": "tidelint", "rules": RULES}}, "results": list(results), **more}],
        }
    ).encode()


def at(uri: str, line: Any = 3, **artifact: str) -> list[Any]:
    return [{"physicalLocation": {"artifactLocation": {"uri": uri, **artifact}, "region": {"startLine": line}}}]


@pytest.mark.parametrize(
    ("result", "expected"),
    [
        (
            {"ruleId": "T1", "message": {"id": "m", "arguments": ["Quay", "Mole"]}, "locations": at("src/a%20b.py")},
            ("T1", "error", "src/a b.py", 3, "Quay is {not} Mole", False),
        ),
        (
            {"ruleIndex": 1, "message": {"text": "x"}, "locations": at("file:///workspace/src/a.py")},
            ("T2", "warning", "src/a.py", 3, "x", False),
        ),
        (
            {"rule": {"id": "T2"}, "level": "note", "message": {"text": "x"}, "locations": at("a.py", 0)},
            ("T2", "note", "a.py", 0, "x", False),
        ),
        (
            {"ruleId": "T1/sub", "kind": "pass", "message": {"text": "x"}, "locations": at("a.py", uriBaseId="SRC")},
            ("T1/sub", "none", "lib/a.py", 3, "x", False),
        ),
        (
            {"ruleId": "T1", "message": {"text": "x"}, "suppressions": [{"kind": "inSource"}]},
            ("T1", "error", "", 0, "x", True),
        ),
        (
            {"ruleId": "T1", "message": {"text": "x"}, "suppressions": [{"kind": "external", "status": "underReview"}]},
            ("T1", "error", "", 0, "x", False),
        ),
        (
            {"message": {"markdown": "*x*"}, "locations": "nowhere", "suppressions": []},
            ("", "warning", "", 0, "*x*", False),
        ),
    ],
)
def test_a_result_is_read_as_the_standard_says(result: Any, expected: tuple[Any, ...]) -> None:
    found = read_sarif([log(result, originalUriBaseIds={"SRC": {"uri": "lib/"}})])
    assert found.error is None
    r = found.results[0]
    assert (r.rule, r.level, r.path, r.line, r.message, r.suppressed) == expected


@pytest.mark.parametrize(
    ("source", "said"),
    [
        (b"", "empty"),
        (b"{}", 'no list "runs"'),
        (b'{"version": "2.1.0", "runs": []}', "no run"),
        (log()[:-9], "cut off"),
        (b"{'runs': 1}", "not JSON"),
        (b"[" * 100_000, "nested too deeply"),
        (log(invocations=[{"executionSuccessful": False, "exitCodeDescription": "no licence"}]), "no licence"),
        (
            b'{"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "t"}}, "results": null}]}',
            "was not carried out",
        ),
        (b"\xff\xfe{\0}", "encoding"),
    ],
)
def test_what_cannot_be_trusted_says_why(source: bytes, said: str) -> None:
    error = read_sarif([source]).error
    assert error is not None and said in error.message, error


def test_a_result_keeps_its_key_when_lines_move_and_equal_ones_are_told_apart() -> None:
    one = {"ruleId": "T1", "message": {"text": "line 3 is long"}, "locations": at("a.py", 3)}
    two = {"ruleId": "T1", "message": {"text": "line 9 is long"}, "locations": at("a.py", 9)}
    first, second = read_sarif([log(one)]), read_sarif([log(two, one)])
    assert first.results[0].key == second.results[0].key != second.results[1].key
    gone = read_sarif([log({**one, "baselineState": "absent"})])
    assert gone.results == [] and any("left out" in p.message for p in gone.problems)


json_values = st.recursive(
    st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(
            st.sampled_from(
                [
                    "runs",
                    "results",
                    "tool",
                    "driver",
                    "rules",
                    "id",
                    "ruleId",
                    "ruleIndex",
                    "message",
                    "text",
                    "locations",
                    "physicalLocation",
                    "artifactLocation",
                    "uri",
                    "region",
                    "startLine",
                    "level",
                    "suppressions",
                    "version",
                    "arguments",
                ]
            ),
            inner,
            max_size=6,
        )
    ),
    max_leaves=30,
)


@given(json_values)
def test_any_json_is_answered(value: Any) -> None:
    read_sarif([json.dumps(value).encode()])
    read_sarif([log(value)])


@given(st.binary(max_size=200))
def test_any_bytes_are_answered(data: bytes) -> None:
    assert read_sarif([data]).error is not None


@pytest.mark.parametrize(
    ("rows", "said"),
    [
        ([], ""),
        ([("note", "a.lua", 1, "x", False)], ""),
        ([("error", "a.lua", 1, "x", True)], ""),
        ([("error", "b.lua", 4, "too  long\nby far", False)], "1 error, first b.lua:4 too long by far"),
        (
            [("warning", "a.lua", 1, "odd", False), ("error", "b.lua", 0, "gone", False)],
            "1 error and 1 warning, first b.lua gone",
        ),
        (
            [("error", "b.lua", 9, "late", False), ("error", "b.lua", 2, "early", False)],
            "2 errors, first b.lua:2 early",
        ),
        ([("warning", "", 0, "", False)] * 3, "3 warnings"),
    ],
)
def test_what_an_analysis_names_is_its_weight_and_the_first_of_the_heaviest(
    rows: list[tuple[Any, ...]], said: str
) -> None:
    marked = [Marked("t", "r", level, path, line, 0, text, gone, (), "", "k") for level, path, line, text, gone in rows]
    assert said_of(marked) == said
