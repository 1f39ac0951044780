"""TAP 12 to 14: points, plans, subtests, directives; what is cut off or bails out is never trusted."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.results.identity import list_digest
from myriant.core.results.model import Outcome
from myriant.core.results.read import read_results
from myriant.core.results.tap import read_tap

NESTED = b"""TAP version 14
# Subtest: harbour
    ok 1 - gate # time=12ms
    # Subtest: lamp
        not ok 1 - shines
          ---
          message: 'it is dark'
          duration_ms: 250
          ...
        1..1
    not ok 2 - lamp
    1..2
not ok 1 - harbour
ok 2 - mole \\# one # SKIP no mole
not ok 3 - datum # TODO moved
ok 4 # TODO by chance
not ok 5 - quay
# got 1, expected 2
1..5
"""
P, F, S = "passed", "failed", "skipped"


@pytest.mark.parametrize(
    ("source", "cases"),
    [
        (
            NESTED,
            [
                ("harbour", "gate", P),
                ("harbour › lamp", "shines", F),
                ("", "mole # one", S),
                ("", "datum", S),
                ("", "4", P),
                ("", "quay", F),
            ],
        ),
        (b"1..2\nok\nnot ok\n", [("", "1", P), ("", "2", F)]),
        (b"noise\nmore noise\nTAP version 12\n1..1\nok 1 - a\nnoise", [("", "a", P)]),
        (b"\xef\xbb\xbf1..1\r\nok 1 - a\r\n", [("", "a", P)]),
        (b"1..1\nnot ok 1 - h\n    ok 1 - a\n    1..1\n", None),
        (b"    ok 1 - a\n    1..1\nnot ok 1 - h\n1..1\n", [("h", "a", P), ("", "h", F)]),
        (b"ok 1 - h {\n    ok 1 - a\n    1..1\n}\n1..1\n", [("h", "a", P)]),
        # what stands in braces belongs to the point before it, not to the next one
        (
            b"not ok 1 - h {\n    ok 1 - a\n    not ok 2 - b {\n        not ok 1 - c\n        1..1\n    }\n    1..2\n}\nok 2 - k {\n    ok 1 - d\n    1..1\n}\n1..2\n",
            [("h", "a", P), ("h › b", "c", F), ("k", "d", P)],
        ),
        (b"ok 1 - h {\n    1..1\n    ok 1 - a\nok 2 - k\n1..2\n", [("h", "a", P), ("", "k", P)]),
        (b"ok 1 - h {\n    1..1\n    ok 1 - a\n", None),
        (b"TAP version 99\n1..1\nok 1 - fills (0.02s)\n", [("", "fills", P)]),
        (b"1..1\nok 1 - waits (5 s)\n", [("", "waits (5 s)", P)]),
    ],
)
def test_points_are_cases_and_what_closes_a_subtest_is_none(
    source: bytes, cases: list[tuple[str, str, str]] | None
) -> None:
    results = read_tap([source])
    found = [
        (s, n, Outcome(o).name.lower()) for s, n, o in zip(results.suites, results.names, results.outcomes, strict=True)
    ]
    if cases is None:
        assert results.error is not None
    else:
        assert results.error is None and found == cases


def test_an_unknown_version_and_times_behind_names_are_told() -> None:
    results = read_tap([b"TAP version 99\n1..2\nok 1 - fills (12.5 ms)\nok 2 - b\n"])
    assert [p.message for p in results.problems] == ["1 TAP version 99 is not known; read as version 14"]
    assert results.seconds[0] == 0.0125


def test_times_messages_and_reasons_are_kept() -> None:
    results = read_tap([NESTED])
    assert results.seconds[0] == 0.012 and results.seconds[1] == 0.25
    messages = {results.names[i]: d.message for i, d in results.details.items()}
    assert messages == {
        "shines": "it is dark",
        "mole # one": "no mole",
        "datum": "todo: moved",
        "quay": "got 1, expected 2",
    }


@pytest.mark.parametrize(
    ("source", "said"),
    [
        (b"ok 1 - a\n", "no plan"),
        (b"1..3\nok 1\nok 2\n", "its plan says 3"),
        (b"1..1\nok 1\nok 2\n", "its plan says 1"),
        (b"1..0 # skip no gauge\n", "holds no test: no gauge"),
        (b"1..2\nok 1\nBail out! the boat sank\n", "bailed out: the boat sank"),
        (b"    ok 1 - a\n", "cut off"),
        (b"1..2\nok 1\nok 2\n  ---\n  message: x\n", "cut off"),
        (b"    ok 1 - a\n    1..2\nok 1 - h\n1..1\n", "a subtest has 1 points"),
        (b"1..1\n1..1\nok 1\n", "two plans"),
        (b"    " * 300 + b"ok 1\n", "nested more than"),
    ],
)
def test_what_cannot_be_trusted_says_why(source: bytes, said: str) -> None:
    error = read_tap([source]).error
    assert error is not None and said in error.message


@given(st.integers(1, len(NESTED) - 6))
def test_a_stream_cut_off_anywhere_is_never_trusted(at: int) -> None:
    assert read_tap([NESTED[:at]]).error is not None


@given(
    st.lists(
        st.sampled_from(
            [
                b"ok",
                b"not ok",
                b" ",
                b"    ",
                b"1",
                b"..",
                b"\n",
                b"# ",
                b"SKIP",
                b"---",
                b"...",
                b"- a",
                b"Bail out!",
                b"{",
                b"}",
                b"\xff",
                b"\0",
            ]
        ),
        max_size=60,
    )
)
def test_any_stream_is_answered_alike_in_any_pieces(parts: list[bytes]) -> None:
    data = b"".join(parts)
    assert read_tap([data]) == read_tap([data[i : i + 1] for i in range(len(data))])


def test_lists_of_names_with_separators_in_them_have_digests_of_their_own() -> None:
    lists = [
        [("k", "s", "c", "a"), ("k", "s", "c", "b")],
        [("k", "s", "c", "a\x1ek\x1fs\x1fc\x1fb")],
        [("k\x1fs", "c", "a", "")],
        [("k", "s\x1fc", "a", "")],
        [],
        [("", "", "", "")],
    ]
    assert len({list_digest("unit", listed) for listed in lists}) == len(lists)


def test_the_format_is_found_by_content() -> None:
    assert read_results([NESTED])[0] == "tap"
    assert read_results([b"log line\n<?xml version='1.0'?><testsuite><testcase name='a'/></testsuite>"])[0] == "junit"
    form, results = read_results([b'{"version": "2.1.0", "runs": []}'])
    assert form == "sarif" and results.error is not None and "analysis" in results.error.message
    assert read_results([b"all tests passed"])[0] == "unknown"
