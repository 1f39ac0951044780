"""JUnit XML is read streaming; what cannot be trusted says why, and nothing passes by accident."""

from __future__ import annotations

import itertools
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.results.identity import identities
from myriant.core.results.junit import read_junit
from myriant.core.results.model import Outcome
from myriant.core.xml import MOST_TOKEN

GOOD = b"""<?xml version="1.0" encoding="UTF-8"?>
<testsuites tests="99">
  <testsuite name="outer"><testsuite name="inner">
    <testcase classname="a.B" name="passes" time="0.25"/>
    <testcase classname="a.B" name="fails" time="1,234.5"><failure message="expected 1, got 2" type="E">at x:1</failure></testcase>
    <testcase classname="a.B" name="errs"><error type="Boom">  it blew up
second line</error></testcase>
    <testcase classname="a.B" name="skips" time="oops"><skipped message="not here"/></testcase>
    <system-out>noise <![CDATA[<testcase name="no case"/>]]></system-out>
  </testsuite></testsuite>
</testsuites>
"""


def test_outcomes_messages_and_times_are_read_from_the_elements() -> None:
    results = read_junit([GOOD])
    assert results.error is None
    assert list(results.outcomes) == [Outcome.PASSED, Outcome.FAILED, Outcome.ERRORED, Outcome.SKIPPED]
    assert results.seconds[:2] == [0.25, 1234.5] and all(math.isnan(s) for s in results.seconds[2:])
    assert (results.details[1].message, results.details[1].text) == ("expected 1, got 2", "at x:1")
    assert results.details[2].message == "Boom" and "second line" in results.details[2].text
    assert results.suites == ["outer › inner"] * 4
    assert any("no number of seconds" in p.message for p in results.problems)


@given(st.lists(st.integers(1, len(GOOD) - 1), max_size=6))
def test_the_pieces_in_which_a_file_arrives_make_no_difference(cuts: list[int]) -> None:
    edges = [0, *sorted(cuts), len(GOOD)]
    pieces = [GOOD[a:b] for a, b in itertools.pairwise(edges)]
    assert read_junit(pieces) == read_junit([GOOD])


@given(st.integers(0, len(GOOD.rstrip()) - 1))
def test_a_report_cut_off_anywhere_is_never_trusted(at: int) -> None:
    assert read_junit([GOOD[:at]]).error is not None


@given(st.binary(max_size=300))
def test_any_bytes_are_answered(data: bytes) -> None:
    assert read_junit([data]).error is not None
    read_junit([GOOD[:200] + data + GOOD[200:]])


@pytest.mark.parametrize(
    ("source", "said"),
    [
        (b"", "the file is empty"),
        (b"  \n ", "the file is empty"),
        (b"tests: 4 passed", "it is not XML"),
        (b"<html><body/></html>", "its root element is <html>"),
        (b"<testsuites></testsuites>", "holds no test"),
        (GOOD[:300], "cut off"),
        (
            b'<!DOCTYPE x [<!ENTITY a "aa"><!ENTITY b "&a;&a;">]><testsuite><testcase name="&b;"/></testsuite>',
            "entities are never expanded",
        ),
        (
            b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><testsuite><testcase name="n">&a;</testcase></testsuite>',
            "entities",
        ),
        (b"<testsuite>" * 300, "nested more than 200 deep"),
        (
            b'<testsuite><testcase name="' + b"n" * (MOST_TOKEN + (1 << 17)) + b'"/></testsuite>',
            "one tag or attribute is larger",
        ),
        (b'<testsuite><testcase name="a"></testsuite>', "not well-formed"),
        (b'<?xml version="1.0" encoding="klingon"?><testsuite><testcase name="a"/></testsuite>', "encoding"),
    ],
)
def test_what_cannot_be_trusted_says_why(source: bytes, said: str) -> None:
    error = read_junit([source]).error
    assert error is not None and said in error.message, error


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "iso-8859-1"])
def test_encodings_are_understood(encoding: str) -> None:
    declared = "utf-8" if encoding == "utf-8-sig" else encoding
    text = f'\n<?xml version="1.0" encoding="{declared}"?><testsuite><testcase name="Schleuse öffnet"/></testsuite>'
    source = text.lstrip() if encoding in ("utf-8-sig", "utf-16") else text
    results = read_junit([source.encode(encoding)])
    assert results.error is None and results.names == ["Schleuse öffnet"]


def test_equal_names_in_one_report_are_told_apart_and_lose_nothing() -> None:
    source = b'<testsuite name="s"><testcase name="a"/><testcase name="a [2]"/><testcase name="a"/><testcase name="a"/></testsuite>'
    found = identities("unit", read_junit([source]))
    assert len(set(found)) == 4


def test_a_case_with_several_failures_is_one_case() -> None:
    source = b'<testsuite><testcase name="a"><skipped/><failure message="one">x</failure><failure message="two"/></testcase></testsuite>'
    results = read_junit([source])
    assert list(results.outcomes) == [Outcome.FAILED]
    assert results.details[0].message == "one" and "also: two" in results.details[0].text
