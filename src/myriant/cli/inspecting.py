"""What `myriant inspect` says: a puzzling report as the server would read it."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import asdict
from fractions import Fraction
from pathlib import Path
from typing import Any

import typer

from myriant.core.coverage.model import Totals
from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage
from myriant.core.results.model import Detail, Outcome, Results
from myriant.core.results.read import format_of, headed, read_results
from myriant.core.results.sarif import read_sarif
from myriant.core.written import counted, percent


def tell_results(files: list[Path], *, as_json: bool) -> None:
    _tell([_results(file) for file in files], as_json=as_json)


def tell_coverage(files: list[Path], *, as_json: bool) -> None:
    _tell([_coverage(file) for file in files], as_json=as_json)


def _results(file: Path) -> dict[str, Any]:
    read: Iterable[bytes]
    read, trouble = _chunks(file)
    if trouble:
        return (
            _unread(file, trouble)
            | dict.fromkeys(("total", "passed", "failed", "errored", "skipped"), 0)
            | {"cases": []}
        )
    head, read = headed(read)
    if format_of(head) == "sarif":
        return _analysis(file, read)
    form, found = read_results(read)
    return {
        "file": str(file),
        "format": form,
        "problems": [asdict(p) for p in found.problems],
        "total": len(found.outcomes),
        "passed": found.count(Outcome.PASSED) + found.count(Outcome.FLAKY),
        **{o.name.lower(): found.count(o) for o in (Outcome.FAILED, Outcome.ERRORED, Outcome.SKIPPED, Outcome.FLAKY)},
        "setups": found.setups,
        "properties": found.properties,
        "cases": [_case(found, i) for i in range(len(found.outcomes))],
    }


def _analysis(file: Path, read: Iterable[bytes]) -> dict[str, Any]:
    found = read_sarif(read, ("/workspace", str(Path.cwd())))
    shown = ("rule", "level", "path", "line", "message", "suppressed")
    return {
        "file": str(file),
        "format": "sarif",
        "problems": [asdict(p) for p in found.problems],
        "results": len(found.results),
        "findings": [{key: getattr(r, key) for key in shown} for r in found.results],
    }


def _case(found: Results, i: int) -> dict[str, Any]:
    seconds = found.seconds[i]
    detail = found.details.get(i, Detail())
    return {
        "suite": found.suites[i],
        "class": found.classes[i],
        "name": found.names[i],
        "outcome": Outcome(found.outcomes[i]).name.lower(),
        "seconds": seconds if seconds == seconds else None,
        "message": detail.message,
        "detail": detail.text,
        **({"attachments": detail.attachments} if detail.attachments else {}),
        **({"setup": True} if detail.setup else {}),
    }


def _coverage(file: Path) -> dict[str, Any]:
    read, trouble = _chunks(file)
    if trouble:
        return _unread(file, trouble) | asdict(Totals()) | {"by_file": []}
    form, found = read_coverage(read, Placing(("/workspace", str(Path.cwd()))))
    return {
        "file": str(file),
        "format": form,
        "problems": [asdict(p) for p in found.problems],
        **asdict(found.totals),
        "by_file": [
            {
                "path": path,
                "lines_valid": lines.totals.lines_valid,
                "lines_covered": lines.totals.lines_covered,
                "uncovered": lines.uncovered,
            }
            for path, lines in sorted(found.files.items())
        ],
    }


def _chunks(file: Path) -> tuple[Iterator[bytes], str]:
    try:
        if not file.is_file():
            return iter(()), "there is no such file" if not file.exists() else "it is no regular file"
        source = file.open("rb")
    except OSError as error:
        return iter(()), f"it cannot be read: {error.strerror}"
    return iter(lambda: source.read(1 << 18), b""), ""


def _unread(file: Path, trouble: str) -> dict[str, Any]:
    return {"file": str(file), "format": "unknown", "problems": [{"level": "error", "message": trouble, "line": 0}]}


def _tell(found: list[dict[str, Any]], *, as_json: bool) -> None:
    if as_json:
        typer.echo(json.dumps({"files": found}, ensure_ascii=False, indent=1))
    else:
        for one in found:
            typer.echo(_said(one))
    faulty = any(p["level"] == "error" for one in found for p in one["problems"])
    raise typer.Exit(1 if faulty else 0)


def _said(one: dict[str, Any]) -> str:
    lines = [f"{one['file']}: {one['format']}"]
    if "cases" in one:
        counts = ", ".join(f"{one[k]} {k}" for k in ("passed", "failed", "errored", "skipped"))
        lines.append(f"  {one['total']} tests: {counts}")
        lines += [
            f"  {c['outcome']}: {c['class'] or c['suite']} › {c['name']}: {c['message']}"
            for c in one["cases"]
            if c["outcome"] in ("failed", "errored")
        ]
    elif "findings" in one:
        lines.append(f"  {counted(one['results'], 'result')} of static analysis")
        lines += [
            f"  {f['level']}{' (suppressed)' if f['suppressed'] else ''}: {f['path']}:{f['line']}: {f['rule']}: "
            f"{f['message'].splitlines()[0] if f['message'] else ''}"
            for f in one["findings"]
        ]
    else:
        totals = _share(one["lines_covered"], one["lines_valid"])
        lines.append(f"  {one['lines_covered']} of {one['lines_valid']} lines covered{totals}")
        lines += [
            f"  {f['path']}: {f['lines_covered']} of {f['lines_valid']}; not covered: {_ranges(f['uncovered'])}"
            for f in one["by_file"]
            if f["uncovered"]
        ]
    for p in one["problems"]:
        where = f" (line {p['line']})" if p["line"] else ""
        lines.append(f"  {p['level']}: {p['message']}{where}")
    return "\n".join(lines)


def _share(covered: int, valid: int) -> str:
    return f" ({percent(Fraction(covered, valid))})" if valid else ""


def _ranges(numbers: list[int]) -> str:
    """Line numbers with neighbours joined: 3-5, 9."""
    parts: list[list[int]] = []
    for number in numbers:
        if parts and number == parts[-1][1] + 1:
            parts[-1][1] = number
        else:
            parts.append([number, number])
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in parts)
