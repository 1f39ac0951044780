"""The first bad commit between a good and a bad one, by tries that may err and run side by side.

Probabilistic bisection (Horstein 1963; Waeber, Frazier and Henderson 2013) over more than one explanation: the test
fails always from some commit on; at times from some commit on; at times already before all of them; always today,
whatever the commit, because the world changed; not at all today. How often it fails before and after is one of a few
rates, and summed over. Tried first are the two ends, today; then the commits whose outcomes tell most of where it
begins. What is known from elsewhere (other searches, control runs, earlier runs of the same cell) counts as tries.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
CONFIDENCE = 0.98
GOOD = -1  # the place of the commit that was known to be good
_ERR = 0.005  # a steady test answers otherwise
_RATES = (0.03, 0.08, 0.15, 0.3, 0.5, 0.7, 0.85)
_RARE = 0.1
MOST_TRIES = 60
_LEAST_TOLD = 0.01  # bits that the best next try must tell


class Kind(StrEnum):
    """What a search can find."""

    ALWAYS = "always since"
    AT_TIMES = "at times since"
    BEFORE = "at times before"
    WORLD = "the world"
    GONE = "not today"


@dataclass(frozen=True, slots=True)
class Tried:
    """The outcome of one try of the commit at `at` (GOOD: of the good one); `today` unless the bad run is newer."""

    at: int
    failed: bool
    today: bool = True


@dataclass(frozen=True, slots=True)
class Found:
    """The likeliest answer and its chance; `at` is the commit where it begins (None where it does not begin here)."""

    kind: Kind
    at: int | None
    chance: float
    rate: float  # of failures from there on

    @property
    def certain(self) -> bool:
        return self.chance >= CONFIDENCE


class Belief:
    """The posterior over all explanations of `commits` commits, oldest first, the last of them known as bad.

    `random` is the chance, from the test's past, that it fails at times on any commit; `rate` how often then.
    """

    def __init__(self, commits: int, tried: Sequence[Tried], random: float = 0.0, rate: float = 0.0) -> None:
        self.commits = commits
        rows = _explanations(random, rate)
        self.before = np.array([r[0] for r in rows])
        self.after = np.array([r[1] for r in rows])
        prior = np.array([r[2] for r in rows])
        # by where it begins (rows) and explanation (columns); then, by rate, those that begin nowhere here
        self.since = np.log(np.maximum(prior, 1e-12))[None, :] - math.log(commits) + np.zeros((commits, 1))
        rates, weights = _constant(random, rate)
        self.rates = rates
        self.constant = np.log(weights)
        self.world, self.gone = math.log(0.1), math.log(0.02)
        places = np.arange(commits)
        for one in tried:
            begun = places <= one.at  # the tried commit is one of those after it began
            p = np.where(begun[:, None], self.after[None, :], self.before[None, :])
            self.since += np.log(p if one.failed else 1 - p)
            self.constant += np.log(self.rates if one.failed else 1 - self.rates)
            if one.today:
                self.world += math.log(1 - _ERR if one.failed else _ERR)
                self.gone += math.log(_ERR if one.failed else 1 - _ERR)
            else:  # what the world was then: good on the good one, bad on the bad one
                usual = one.failed == (one.at == commits - 1)
                self.world += math.log(1 - _ERR if usual else _ERR)
                self.gone += math.log(1 - _ERR if usual else _ERR)
        most = max(float(self.since.max()), float(self.constant.max()), self.world, self.gone)
        self.since, self.constant = np.exp(self.since - most), np.exp(self.constant - most)
        w, g = math.exp(self.world - most), math.exp(self.gone - most)
        whole = float(self.since.sum() + self.constant.sum()) + w + g
        self.since, self.constant = self.since / whole, self.constant / whole
        self.world, self.gone = w / whole, g / whole

    def by_commit(self) -> Floats:
        """For each commit, the chance that it is the first bad one."""
        found: Floats = self.since.sum(1)
        return found

    def found(self) -> Found:
        chance = self.by_commit()
        at = int(chance.argmax())
        others = {Kind.BEFORE: float(self.constant.sum()), Kind.WORLD: self.world, Kind.GONE: self.gone}
        if self.gone > _RARE:  # nor is what is too rare to be seen today
            rare = float(self.constant[self.rates <= _RARE].sum())
            others[Kind.BEFORE] -= rare
            others[Kind.GONE] += rare + float(self.since[:, self.after <= _RARE].sum())
        kind = max(others, key=lambda k: others[k])
        if others[kind] > chance[at]:
            told = float((self.constant * self.rates).sum() / max(self.constant.sum(), 1e-300))
            return Found(kind, None, others[kind], {Kind.BEFORE: told, Kind.WORLD: 1.0, Kind.GONE: 0.0}[kind])
        rate = float((self.since[at] * self.after).sum() / chance[at])
        always = float(self.since[at][self.after >= 1 - _ERR].sum()) >= chance[at] / 2
        return Found(Kind.ALWAYS if always else Kind.AT_TIMES, at, float(chance[at]), rate)

    def outcomes(self) -> tuple[Floats, Floats]:
        """The weight of each answer (by commit, then before, world, gone), and how it says that tries fail.

        The second has a row an answer, a column a place: the good commit first, then the commits.
        """
        chance = np.concatenate((self.by_commit(), [self.constant.sum(), self.world, self.gone]))
        with np.errstate(invalid="ignore", divide="ignore"):
            before = np.nan_to_num((self.since * self.before).sum(1) / self.since.sum(1), nan=_ERR)
            after = np.nan_to_num((self.since * self.after).sum(1) / self.since.sum(1), nan=1 - _ERR)
            constant = float((self.constant * self.rates).sum() / max(self.constant.sum(), 1e-300))
        places = np.arange(-1, self.commits)
        fails = np.where(np.arange(self.commits)[:, None] <= places[None, :], after[:, None], before[:, None])
        rest = np.repeat([[constant], [1 - _ERR], [_ERR]], len(places), axis=1)
        return chance, np.concatenate((fails, rest))


def next_tries(
    belief: Belief, tried: Sequence[Tried], slots: int, running: Sequence[int] = (), *, with_good: bool = True
) -> list[int]:
    """Places to try now, at most `slots` besides those `running`; empty when it is settled or nothing tells more.

    Without `with_good` the good commit is not known, and not tried.
    """
    if belief.found().certain or len(tried) + len(running) >= MOST_TRIES:
        return []
    ends = (belief.commits - 1, GOOD) if with_good else (belief.commits - 1,)
    told = {t.at for t in tried if t.today}
    if not told.issuperset(ends):  # whether there is anything to search for is known first
        return [at for at in ends if at not in told and at not in running][:slots]
    wanted: list[int] = []
    chance, fails = belief.outcomes()
    joint = np.ones((len(chance), 1))
    for at in running:
        joint = _with(joint, fails[:, at + 1])
    for _ in range(slots):
        known = _told(chance, joint)
        gains = _gains(chance, joint, fails)
        if not with_good:
            gains[0] = known
        best = int(gains.argmax())
        if gains[best] - known < _LEAST_TOLD:
            break
        wanted.append(best - 1)
        joint = _with(joint, fails[:, best])
    return wanted


def _with(joint: Floats, fails: Floats) -> Floats:
    """How likely each set of outcomes is under each answer, with one try more."""
    return np.concatenate((joint * fails[:, None], joint * (1 - fails)[:, None]), axis=1)


def _told(chance: Floats, joint: Floats) -> float:
    """Bits that these outcomes tell of the answer."""
    return _entropy(chance @ joint) - float(chance @ _entropies(joint))


def _gains(chance: Floats, joint: Floats, fails: Floats) -> Floats:
    """Bits told with one try more, for each place."""
    within = _entropies(joint)
    bits = _bits(fails) + _bits(1 - fails)
    spread = chance @ (within[:, None] + bits)  # outcomes are independent under one answer
    both = np.stack(((chance[:, None] * joint).T @ fails, (chance[:, None] * joint).T @ (1 - fails)))
    found: Floats = _bits(both).sum((0, 1)) - spread
    return found


def _bits(p: Floats) -> Floats:
    return -p * np.log2(np.maximum(p, 1e-300))


def _entropy(p: Floats) -> float:
    return float(_bits(p).sum())


def _entropies(rows: Floats) -> Floats:
    found: Floats = _bits(rows).sum(1)
    return found


def _explanations(random: float, rate: float) -> list[tuple[float, float, float]]:
    """How often it fails before it begins and after, with a prior: always, at times, and always where it was random."""
    rows = [(_ERR, 1 - _ERR, 0.4 * (1 - random))]
    rows += [(_ERR, r, 0.4 * (1 - random) / len(_RATES)) for r in _RATES]
    near = np.array([_near(r, rate) for r in _RATES]) if random > 0.05 else np.ones(len(_RATES))
    shares = max(random, 0.1) * near / near.sum()
    rows += [(r, 1 - _ERR, 0.4 * float(share)) for r, share in zip(_RATES, shares, strict=True) if r < 0.7]
    return rows


def _constant(random: float, rate: float) -> tuple[Floats, Floats]:
    """Rates at which it may fail whatever the commit, with their prior."""
    near = np.array([_near(r, rate) for r in _RATES]) if random > 0.05 else np.ones(len(_RATES))
    return np.array(_RATES), (0.3 + 0.5 * random) * near / near.sum()


def _near(rate: float, told: float) -> float:
    """How well a rate fits what is known of it: within a factor of two or three."""
    return math.exp(-(math.log(rate / max(told, 0.01)) ** 2) / (2 * 0.8**2)) + 0.02


def expected_tries(commits: int, random: float = 0.0, rate: float = 0.0, slots: int = 1) -> float:
    """Tries that a search takes on average: the two ends, and the information wanted over that of a try (Shannon).

    Of several side by side, `slots` tell as much as log2(slots + 1) one after the other.
    """
    if commits < 2:
        return 0.0
    error = min(max(_ERR, random * rate / 2), 0.45)
    entropy = -error * math.log2(error) - (1 - error) * math.log2(1 - error)
    sure = math.log2(CONFIDENCE / (1 - CONFIDENCE)) / math.log2((1 - error) / error)
    return 2 + (math.log2(commits) / (1 - entropy) + sure) * slots / math.log2(slots + 1)


def certainty(chance: float) -> str:
    """A chance as a person may read it: rounded down, never 100 %."""
    return "99.9 %" if chance >= 0.999 else f"{math.floor(min(chance, 0.99) * 100 + 1e-9)} %"
