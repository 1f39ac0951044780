"""Rules, the verdict and the words it is told in."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.diagnosis.compare import Tally
from myriant.core.gate.judge import (
    Evidence,
    Judged,
    Measured,
    Reason,
    Waived,
    beyond_repair,
    good_jobs,
    judge,
    verdict_of,
)
from myriant.core.gate.measures import value_of
from myriant.core.gate.note import (
    NotedBlock,
    NotedCell,
    NotedFailure,
    ProjectSays,
    block,
    blocks_elsewhere,
    commit_note,
)
from myriant.core.gate.sentence import EACH_SAID, MOST_REASONS, Told, is_said_anew, left, progress, sentence
from myriant.core.gate.word import Word
from myriant.core.plan.model import BuiltIn, Events, Plan, Rule
from myriant.core.states import State, Verdict
from myriant.core.written import duration, percent


def measured(now: dict[str, Fraction | int | None], before: dict[str, Fraction] | None = None) -> Measured:
    def value(rule: Rule) -> Fraction | None:
        found = now.get(rule.measure)
        return None if found is None else Fraction(found)

    return Measured(value, lambda rule: (before or {}).get(rule.measure))


def plan(**levels: str) -> Plan:
    return Plan(Events(), (), (), levels={BuiltIn(k.replace("_", "-")): v for k, v in levels.items()})  # type: ignore[misc]


RATCHET = Rule("ratchet", "coverage.line", "at-least", "baseline")
WARNS = Rule("covered", "coverage.line", "at-least", Fraction(9, 10), level="warn")
NOTHING = Evidence()
TOTAL = Rule("enough", "tests.total", "at-least", Fraction(5))


@pytest.mark.parametrize(
    ("rules", "now", "before", "evidence", "levels", "verdict"),
    [
        ([], {}, None, Evidence(), {}, "clear"),
        ([], {}, None, Evidence(new={"unit": 1}), {}, "held"),
        ([WARNS], {"coverage.line": Fraction(1, 10)}, None, Evidence(), {}, "clear"),
        # a plan's own rule takes no built-in one away
        ([WARNS], {"coverage.line": Fraction(1, 10)}, None, Evidence(new={"unit": 1}), {}, "held"),
        ([], {}, None, Evidence(new={"unit": 1}), {"new_failures": "warn"}, "clear"),
        ([], {}, None, Evidence(untrusted=[Reason("unit: void", "unit")]), {}, "held"),
        ([], {}, None, Evidence(untrusted=[Reason("unit: void", "unit")]), {"new_failures": "warn"}, "held"),
        ([], {}, None, Evidence(steps=[Reason("step style failed", "unit")]), {}, "held"),
        ([], {}, None, Evidence(vanished={"unit": 3}), {}, "held"),
        ([], {}, None, Evidence(vanished={"unit": 3}), {"vanished": "warn"}, "clear"),
        ([], {}, None, Evidence(newly_skipped={"unit": 3}), {}, "clear"),
        ([], {}, None, Evidence(newly_skipped={"unit": 3}), {"newly_skipped": "block"}, "held"),
        ([], {}, None, Evidence(loosened=["job unit is gone"]), {}, "held"),
        ([RATCHET], {"coverage.line": Fraction(8, 10)}, {"coverage.line": Fraction(8, 10)}, Evidence(), {}, "clear"),
        (
            [RATCHET],
            {"coverage.line": Fraction(799999, 10**6)},
            {"coverage.line": Fraction(8, 10)},
            Evidence(),
            {},
            "held",
        ),
        ([RATCHET], {"coverage.line": Fraction(1, 10)}, None, Evidence(), {}, "clear"),
        ([RATCHET], {"coverage.line": None}, {"coverage.line": Fraction(8, 10)}, Evidence(), {}, "held"),
        ([TOTAL], {"tests.total": None}, None, Evidence(), {}, "held"),
    ],
)
def test_a_verdict_follows_from_every_blocking_rule(
    rules: list[Rule],
    now: dict[str, Fraction | int | None],
    before: dict[str, Fraction] | None,
    evidence: Evidence,
    levels: dict[str, str],
    verdict: str,
) -> None:
    assert verdict_of(judge(plan(**levels), rules, measured(now, before), evidence)) == verdict


@pytest.mark.parametrize(
    ("jobs", "value"), [([], None), ([{"tests.total": 3}, {"tests.total": 4}], 7), ([{"tests.total": 3}, {}], None)]
)
def test_a_measure_over_nothing_is_not_measured(jobs: list[dict[str, int]], value: int | None) -> None:
    assert value_of(jobs, "tests.total") == value
    assert value_of([{"tests.passed": 0, "tests.failed": 0, "tests.errored": 0}], "tests.share-passed") is None


def waived(worst: str, name: str = "ratchet", about: str = "coverage.line at-least") -> dict[str, list[Waived]]:
    return {name: [Waived("Ada", datetime(2026, 12, 5, tzinfo=UTC), "it moves", about, Fraction(worst))]}


@pytest.mark.parametrize(
    ("rule", "value", "waivers", "holds"),
    [
        (RATCHET, "1/2", waived("1/2"), False),
        (RATCHET, "3/5", waived("1/2"), False),
        (RATCHET, "499/1000", waived("1/2"), True),  # nothing worse than was seen
        (RATCHET, "1/2", waived("1/2", "another"), True),
        (RATCHET, "1/2", {"ratchet": [*waived("3/5")["ratchet"], *waived("2/5")["ratchet"]]}, False),
        # a rule of the same name that asks something else is another
        (RATCHET, "1/2", waived("0", "ratchet", "coverage.changed at-least"), True),
        (RATCHET, "1/2", waived("0", "ratchet", "coverage.line at-most"), True),
        (RATCHET, None, waived("0"), True),  # what was not measured is never waived
        (
            Rule("few", "results.failed", "at-most", Fraction(2)),
            "4",
            waived("4", "few", "results.failed at-most"),
            False,
        ),
        (
            Rule("few", "results.failed", "at-most", Fraction(2)),
            "5",
            waived("4", "few", "results.failed at-most"),
            True,
        ),
    ],
)
def test_a_waiver_reaches_down_to_what_was_seen_and_no_further(
    rule: Rule, value: str | None, waivers: dict[str, list[Waived]], holds: bool
) -> None:
    now = {rule.measure: None if value is None else Fraction(value)}
    judged = judge(plan(), [rule], measured(now, {"coverage.line": Fraction(4, 5)}), Evidence(), waivers)
    own = judged[-1]
    assert (own.met, own.holds_run, own.waived is None) == (False, holds, holds)
    assert (verdict_of(judged) == "held") is holds and (good_jobs(["unit"], judged) == set()) is holds


def test_no_built_in_rule_is_waived_and_none_that_is_met_or_warns() -> None:
    every = {j.rule.name: waived("0", j.rule.name)[j.rule.name] for j in judge(plan(), [], measured({}), NOTHING)}
    bad = Evidence([Reason("void")], [Reason("ended with 3")], ["less"], {"unit": 1}, {"unit": 1}, {"unit": 1})
    assert all(j.waived is None for j in judge(plan(), [], measured({}), bad, every))
    fine = judge(plan(), [WARNS, RATCHET], measured({"coverage.line": Fraction(1, 2)}), NOTHING, waived("0"))
    assert [j.waived for j in fine] == [None] * len(fine)


def test_only_the_jobs_that_held_somebody_up_are_no_baselines() -> None:
    evidence = Evidence(new={"unit": 1, "lint": 0}, loosened=["job old is gone"])
    judged = judge(
        plan(),
        [Rule("r", "coverage.line", "at-least", Fraction(1), jobs=("web",))],
        measured({"coverage.line": 0}),
        evidence,
    )
    assert good_jobs(["unit", "lint", "web"], judged) == {"lint"}
    everywhere = judge(plan(), [Rule("r", "coverage.line", "at-least", Fraction(1))], measured({}), Evidence())
    assert good_jobs(["unit", "lint"], everywhere) == set()


@pytest.mark.parametrize(
    ("evidence", "rules", "lost"),
    [
        (Evidence(new={"unit": 1}), [], True),
        (Evidence(untrusted=[Reason("void")]), [], True),
        (Evidence(vanished={"unit": 1}), [], False),  # its cell may be about to come
        (Evidence(), [Rule("few", "tests.failed", "at-most", Fraction(0))], True),
        (Evidence(), [Rule("share", "tests.share-passed", "at-least", Fraction(1))], False),
        (Evidence(), [Rule("few", "tests.failed", "at-most", Fraction(0), level="warn")], False),
    ],
)
def test_a_run_is_held_early_only_by_what_no_further_cell_can_mend(
    evidence: Evidence, rules: list[Rule], lost: bool
) -> None:
    judged = judge(plan(), rules, measured({"tests.failed": 1, "tests.share-passed": Fraction(1, 2)}), evidence)
    assert bool(beyond_repair(judged)) == lost


@given(st.fractions(0, 1), st.one_of(st.none(), st.fractions(0, 1, max_denominator=1000)))
def test_a_percentage_is_never_written_across_its_limit_or_up_to_100(value: Fraction, limit: Fraction | None) -> None:
    shown = Fraction(percent(value, limit).removesuffix(" %")) / 100
    assert abs(shown - value) <= Fraction(1, 1000)
    if value < 1 and value < Fraction(9999999, 10000000):
        assert shown < 1
    if limit is not None and abs(value - limit) > Fraction(1, 10**6):
        assert (shown - limit) * (value - limit) >= 0


@pytest.mark.parametrize(
    ("seconds", "said"),
    [(0.0042, "4 ms"), (0.42, "0.4 s"), (12.4, "12 s"), (108, "1 min 48 s"), (120, "2 min"), (7500, "2 h 5 min")],
)
def test_durations_read_as_people_say_them(seconds: float, said: str) -> None:
    assert duration(seconds) == said


def told(evidence: Evidence = NOTHING, rules: tuple[Rule, ...] = (), **counts: int) -> Told:
    now = measured({"coverage.line": Fraction(1, 2), "tests.total": 4}, {"coverage.line": Fraction(4, 5)})
    judged = judge(plan(), rules, now, evidence, {**waived("0"), **waived("0", "enough", "tests.total at-least")})
    where = "python=3.8" if counts.get("tests_new") else None
    return Told(verdict_of(judged), Tally(**counts), where, 0, judged, 12, 12, 108.0, "9f3c21a")


@pytest.mark.parametrize(
    ("said", "words"),
    [
        (
            told(Evidence(new={"unit": 3}), tests_new=3, tests_total=80, tests_passed=77, tests_failed=3),
            "Held: 3 tests newly fail, only where python=3.8. 12 of 12 cells in 1 min 48 s, against 9f3c21a.",
        ),
        (
            told(tests_total=80, tests_passed=78, tests_skipped=2, tests_fixed=1),
            "Clear: 78 of 78 tests passed, 2 skipped; 1 test fixed. 12 of 12 cells in 1 min 48 s, against 9f3c21a.",
        ),
        (
            told(Evidence(newly_skipped={"unit": 2}), tests_total=5, tests_passed=3, tests_skipped=2),
            "Clear: 3 of 3 tests passed, 2 skipped; 2 tests newly skipped (warns). "
            "12 of 12 cells in 1 min 48 s, against 9f3c21a.",
        ),
        (
            told(NOTHING, (RATCHET, TOTAL), tests_total=5, tests_passed=5),
            "Clear: 5 of 5 tests passed. ratchet (50.0 %, at least 80.0 %) is waived by Ada until 5 December 2026: it moves. "
            "1 further rule waived. 12 of 12 cells in 1 min 48 s, against 9f3c21a.",
        ),
        (
            told(tests_total=5, tests_passed=4, tests_known=1, tests_failed=1, tests_quarantined=2),
            "Clear: 4 of 5 tests passed. Set aside: 1 known failure, 2 quarantined failures. "
            "12 of 12 cells in 1 min 48 s, against 9f3c21a.",
        ),
    ],
)
def test_the_sentence_says_what_a_person_would_paste_into_a_chat(said: Told, words: str) -> None:
    assert sentence(said) == words


def test_a_sentence_names_few_reasons_and_counts_the_rest() -> None:
    rules = tuple(Rule(f"rule {i}", "coverage.line", "at-least", Fraction(1)) for i in range(9))
    said = sentence(told(Evidence(new={"unit": 1}), rules, tests_new=1, tests_total=2, tests_passed=1, tests_failed=1))
    assert said.startswith("Held: 1 test newly fails") and said.count(";") == MOST_REASONS - 1
    assert "7 further reasons" in said and len(said) < 400


def test_nothing_that_only_warns_is_hidden_and_nothing_clear_newly_fails() -> None:
    warned = judge(plan(new_failures="warn"), [], measured({}), Evidence(new={"unit": 1}))
    said = sentence(
        Told(verdict_of(warned), Tally(tests_new=1, tests_failed=1, tests_total=1), None, 0, warned, 1, 1, 1.0, None)
    )
    assert said.startswith("Clear: 0 of 1 test passed; 1 test newly fails (warns).")


def test_the_note_has_a_block_for_each_context_under_the_commits_word() -> None:
    judged: list[Judged] = judge(
        plan(), [], measured({}), Evidence([Reason("unit b: the runner was lost", "unit")], new={"unit": 60})
    )
    cells = [
        NotedCell("unit", "a", State.FAILED, "", 1, 60, 0, 0),
        NotedCell("unit", "b", State.VOID, "the runner\nwas lost", 0, 0, 0, 0),
    ]
    new = [NotedFailure("unit", "a", f"t{i}", "line one\nline two") for i in range(60)]
    held = block(
        verdict=Verdict.HELD,
        context="push main",
        address="http://x",
        number=7,
        said="Held.",
        judged=judged,
        cells=cells,
        new=new,
    )
    clear = block(verdict=Verdict.CLEAR, context="tag v1", address="http://y", number=8, said="Clear.")
    blocks = [
        NotedBlock("tides", "push to main", Verdict.HELD, held),
        NotedBlock("tides", "tag v1", Verdict.CLEAR, clear),
    ]
    note = commit_note([ProjectSays("tides", Word(Verdict.HELD, "push main", 7), blocks)])
    assert note.startswith("verdict: held (push to main)\n\ntides, push to main: held\nrun: #7 http://x\n")
    assert "unit b  void" in note and "the runner was lost" in note
    assert "t49: line one line two" in note and "t50" not in note and "and 10 more" in note
    assert "not met  no new failures: 60" in note and note.endswith("tag v1: clear\nrun: #8 http://y\nClear.\n")
    assert commit_note([ProjectSays("tides", Word(), blocks[1:])]).startswith("no verdict\n")
    # whoever watches the same repository from another installation keeps what it wrote, and it counts
    elsewhere = blocks_elsewhere(note, "http://z")
    assert [(b.project, b.context, b.verdict) for b in elsewhere] == [
        ("tides", "push to main", Verdict.HELD),
        ("tides", "tag v1", Verdict.CLEAR),
    ]
    mine = NotedBlock(
        "buoys", "push to main", Verdict.CLEAR, "push to main: clear\nrun: #3 http://z/p/buoys/runs/3\nClear."
    )
    both = commit_note([ProjectSays("buoys", Word(Verdict.CLEAR, "push main", 3), [mine])], elsewhere)
    assert both.startswith("verdict: held (tides, push to main)\n\ntides, push to main: held\n")
    assert both.count("\nrun: #") == 3 and blocks_elsewhere(both, "http://z") == elsewhere


@pytest.mark.parametrize(
    ("more", "left_over", "said", "then"),
    [
        (False, 8, "Held early: 1 test newly fails, against 9f3c21a.", "8 cells still to end, which cannot clear it."),
        (
            True,
            1,
            "Held early: at least 1 test newly fails, against 9f3c21a.",
            "1 cell still to end, which cannot clear it.",
        ),
        (False, 0, "Held: 1 test newly fails. 4 of 12 cells in 1 min 48 s, against 9f3c21a.", ""),
    ],
)
def test_a_run_held_early_says_no_number_that_changes_while_nobody_says_it_anew(
    more: bool, left_over: int, said: str, then: str
) -> None:
    judged = judge(plan(), [], measured({}), Evidence(new={"unit": 1}))
    lost = [j for j in judged if j.holds_run]
    early = Told(
        verdict_of(judged),
        Tally(tests_new=1),
        None,
        0,
        lost,
        12,
        4,
        108.0,
        "9f3c21a",
        open_cells=left_over,
        more_failing=more,
    )
    assert (sentence(early), left(left_over)) == (said, then)


def test_what_is_held_early_is_said_anew_often_enough() -> None:
    """Where a failing cell brings no new sentence, the one that stands says that there may be more."""
    said = [n for n in range(1, 10_000) if is_said_anew(n)]
    assert said[:EACH_SAID] == list(range(1, EACH_SAID + 1))
    assert len(said) < 30
    assert all(b - a == 1 or a >= EACH_SAID for a, b in itertools.pairwise(said))


@pytest.mark.parametrize(
    ("counts", "judged", "said"),
    [
        ((5, 15, 4, 0), True, "Undecided: 5 of 15 cells done, 4 running."),
        ((6, 15, 3, 2), True, "Undecided: 6 of 15 cells done, 3 running, 2 with failures so far."),
        ((0, 0, 0, 0), True, "Undecided: reading the plan."),
        ((0, 1, 1, 0), False, "No verdict is asked for: 0 of 1 cell done, 1 running."),
    ],
)
def test_how_far_a_run_is(counts: tuple[int, int, int, int], judged: bool, said: str) -> None:
    assert progress(*counts, judged=judged) == said


@pytest.mark.parametrize(
    ("before", "verdict", "level"),
    [
        ({}, "clear", "warn"),
        ({"enough": 2}, "clear", "warn"),
        ({"enough": 3}, "held", "block"),
        ({"other": 9}, "clear", "warn"),
    ],
)
def test_a_new_rule_only_warns_in_its_first_runs(before: dict[str, int], verdict: str, level: str) -> None:
    rule = Rule("enough", "tests.total", "at-least", Fraction(5), after_runs=3)
    judged = judge(plan(), [rule], measured({"tests.total": 4}), NOTHING, judged_before=before)
    last = judged[-1]
    assert (verdict_of(judged), last.rule.level, last.met) == (verdict, level, False)
    assert ("only warns in its first 3 runs" in last.reason) is (level == "warn")
    assert beyond_repair([last]) == []


@pytest.mark.parametrize(
    ("more", "said"), [({}, 6), ({"after_runs": 3}, 7), ({"kinds": ("deep",)}, 7), ({"jobs": ("unit",)}, 7)]
)
def test_a_rule_that_asks_the_same_as_a_built_in_one_is_said_once(more: dict[str, object], said: int) -> None:
    rule = Rule("none new", "tests.new", "at-most", Fraction(0), **more)  # type: ignore[arg-type]
    assert len(judge(plan(), [rule], measured({"tests.new": 0}), NOTHING)) == said
