"""Merged coverage as text that other tools read."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from xml.etree.ElementTree import Element, SubElement, tostring

from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.written import plain


def table(files: Mapping[str, FileCoverage]) -> str:
    """As CSV, a line a file."""
    out = io.StringIO()
    rows = csv.writer(out)
    units = ("lines", "branches", "functions")
    rows.writerow(["path", *(heading for of in units for heading in (f"{of} covered", of))])
    for path, file in sorted(files.items()):
        t = file.totals
        rows.writerow([_cell(path), *(getattr(t, f"{of}_{n}") for of in units for n in ("covered", "valid"))])
    return out.getvalue()


def _cell(text: str) -> str:
    """A text that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else plain(text)


def lcov(files: Mapping[str, FileCoverage]) -> str:
    """As an LCOV tracefile (geninfo(1))."""
    return "".join(_lcov(path, file) for path, file in sorted(files.items()))


def _lcov(path: str, file: FileCoverage) -> str:
    branches = [f"BRDA:{n},0,{i},{1 if i < taken else 0}" for n, taken, valid in _branches(file) for i in range(valid)]
    lines = [f"DA:{n},{hits}" for n, hits in zip(file.lines.tolist(), file.hits.tolist(), strict=True)]
    shown = plain(path).replace("\n", "␊")
    named = [(f, " ".join(plain(f.name).split())) for f in file.functions]
    functions = [f"FN:{f.line},{name}\nFNDA:{f.hits},{name}" for f, name in named]
    return "\n".join([f"SF:{shown}", *functions, *branches, *lines, "end_of_record", ""])


def _branches(file: FileCoverage) -> Iterator[tuple[int, int, int]]:
    """Line, how many of its branches were taken, how many it has."""
    columns = (file.branch_lines.tolist(), file.branches_covered.tolist(), file.branches_valid.tolist())
    yield from zip(*columns, strict=True)


def cobertura(files: Mapping[str, FileCoverage]) -> str:
    """As the document type coverage-04 says: a package a folder, a class a file."""
    totals = sum((f.totals for f in files.values()), Totals())
    top = Element("coverage", {**_rates(totals), "version": "", "timestamp": "0", "complexity": "0"})
    SubElement(SubElement(top, "sources"), "source").text = "."
    packages = SubElement(top, "packages")
    by_folder: dict[str, list[str]] = {}
    for path in sorted(files):
        by_folder.setdefault(plain(path).rpartition("/")[0], []).append(path)
    for folder, paths in by_folder.items():
        whole = sum((files[p].totals for p in paths), Totals())
        package = SubElement(
            packages, "package", {"name": folder.replace("/", "."), **_rates(whole), "complexity": "0"}
        )
        classes = SubElement(package, "classes")
        for path in paths:
            _class(classes, path, files[path])
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(top, encoding="unicode") + "\n"


def _class(classes: Element, path: str, file: FileCoverage) -> None:
    name = {"name": plain(path).rpartition("/")[2], "filename": plain(path), **_rates(file.totals), "complexity": "0"}
    one = SubElement(classes, "class", name)
    methods = SubElement(one, "methods")
    for function in file.functions:
        told = {
            "name": plain(function.name),
            "signature": "",
            "line-rate": str(int(function.hits > 0)),
            "branch-rate": "0",
        }
        rows = SubElement(SubElement(methods, "method", told), "lines")
        if function.line:
            SubElement(rows, "line", {"number": str(function.line), "hits": str(function.hits)})
    branches = {n: (taken, valid) for n, taken, valid in _branches(file)}
    lines = SubElement(one, "lines")
    for n, hits in zip(file.lines.tolist(), file.hits.tolist(), strict=True):
        row = SubElement(lines, "line", {"number": str(n), "hits": str(hits)})
        taken, valid = branches.get(n, (0, 0))
        if valid:
            row.set("branch", "true")
            row.set("condition-coverage", f"{taken * 100 // valid}% ({taken}/{valid})")


def _rates(totals: Totals) -> dict[str, str]:
    line, branch = totals.share("lines"), totals.share("branches")
    return {"line-rate": f"{float(line or 0):.6f}", "branch-rate": f"{float(branch or 0):.6f}"}
