"""Less than before: tests that vanished or are newly skipped, by job and over all its cells.

A test vanishes with its last result in a job, not with one cell; cells that cannot be compared prove nothing. It is
*removed* where its name stood in the sources at the baseline and stands there no more; a name that never stood there
(made by a program) proves nothing, so its test counts as vanished.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from myriant.core.diagnosis.compare import CellName, RunOutcomes, sized
from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes


@dataclass(frozen=True, slots=True)
class Less:
    """By job, the numbers of tests."""

    vanished: Mapping[str, list[int]] = field(default_factory=dict)
    newly_skipped: Mapping[str, list[int]] = field(default_factory=dict)


def counterparts(
    now: Mapping[CellName, Mapping[str, str]], before: Mapping[CellName, Mapping[str, str]]
) -> dict[CellName, CellName]:
    """For each cell the cell of the baseline it is compared with: of the same values, else without added dimensions."""
    found: dict[CellName, CellName] = {}
    of_job: dict[str, list[tuple[CellName, Mapping[str, str]]]] = {}
    for name, values in before.items():
        of_job.setdefault(name[0], []).append((name, values))
    for name, values in now.items():
        if name in before:
            found[name] = name
            continue
        fitting = [
            other
            for other, then in of_job.get(name[0], ())
            if len(then) < len(values) and then.items() <= values.items()
        ]
        if fitting:
            found[name] = max(fitting, key=lambda other: len(before[other]))
    return found


def less(now: RunOutcomes, before: RunOutcomes, pairs: Mapping[CellName, CellName], ended: Collection[str]) -> Less:
    """What of the baseline's tests has no result any more, or is skipped where it passed.

    `before` is by the baseline's cells, `pairs` as `counterparts` gives them, `ended` are the jobs all of whose
    cells gave a result: in another one a test may still be about to come.
    """
    vanished: dict[str, list[int]] = {}
    skipped: dict[str, list[int]] = {}
    size = max((len(o) for o in (*now.values(), *before.values())), default=0)
    for job in dict.fromkeys(name[0] for name in now):
        here = {name: sized(o, size) for name, o in now.items() if name[0] == job}
        then = {name: sized(before[pairs[name]], size) for name in here if name in pairs and pairs[name] in before}
        if not then:
            continue
        present = _any([o != Outcome.ABSENT for o in here.values()], size)
        known = _any([o != Outcome.ABSENT for o in then.values()], size)
        if job in ended:
            vanished[job] = np.flatnonzero(known & ~present).tolist()
        newly = [
            ((then[n] == Outcome.PASSED) | (then[n] == Outcome.FLAKY)) & (here[n] == Outcome.SKIPPED) for n in then
        ]
        skipped[job] = np.flatnonzero(_any(newly, size)).tolist()
    return Less({j: t for j, t in vanished.items() if t}, {j: t for j, t in skipped.items() if t})


def _any(flags: Sequence[np.ndarray[tuple[int, ...], np.dtype[np.bool_]]], size: int) -> Outcomes:
    found = np.zeros(size, np.bool_)
    for one in flags:
        found |= one
    return found  # type: ignore[return-value]  # flags are bytes as outcomes are


def removed(
    tests: Mapping[int, tuple[str, str, str]],
    stood: Mapping[str, Collection[str]],
    stands: Mapping[str, Collection[str]],
) -> set[int]:
    """Which vanished tests were taken out of the sources.

    `tests` are suite, class and name by number; `stood` and `stands` say in which files a name is found at the
    baseline and now, a file's own path in itself (linters name their tests so). Where suite, class or name tell the
    file, only that one counts, as other files may use the same name; and a file in which it newly stands: it moved to
    where it is not run.
    """
    gone: set[int] = set()
    for number, (suite, klass, name) in tests.items():
        token = name_token(name)
        then = set(stood.get(token, ()))
        if not token or not then:
            continue
        told = {f for f in then if f == token or tells_file(f, suite, klass)}
        counts = told or {f for f in then if is_test_file(f)} or {f for f in then if not _is_prose(f)} or then
        now = set(stands.get(token, ()))
        newly = {f for f in now - then if not _is_prose(f)}
        if not counts & now and not newly:
            gone.add(number)
    return gone


_TESTS = re.compile(r"(^|/)(tests?|t|specs?|testing|__tests__|[^/]+[-_]tests?|it|e2e|integration)/", re.IGNORECASE)
_TEST_NAME = re.compile(r"(^|[._-])(tests?|specs?)([._-]|$)|(Tests?|Spec|IT)\.\w+$|^Test[A-Z]")
_PROSE = re.compile(
    r"(^|/)docs?/|\.(md|rst|adoc|txt|html?)$|(^|/)(changes|changelog|news|history|readme)[^/]*$", re.IGNORECASE
)


def is_test_file(path: str) -> bool:
    """Whether a path is one of tests, as repositories commonly name them."""
    return bool(_TESTS.search(path) or _TEST_NAME.search(path.rpartition("/")[2])) and not _is_prose(path)


def _is_prose(path: str) -> bool:
    return bool(_PROSE.search(path))


def name_token(name: str) -> str:
    """What of a test's name stands in its source: without the parameters that a framework adds."""
    return name.split("[", 1)[0].split("(", 1)[0].strip()


def tells_file(file: str, suite: str, klass: str) -> bool:
    """Whether a test's suite or class tells that it stands in a file."""
    return _tells(file, suite) or _tells(file, klass)


def _tells(file: str, path: str) -> bool:
    """Whether a suite or class names a file: `tests/test_a.py`, `tests.test_a.TestIt`, `test_a`."""
    if not path:
        return False
    stem = file.rsplit(".", 1)[0]
    dotted, told = stem.replace("/", "."), path.replace("\\", "/").replace("::", ".")
    return (
        told == file
        or file.endswith("/" + told)
        or told.endswith("/" + file)
        or f".{told}.".startswith(f".{dotted}.")
        or f".{told}.".find(f".{stem.rsplit('/', 1)[-1]}.") >= 0
    )
