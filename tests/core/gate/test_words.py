"""A commit's word, what is less than before, what a plan asks less, what a pull request is asked, what is set aside."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.gate.aside import StepResults, not_aside
from myriant.core.gate.contexts import Context, parse_context, push_to
from myriant.core.gate.less import counterparts, less, name_token, removed
from myriant.core.gate.loosened import loosened
from myriant.core.gate.word import Said, Word, newest_of_each, word
from myriant.core.matrix.expand import expand
from myriant.core.plan.asked import asked
from myriant.core.plan.content import part_of_plan
from myriant.core.plan.model import BuiltIn, Plan
from myriant.core.plan.read import read_plan
from myriant.core.results.moved import own_lines
from myriant.core.states import EventKind, Verdict

ORDER = [Verdict.HELD, Verdict.UNDECIDED, Verdict.CLEAR, Verdict.EXEMPT]
SAID = st.builds(
    Said,
    st.sampled_from(["", "push main", "push side", "tag v1", "pull-request 3", "schedule nightly"]),
    st.sampled_from(list(Verdict)),
    st.integers(1, 30),
    st.booleans(),
)


@pytest.mark.parametrize(
    ("said", "expected"),
    [
        ([], Word()),
        ([Said("", Verdict.CLEAR, 1)], Word()),  # evidence is no verdict
        ([Said("push main", Verdict.NONE, 1)], Word()),  # nothing was asked
        ([Said("push main", Verdict.HELD, 1), Said("push side", Verdict.CLEAR, 2)], Word(Verdict.HELD, "push main", 1)),
        (
            [Said("push main", Verdict.HELD, 1), Said("push main", Verdict.CLEAR, 2)],
            Word(Verdict.CLEAR, "push main", 2),
        ),
        ([Said("push main", Verdict.HELD, 1), Said("push main", Verdict.NONE, 2)], Word(Verdict.HELD, "push main", 1)),
        (
            [Said("push main", Verdict.CLEAR, 1), Said("tag v1", Verdict.UNDECIDED, 2)],
            Word(Verdict.UNDECIDED, "tag v1", 2),
        ),
        (
            [Said("push side", Verdict.HELD, 1, ended=True), Said("push main", Verdict.CLEAR, 2)],
            Word(Verdict.CLEAR, "push main", 2),
        ),
        ([Said("push side", Verdict.HELD, 1, ended=True)], Word(Verdict.HELD, "push side", 1)),
        ([Said("push main", Verdict.EXEMPT, 1), Said("tag v1", Verdict.CLEAR, 2)], Word(Verdict.CLEAR, "tag v1", 2)),
    ],
)
def test_a_commits_word_is_the_worst_of_the_newest_verdicts_of_its_contexts(said: list[Said], expected: Word) -> None:
    assert word(said) == expected


@given(st.lists(SAID, max_size=12, unique_by=lambda s: s.number))
def test_the_word_never_outshines_a_living_context(said: list[Said]) -> None:
    found = word(said)
    living = [s for s in newest_of_each(said) if not s.ended]
    for one in living:
        assert ORDER.index(found.verdict) <= ORDER.index(one.verdict)
    assert found == word(list(reversed(said)))
    assert (found.verdict is Verdict.NONE) == (not newest_of_each(said))


@given(st.sampled_from([EventKind.PUSH, EventKind.TAG, EventKind.SCHEDULE]), st.text(min_size=1, max_size=20))
def test_contexts_are_read_as_they_are_written(kind: EventKind, name: str) -> None:
    assert parse_context(str(Context(kind, name))) == Context(kind, name)
    assert parse_context("") is None and parse_context("manual main") is None


# --- less than before -----------------------------------------------------------------------------

LETTERS = {".": 0, "p": 1, "f": 2, "e": 3, "s": 4, "y": 5}


def run(**cells: str) -> dict[tuple[str, str], np.ndarray]:  # type: ignore[type-arg]
    """Outcomes by job a to z (the first letter of the keyword) and cell."""
    return {(k[0], k): np.array([LETTERS[c] for c in v], np.uint8) for k, v in cells.items()}


@pytest.mark.parametrize(
    ("now", "before", "vanished", "skipped"),
    [
        ({"a1": "pp"}, {"a1": "pp"}, [], []),
        ({"a1": "p."}, {"a1": "pp"}, [1], []),
        ({"a1": "p"}, {"a1": "pp"}, [1], []),
        ({"a1": "p.", "a2": "pp"}, {"a1": "pp", "a2": "pp"}, [], []),  # it has a result in another cell
        ({"a1": "p.", "b1": ".p"}, {"a1": "pp"}, [1], []),  # another job's results are other tests
        ({"a1": "ps"}, {"a1": "pp"}, [], [1]),
        ({"a1": "ps"}, {"a1": "py"}, [], [1]),
        ({"a1": "ps"}, {"a1": "pf"}, [], []),
        ({"a1": "p."}, {"a1": "pf"}, [1], []),  # a failing test that is gone is gone all the same
        ({"a1": "p."}, {"a2": "pp"}, [], []),  # a cell that was not there is not comparable
    ],
)
def test_tests_vanish_with_their_last_result_in_a_job(
    now: dict[str, str], before: dict[str, str], vanished: list[int], skipped: list[int]
) -> None:
    here, then = run(**now), run(**before)
    pairs = {name: name for name in here if name in then}
    found = less(here, then, pairs, {"a", "b"})
    assert (found.vanished.get("a", []), found.newly_skipped.get("a", [])) == (vanished, skipped)
    assert not less(here, then, pairs, set()).vanished  # a job that has not ended may still bring them


def test_a_cell_is_compared_with_the_one_it_had_before_a_dimension_was_added() -> None:
    now = {("a", "v=1,r=x"): {"v": "1", "r": "x"}, ("a", "v=2,r=x"): {"v": "2", "r": "x"}, ("b", ""): {}}
    before = {("a", "v=1"): {"v": "1"}, ("c", ""): {}}
    assert counterparts(now, before) == {("a", "v=1,r=x"): ("a", "v=1")}


@pytest.mark.parametrize(
    ("test", "stood", "stands", "gone"),
    [
        (("tests/test_a.py", "", "test_x"), {"tests/test_a.py"}, set(), True),
        (("tests/test_a.py", "", "test_x"), {"tests/test_a.py"}, {"tests/test_a.py"}, False),
        (("", "tests.test_a.TestA", "test_x"), {"tests/test_a.py", "b.py"}, {"b.py"}, True),  # another file's own
        (("suite", "", "works"), {"a.js", "b.js"}, {"b.js"}, False),  # which file it was in nobody knows
        (("suite", "", "adds 1 and 2"), set(), set(), False),  # a name made by a program proves nothing
        (("", "test_a", "test_x[1-2]"), {"test_a.py"}, set(), True),
        (
            ("tests/test_a.py", "", "test_x"),
            {"tests/test_a.py"},
            {"tests/later.py"},
            False,
        ),  # moved to where it is not run
        (("style", "", "tide/a.py"), {"tide/a.py", "README"}, {"README"}, True),  # a linter's test is a file
        (("style", "", "tide/a.py"), {"tide/a.py"}, {"tide/a.py"}, False),
    ],
)
def test_a_vanished_test_is_removed_only_where_its_name_left_its_source(
    test: tuple[str, str, str], stood: set[str], stands: set[str], gone: bool
) -> None:
    token = name_token(test[2])
    assert removed({7: test}, {token: stood}, {token: stands}) == ({7} if gone else set())


@pytest.mark.parametrize(
    ("source", "name", "lines"),
    [
        ("def test_a():\n    x = 1\n\n    assert x\n\ndef test_b():\n    pass\n", "test_a", "def ():\nx = 1\nassert x"),
        ('test("a b", () => {\n  expect(1)\n})\ntest("c", 2)\n', "a b", 'test("", () => {\nexpect(1)\n})'),
        ("x = 1\n", "test_a", ""),
    ],
)
def test_a_tests_own_lines_are_those_of_its_block(source: str, name: str, lines: str) -> None:
    assert own_lines(source, name) == lines


# --- what a plan asks less ------------------------------------------------------------------------

BASE = """version = 1
[events]
push = { branches = ["main", "season/*"] }
pull-request = { into = ["main"] }
tag = { names = ["v*"] }
[[events.schedule]]
name = "nightly"
every = "day"
at = "02:00"
[jobs.unit]
vary = { lua = ["5.1", "5.4"] }
runtime = ["lua"]
touching = ["src/**", "tests/**"]
[[jobs.unit.steps]]
name = "build"
command = "make"
[[jobs.unit.steps]]
name = "test"
command = "make test"
collect = { tests = ["out/unit.xml"], coverage = ["out/cov.xml"] }
[jobs.lint]
[[jobs.lint.steps]]
name = "lint"
command = "make lint"
[[gate.rules]]
name = "covered"
measure = "coverage.line"
at-least = 0.8
"""


def plan(text: str) -> Plan:
    found = read_plan(text.encode())
    assert found.plan is not None, found.errors
    return found.plan


LESS = [
    ('push = { branches = ["main", "season/*"] }', 'push = { branches = ["main"] }', "the push event names main only"),
    ('pull-request = { into = ["main"] }\n', "", ""),  # left out of [events] the default stands: any target
    (
        'branches = ["main", "season/*"]',
        'branches = ["main", "season/*"], unless-only = ["**"]',
        "the push event is excused by changes of ** only",
    ),
    ('tag = { names = ["v*"] }', 'tag = { names = ["v9*"] }', "the tag event names v9* only"),
    ('tag = { names = ["v*"] }\n', "", "the tag event is gone"),
    ('[[events.schedule]]\nname = "nightly"', '[[events.schedule]]\nname = "weekly"', "the schedule nightly is gone"),
    (
        '[[events.schedule]]\nname = "nightly"',
        '[[events.schedule]]\njobs = ["lint"]\nname = "nightly"',
        "the schedule nightly names lint only",
    ),
    ("[jobs.unit]\n", "[jobs.unit]\nhousekeeping = true\n", "job unit is housekeeping"),
    ('vary = { lua = ["5.1", "5.4"] }', 'vary = { lua = ["5.4"] }', "job unit: 1 cell gone (lua=5.1)"),
    ('runtime = ["lua"]', 'runtime = ["lua"]\ndrop = [{ lua = "5.1" }]', "job unit: 1 cell gone (lua=5.1)"),
    (
        'runtime = ["lua"]',
        'runtime = ["lua"]\nadvisory = [{ lua = "*" }]',
        "job unit: 2 cells made advisory (lua=5.1; lua=5.4)",
    ),
    ('touching = ["src/**", "tests/**"]', 'touching = ["src/**"]', "job unit: it looks at src/** only"),
    (
        "[jobs.lint]\n",
        '[jobs.lint]\nwhen = [{ event = "tag" }]\n',
        "job lint: it does not run any more for a push to main, a push to season/x, a pull request from topic into main, "
        "the schedule nightly",
    ),
    ("[jobs.lint]\n", "[jobs.lint]\ngated = true\n", "job lint is gated: it runs behind the verdict"),
    ("[jobs.lint]\n[[jobs.lint.steps]]", "[jobs.style]\n[[jobs.style.steps]]", "job lint is gone"),
    ('command = "make lint"', 'command = "make lint"\nmay-fail = true', "job lint: step lint may fail"),
    (', coverage = ["out/cov.xml"] }', " }", "job unit: coverage reports are not collected any more"),
    ('tests = ["out/unit.xml"], coverage', "coverage", "job unit: unit tests are not collected any more"),
    (
        'coverage = ["out/cov.xml"] }',
        'coverage = ["out/cov.xml"], may-be-empty = true }',
        "job unit: unit tests may be empty",
    ),
    ("at-least = 0.8", "at-least = 0.7", "the rule “covered” asks less: at least 0.7 instead of at least 0.8"),
    ("at-least = 0.8", 'at-least = 0.8\nlevel = "warn"', "the rule “covered” only warns"),
    ("at-least = 0.8", 'at-least = 0.8\njobs = ["unit"]', "the rule “covered” is gone"),
    ("at-least = 0.8", "at-least = 0.8\nsince = 2099-01-01", "the rule “covered” holds only since 2099-01-01"),
    ("at-least = 0.8", "at-least = 0.8\nafter-runs = 5", "the rule “covered” only warns for its first 5 runs"),
    ("[[gate.rules]]", '[gate]\nvanished = "warn"\n[[gate.rules]]', "the built-in rule vanished only warns"),
    ("[jobs.lint]\n", '[coverage]\nexclude = ["src/bad.py"]\n[jobs.lint]\n', "coverage leaves out src/bad.py"),
    (
        "[jobs.lint]\n",
        '[coverage]\nmap = [{ from = "made.py", to = "src/bad.py" }]\n[jobs.lint]\n',
        "coverage takes made.py for src/bad.py",
    ),
    ("[jobs.lint]\n", '[coverage]\nroot = "old"\n[jobs.lint]\n', "paths of coverage reports are relative to old"),
]
# how a step is done is the pull request's own word: it is held for what it cannot find any more
DEAF = [
    *(
        ('command = "make lint"', f"command = '{command}'", "job lint: step lint cannot fail any more")
        for command in ("make lint || true", "set +e; make lint; true", "set +e; make lint; echo $?", "make lint | cat")
    ),
]
MORE = [
    ("", ""),
    ('lua = ["5.1", "5.4"]', 'lua = ["5.1", "5.3", "5.4"]'),
    ("at-least = 0.8", "at-least = 0.9"),
    ('push = { branches = ["main", "season/*"] }', "push = {}"),
    ("[jobs.lint]\n", "[jobs.lint]\ntitle = 'Style'\n"),
    ('command = "make test"', 'command = "make tests"'),
    ('name = "build"\n', 'name = "compile"\n'),
    ('vary = { lua = ["5.1", "5.4"] }', 'vary = { lua = ["5.1", "5.4"], n = ["1", "2"] }'),
    ("[jobs.lint]\n[[jobs.lint.steps]]", '[jobs.style]\nformerly = ["lint"]\n[[jobs.style.steps]]'),
    ('touching = ["src/**", "tests/**"]\n', ""),
    ('tag = { names = ["v*"] }', "tag = {}"),
    *(  # it goes on, and its last command or what it ends with says how it went
        ('command = "make lint"', f"command = '{command}'")
        for command in ("set +e; make lint", "set +e; make lint; rc=$?; exit $rc", "set +e; echo a; make lint > b")
    ),
]


@pytest.mark.parametrize(
    ("now", "before", "told"),
    [
        ('"best of 20"', '"baseline"', []),
        ('"best of 20"', '"best of 5"', []),
        (
            '"best of 5"',
            '"best of 20"',
            ["asks less: at least the best of 5 baselines instead of at least the best of 20 baselines"],
        ),
        (
            '"baseline"',
            '"best of 2"',
            ["asks less: at least the baseline's instead of at least the best of 2 baselines"],
        ),
        ("0.9", '"best of 2"', ["asks less: at least 0.9 instead of at least the best of 2 baselines"]),
    ],
)
def test_fewer_baselines_to_look_back_over_ask_less(now: str, before: str, told: list[str]) -> None:
    plans = [plan(BASE.replace("at-least = 0.8", f"at-least = {limit}")) for limit in (now, before)]
    assert loosened(*plans) == [f"the rule “covered” {line}" for line in told]


def test_a_path_taken_back_or_without_a_rule_on_coverage_is_told_as_it_is() -> None:
    mapped = BASE.replace("[jobs.lint]\n", '[coverage]\nmap = [{ from = "a", to = "b" }]\n[jobs.lint]\n', 1)
    assert loosened(plan(BASE), plan(mapped)) == ["coverage.map names less, or in another order"]
    excluded = BASE.replace("[jobs.lint]\n", '[coverage]\nexclude = ["a/**"]\n[jobs.lint]\n', 1)
    assert loosened(plan(BASE), plan(excluded)) == [], "what is measured again is no less"
    bare = BASE[: BASE.index("[[gate.rules]]")]
    assert loosened(plan(excluded[: excluded.index("[[gate.rules]]")]), plan(bare)) == []


@pytest.mark.parametrize(("old", "new", "said"), [*LESS, *DEAF], ids=[row[2] or row[1] for row in [*LESS, *DEAF]])
def test_what_a_plan_asks_less_is_said_in_a_line(old: str, new: str, said: str) -> None:
    assert old in BASE
    assert (said in loosened(plan(BASE.replace(old, new, 1)), plan(BASE))) if said else True


@pytest.mark.parametrize(("old", "new"), MORE, ids=[row[1] for row in MORE])
def test_what_a_plan_asks_more_or_otherwise_loosens_nothing(old: str, new: str) -> None:
    assert old in BASE and loosened(plan(BASE.replace(old, new, 1)), plan(BASE)) == []


@pytest.mark.parametrize(("old", "new", "said"), LESS, ids=[row[2] or row[1] for row in LESS])
def test_a_pull_request_is_asked_all_that_its_target_asks(old: str, new: str, said: str) -> None:
    target, own = plan(BASE), plan(BASE.replace(old, new, 1))
    merged = asked(target, own)
    assert loosened(merged, target) == []
    keys = {(j.id, c.key) for j in merged.jobs for c in expand(j)}
    assert {(j.id, c.key) for j in target.jobs for c in expand(j)} <= keys


def test_a_pull_requests_own_plan_says_how_and_what_more() -> None:
    text = (
        BASE.replace('"5.4"]', '"5.4", "5.3"]')
        .replace("make test", "make tests")
        .replace(
            "[jobs.lint]",
            """\
[jobs.more]
[[jobs.more.steps]]
command = "true"
[jobs.lint]""",
        )
    )
    merged = asked(plan(BASE), plan(text))
    assert {c.key for c in expand(merged.job("unit"))} == {"lua=5.1", "lua=5.4", "lua=5.3"}
    assert merged.job("unit").steps[1].command == "make tests" and merged.find("more") is not None
    assert (
        asked(plan(BASE), plan(BASE.replace("[[gate", '[gate]\nvoid = "warn"\n[[gate', 1))).level_of(BuiltIn.VOID)
        == "block"
    )


@pytest.mark.parametrize(
    ("old", "new", "same"),
    [
        ("make test", "make tests", False),
        ('lua = ["5.1", "5.4"]', 'lua = ["5.1"]', False),
        ("[jobs.unit]\n", "[jobs.unit]\ntitle = 'Units'\n", True),
        ("touching = [", "touching = ['x', ", True),
        ("make lint", "make style", True),
        ("[jobs.unit]\n", "\n\n[jobs.unit]\n", True),
    ],
)
def test_a_jobs_part_of_its_plan_is_what_decides_its_results(old: str, new: str, same: bool) -> None:
    mine, other = plan(BASE).job("unit"), plan(BASE.replace(old, new, 1)).job("unit")
    assert (part_of_plan(mine) == part_of_plan(other)) == same


# --- set aside ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("status", "failing", "flaky", "aside", "statuses", "expected", "said"),
    [
        (1, "a", "", "a", (), "ab", ""),
        (1, "a", "", "", (), "ab", None),  # its own failure explains it
        (1, "ac", "", "a", (), "ab", None),
        (1, "", "", "a", (), "ab", "failed, and no test says why"),
        (3, "a", "", "a", (), "ab", "ended with 3, which is not how its tests fail"),
        (3, "a", "", "a", (3,), "ab", ""),
        (1, "a", "", "a", (3,), "ab", "ended with 1, which is not how its tests fail"),
        (1, "a", "", "a", (), "abcd", "stopped before 2 of its tests"),
        (1, "a", "", "a", (), None, ""),
        (1, "", "b", "", (), "ab", ""),
        (None, "a", "", "a", (), "ab", "ended with None, which is not how its tests fail"),
    ],
)
def test_a_failed_step_has_ended_well_only_when_all_of_it_is_set_aside(
    status: int | None,
    failing: str,
    flaky: str,
    aside: str,
    statuses: tuple[int, ...],
    expected: str | None,
    said: str | None,
) -> None:
    found = not_aside(status, StepResults(set(failing), set(flaky), {"a", "b"}), set(aside), statuses, expected)
    assert found == said


def test_contexts_name_a_push_by_its_branch() -> None:
    assert str(push_to("main")) == "push main" and push_to("main").said == "push to main"


@pytest.mark.parametrize(
    ("before", "now", "said"),
    [
        ("", "after-runs = 5", ["the rule “covered” only warns for its first 5 runs"]),
        ("after-runs = 5", "after-runs = 5", []),
        ("after-runs = 5", "", []),
        ("after-runs = 5", "after-runs = 3", []),
        ("after-runs = 5", "after-runs = 6", ["the rule “covered” only warns for its first 6 runs"]),
        # under another name it is counted from the beginning
        ("after-runs = 5", 'after-runs = 5\nname = "new"', ["the rule “covered” only warns for its first 5 runs"]),
        ("", 'name = "new"', []),
    ],
)
def test_a_rule_that_has_settled_cannot_be_made_to_warn_again_in_silence(
    before: str, now: str, said: list[str]
) -> None:
    def plan_with(more: str) -> Plan:
        named = more if "name" in more else f'{more}\nname = "covered"'
        text = f"""version = 1
[jobs.unit]
[[jobs.unit.steps]]
command = "make"
collect = {{ tests = ["a.xml"], coverage = ["b.xml"] }}
[[gate.rules]]
measure = "coverage.line"
at-least = 0.8
{named}
"""
        plan = read_plan(text.encode()).plan
        assert plan is not None
        return plan

    assert loosened(plan_with(now), plan_with(before)) == said
