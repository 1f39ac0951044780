"""Whether the intervals of flake rates hold what they say, over tests whose true rates are known."""

from __future__ import annotations

import numpy as np
from tests.bench.measure import report

from myriant.core.diagnosis.flaky import FLAKY_FROM, fitted_prior, is_flaky, rate

TESTS = 2000


def measure() -> None:
    random = np.random.default_rng(11)
    for name, rates in (
        ("95 % steady, the rest 1 to 30 %", np.where(random.random(TESTS) < 0.95, random.uniform(0, 0.001, TESTS), random.uniform(0.01, 0.3, TESTS))),
        ("rates spread as Beta(0.3, 6)", random.beta(0.3, 6, TESTS)),
    ):  # fmt: skip
        for tries in (20, 100, 500):
            n = random.integers(tries // 2, tries * 2, TESTS)
            odd = random.binomial(n, rates)
            prior = fitted_prior(odd.tolist(), n.tolist())
            found = [rate(int(k), int(m), prior) for k, m in zip(odd, n, strict=True)]
            inside = [f.low <= r <= f.high for f, r in zip(found, rates, strict=True)]
            said = np.array([is_flaky(int(k), int(m), prior) for k, m in zip(odd, n, strict=True)])
            truly = rates >= FLAKY_FROM
            line = f"{TESTS} tests, {name}, about {tries} repetitions"
            report(f"{line}: true rates within the 90 % interval", [float(np.mean(inside))], "share")
            report(
                f"{line}: mean estimate less mean rate", [float(np.mean([f.mean for f in found]) - rates.mean())], ""
            )
            report(
                f"{line}: called flaky though below 1 %", [float((said & ~truly).sum() / max(said.sum(), 1))], "share"
            )
            report(f"{line}: flaky ones that are called so", [float((said & truly).sum() / truly.sum())], "share")
