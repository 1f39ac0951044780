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
            b"<testsuite><testcase " + b"n" * (MOST_TOKEN + (1 << 17)) + b'="1"/></testsuite>',
            "one tag is larger",
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


def test_one_name_several_times_is_one_test() -> None:
    source = b'<testsuite name="s"><testcase name="a"/><testcase name="a [2]"/><testcase name="a"/><testcase name="a"/></testsuite>'
    found = identities("unit", read_junit([source]))
    assert len(found) == 4 and len(set(found)) == 2


def test_a_case_with_several_failures_is_one_case() -> None:
    source = b'<testsuite><testcase name="a"><skipped/><failure message="one">x</failure><failure message="two"/></testcase></testsuite>'
    results = read_junit([source])
    assert list(results.outcomes) == [Outcome.FAILED]
    assert results.details[0].message == "one" and "also: two" in results.details[0].text


def suite(inner: str) -> bytes:
    return f"<testsuite>{inner}</testsuite>".encode()


@pytest.mark.parametrize(
    ("source", "outcomes", "warned"),
    [
        (suite('<testcase name="a" status="notrun"/><testcase name="b" result="suppressed"/>'), "SS", ""),
        (suite('<testcase name="a" status="disabled"/><testcase name="b" executed="false"/>'), "SS", ""),
        (suite('<testcase name="a" status="failed"/><testcase name="b" result="pass"/>'), "FP", ""),
        (suite('<testcase name="a" status="fail"><failure message="m"/></testcase>'), "F", ""),
        (suite('<testcase name="a"><flakyFailure message="once"/></testcase>'), "Y", "tried again"),
        (suite('<testcase name="a"><failure/><rerunFailure message="twice"/></testcase>'), "F", ""),
        (suite('<testcase name="a"><skipped type="todo"/><failure message="m"/></testcase>'), "S", ""),
        (suite('<testcase name="a"><failure/><skipped/></testcase>'), "F", ""),
        (suite('<testcase name="a"><skipped message="test passes unexpectedly"/></testcase>'), "F", "expected to fail"),
        (suite('<testcase name="a"/><error message="boom">x</error>'), "PE", "outside any case"),
        (suite('<testcase name="a"><testcase name="inner"/><failure/></testcase><testcase name="b"/>'), "FP", ""),
        (b'<testsuite tests="3"><testcase name="a"/></testsuite>', "P", "3 cases, not 1"),
        (
            b'<testsuite tests="1" failures="0"><testcase name="a"><failure/></testcase></testsuite>',
            "F",
            "0 failures, not 1",
        ),
        (suite('<testcase name="a"><rerunFailure message="once"/><failure message="m"/></testcase>'), "F", ""),
        (suite('<testcase name="a"><flakyFailure message="once"/><failure message="m"/></testcase>'), "F", ""),
        (suite('<testcase name="a"><rerunFailure message="once"/></testcase>'), "F", "nothing that passed"),
        (suite('<testcase name="a"><skipped type="todo"/><error message="m"/></testcase>'), "E", ""),
        (suite('<testcase name="a"><failure message="m"/><skipped type="todo"/></testcase>'), "S", ""),
        (suite('<testcase name="a"><failure/><error/></testcase>'), "E", ""),
        (suite('<testcase name="a" status="broken"/><testcase name="b" result="Killed"/>'), "EE", "not known"),
        (suite('<testcase name="a" status="undetermined"><skipped/></testcase>'), "S", ""),
        (suite('<testcase name="a"><Failure message="m"/></testcase>'), "F", "written <Failure>"),
        (
            b'<testsuite tests="2"><testcase name="a"><failure/></testcase><testcase name="a"/><testcase name="b"/></testsuite>',
            "YP",
            "tried again",
        ),
        (
            b'<testsuite tests="2"><testcase name="a"/><testcase name="a"><failure/></testcase><testcase name="b"/></testsuite>',
            "FP",
            "",
        ),
        (
            b'<testsuite tests="1"><testcase name="a"><failure/></testcase><testcase name="a"><skipped/></testcase></testsuite>',
            "F",
            "",
        ),
        (
            b'<testsuites tests="1"><testsuite><testcase name="a"><failure/></testcase><testcase name="a"/></testsuite></testsuites>',
            "Y",
            "tried again",
        ),
        (
            suite('<testcase name="a"><failure/></testcase><testcase name="a"/>'),
            "FP",
            "",
        ),  # two results: the worst counts
        (
            b'log\nmore\n<?xml version="1.0"?><testsuite><testcase name="a"/></testsuite>\nbye',
            "P",
            "before the document",
        ),
        (
            b'<j:testsuites xmlns:j="urn:x"><j:testsuite><j:testcase name="a"><j:failure/></j:testcase></j:testsuite></j:testsuites>',
            "F",
            "",
        ),
        (b'<?xml version="1.0" encoding="utf-16"?><testsuite><testcase name="a"/></testsuite>', "P", "and is not"),
        (suite('<testcase name="a"><failure message="a & b &nbsp; c">x ]]> y</failure></testcase>'), "F", "escaped"),
        (
            suite(
                '<testcase name="a < b" time=\'0\'><failure message="x<=3 <List<int>"/></testcase><testcase name="b"/>'
            ),
            "FP",
            "bare < in an attribute",
        ),
        (
            suite('<testcase name="a"><failure message="\x1b[31mred\x07 \x00">&#27;&#x0;</failure></testcase>'),
            "F",
            "forbids",
        ),
        (suite('<testcase name="a"><failure><![CDATA[a ]]> b ]]> c]]></failure></testcase>'), "F", "escaped"),
        (b'<testsuite><testcase name="S\xfcd"/></testsuite>', "P", "no UTF-8"),
        (
            suite(
                f'<testcase name="a"><failure message="{"m" * (5 << 20)}">x</failure></testcase><testcase name="b"/>'
            ),
            "FP",
            "was cut",
        ),
        (suite('<testcase name="setUpClass (tides.Mole)"/><testcase name="a"/>'), "P", ""),
    ],
)
def test_dialects_are_understood(source: bytes, outcomes: str, warned: str) -> None:
    results = read_junit([source[i : i + 5000] for i in range(0, len(source), 5000)])
    assert results.error is None, results.problems
    letters = {Outcome.PASSED: "P", Outcome.FAILED: "F", Outcome.ERRORED: "E", Outcome.SKIPPED: "S", Outcome.FLAKY: "Y"}
    assert "".join(letters[Outcome(o)] for o in results.outcomes) == outcomes
    assert warned in " ".join(p.message for p in results.problems) and bool(warned) == bool(results.problems)


@pytest.mark.parametrize(
    "source",
    [
        b'<testsuite tests="9" failures="7"><testcase name="a"/></testsuite>',
        b'<testsuite errors="1"/>',
        b'<testsuites failures="1"><testsuite><testcase name="a"/></testsuite></testsuites>',
        b'<testsuite><testcase name="a"/><testsuite failures="2"><testcase name="b"><failure/></testcase></testsuite></testsuite>',
        b'<testsuite tests="1" errors="1"><testcase name="a"><skipped/></testcase></testsuite>',
    ],
)
def test_failures_that_no_element_shows_make_a_report_untrusted(source: bytes) -> None:
    error = read_junit([source]).error
    assert error is not None and "it is not whole" in error.message, error


def test_output_attachments_and_places_of_a_failed_case_are_kept() -> None:
    results = read_junit(
        [
            suite(
                '<properties><property name="application" value="tidebook 1.4"/></properties>'
                '<testcase name="a" file="tests/a.py" line="12"><system-out>drawn\n[[ATTACHMENT|out/a.png]]</system-out>'
                '<properties><property name="attachment" value="out/b.png"/></properties><failure message="m">stack</failure></testcase>'
            )
        ]
    )
    detail = results.details[0]
    assert (detail.file, detail.line, detail.attachments) == ("tests/a.py", 12, ["out/b.png", "out/a.png"])
    assert detail.output.startswith("drawn") and detail.text == "stack"
    assert results.properties == {"application": "tidebook 1.4"}


@pytest.mark.parametrize("encoding", ["shift_jis", "utf-32", "cp1252", "utf-16-le"])
def test_other_encodings_are_understood_and_odd_ones_refused(encoding: str) -> None:
    name = "潮汐" if encoding == "shift_jis" else "Süd"
    text = f'<?xml version="1.0" encoding="{encoding}"?><testsuite><testcase name="{name}"/></testsuite>'
    assert read_junit([text.encode(encoding)]).names == [name]
    for odd in ("idna", "zlib", "unicode_escape"):
        assert read_junit([text.replace(encoding, odd).encode()]).error is not None


@given(st.data())
def test_a_repair_changes_characters_and_never_elements(data: st.DataObject) -> None:
    """Noise in a message must not change how many cases there are, nor which of them failed."""
    noise = data.draw(st.text(st.sampled_from("a]>&\x1b\x00;#x1[\x7f\ud7ff"), max_size=30))
    source = suite(f'<testcase name="a"><failure>{noise}</failure></testcase><testcase name="b"/>').replace(
        b"<![CDATA[", b""
    )
    cut = data.draw(st.integers(0, len(source)))
    results = read_junit([source[:cut], source[cut:]])
    assert results.error is None and list(results.outcomes) == [Outcome.FAILED, Outcome.PASSED]
