"""Causes that their messages tell apart, and that are one all the same."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from myriant.core.diagnosis.frames import frames_of
from myriant.core.diagnosis.naming import named_in
from myriant.core.diagnosis.signature import Group, Signature
from myriant.core.diagnosis.suspects import is_named_after
from myriant.store.results import Shown

Ran = Mapping[tuple[str, str], NDArray[np.bool_]]


@dataclass(frozen=True, slots=True)
class Failed:
    """One result that did not pass, with what the comparison says of it."""

    shown: Shown
    cell: tuple[str, str]
    mark: str
    signature: Signature
    roots: tuple[str, ...]


def joined(
    failed: Sequence[Failed],
    groups: Sequence[Group],
    ran: Ran,
    changed: Callable[[], Mapping[str, Collection[str]]],
) -> list[Group]:
    """Groups of failures with those joined that are one cause: all new, in just the same cells, and either of one test
    file by one exception while their tests pass in other cells; or naming one function that has changed; or pointing to
    one file that has changed, while their tests pass in other cells. None joins two others.
    """
    new: dict[frozenset[tuple[str, str]], list[int]] = {}
    for i, g in enumerate(groups):
        if all(failed[m].mark == "new" for m in g.members):
            new.setdefault(frozenset(failed[m].cell for m in g.members), []).append(i)
    into: dict[int, int] = {}
    whys: dict[int, str] = {}
    functions: Mapping[str, Collection[str]] | None = None  # asked for once, as it costs

    def join(rows: Sequence[int], key: Callable[[int], object], why: Callable[[object], str]) -> list[int]:
        """Those of one key are one; what is left of the rows."""
        first: dict[object, int] = {}
        for i in rows:
            if (told := key(i)) and (at := first.setdefault(told, i)) != i:
                into[i], whys[at] = at, why(told)
        return [i for i in rows if i not in into]

    for cells, rows in new.items():
        if len(rows) < 2:
            continue
        apart = {i: not _is_everywhere(failed[groups[i].members[0]], cells, ran) for i in rows}
        files = {i: _test_file([failed[m] for m in groups[i].members]) if apart[i] else None for i in rows}
        left = join(rows, files.__getitem__, lambda _: "they are of one file and fail in just the same cells")
        if len(left) > 1 and functions is None:
            functions = changed()
        if not functions:
            continue
        names = _names({i: _text(failed[groups[i].members[0]]) for i in left}, functions)
        left = join(
            left, names.get, lambda name: f"they name {name}, which has changed, and fail in just the same cells"
        )
        points = {i: _pointed(failed[groups[i].members[0]], functions) if apart[i] else None for i in left}
        join(left, points.get, lambda path: f"they point to {path}, which has changed, and fail in just the same cells")
    members: dict[int, list[int]] = {}
    for i, g in enumerate(groups):
        members.setdefault(into.get(i, i), []).extend(g.members)
    return [Group(tuple(sorted(every)), whys.get(i, groups[i].because)) for i, every in members.items()]


def _is_everywhere(f: Failed, cells: Collection[tuple[str, str]], ran: Ran) -> bool:
    """Whether a failure's test ran in no other cell of its job."""
    number = f.shown.number
    return {c for c, flags in ran.items() if c[0] == f.cell[0] and flags[number : number + 1].any()} <= set(cells)


def _test_file(members: Sequence[Failed]) -> tuple[str, str, str] | None:
    """The one test file and exception of a cause."""
    first = members[0]
    one = len({f.shown.klass for f in members}) == 1
    return (first.shown.suite, first.shown.klass, first.signature.kind or "-") if one else None


def _text(f: Failed) -> str:
    return f"{f.shown.message}\n{f.shown.detail}"


def _names(texts: Mapping[int, str], functions: Mapping[str, Collection[str]]) -> dict[int, str]:
    """Of the changed functions that each text names, the one that most of them name."""
    every = {name for names in functions.values() for name in names}
    named = {i: named_in(text, every) for i, text in texts.items()}
    counts = Counter(name for names in named.values() for name in names)
    return {i: max(names, key=lambda n: (counts[n], n)) for i, names in named.items() if names}


def _pointed(f: Failed, changed: Iterable[str]) -> str | None:
    """The one changed file that a failure's stack names, or that its test is named after."""
    stack = {frame.file for frame in frames_of(f.shown.detail or f.shown.message, f.roots) if frame.own}
    tests = (f.shown.extra.get("file", ""), *f.shown.klass.split("."))
    found = {p for p in changed if p in stack or any(is_named_after(test, p) for test in tests if test)}
    return found.pop() if len(found) == 1 else None
