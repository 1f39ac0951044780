"""The search for the first bad commit against plain bisection, with a test that flakes."""

from __future__ import annotations

import random

from tests.bench.measure import report

from myriant.core.diagnosis.search import Chances, Tried, expected_tries, found, next_tries

SEARCHES = 500


def plain(commits: int, first_bad: int, flake: float, rng: random.Random) -> tuple[int, int]:
    """Plain bisection: its answer and the tries it took."""
    low, high, tries = 0, commits - 1, 0
    while low < high:
        middle = (low + high) // 2
        tries += 1
        failed = (middle >= first_bad) != (rng.random() < flake)
        low, high = (low, middle) if failed else (middle + 1, high)
    return low, tries


def measure() -> None:
    for flake in (0.0, 0.1):
        for commits in (16, 64, 256):
            for slots in (1, 4):
                rng = random.Random(commits * slots)
                chances = Chances(max(flake, 0.002), max(flake, 0.002))
                tries, rounds, wrong, plain_tries, plain_wrong = [], [], 0, [], 0
                for _ in range(SEARCHES):
                    first_bad = rng.randrange(commits)
                    tried: list[Tried] = []
                    turns = 0
                    while wanted := next_tries(commits, tried, slots, chances):
                        turns += 1
                        tried += [Tried(at, (at >= first_bad) != (rng.random() < flake)) for at in wanted]
                    tries.append(float(len(tried)))
                    rounds.append(float(turns))
                    wrong += found(commits, tried, chances)[0] != first_bad
                    answer, took = plain(commits, first_bad, flake, rng)
                    plain_tries.append(float(took))
                    plain_wrong += answer != first_bad
                line = f"{commits} commits, {flake:.0%} flaky, {slots} at once"
                mean = sum(tries) / len(tries)
                more = {"mean": round(mean, 2), "expected": round(expected_tries(commits, chances, slots), 2)}
                report(f"{line}: tries", tries, "tries", **more)
                report(f"{line}: rounds", rounds, "rounds", mean=round(sum(rounds) / len(rounds), 2))
                report(f"{line}: wrong answers", [wrong / SEARCHES], "share")
                if slots == 1:
                    report(f"{line}: plain bisection, tries", plain_tries, "tries")
                    report(f"{line}: plain bisection, wrong answers", [plain_wrong / SEARCHES], "share")
