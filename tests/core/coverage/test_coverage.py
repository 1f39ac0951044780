"""Coverage reports are read by line, merged without double counting, and packed without loss."""

from __future__ import annotations

import csv
import io
import itertools
import struct
import zlib
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.coverage.cells import shares_of_cells
from myriant.core.coverage.export import cobertura, lcov, table
from myriant.core.coverage.merge import merge, merge_files
from myriant.core.coverage.model import FileCoverage, Lines, Totals
from myriant.core.coverage.packed import pack_file, unpack_file
from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage
from myriant.core.plan.model import CoveragePaths

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
    assert replace(coverage.totals, functions_valid=0, functions_covered=0) == Totals(4, 2, 2, 1)
    [(path, file)] = coverage.files.items()
    assert path == "src/tide/harmonics.py" and file.uncovered == [7, 9]


def test_totals_that_lie_are_said_and_not_believed() -> None:
    lying = b"SF:a.lua\nDA:1,1\nDA:2,0\nLF:7\nLH:7\nend_of_record\nSF:b.lua\nDA:1,1\nLF:1\nend_of_record\n"
    coverage = read_coverage([lying])[1]
    assert [p.message for p in coverage.problems] == [
        "1 record whose total is not the number of its lines; the lines count"
    ]
    assert sum((f.totals for f in coverage.files.values()), Totals()).lines_valid == 3


@pytest.mark.parametrize(
    ("source", "said"),
    [
        (b"", "the file is empty"),
        (b" \n", "the file is empty"),
        (b"hello\nworld\n", "neither coverage XML nor an LCOV"),
        (b"TN:\n", "names no file"),
        (LCOV[:60], "cut off at line"),
        (COBERTURA[:400], "cut off"),
        (b"<testsuites/>", "its root element is <testsuites>"),
        (b"<coverage/>", "names no file"),
        (b"SF:a.lua\nLF:3\nLH:3\nend_of_record\n", "not one line of them"),
        (
            b"<report name='x'><package name='p'><sourcefile name='A.java'><counter type='LINE' missed='1' covered='2'/>"
            b"</sourcefile></package></report>",
            "not one line of them",
        ),
        (b'<!DOCTYPE c [<!ENTITY a "b">]><coverage>&a;</coverage>', "entities"),
    ],
)
def test_what_cannot_be_trusted_says_why(source: bytes, said: str) -> None:
    error = read_coverage([source])[1].error
    assert error is not None and said in error.message


CLOVER = b"""<coverage generated="1" clover="3.2"><project timestamp="1"><package name="tide">
<file name="harmonics.js" path="/workspace/src/tide/harmonics.js"><metrics statements="9"/>
<line num="1" count="1" type="stmt"/><line num="2" count="4" type="cond" truecount="1" falsecount="1"/>
<line num="7" count="0" type="stmt"/><line num="8" count="3" type="method" name="f"/>
<line num="9" type="cond" truecount="5" falsecount="0"/></file>
</package></project></coverage>"""
JACOCO = b"""<!DOCTYPE report PUBLIC "-//X//DTD Report 1.1//EN" "report.dtd"><report name="tide"><group name="g">
<package name="example/tide"><class name="example/tide/Harmonics" sourcefilename="Harmonics.java"/>
<sourcefile name="Harmonics.java"><line nr="1" mi="0" ci="3" mb="0" cb="0"/><line nr="2" mi="2" ci="3" mb="1" cb="3"/>
<line nr="7" mi="4" ci="0" mb="2" cb="0"/><counter type="LINE" missed="99" covered="99"/></sourcefile>
</package></group></report>"""
METHODS = COBERTURA.replace(
    b'<line number="2" hits="4"/></lines></method>', b'<line number="40" hits="4"/></lines></method>'
)
ONLY_METHODS = (
    b'<coverage><packages><package><classes><class filename="a.py"><methods><method name="f"><lines>'
    b'<line number="3" hits="1"/></lines></method></methods><lines/></class></classes></package></packages></coverage>'
)
TWO_SOURCES = (
    b"<coverage><sources><source>/workspace/src</source><source>/workspace/tests</source></sources><packages><package>"
    b"<classes><class filename='tide.py'><lines><line number='1' hits='1'/></lines></class>"
    b"<class filename='test_tide.py'><lines><line number='1' hits='0'/></lines></class></classes></package></packages></coverage>"
)


@pytest.mark.parametrize(
    ("source", "present", "plan", "form", "files"),
    [
        (CLOVER, None, CoveragePaths(), "clover", {"src/tide/harmonics.js": ([1, 2, 9], [7], (2, 4))}),
        (
            JACOCO,
            ["app/src/main/java/example/tide/Harmonics.java"],
            CoveragePaths(),
            "jacoco",
            {"app/src/main/java/example/tide/Harmonics.java": ([1, 2], [7], (3, 6))},
        ),
        (
            JACOCO,
            None,
            CoveragePaths(root="java"),
            "jacoco",
            {"java/example/tide/Harmonics.java": ([1, 2], [7], (3, 6))},
        ),
        (METHODS, None, CoveragePaths(), "cobertura", {"src/tide/harmonics.py": ([1, 2], [7, 9], (1, 2))}),
        (ONLY_METHODS, None, CoveragePaths(), "cobertura", {"a.py": ([3], [], (0, 0))}),
        (
            TWO_SOURCES,
            ["src/tide.py", "tests/test_tide.py"],
            CoveragePaths(),
            "cobertura",
            {"src/tide.py": ([1], [], (0, 0)), "tests/test_tide.py": ([], [1], (0, 0))},
        ),
        (
            TWO_SOURCES,
            ["src/tide.py", "tests/test_tide.py"],
            CoveragePaths(exclude=("tests/**",)),
            "cobertura",
            {"src/tide.py": ([1], [], (0, 0))},
        ),
    ],
)
def test_a_report_is_read_by_its_dialect_and_placed_in_the_repository(
    source: bytes,
    present: list[str] | None,
    plan: CoveragePaths,
    form: str,
    files: dict[str, tuple[list[int], list[int], tuple[int, int]]],
) -> None:
    found, coverage = read_coverage([source], Placing(present=present, plan=plan))
    assert found == form and coverage.error is None, coverage.problems
    told = {
        path: (f.lines[f.hits > 0].tolist(), f.uncovered, (f.totals.branches_covered, f.totals.branches_valid))
        for path, f in coverage.files.items()
    }
    assert told == files


PRESENT = ["src/locks/gate.lua", "src/tide.lua", "tests/gate.lua", "lib/a/x.py", "lib/b/x.py", "web/app.ts", "gate.go"]


@pytest.mark.parametrize(
    ("path", "sources", "plan", "where"),
    [
        ("/workspace/src/tide.lua", [], CoveragePaths(), "src/tide.lua"),
        ("/home/ci/build/src/tide.lua", [], CoveragePaths(), "src/tide.lua"),
        ("C:\\\\build\\\\src\\\\locks\\\\gate.lua", [], CoveragePaths(), "src/locks/gate.lua"),
        ("tide.lua", ["/workspace/src"], CoveragePaths(), "src/tide.lua"),
        ("tide.lua", ["/elsewhere/src"], CoveragePaths(), "src/tide.lua"),
        ("locks/gate.lua", [], CoveragePaths(), "src/locks/gate.lua"),
        ("x.py", [], CoveragePaths(), "x.py"),  # two files could be meant
        ("a/x.py", [], CoveragePaths(), "lib/a/x.py"),
        ("example.com/tide/gate.go", [], CoveragePaths(), "gate.go"),
        ("./web/../web/app.ts", [], CoveragePaths(), "web/app.ts"),
        ("/opt/dist/app.js", [], CoveragePaths(map=(("/opt/dist", "web"),)), "web/app.js"),
        ("/opt/dist/app.ts", [], CoveragePaths(map=(("/opt/dist", "web"),)), "web/app.ts"),
        ("/opt/distant/app.ts", [], CoveragePaths(map=(("/opt/dist", "nowhere"),)), "web/app.ts"),
        ("build/tide.lua", [], CoveragePaths(map=(("build", "src"),)), "src/tide.lua"),
        ("/opt/distant/none.c", [], CoveragePaths(map=(("/opt/dist", "nowhere"),)), "/opt/distant/none.c"),
        ("x.py", [], CoveragePaths(root="lib/b"), "lib/b/x.py"),
        ("src/tide.lua", [], CoveragePaths(exclude=("src/**",)), None),
        ("/somewhere/none.c", [], CoveragePaths(), "/somewhere/none.c"),
    ],
)
def test_a_path_is_the_repositorys_file_that_it_means(
    path: str, sources: list[str], plan: CoveragePaths, where: str | None
) -> None:
    assert Placing(present=PRESENT, plan=plan).place(path.replace("\\\\", "\\"), sources) == where


def test_a_report_of_another_repository_is_trouble() -> None:
    _, coverage = read_coverage([LCOV], Placing(present=["other.py"]))
    assert coverage.error is not None and "none of its paths is a file of the repository" in coverage.error.message
    two = LCOV + LCOV.replace(b"src/tide/harmonics.py", b"build/made.py")
    _, coverage = read_coverage([two], Placing(present=["src/tide/harmonics.py"]))
    told = [p.message for p in coverage.problems]
    assert coverage.error is None and any("1 path is no file of the repository" in said for said in told)


@given(st.binary(max_size=200))
def test_any_bytes_are_answered(data: bytes) -> None:
    for whole in (LCOV, COBERTURA, CLOVER, JACOCO):
        read_coverage([whole[:170] + data + whole[170:]])
    read_coverage([data])


hits = st.dictionaries(st.integers(1, 60), st.integers(0, 5), min_size=1)


# of each line how many branches it has, and of each part which of them were taken there
ARMS = st.dictionaries(st.integers(1, 9), st.integers(1, 4), max_size=5).flatmap(
    lambda sizes: st.tuples(
        st.just(sizes),
        st.lists(
            st.fixed_dictionaries({n: st.sets(st.integers(0, k - 1)) for n, k in sizes.items()}), min_size=1, max_size=4
        ),
    )
)


def with_arms(sizes: dict[int, int], taken: dict[int, set[int]], *, only_missed: bool) -> FileCoverage:
    lines = Lines()
    for n, size in sizes.items():
        lines.hit(n, 1)
        lines.branches[n] = (len(taken[n]), size)
        lines.arms[n] = {str(arm): arm in taken[n] for arm in range(size) if not only_missed or arm not in taken[n]}
        lines.called(n, f"of {n}", len(taken[n]))
    return lines.done()


@given(ARMS, st.booleans())
def test_branches_that_are_known_merge_to_what_any_cell_took(
    found: tuple[dict[int, int], list[dict[int, set[int]]]], only_missed: bool
) -> None:
    sizes, parts = found
    files = [with_arms(sizes, taken, only_missed=only_missed) for taken in parts]
    union = {n: set().union(*(taken[n] for taken in parts)) for n in sizes}
    for merged in (merge(files), merge(files[::-1]), merge([merge(files[:1]), *files[1:]])):
        assert dict(zip(merged.branch_lines.tolist(), merged.branches_covered.tolist(), strict=True)) == {
            n: len(union[n]) for n in sizes
        }
        assert {f.line for f in merged.functions if f.hits} == {n for n in sizes if union[n]}
        assert merged.totals.functions_valid == len(sizes)
    again = unpack_file(pack_file(merged))
    assert again.functions == merged.functions and again.totals == merged.totals
    assert all(np.array_equal(getattr(again.arms, f), getattr(merged.arms, f)) for f in ("lines", "ids", "taken"))


@pytest.mark.parametrize(
    ("one", "other", "branches"),
    [  # what is not known for sure is never more than a lower bound
        (b"BRDA:1,0,0,1\nBRDA:1,0,1,-", b"BRDA:1,0,0,-\nBRDA:1,0,1,1", (2, 2)),  # opposite sides
        (b"BRDA:1,0,0,1\nBRDA:1,0,1,-", b"BRDA:1,0,0,2\nBRDA:1,0,1,-", (1, 2)),
        (b"BRDA:1,0,0,1\nBRDA:1,0,1,-", b"BRDA:1,0,0,-\nBRDA:1,0,1,1\nBRDA:1,0,2,1", (2, 3)),  # they count otherwise
        (b"BRDA:1,0,0,1\nBRDA:1,0,1,-", b"BRDA:1,0,7,-\nBRDA:1,0,8,1", (1, 2)),  # they name otherwise
        (b"BRDA:1,0,0,1\nBRDA:1,0,1,-", b"", (1, 2)),
    ],
)
def test_branches_of_two_cells(one: bytes, other: bytes, branches: tuple[int, int]) -> None:
    read = [
        read_coverage([b"SF:a.py\nDA:1,1\n" + text + b"\nend_of_record\n"])[1].files["a.py"] for text in (one, other)
    ]
    for parts in (read, read[::-1]):
        totals = merge(parts).totals
        assert (totals.branches_covered, totals.branches_valid) == branches


@pytest.mark.parametrize(
    ("missing", "branches"),
    [("6", (2, 2)), ("6,7", (1, 2)), ("", (1, 2))],  # named as it counts; named more than it counts; not named
)
def test_branches_that_are_named_otherwise_than_counted_are_no_more_than_counted(
    missing: str, branches: tuple[int, int]
) -> None:
    def report(missed: str) -> FileCoverage:
        named = f' missing-branches="{missed}"' if missed else ""
        line = f'<line number="1" hits="1" branch="true" condition-coverage="50% (1/2)"{named}/>'
        text = f'<coverage><packages><package><classes><class filename="a.py"><lines>{line}</lines></class></classes></package></packages></coverage>'
        return read_coverage([text.encode()])[1].files["a.py"]

    for parts in ([report("9"), report(missing)], [report(missing), report("9")]):
        totals = merge(parts).totals
        assert (totals.branches_covered, totals.branches_valid) == branches


FUNCTIONS = [
    (b"SF:a.c\nFN:3,f\nFN:9,12,g,int\nFNDA:4,f\nFNDA:0,g,int\nDA:3,4\nend_of_record\n", {(3, "f"): 4, (9, "g,int"): 0}),
    (b"SF:a.c\nFNL:0,3,5\nFNA:0,4,f\nFNL:1,9\nFNA:1,0,g\nDA:3,4\nend_of_record\n", {(3, "f"): 4, (9, "g"): 0}),
    (b"SF:a.c\nFNDA:1,alone\nFN:x,bad\nDA:3,4\nend_of_record\n", {(0, "alone"): 1}),
    (
        b'<report name="t"><package name="e"><class name="e/A" sourcefilename="a.c"><method name="add" desc="(II)I" line="7">'
        b'<counter type="LINE" missed="0" covered="3"/><counter type="METHOD" missed="0" covered="1"/></method>'
        b'<method name="never" desc="()V" line="9"><counter type="METHOD" missed="1" covered="0"/></method></class>'
        b'<sourcefile name="a.c"><line nr="7" mi="0" ci="3"/></sourcefile></package></report>',
        {(7, "A.add(II)I"): 1, (9, "A.never()V"): 0},
    ),
    (CLOVER, {(8, "f"): 3}),
    (ONLY_METHODS, {(3, "f"): 1}),
]


@pytest.mark.parametrize(("source", "functions"), FUNCTIONS)
def test_functions_are_read_by_line_and_name(source: bytes, functions: dict[tuple[int, str], int]) -> None:
    (file,) = read_coverage([source])[1].files.values()
    assert {(f.line, f.name): f.hits for f in file.functions} == functions


@given(hits)
def test_what_was_packed_before_branches_had_names_is_read(found: dict[int, int]) -> None:
    file = file_of(found)
    arrays = (
        np.diff(file.lines, prepend=0),
        file.hits,
        np.diff(file.branch_lines, prepend=0),
        file.branches_valid,
        file.branches_covered,
    )
    body = zlib.compress(b"".join(np.asarray(a, "<i4").tobytes() for a in arrays))
    again = unpack_file(struct.pack("<II", len(file.lines), len(file.branch_lines)) + body)
    assert again.totals == file.totals and np.array_equal(again.lines, file.lines)


@given(st.dictionaries(st.sampled_from(["src/tide.py", "src/a b.py", "top.c"]), ARMS, min_size=1), st.booleans())
def test_what_is_exported_is_read_as_it_was(
    found: dict[str, tuple[dict[int, int], list[dict[int, set[int]]]]], named: bool
) -> None:
    files = {
        path: merge([with_arms(sizes, t, only_missed=named) for t in parts]) for path, (sizes, parts) in found.items()
    }
    files = {path: file for path, file in files.items() if len(file.lines)}
    if not files:
        return
    for text in (lcov(files), cobertura(files)):
        _, again = read_coverage([text.encode()])
        assert again.error is None and set(again.files) == set(files)
        for path, file in files.items():
            assert again.files[path].lines.tolist() == file.lines.tolist()
            assert again.files[path].hits.tolist() == file.hits.tolist()
            assert again.files[path].totals == file.totals
    rows = list(csv.reader(io.StringIO(table(files))))[1:]
    assert [[row[0], int(row[2]), int(row[3])] for row in rows] == [
        [path, f.totals.lines_valid, f.totals.branches_covered] for path, f in sorted(files.items())
    ]


@given(
    st.lists(
        st.dictionaries(st.sampled_from("ab"), st.dictionaries(st.integers(1, 6), st.integers(0, 1), min_size=1)),
        min_size=1,
        max_size=6,
    )
)
def test_no_fewer_cells_reach_as_much(cells: list[dict[str, dict[int, int]]]) -> None:
    of_cells = [{path: file_of(lines) for path, lines in files.items()} for files in cells]
    told = shares_of_cells(of_cells)
    sets = [{(p, n) for p, lines in files.items() for n, hits in lines.items() if hits} for files in cells]
    every = set().union(*sets)
    assert told.reached == [len(s) for s in sets]
    assert told.alone == [len(s - set().union(*sets[:i], *sets[i + 1 :])) for i, s in enumerate(sets)]
    assert set().union(*(sets[i] for i in told.least)) == every and told.smallest
    fewer = itertools.combinations(sets, max(0, len(told.least) - 1))
    assert not told.least or not any(set().union(*some) == every for some in fewer)


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
    for name in ("lines", "hits", "branch_lines", "branches_valid", "branches_covered"):
        assert np.array_equal(getattr(again, name), getattr(file, name))


@given(st.integers(1, 5), st.integers(0, 12), st.data())
def test_alike_files_are_merged_as_any_others_are(reports: int, size: int, data: st.DataObject) -> None:
    """What is added as one long vector is what is merged file by file, with lines that differ among them."""
    none = np.zeros(0, np.int32)

    def file(lines: list[int]) -> FileCoverage:
        hits = data.draw(st.lists(st.integers(0, 2**31 - 1), min_size=len(lines), max_size=len(lines)))
        return FileCoverage(np.array(lines, np.int32), np.array(hits, np.int32), none, none, none)

    usual = list(range(1, size + 1))
    odd = data.draw(st.sampled_from([usual, usual[1:], [n + 1 for n in usual]]))
    parts = [
        {"a": file(usual), "b": file(odd if i else usual), **({"c": file([7])} if i % 2 else {})}
        for i in range(reports)
    ]
    found = merge_files(parts)
    for path in {p for part in parts for p in part}:
        one = merge([part[path] for part in parts if path in part])
        assert found[path].lines.tolist() == one.lines.tolist() and found[path].hits.tolist() == one.hits.tolist()


ONE_CONDITION = """<?xml version="1.0"?><coverage clover="3"><project><file name="a.js" path="a.js">
<metrics conditionals="2" coveredconditionals="{}"/><line num="1" type="cond" truecount="{}" falsecount="{}"/></file></project></coverage>"""


@pytest.mark.parametrize(
    ("stated", "yes", "no", "taken"),
    [(1, 1, 0, 1), (2, 2, 0, 2), (1, 2, 0, 1), (2, 1, 1, 2), (0, 0, 0, 0), ("", 2, 0, 1), (7, 2, 0, 1)],
)
def test_a_condition_is_read_as_its_file_states_of_itself(stated: object, yes: int, no: int, taken: int) -> None:
    _, found = read_coverage([ONE_CONDITION.format(stated, yes, no).encode()])
    assert found.files["a.js"].totals.branches_covered == taken and found.files["a.js"].totals.branches_valid == 2


def test_opposite_ways_of_a_condition_in_two_cells_are_both_taken() -> None:
    parts = [read_coverage([ONE_CONDITION.format(1, *ways).encode()])[1].files for ways in ((1, 0), (0, 1))]
    assert merge_files(parts)["a.js"].totals.branches_covered == 2


def test_a_line_that_a_class_names_twice_is_covered_where_either_is() -> None:
    for hits in ((3, 0), (0, 3)):
        lines = "".join(f'<line number="4" hits="{n}"/>' for n in hits)
        text = f'<coverage><packages><package><classes><class filename="a.py"><lines>{lines}</lines></class></classes></package></packages></coverage>'
        assert read_coverage([text.encode()])[1].files["a.py"].hits.tolist() == [3]
