"""Reading coverage reports: Cobertura, Clover and JaCoCo XML and LCOV tracefiles, told apart by their content."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator

from myriant.core.coverage.merge import merge
from myriant.core.coverage.model import MOST_LINE, Coverage, FileCoverage, Lines
from myriant.core.coverage.paths import Placing
from myriant.core.coverage.xml_reports import XmlReport
from myriant.core.digits import number_of
from myriant.core.results.model import Oddity
from myriant.core.written import counted
from myriant.core.xml import MOST_BYTES, Refused

_SHOWN = 3


def format_of(head: bytes) -> str:
    """ "xml" or "lcov", by the first bytes."""
    return "xml" if head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith((b"<", b"\xff\xfe", b"\xfe\xff")) else "lcov"


def read_coverage(chunks: Iterable[bytes], placing: Placing | None = None) -> tuple[str, Coverage]:
    """Read one report; its format and what it says. Never raises for what the file says: `Coverage.error` does.

    `placing` finds the repository's file for each path. A report none of whose paths is a file of the repository is not
    to be trusted: it was written of something else.
    """
    source = iter(chunks)
    head = next((c for c in source if c.strip()), b"")
    whole = itertools.chain([head], source)
    if not head:
        return "unknown", Coverage(problems=[Oddity("error", "the file is empty", 0)])
    if format_of(head) == "xml":
        kind, coverage, files, sources = XmlReport().read(whole)
    else:
        kind, (coverage, files, sources) = "lcov", (*_read_lcov(whole), [])
    _placed(coverage, files, sources, placing or Placing())
    return kind, coverage


def _placed(coverage: Coverage, files: dict[str, Lines], sources: list[str], placing: Placing) -> None:
    """Put each file where it lies in the repository; what fits nowhere is said."""
    placed: dict[str, list[FileCoverage]] = {}
    strange: list[str] = []
    left_out = 0
    for path, lines in files.items():
        if not lines.hits:
            left_out += 1  # nothing of it can be covered
            continue
        where = placing.place(path, sources)
        if where is None:
            left_out += 1
            continue
        if not placing.fits(where):
            strange.append(path)
        placed.setdefault(where, []).append(lines.done())
    coverage.files = {path: merge(parts) for path, parts in placed.items()}
    if coverage.error is not None or not files:
        return
    if left_out == len(files):
        coverage.problems.append(Oddity("warning", "the plan's coverage.exclude leaves out every file of it", 0))
    elif strange and len(strange) + left_out == len(files):
        shown = ", ".join(strange[:_SHOWN])
        said = f"none of its paths is a file of the repository ({shown}): coverage.map in the plan says where they lie"
        coverage.problems.append(Oddity("error", said, 0))
    elif strange:
        said = counted(len(strange), "path is no file", "paths are no files")
        coverage.problems.append(Oddity("warning", f"{said} of the repository: {', '.join(strange[:_SHOWN])}", 0))


def _read_lcov(chunks: Iterable[bytes]) -> tuple[Coverage, dict[str, Lines]]:
    """LCOV tracefiles (geninfo(1)): SF, DA, BRDA, end_of_record; totals in the file are not believed."""
    result = Coverage()
    files: dict[str, Lines] = {}
    path: str | None = None
    starts: dict[str, int] = {}  # of the functions of a record
    bad = unknown = number = lying = 0
    told: int | None = None  # how many lines a record says that it lists
    listed: set[str] = set()
    try:
        for raw in _lines(chunks):
            number += 1
            line = raw.strip()
            key, _, rest = line.partition(":")
            if line == "end_of_record":
                lying += told is not None and told != len(listed)
                path, told = None, None
            elif key == "SF":
                path, told = rest.strip()[:4000], None
                listed.clear()
                starts.clear()
                files.setdefault(path, Lines())
            elif key == "DA" and path is not None:
                listed.add(rest.partition(",")[0])
                bad += not _line_hits(files[path], rest)
            elif key == "LF":
                told = number_of(rest.strip(), 18)
            elif key == "BRDA" and path is not None:
                bad += not _branch(files[path], rest)
            elif key in ("FN", "FNDA", "FNL", "FNA") and path is not None:
                bad += not _function(files[path], starts, key, rest)
            elif (
                line
                and not re.fullmatch(r"(TN|VER|FNF|FNH|LF|LH|BRF|BRH|MCDC|MCF|MCH)", key)
                and not line.startswith("#")
            ):
                unknown += 1
                if not files:
                    raise Refused("it is neither coverage XML nor an LCOV tracefile")
    except Refused as refusal:
        result.problems.append(Oddity("error", str(refusal), number))
        return result, {}
    for lines in files.values():
        lines.branches |= {at: (sum(arms.values()), len(arms)) for at, arms in lines.arms.items()}
    if not files:
        result.problems.append(Oddity("error", "the report names no file", number))
    elif path is not None:
        result.problems.append(
            Oddity("error", f"it is cut off at line {number}: the record of {path} has no end", number)
        )
    if bad:
        result.problems.append(Oddity("warning", f"{bad} lines without a usable number or hits", 0))
    if lying:
        said = counted(lying, "record whose total is", "records whose totals are")
        result.problems.append(Oddity("warning", f"{said} not the number of its lines; the lines count", 0))
    if unknown:
        result.problems.append(Oddity("warning", f"{unknown} lines of no known kind", 0))
    if files and not any(lines.hits for lines in files.values()) and result.error is None:
        result.problems.append(Oddity("error", "it names files, and not one line of them (no DA record)", 0))
    return result, files


def _line_hits(lines: Lines, text: str) -> bool:
    parts = text.split(",")
    try:
        number, hits = int(parts[0]), int(float(parts[1]))
    except (IndexError, ValueError, OverflowError):
        return False
    if not 0 < number <= MOST_LINE:
        return False
    lines.hit(number, hits)
    return True


def _function(lines: Lines, starts: dict[str, int], key: str, text: str) -> bool:
    """FN:line,[end,]name before FNDA:count,name; since version 2 FNL:index,line[,end] before FNA:index,count,name."""
    try:
        if key in ("FN", "FNL"):
            first, rest = text.split(",", 1)
            name, line = (first, rest.partition(",")[0]) if key == "FNL" else (rest, first)
            if key == "FN" and (end := rest.partition(","))[2] and number_of(end[0].strip()) is not None:
                name = end[2]
            starts[name.strip()] = int(line)
            if key == "FN":
                lines.called(int(line), name.strip(), 0)
        elif key == "FNDA":
            count, name = text.split(",", 1)
            lines.called(starts.get(name.strip(), 0), name.strip(), int(float(count)))
        else:
            index, count, name = text.split(",", 2)
            lines.called(starts.get(index.strip(), 0), name.strip(), int(float(count)))
    except (ValueError, OverflowError):
        return False
    return True


def _branch(lines: Lines, text: str) -> bool:
    parts = text.rsplit(",", 1)
    head = parts[0].split(",", 1)
    line = number_of(head[0].strip()) or 0
    if len(parts) != 2 or len(head) != 2 or not 0 < line <= MOST_LINE:
        return False
    branches = lines.arms.setdefault(line, {})
    branches[head[1]] = branches.get(head[1], False) or parts[1].strip() not in ("-", "0")
    return True


def _lines(chunks: Iterable[bytes]) -> Iterator[str]:
    rest, size = b"", 0
    for chunk in chunks:
        size += len(chunk)
        if size > MOST_BYTES:
            raise Refused(f"the file is larger than {MOST_BYTES:,} bytes")
        pieces = (rest + chunk).split(b"\n")
        rest = pieces.pop()
        if len(rest) > 1 << 20:
            raise Refused("one line is larger than 1 MiB")
        for piece in pieces:
            yield piece.decode("utf-8-sig", "replace")
    if rest:
        yield rest.decode("utf-8-sig", "replace")
