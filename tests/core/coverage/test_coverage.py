"""Coverage reports are read by line, merged without double counting, and packed without loss."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.coverage.merge import merge
from myriant.core.coverage.model import FileCoverage, Lines, Totals
from myriant.core.coverage.packed import pack_file, unpack_file
from myriant.core.coverage.read import read_coverage

COBERTURA = b"""<?xml version="1.0" ?>
<!DOCTYPE coverage SYSTEM "http://fenmark.example/coverage-04.dtd">
<coverage line-rate="1" lines-valid="999">
  <sources><source>/workspace/src</source></sources>
  <packages><package><classes>
    <class filename="tide/harmonics.py">
      <methods><method name="f"><lines><line number="2" hits="4"/></lines></method></methods>
      <lines>
        <line number="1" hits="1"/><line number="2" hits="4" branch="true" condition-coverage="50% (1/2)"/>
        <line number="7" hits="0"/><line number="x" hits="1"/>
      </lines>
    </class>
    <class filename="tide/harmonics.py"><lines><line number="9" hits="0"/></lines></class>
  </classes></package></packages>
</coverage>"""
LCOV = b"""TN:
SF:/workspace/src/tide/harmonics.py
FN:1,f
DA:1,1
DA:2,4,checksum
DA:7,0
DA:9,0
BRDA:2,0,0,1
BRDA:2,0,1,-
LF:99
end_of_record
"""


@pytest.mark.parametrize(("source", "form"), [(COBERTURA, "cobertura"), (LCOV, "lcov")])
def test_both_formats_say_the_same(source: bytes, form: str) -> None:
    found, coverage = read_coverage([source[:50], source[50:]])
    assert found == form and coverage.error is None
    assert coverage.totals == Totals(4, 2, 2, 1)
    [(path, file)] = coverage.files.items()
    assert path == "src/tide/harmonics.py" and file.uncovered == [7, 9]


@pytest.mark.parametrize(
    ("source", "said"),
    [
        (b"", "the file is empty"),
        (b" \n", "the file is empty"),
        (b"hello\nworld\n", "neither Cobertura XML nor an LCOV"),
        (b"TN:\n", "names no file"),
        (LCOV[:60], "cut off at line"),
        (COBERTURA[:400], "cut off"),
        (b"<testsuites/>", "its root element is <testsuites>"),
        (b"<coverage/>", "names no file"),
        (b'<!DOCTYPE c [<!ENTITY a "b">]><coverage>&a;</coverage>', "entities"),
    ],
)
def test_what_cannot_be_trusted_says_why(source: bytes, said: str) -> None:
    error = read_coverage([source])[1].error
    assert error is not None and said in error.message


@given(st.binary(max_size=200))
def test_any_bytes_are_answered(data: bytes) -> None:
    for source in (data, LCOV[:70] + data + LCOV[70:], COBERTURA[:300] + data + COBERTURA[300:]):
        read_coverage([source])


hits = st.dictionaries(st.integers(1, 60), st.integers(0, 5), min_size=1)


def file_of(found: dict[int, int]) -> FileCoverage:
    lines = Lines()
    for line, count in found.items():
        lines.hit(line, count)
        if line % 3 == 0:
            lines.branches[line] = (min(count, 2), 2)
    return lines.done()


@given(st.lists(hits, min_size=1, max_size=5))
def test_merging_counts_each_line_once_and_is_the_union(parts: list[dict[int, int]]) -> None:
    merged = merge([file_of(p) for p in parts])
    union = {line for p in parts for line in p}
    covered = {line for p in parts for line, n in p.items() if n}
    assert merged.lines.tolist() == sorted(union)
    assert set(merged.lines[merged.hits > 0].tolist()) == covered
    assert merged.totals.branches_covered <= merged.totals.branches_valid


@given(hits)
def test_packing_gives_back_what_was_put_in(found: dict[int, int]) -> None:
    file = file_of(found)
    again = unpack_file(pack_file(file))
    for name in FileCoverage.__dataclass_fields__:
        assert np.array_equal(getattr(again, name), getattr(file, name))
