"""Answers that may be wrong: chance, control runs, where, the first bad commit; against a past that was made up apart."""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.bench.diagnosed import tables

from myriant.core.diagnosis.chance import Chance, flat, judged
from myriant.core.diagnosis.control import Tries, answer, wanted
from myriant.core.diagnosis.explain import Explanation, beyond_chance, either
from myriant.core.diagnosis.search import GOOD, MOST_TRIES, Belief, Kind, Tried, certainty, expected_tries, next_tries

CELLS = [{"lua": v, "database": d} for v in ("5.1", "5.2", "5.3", "5.4") for d in "abc"]


@pytest.mark.parametrize("sampled", [False, True])
def test_what_is_claimed_of_an_invented_past_is_right_as_often_as_it_says(sampled: bool) -> None:
    counts, more = tables(3, 3, sampled)
    every = {question: sum(by_sort.values(), Counter[str]()) for question, by_sort in counts.items()}
    for question, share in (("flaky", 0.05), ("control", 0.05), ("where", 0.1), ("first bad", 0.05)):
        told = every[question]
        assert told["wrong"] <= share * (told["right"] + told["wrong"]) + 1, (question, told)
        assert told["wrong"] < every[f"{question} plainly"]["wrong"] or not told["wrong"], question
    for sort in ("always", "world", "overlapping"):  # where the world is simple, an answer is given
        assert counts["control"][sort]["right"] >= 3 and counts["first bad"][sort]["right"] >= 3
    assert not counts["flaky"]["steady"]["wrong"] and not counts["flaky"]["always"]["wrong"]
    held = [h for name, values in more.items() if name.startswith("interval") for h in values]
    assert sum(held) >= 0.8 * len(held) - 1


def past(rate: dict[str, float], rows: int = 60, *, begin: int = 0, sort: str = "all") -> Chance:
    """One test over so many commits in twelve cells; it fails by a rate, or always."""
    rng, told = random.Random(sort), []
    for at in range(rows):
        for cell, values in enumerate(CELLS):
            runner, hour = rng.randrange(2), at % 24
            key = {"cell": ",".join(values.values()), "version": values["lua"], "runner": str(runner)}.get(sort, "all")
            told.append((at, at, cell, at >= begin and rng.random() < rate.get(key, 0), True, runner, hour))
    return judged(flat(told), CELLS, ["dock", "quay"])


CHANCES: list[tuple[str, dict[str, float], int, str, bool, str]] = [
    ("it never fails", {}, 0, "all", False, ""),
    ("it fails always since a commit", {"all": 1.0}, 30, "all", False, ""),
    ("it fails always in one version", {"5.1": 1.0}, 30, "version", False, ""),
    ("it fails at times", {"all": 0.1}, 0, "all", True, ""),
    ("it fails at times since a commit", {"all": 0.3}, 40, "all", True, ""),
    ("it fails at times in one version", {"5.3": 0.2}, 0, "version", True, "lua=5.3"),
    ("it fails at times in one cell", {"5.3,b": 0.4}, 0, "cell", True, "lua=5.3,database=b"),
    ("it fails at times on one runner", {"1": 0.3}, 0, "runner", True, "runner quay"),
]


@pytest.mark.parametrize(
    ("rate", "begin", "sort", "flaky", "only"), [c[1:] for c in CHANCES], ids=[c[0] for c in CHANCES]
)
def test_chance_is_told_apart_from_change(
    rate: dict[str, float], begin: int, sort: str, flaky: bool, only: str
) -> None:
    told = past(rate, begin=begin, sort=sort)
    assert (told.flaky, told.only if flaky else "") == (flaky, only), told
    assert told.low <= told.rate <= told.high
    if flaky:
        assert 0.8 * told.low <= max(rate.values()) <= 1.2 * told.high and told.sure > 0.99
        assert abs((told.since or 0) - begin) <= 3
    else:
        assert told.sure < 0.05


def test_what_was_random_and_is_no_more_is_counted_from_its_end() -> None:
    rng = random.Random(3)
    rows = [(at, at, c, at < 40 and rng.random() < 0.2, True, 0, 0) for at in range(80) for c in range(12)]
    told = judged(flat(rows), CELLS, ["dock"])
    assert told.sure > 0.99 and not told.now and not told.flaky
    assert told.odd == 0 and 36 * 12 <= told.tries <= 42 * 12


def test_a_few_lone_failures_are_perhaps_chance_and_two_answers_of_one_commit_surely() -> None:
    one = [(at, at, c, at == 20 and c == 3, True, 0, 0) for at in range(40) for c in range(12)]
    assert not judged(flat(one), CELLS, ["dock"]).flaky
    again = [*one, *((at, at, 3, at in (20, 25, 30), True, 0, 1) for at in (20, 25, 30) for _ in range(1))]
    mixed = [*again, *((at, at, 3, False, True, 0, 2) for at in (20, 25, 30))]
    told = judged(flat(mixed), CELLS, ["dock"])
    assert told.sure > 0.95 and told.odd >= 3
    beside = [*one, (900, 12, 3, True, False, 0, 0), (901, 13, 3, True, False, 0, 0)]  # other branches break it
    assert judged(flat(beside), CELLS, ["dock"]).sure <= judged(flat(one), CELLS, ["dock"]).sure + 0.01


STEADY = Tries(600, 0)
CONTROLS = [
    ("failed again in every cell, the baseline passes", Tries(0, 1), Tries(1, 0), Tries(0, 12), 0, STEADY, 0, "change"),
    ("failed again, the baseline fails too", Tries(0, 2), Tries(0, 2), Tries(0, 12), 0, STEADY, 0, "world"),
    ("it passed", Tries(1, 0), Tries(1, 0), Tries(11, 1), 3, STEADY, 0, "chance"),
    ("one repeat of a new test in one cell", Tries(0, 1), Tries(1, 0), Tries(0, 1), 0, Tries(), 0, "unsure"),
    ("four of them", Tries(0, 4), Tries(1, 0), Tries(0, 1), 0, Tries(), 0, "change"),
    ("no baseline", Tries(0, 4), Tries(), Tries(0, 12), 0, STEADY, 0, "unsure"),
    ("nothing was repeated", Tries(), Tries(), Tries(0, 12), 0, STEADY, 0, "unsure"),
    ("only the baseline was repeated", Tries(), Tries(2, 0), Tries(0, 12), 0, STEADY, 0, "unsure"),
    ("a test that is random already", Tries(0, 1), Tries(1, 0), Tries(11, 1), 3, Tries(540, 60), 1, "chance"),
]


@pytest.mark.parametrize(
    ("here", "base", "run", "parts", "known", "random", "said"), [c[1:] for c in CONTROLS], ids=[c[0] for c in CONTROLS]
)
def test_a_control_run_says_no_more_than_its_repeats_show(
    here: Tries, base: Tries, run: Tries, parts: int, known: Tries, random: float, said: str
) -> None:
    told = answer(here, base, run, parts, 7, known, random)
    assert told.said == said, told
    assert wanted(told) == (False, False) if said != "unsure" else any(wanted(told)) or here.all >= 4


def searched(commits: int, fails: list[float], good: float, rng: random.Random, slots: int = 2) -> tuple[Belief, int]:
    """A search in which the commit at a place fails with its rate today, and the good one with another."""
    tried = [Tried(GOOD, False, today=False), Tried(commits - 1, True, today=False)]
    while wanted := next_tries(belief := Belief(commits, tried), tried, slots):
        tried += [Tried(at, rng.random() < (good if at == GOOD else fails[at])) for at in wanted]
    return belief, len(tried) - 2


@given(st.integers(2, 40), st.data())
def test_without_chance_the_first_bad_commit_is_always_found(commits: int, data: st.DataObject) -> None:
    first = data.draw(st.integers(0, commits - 1))
    belief, tries = searched(commits, [float(at >= first) for at in range(commits)], 0.0, random.Random(1))
    found = belief.found()
    assert (found.kind, found.at, found.certain) == (Kind.ALWAYS, first, True)
    assert tries <= 2 * expected_tries(commits, slots=2) + 4


ENDS = [
    ("it fails everywhere today", [1.0] * 16, 1.0, Kind.WORLD),
    ("it fails nowhere today", [0.0] * 16, 0.0, Kind.GONE),
    ("half of the tries of any commit fail", [0.5] * 16, 0.5, Kind.BEFORE),
    ("it fails at times since a commit", [0.0] * 5 + [0.6] * 11, 0.0, Kind.AT_TIMES),
    ("at times before, and always since", [0.2] * 9 + [1.0] * 7, 0.2, Kind.ALWAYS),
]


@pytest.mark.parametrize(("fails", "good", "kind"), [e[1:] for e in ENDS], ids=[e[0] for e in ENDS])
def test_a_search_names_no_commit_that_did_nothing(fails: list[float], good: float, kind: Kind) -> None:
    right = named = 0
    for seed in range(60):
        belief, tries = searched(len(fails), fails, good, random.Random(seed))
        found = belief.found()
        assert tries <= MOST_TRIES + 2
        if found.certain:
            named += 1
            begins = fails.index(max(fails)) if kind in (Kind.ALWAYS, Kind.AT_TIMES) else None
            right += found.at == begins and (begins is not None or found.kind is kind)
    assert right >= named - 3 and named >= 50, (right, named)


def test_what_fails_seldom_but_was_seen_to_fail_today_is_not_gone() -> None:
    tried = [Tried(GOOD, False, today=False), Tried(15, True, today=False)]
    tried += [Tried(at, n == 11 or (at == 15 and n == 20)) for at in (GOOD, 15) for n in range(30)]
    assert Belief(16, tried).found().kind is Kind.BEFORE


def test_certainty_is_rounded_down_and_never_whole() -> None:
    assert [certainty(c) for c in (0.974, 0.9899, 0.9949, 0.9995, 1.0)] == ["97 %", "98 %", "99 %", "99.9 %", "99.9 %"]


@pytest.mark.parametrize(
    ("selector", "affected", "cells", "told"),
    [
        ("lua=5.1", 6, 24, True),
        ("lua=5.1,database=a", 2, 24, False),
        ("lua=5.1,database=a,locale=de", 1, 24, False),
        ("lua=5.1", 3, 12, True),
        ("lua=5.1", 1, 4, False),
        (None, 3, 12, False),
    ],
)
def test_a_condition_is_named_where_cells_that_happened_to_fail_would_show_none(
    selector: str | None, affected: int, cells: int, told: bool
) -> None:
    assert beyond_chance(Explanation(selector), affected, cells) is told


TWO = [
    (lambda c: c["lua"] == "5.1" or c["database"] == "c", {"lua=5.1", "database=c"}),
    (lambda c: c["lua"] in ("5.1", "5.2") or c["database"] == "a", {"lua<=5.2", "database=a"}),
    (lambda c: c["lua"] == "5.1" and c["database"] == "c", None),
    (lambda c: (c["lua"], c["database"]) in {("5.1", "a"), ("5.2", "b"), ("5.3", "c")}, None),
    (lambda c: True, None),
    (lambda c: False, None),
]


@pytest.mark.parametrize(("affected", "said"), TWO)
def test_two_faults_that_look_alike_have_a_condition_each(affected: Any, said: set[str] | None) -> None:
    told = either(CELLS, [affected(c) for c in CELLS])
    assert (set(told) if told else None) == said


@pytest.mark.parametrize("seed", range(4))
def test_a_search_that_does_not_know_its_good_commit_tries_it_never_and_ends(seed: int) -> None:
    rng, tried = random.Random(seed), [Tried(11, True, today=False)]
    first = rng.randrange(12)
    while wanted := next_tries(belief := Belief(12, tried), tried, 3, with_good=False):
        assert GOOD not in wanted
        tried += [Tried(at, at >= first) for at in wanted]
        assert len(tried) <= MOST_TRIES + 3
    assert belief.found().at in (first, None)  # that it fails everywhere today cannot be told from the first commit


@pytest.mark.parametrize(("random_before", "rate"), [(0.0, 0.0), (1.0, 0.2)])
def test_what_a_search_will_cost_is_said_within_a_factor_of_three(random_before: float, rate: float) -> None:
    took = []
    for seed in range(12):
        rng, tried = random.Random(seed), [Tried(GOOD, False, today=False), Tried(31, True, today=False)]
        while wanted := next_tries(Belief(32, tried, random_before, rate), tried, 4):
            tried += [Tried(at, at >= 20 or rng.random() < rate) for at in wanted]
        took.append(len(tried) - 2)
    mean, said = sum(took) / len(took), expected_tries(32, random_before, rate, 4)
    assert said / 3 <= mean <= 3 * said, (mean, said)
