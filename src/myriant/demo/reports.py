"""Reports for the demo's past, in the formats that its test runners write."""

from __future__ import annotations

import ast
import random
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape, quoteattr

from myriant.core.results.model import Results


@dataclass(frozen=True, slots=True)
class Case:
    suite: str
    klass: str
    name: str
    seconds: float


@dataclass(frozen=True, slots=True)
class Fault:
    """A case that did not pass: `kind` is "failure" or "error"."""

    kind: str
    message: str
    detail: str


def cases_of(results: Results) -> list[Case]:
    """The cases of a real report, as the pattern for those of the past."""
    rows = zip(results.suites, results.classes, results.names, results.seconds, strict=True)
    return [Case(s, k, n, t if t == t else 0.0) for s, k, n, t in rows]


def junit(cases: Sequence[Case], faults: Mapping[str, Fault], luck: random.Random, slower: float = 1.0) -> bytes:
    """A JUnit XML report of these cases, with times around those of the pattern."""
    by_suite: dict[str, list[str]] = {}
    for case in cases:
        seconds = max(0.0001, case.seconds * slower * luck.lognormvariate(0, 0.12))
        head = f'<testcase classname={quoteattr(case.klass)} name={quoteattr(case.name)} time="{seconds:.4f}"'
        fault = faults.get(case.name)
        if fault is None:
            row = f"{head}/>"
        else:
            row = f"{head}><{fault.kind} message={quoteattr(fault.message)}>{escape(fault.detail)}</{fault.kind}></testcase>"
        by_suite.setdefault(case.suite, []).append(row)
    suites = "".join(
        f'<testsuite name={quoteattr(suite)} tests="{len(rows)}">{"".join(rows)}</testsuite>'
        for suite, rows in by_suite.items()
    )
    return f'<?xml version="1.0" encoding="UTF-8"?><testsuites>{suites}</testsuites>'.encode()


def cobertura(sources: Mapping[str, str], never_imported: Collection[str]) -> bytes:
    """A Cobertura report of Python sources: every statement covered, but for the files that no test imports."""
    classes = []
    for path, text in sorted(sources.items()):
        hits = 0 if path in never_imported else 1
        lines = "".join(f'<line number="{line}" hits="{hits}"/>' for line in _statements(text))
        classes.append(f'<class name="{path}" filename="{path}"><methods/><lines>{lines}</lines></class>')
    body = "".join(classes)
    return (
        '<?xml version="1.0" ?><coverage version="1"><sources><source>/workspace/tidebook</source></sources>'
        f'<packages><package name="."><classes>{body}</classes></package></packages></coverage>'
    ).encode()


def _statements(text: str) -> list[int]:
    """The lines on which statements of a Python source begin, without documentation."""
    found: set[int] = set()

    def visit(nodes: Sequence[ast.stmt]) -> None:
        for i, node in enumerate(nodes):
            documentation = i == 0 and isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
            if not documentation:
                found.add(node.lineno)
            for part in ("body", "orelse", "finalbody"):
                visit(getattr(node, part, []))

    visit(ast.parse(text).body)
    return sorted(found)
