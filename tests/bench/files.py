"""Large inputs, made up."""

from __future__ import annotations

import random


def junit_file(cases: int, *, seed: int = 1, failing: float = 0.002) -> bytes:
    """A JUnit XML file of so many cases in suites of 1,000."""
    luck = random.Random(seed)
    parts = ['<?xml version="1.0" encoding="UTF-8"?>\n<testsuites>\n']
    for suite in range(0, cases, 1000):
        parts.append(f'<testsuite name="locks.suite{suite // 1000}" tests="1000">\n')
        for i in range(suite, min(suite + 1000, cases)):
            head = f'<testcase classname="locks.module{i // 50}.TestGate{i // 10 % 5}" name="test_{i}_opens_when_level" time="{luck.lognormvariate(-5, 1.2):.3f}"'
            if luck.random() < failing:
                parts.append(
                    f'{head}><failure message="expected {i}, got {i + 1}">tests/gate.py:{i}: in test\n  assert level == {i}</failure></testcase>\n'
                )
            else:
                parts.append(head + "/>\n")
        parts.append("</testsuite>\n")
    parts.append("</testsuites>\n")
    return "".join(parts).encode()
