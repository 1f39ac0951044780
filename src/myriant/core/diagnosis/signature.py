"""Signatures: what is left of a failure when the incidental is taken out; failures of one cause share one.

Exact: equal exception, normalised message and innermost own place. Near: exact signatures whose words, weighted by
their rarity (inverse document frequency), mostly agree; candidates come from MinHash bands (Broder 1997, "On the
resemblance and containment of documents"), so the time is close to linear. Everything is deterministic.
"""

from __future__ import annotations

import hashlib
import itertools
import math
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from myriant.core.diagnosis.frames import Frame, frames_of

MOST_MESSAGE = 4000
NEAR = 0.6  # weighted resemblance from which two signatures are one cause
_BANDS, _ROWS = 24, 2
_SMOOTH = 50  # signatures that are thought of besides, so that among few a common word still counts

_COLOUR = re.compile(r"#x1B\[\d+(?:;\d+)*m|\x1b\[[0-9;:]*[A-Za-z]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)")
_INCIDENTAL = re.compile(
    r"(?P<time>\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?|\b\d\d:\d\d:\d\d(?:[.,]\d+)?)"
    r"|(?P<id>\b[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}\b"
    r"|\b(?=[0-9a-fA-F]*\d)(?=[0-9a-fA-F]*[a-fA-F])[0-9a-fA-F]{7,}\b)"
    r"|(?P<address>\b0[xX][0-9a-fA-F]+\b)"
    r"|(?P<path>(?:[A-Za-z]:)?(?:[/\\](?:tmp|temp|var|private|workspace|home|Users|root|build|proc|run)[/\\][^\s'\"():,;\]]*))"
    r"|(?P<duration>\b\d+(?:[.,]\d+)*\s?(?:ms|µs|us|ns|s|sec|seconds|min|minutes|bytes|[KMG]i?B)\b)"
    r"|(?P<number>(?<=[A-Za-z_])\d+(?![A-Za-z_])|(?<![A-Za-z_])[-+]?\d+(?:[.,:_]\d+)*(?:[eE][-+]?\d+)?)"
)
_WORD = re.compile(r"[A-Za-z_][\w.]*|<\w+>|[^\w\s]")
_KIND = re.compile(
    r"^(?:E\s+)?(?:Caused by: |Traceback[^\n]*\n)?((?:[A-Za-z_][\w$]*[.:]{1,2})*[A-Z][\w$]*(?:Error|Exception|Failure|Failed|Warning|"
    r"Panic|Exit|Interrupt|Fault|Timeout))\b",
    re.MULTILINE,
)
_ASSERTIONS = re.compile(
    r"Assert|Expectation|ComparisonFailure|failure$|^REQUIRE|^CHECK|TestFailed|testCodeFailure|Failed$|^E$",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Signature:
    """`kind` is the exception or empty; `words` the normalised message; `place` the innermost own file and function."""

    kind: str
    words: str
    place: str
    scope: str  # the test class, for an assertion whose words say little
    digest: str  # 24 hexadecimal digits, equal for equal signatures
    headline: str  # for people


def normalised(text: str) -> str:
    """A message without colours, numbers, times, addresses, ids and temporary paths.

    >>> normalised("gauge 17 at 0x7f3a in /tmp/pytest-3/x.db after 12.5 ms")
    'gauge <number> at <address> in <path> after <duration>'
    """
    plain = _COLOUR.sub("", text[:MOST_MESSAGE])
    return " ".join(_INCIDENTAL.sub(lambda m: f"<{m.lastgroup}>", plain).split())


def signature_of(
    message: str, text: str, type_: str = "", scope: str = "", roots: Sequence[str] = ("/workspace",)
) -> Signature:
    """The signature of one failure. `scope` is the test's class or suite, which tells poor assertions apart.

    `roots` are folders where the workspace lay.
    """
    plain = _COLOUR.sub("", message[:MOST_MESSAGE])
    detail = text[: 16 * MOST_MESSAGE]
    kind = _kind(type_, plain, detail)
    if (within := _WITHIN.match(plain)) is not None:
        plain = within[1]
    if not plain.strip() or plain.strip() == type_ or _EMPTY_LINE.fullmatch(plain.strip()):
        plain = _told(detail, kind) or plain
    words = normalised(plain)
    words = words.removeprefix(f"{kind}: ").removeprefix(f"{kind.rpartition('.')[2]}: ") if kind else words
    own = [f for f in frames_of(detail or message, roots) if f.own]
    place = _place(own)
    poor = bool(_ASSERTIONS.search(kind) or not kind) and (not place or own[0].of_test)
    place = "" if poor else place
    scope = scope if poor and _says_little(words) else ""
    parts = "\0".join((kind, words, place, scope))
    digest = hashlib.blake2b(parts.encode("utf-8", "replace"), digest_size=12).hexdigest()
    first = next((line.strip() for line in plain.splitlines() if line.strip()), "") or kind or "it does not say why"
    return Signature(kind, words, place, scope, digest, first[:500])


_WITHIN = re.compile(r'failed on (?:setup|teardown) with "(.+)"$', re.DOTALL)
_EMPTY_LINE = re.compile(
    r"(?:test )?(?:failure|error|failed|exception|none)|unexpected exception|Traceback \(most recent call last\):"
    r"|stack traceback:|[A-Z ]+:|[Tt]raceback[^\n]*",
    re.IGNORECASE,
)
_EMPTY = {"failure", "error", "failed", "test failure", "test failed", "none", "exception", "unexpected exception"}


def _kind(type_: str, message: str, detail: str) -> str:
    if (
        type_
        and type_.lower() not in _EMPTY
        and not _ASSERTIONS.search(type_)
        and " " not in type_
        and "#" not in type_
    ):
        return type_[:200]
    found = _KIND.search(message) or _last(_KIND, detail[-8000:])
    if found is not None:
        return found[1][:200]
    return type_[:200] if " " not in type_ else ""


def _last(pattern: re.Pattern[str], text: str) -> re.Match[str] | None:
    found = None
    for found in itertools.islice(pattern.finditer(text), 50):  # noqa: B007  # the last one is wanted
        pass
    return found


def _told(detail: str, kind: str) -> str:
    """What a stack says of its reason when the message is empty: the line of the exception, or its first words."""
    lines = [line.strip() for line in detail.splitlines() if line.strip()]
    short = kind.rpartition(".")[2]
    if short:
        for line in reversed(lines):
            if line.removeprefix("E ").strip().startswith((kind, short)):
                return line.removeprefix("E ").strip()
    skipped = ("Traceback", "traceback", "File ", "at ", "#", "stack traceback", "- file", "- line")
    return next((x for x in lines if not x.startswith(skipped) and not _EMPTY_LINE.fullmatch(x)), "")


def _place(own: Sequence[Frame]) -> str:
    """The innermost own frame that is no test's, else the innermost: its file and function, never its line."""
    frame = next((f for f in own if not f.of_test), own[0] if own else None)
    return "" if frame is None else f"{frame.file}:{frame.name}".rstrip(":")


def _says_little(words: str) -> bool:
    """Whether a message has hardly a word beside values and the words that every comparison has."""
    told = {w.lower() for w in re.findall(r"[A-Za-z]{3,}", re.sub(r"<\w+>", "", words))}
    return len(told - _COMPARING) < 2


_COMPARING = {
    "expected",
    "expect",
    "actual",
    "got",
    "was",
    "but",
    "received",
    "found",
    "have",
    "want",
    "wanted",
    "value",
    "values",
    "equal",
    "equals",
    "deeply",
    "strictly",
    "assert",
    "asserterror",
    "assertionerror",
    "that",
    "are",
    "not",
    "the",
    "same",
    "true",
    "false",
    "none",
    "null",
    "and",
    "does",
    "match",
    "given",
    "should",
    "compare",
    "compared",
    "comparison",
    "failed",
    "failure",
    "left",
    "right",
    "than",
    "less",
    "greater",
    "more",
    "following",
    "check",
}


@dataclass(frozen=True, slots=True)
class Group:
    """One cause: the failures in it by index, and why they are together."""

    members: tuple[int, ...]
    because: str


def group(failures: Sequence[Signature]) -> list[Group]:
    """Failures grouped by cause, each group's members and the groups in the order of their first member."""
    by_digest: dict[str, list[int]] = {}
    for i, s in enumerate(failures):
        by_digest.setdefault(s.digest, []).append(i)
    distinct = [failures[members[0]] for members in by_digest.values()]
    every = list(by_digest.values())
    parent = list(range(len(distinct)))

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    reasons: dict[int, str] = {}
    for one, other, why in _near(distinct):
        a, b = sorted((root(one), root(other)))
        if a != b:
            parent[b] = a
            reasons.setdefault(a, why)
    together: dict[int, list[int]] = {}
    for i in range(len(distinct)):
        together.setdefault(root(i), []).append(i)
    found = []
    for first, parts in together.items():
        members = sorted(m for part in parts for m in every[part])
        found.append(Group(tuple(members), _because(distinct[first], len(members), reasons.get(first, ""))))
    return sorted(found, key=lambda g: g.members[0])


def _because(s: Signature, count: int, near: str) -> str:
    if count == 1:
        return ""
    same = [
        f"the same {s.kind}" if s.kind else "",
        "the same message without numbers, paths and times",
        f"raised in {s.place}" if s.place else "",
        f"in {s.scope}" if s.scope else "",
    ]
    told = ", ".join(filter(None, same))
    return f"{told}; others because {near}" if near else told


def _near(distinct: Sequence[Signature]) -> list[tuple[int, int, str]]:
    """Pairs of signatures that are one cause, with the reason."""
    if len(distinct) < 2:
        return []
    found: list[tuple[int, int, str]] = []
    by_place: dict[tuple[str, str], int] = {}
    by_words: dict[tuple[str, str], int] = {}
    for i, s in enumerate(distinct):
        if (
            s.place
            and s.kind
            and (first := by_place.setdefault((s.kind, s.place), i)) != i
            and _alike(distinct[first], s)
        ):
            found.append((first, i, f"the same {s.kind} was raised in {s.place}"))
        if not s.scope and not _says_little(s.words) and (first := by_words.setdefault((s.kind, s.words), i)) != i:
            found.append((first, i, "the message is the same, raised elsewhere"))
    tokens = [frozenset(_WORD.findall(s.words)) | ({f"@{s.place}"} if s.place else set()) for s in distinct]
    seen = Counter(itertools.chain.from_iterable(tokens))
    total = len(distinct)
    weight = {
        t: math.log(1 + (total + _SMOOTH) / n) if t[0].isalpha() or t[0] == "@" else 0.05 for t, n in seen.items()
    }
    for one, other in sorted(_candidates(tokens)):
        a, b = distinct[one], distinct[other]
        if a.kind != b.kind or a.scope != b.scope or (a.place and b.place and a.place != b.place):
            continue
        shared = math.fsum(weight[t] for t in tokens[one] & tokens[other])
        whole = math.fsum(weight[t] for t in tokens[one] | tokens[other])
        if whole and shared / whole >= NEAR:
            found.append(
                (one, other, f"{round(100 * shared / whole)} % of the words agree, the rare ones weighing most")
            )
    return found


def _alike(one: Signature, other: Signature) -> bool:
    """Whether two messages of one place share at least a third of their words: one function may fail in many ways."""
    a, b = set(one.words.lower().split()), set(other.words.lower().split())
    return len(a & b) * 3 >= len(a | b) or _says_little(one.words) or _says_little(other.words)


def _candidates(tokens: Sequence[frozenset[str]]) -> set[tuple[int, int]]:
    """Pairs that share a band of their MinHash: with a resemblance of 0.6 nearly all, of 0.2 about half."""
    known: dict[str, int] = {}
    random = np.random.default_rng(20261123)
    prime = np.uint64((1 << 61) - 1)
    a = random.integers(1, 1 << 30, _BANDS * _ROWS, dtype=np.uint64)
    b = random.integers(0, 1 << 30, _BANDS * _ROWS, dtype=np.uint64)
    buckets: dict[tuple[int, bytes], list[int]] = {}
    for i, words in enumerate(tokens):
        if not words:
            continue
        for w in words:
            if w not in known:
                known[w] = int.from_bytes(
                    hashlib.blake2b(w.encode("utf-8", "replace"), digest_size=4).digest(), "little"
                )
        hashes = np.fromiter((known[w] for w in words), np.uint64, len(words))
        least = ((hashes[:, None] * a + b) % prime).min(axis=0).reshape(_BANDS, _ROWS)
        for band in range(_BANDS):
            buckets.setdefault((band, least[band].tobytes()), []).append(i)
    pairs: set[tuple[int, int]] = set()
    for members in buckets.values():
        if len(members) > 1:
            pairs.update(itertools.pairwise(members[:2000]))
            pairs.update((members[0], m) for m in members[1:2000])
    return pairs
