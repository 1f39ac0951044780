"""Failures of known causes, made with noise, and how well they are grouped."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Sequence

_SUBJECTS = [
    "gauge",
    "station",
    "harbour",
    "mole",
    "quay",
    "buoy",
    "lock",
    "gate",
    "lamp",
    "chart",
    "datum",
    "tide",
    "table",
    "almanac",
    "logbook",
    "pilot",
    "ferry",
    "crane",
    "winch",
    "pump",
    "valve",
    "sensor",
    "anchor",
    "channel",
    "sluice",
    "beacon",
    "ledger",
    "roster",
    "berth",
    "cargo",
    "manifest",
    "sounding",
    "weir",
    "dredger",
    "jetty",
]
_VERBS = [
    "open",
    "read",
    "close",
    "save",
    "load",
    "parse",
    "send",
    "find",
    "lock",
    "count",
    "sort",
    "merge",
    "check",
    "print",
    "wait",
    "drain",
    "raise",
    "lower",
    "tow",
    "moor",
]
_TROUBLES = (
    "is stuck",
    "was refused",
    "has no entry for {w}",
    "is not open",
    "timed out after {n} ms",
    "returned {n}",
    "lost {n} of {n} records",
    "is locked by {id}",
    "cannot be found in {path}",
    "has version {n}.{n}, not {n}.{n}",
    "was closed at {time}",
    "needs {n} bytes, {n} are left",
    "gave {w} where a number was expected",
    "is not a {w}",
)
_KINDS = (
    "OSError",
    "KeyError",
    "ValueError",
    "RuntimeError",
    "java.lang.IllegalStateException",
    "TypeError",
    "PumpError",
)


def _noise(rng: random.Random, text: str) -> str:
    while "{" in text:
        text = text.replace("{n}", str(rng.randrange(10_000)), 1)
        text = text.replace("{id}", f"{rng.getrandbits(64):016x}", 1)
        text = text.replace("{path}", f"/tmp/run-{rng.randrange(10**6)}/{rng.getrandbits(20):x}.db", 1)
        text = text.replace(
            "{time}", f"2026-11-{rng.randrange(1, 29):02d}T{rng.randrange(24):02d}:12:07.{rng.randrange(999)}Z", 1
        )
    return text


def causes(count: int, rng: random.Random) -> list[tuple[str, str, str, str, str]]:
    """Kind, message, file, function and shape of that many causes; a fifth are assertions with nothing but values."""
    made: dict[tuple[str, str], tuple[str, str, str, str, str]] = {}
    while len(made) < count:
        a, b, verb = rng.choice(_SUBJECTS), rng.choice(_SUBJECTS), rng.choice(_VERBS)
        file, function = f"tidebook/{a}/{verb}.py", f"{verb}_{b}"
        if len(made) % 5 == 0:
            made[("values", f"{a}.{b}")] = ("AssertionError", "", f"tests/test_{a}_{b}.py", f"test_{verb}", "values")
            continue
        trouble = rng.choice(_TROUBLES).replace("{w}", rng.choice(_SUBJECTS), 1)
        shape = "free" if len(made) % 7 == 0 else "raised"
        made[(file + function, trouble)] = (
            rng.choice(_KINDS),
            f"{verb}: the {b} of {a} {trouble}",
            file,
            function,
            shape,
        )
    return list(made.values())


def failure(cause: tuple[str, str, str, str, str], rng: random.Random) -> tuple[str, str, str, str]:
    """Message, text, type and class of one failure of a cause."""
    kind, message, file, function, shape = cause
    test = f"tests/test_{rng.choice(_SUBJECTS)}.py"
    if shape == "values":
        left, right = rng.randrange(1000), rng.randrange(1000, 2000)
        said = f"AssertionError: assert {left} == {right}"
        return said, f"{file}:{rng.randrange(9, 90)}: in {function}\nE   {said}", "", file[:-3].replace("/", ".")
    said = _noise(rng, message)
    if shape == "free" and rng.random() < 0.5:  # a library words it a little differently each time
        said = said.replace("the ", "that ", 1) + rng.choice(("", " (again)", "; giving up", ", see the log"))
    lines = "\n".join(
        f'  File "/opt/python/lib/python3.12/{m}.py", line {rng.randrange(900)}, in call'
        for m in ("asyncio/base", "json/decoder")
    )
    text = (
        f'Traceback (most recent call last):\n  File "/workspace/{test}", line {rng.randrange(200)}, in test_x\n'
        f'  File "/workspace/{file}", line {rng.randrange(40, 44)}, in {function}\n{lines}\n{kind}: {said}'
    )
    if rng.random() < 0.1:  # a report that has no stacks
        return f"{kind}: {said}", "", "", test[:-3]
    return f"{kind}: {said}" if rng.random() < 0.8 else said, text, kind if rng.random() < 0.5 else "", test[:-3]


def scores(truth: Sequence[int], groups: Sequence[Sequence[int]]) -> tuple[float, float]:
    """Precision and recall over pairs of failures that are, or should be, together."""

    def pairs(n: int) -> int:
        return n * (n - 1) // 2

    sizes = Counter(truth)
    right = sum(pairs(n) for members in groups for n in Counter(truth[m] for m in members).values())
    told = sum(pairs(len(members)) for members in groups)
    return right / max(told, 1), right / max(sum(pairs(n) for n in sizes.values()), 1)


def made(count: int, of: int, seed: int) -> tuple[list[int], list[tuple[str, str, str, str]]]:
    rng = random.Random(seed)
    known = causes(of, rng)
    weights = [1 / (i + 3) for i in range(of)]
    truth = rng.choices(range(of), weights, k=count)
    return truth, [failure(known[t], rng) for t in truth]
