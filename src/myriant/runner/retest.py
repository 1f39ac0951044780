"""Running failed tests again within an attempt: which failed, how they are named, what they write."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from myriant.core.results.identity import identities, identity_key
from myriant.core.results.model import Detail, Outcome
from myriant.core.results.read import read_results

_PIECE = 1 << 18
Locate = Callable[[Sequence[str]], Mapping[str, tuple[str, list[str]]]]  # file and rest of class names
FailedTest = dict[str, str]  # its file, class, name and suite; `key` is its identity's, hexadecimal


@dataclass(frozen=True, slots=True)
class Told:
    """What a report says, by the keys of its tests."""

    present: set[str]
    passed: set[str]
    failed: list[FailedTest]


def read(report: Path, kind: str, job: str, locate: Locate) -> Told:
    """The tests of a report of a kind.

    A report without file names has them found by its class names (`locate`): `tests.test_tide.TestLow` lies in
    `tests/test_tide.py`, and what is left of it comes before the name: `TestLow::test_turn`.
    """
    _, results = read_results(_pieces(report))
    keys = [identity_key(job, identity).hex() for identity in identities(kind, results)]
    bad = [i for i, outcome in enumerate(results.outcomes) if outcome in (Outcome.FAILED, Outcome.ERRORED)]
    files = {i: results.details.get(i, Detail()).file for i in bad}
    found = locate(sorted({results.classes[i] for i in bad if not files[i]}))
    failed = []
    for i in bad:
        suite, klass, name = results.suites[i], results.classes[i], results.names[i]
        file, within = (files[i], []) if files[i] else found.get(klass, ("", []))
        failed.append(
            {"file": file, "class": klass, "name": "::".join([*within, name]), "suite": suite, "key": keys[i]}
        )
    good = (Outcome.PASSED, Outcome.FLAKY)
    passed = {key for key, outcome in zip(keys, results.outcomes, strict=True) if outcome in good}
    return Told(set(keys), passed, failed)


def listed(tests: Sequence[FailedTest], each: str) -> str:
    """The file for $MYRIANT_RETEST: one failed test a line, written by `each`."""
    lines = []
    for test in tests:
        line = each
        for key, value in test.items():
            line = line.replace("{" + key + "}", value)
        lines.append(line.replace("\n", " "))
    return "".join(line + "\n" for line in dict.fromkeys(lines))


def beside(globs: Sequence[str]) -> list[str]:
    """Globs for what a retest may write: the same reports, and new files beside them with the same ending."""
    return list(
        dict.fromkeys([*globs, *(str(PurePosixPath(g).with_name("*" + PurePosixPath(g).suffix)) for g in globs)])
    )


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as source:
        while piece := source.read(_PIECE):
            yield piece
