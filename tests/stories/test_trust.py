"""What can be trusted: real pushes whose steps say too little, too much, or something else, and what is said of them."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from worlds import Repository, World, junit

HEAD = 'version = 1\n[jobs.unit]\nruntime = ["lua"]\nvary = { lua = ["5.4"] }\n'


def step(command: str, collect: str = 'tests = ["out/*.xml"]', more: str = "") -> str:
    kept = f"collect = {{ {collect} }}\n" if collect else ""
    return f"[[jobs.unit.steps]]\ncommand = '''{command}'''\n{kept}{more}"


def writing(xml: str, status: int = 0) -> str:
    return f"mkdir -p out\ncat > out/a.xml <<'END'\n{xml}\nEND\nexit {status}\n"


GREEN = writing(junit(a="passed"))
RED = junit(a="expected 1, got 2")
MANY = 'mkdir -p out; for i in $(seq 1003); do echo "<testsuite><testcase name=\\"t$i\\"/></testsuite>" > out/$i.xml; done\n'


@pytest.mark.parametrize(
    ("name", "plan", "verdict", "said"),
    [
        ("green", step(GREEN), "clear", "1 of 1 test passed"),
        ("takes", step(GREEN) + step("true"), "held", "no trustworthy result"),
        ("skips", step(writing("<testsuite><testcase name='a'><skipped/></testcase></testsuite>")), "held", "no test"),
        (
            "rerun",
            step(writing("<testsuite><testcase name='a'><rerunFailure/><failure message='m'/></testcase></testsuite>")),
            "held",
            "1 test newly fails",
        ),
        ("lying", step(writing("<testsuite failures='7'><testcase name='a'/></testsuite>")), "held", "not whole"),
        ("quiet", step(writing(RED)), "held", "1 test newly fails"),
        ("ended", step(writing(junit(a="passed"), 3)), "held", ""),
        (
            "empty",
            step(GREEN) + step("mkdir -p e; echo '<testsuite/>' > e/b.xml", 'tests = ["e/b.xml"], may-be-empty = true'),
            "clear",
            "1 of 1",
        ),
        (
            "sarif",
            step(GREEN)
            + step(
                'mkdir -p e; echo \'{"version": "2.1.0", "runs": []}\' > e/b.xml',
                'tests = ["e/b.xml"], may-be-empty = true',
            ),
            "held",
            "no trustworthy result",
        ),
        ("blank", step("mkdir -p out; echo '<testsuite/>' > out/a.xml"), "held", "no trustworthy result"),
        ("stale", step("true", ""), "clear", ""),
        ("heaps", step(MANY), "clear", "1,003"),
        (
            "heap",
            step(MANY + "echo '<testsuite><testcase name=\"z\"><failure/></testcase></testsuite>' > out/1003.xml"),
            "held",
            "1 test newly fails",
        ),
    ],
)
def test_what_steps_leave_is_trusted_only_as_far_as_it_goes(
    world: World, name: str, plan: str, verdict: str, said: str
) -> None:
    repo = world.repository(f"trust-{name}", None)
    began = time.monotonic()
    run = repo.pushed({"myriant.toml": HEAD + plan}, "first")["run"]
    assert run["verdict"] == verdict, run["sentence"]
    told = run["sentence"].replace("1003", "1,003")
    assert said in told, (run["sentence"], time.monotonic() - began)


LIST = """mkdir -p out; { echo "<testsuite name='tide'>"
for f in tests/*; do set -- $(cat $f)
case $2 in pass) echo "<testcase name='$1'/>";; fail) echo "<testcase name='$1'><failure message='adrift'/></testcase>";; esac
done; echo "</testsuite>"; } > out/a.xml; ! grep -q '<failure' out/a.xml
"""
A, B = "gauge_one pass\n", "gauge_two pass\n"
Files = dict[str, str | None]


@pytest.mark.parametrize(
    ("name", "history"),
    [
        # a test is put aside while another of a similar name comes: no guess makes them one
        ("guessed", [({"attic/a": A, "tests/a": None, "tests/c": "gauge_onf pass\n"}, "held", "1 test vanished")]),
        # the name is changed and changed back: neither of the two vanished
        (
            "renamed",
            [
                ({"tests/a": "gauge_onf pass\n"}, "clear", "2 of 2"),
                ({"tests/a": A}, "clear", "2 of 2"),
                ({"tests/a": None, "attic/a": A}, "held", "1 test vanished"),
                ({"docs": "words"}, "held", "1 test vanished"),
                ({"tests/a": A, "attic/a": None}, "clear", "2 of 2"),
            ],
        ),
        # failing under a new name is a new failure
        ("failing", [({"tests/a": "gauge_onf fail\n"}, "held", "1 test newly fails")]),
        ("emptied", [({"tests/a": None, "tests/b": None}, "held", "no trustworthy result")]),
    ],
)
def test_what_went_is_missed_until_its_source_is_gone(
    world: World, name: str, history: list[tuple[Files, str, str]]
) -> None:
    repo = world.repository(f"went-{name}", None)
    plan = HEAD + step("sh run.sh", 'tests = ["out/a.xml"]')
    first = repo.pushed({"myriant.toml": plan, "run.sh": LIST, "tests/a": A, "tests/b": B})["run"]
    assert first["verdict"] == "clear", first["sentence"]
    for files, verdict, said in history:
        run = repo.pushed(files)["run"]
        assert run["verdict"] == verdict and said in run["sentence"], (files, run["sentence"])


def test_what_was_accepted_as_gone_is_missed_no_more_until_it_came_back(world: World) -> None:
    repo = world.repository("accepted-gone", None)
    gone: Files = {"tests/b": None, "attic/b": B}
    repo.pushed(
        {"myriant.toml": HEAD + step("sh run.sh", 'tests = ["out/a.xml"]'), "run.sh": LIST, "tests/a": A, "tests/b": B}
    )
    assert repo.pushed(gone)["run"]["verdict"] == "held"
    held = repo.pushed({"docs": "words"})  # it lasts, and is accepted where it does
    assert held["run"]["verdict"] == "held"
    wish = {"reason": "tried by hand for a while", "tests": held["acceptable"]["tests"]}
    at = f"/projects/accepted-gone/runs/{held['run']['number']}/acceptances"
    assert world.http.post(at, json=wish).status_code == 201
    until_noted(repo, held["run"]["commit"], "clear")
    for files, verdict in (
        ({"docs": "more"}, "clear"),
        ({"docs": "still more"}, "clear"),
        ({"tests/b": B, "attic/b": None}, "clear"),
        (gone, "held"),
    ):
        run = repo.pushed(files)["run"]
        assert run["verdict"] == verdict, (files, run["sentence"])


def test_a_pull_request_is_not_held_for_what_its_target_had_lost_before(world: World) -> None:
    repo = world.repository("lost-before", None)
    plan = HEAD + step("sh run.sh", 'tests = ["out/a.xml"]')
    repo.pushed({"myriant.toml": plan, "run.sh": LIST, "tests/a": A, "tests/b": B})
    lost = repo.pushed({"tests/b": None, "attic/b": B})["run"]
    assert lost["verdict"] == "held" and "1 test vanished" in lost["sentence"]
    repo.git("checkout", "-q", "-b", "beside")
    asked = repo.commit({"tests/c": "gauge_new pass\n"})
    repo.push("beside")
    assert repo.run_of(asked)["run"]["verdict"] == "held"  # on a branch it lasts
    for number, (files, verdict) in enumerate((({}, "clear"), ({"tests/a": None, "attic/a": A}, "held")), 1):
        head = repo.commit(files) if files else asked  # type: ignore[arg-type]
        if files:
            repo.push("beside")
        told = world.http.put(f"/projects/lost-before/pull-requests/{number}", json={"source": "beside"}).json()
        end = time.monotonic() + 60
        while (run := world.get(f"/projects/lost-before/runs/{told['runs'][-1]}")["run"])["ended_at"] is None:
            assert time.monotonic() < end, run
            time.sleep(0.1)
        assert (run["commit"], run["verdict"]) == (head, verdict), run["sentence"]


SARIF = '{"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "fen"}}, "results": [%s]}]}'
MARK = '{"ruleId": "R%d", "level": "error", "message": {"text": "odd"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "a.lua"}, "region": {"startLine": %d}}}]}'
LCOV = "TN:\\nSF:a.lua\\nFN:1,f\\nFN:2,g\\nFNDA:1,f\\nFNDA:0,g\\nDA:1,1\\nDA:2,0\\nBRDA:1,0,0,1\\nBRDA:1,0,1,-\\nend_of_record"


@pytest.mark.parametrize(
    ("measure", "limit", "verdict", "value"),
    [
        ("analysis.total", "at-most = 1", "clear", "1"),
        ("analysis.total", "at-most = 0", "held", "1"),
        ("analysis.errors", "at-most = 0", "held", "1"),
        ("analysis.new", "at-most = 0", "clear", None),  # nothing to compare with yet
        ("coverage.branch", "at-least = 0.5", "clear", "50.0 %"),
        ("coverage.branch", "at-least = 0.51", "held", "50.0 %"),
        ("coverage.function", "at-least = 0.5", "clear", "50.0 %"),
        ("coverage.function", "at-least = 0.51", "held", "50.0 %"),
        ("seconds.total", "at-most = 600", "clear", None),
        ("seconds.total", "at-most = 0", "held", None),
    ],
)
def test_rules_about_time_branches_and_analysis_are_judged(
    world: World, measure: str, limit: str, verdict: str, value: str | None
) -> None:
    rule = f'[[gate.rules]]\nname = "r"\nmeasure = "{measure}"\n{limit}\n'
    command = f"mkdir -p out; printf '{LCOV}\\n' > out/lcov.info; cp a.sarif out/; " + GREEN
    collect = 'tests = ["out/*.xml"], coverage = ["out/lcov.info"], analysis = ["out/a.sarif"]'
    repo = world.repository(f"rules-{measure.replace('.', '-')}-{limit[-1]}-{verdict}", None)
    plan = HEAD + step(command, collect) + rule
    run = repo.pushed({"myriant.toml": plan, "a.lua": "one\ntwo\n", "a.sarif": SARIF % (MARK % (1, 1))}, "first")
    judged = next(j for j in run["judged"] if j["name"] == "r")
    assert run["run"]["verdict"] == verdict and (value is None or judged["value"] == value), judged
    if measure == "analysis.new":
        two = ",".join([MARK % (1, 1), MARK % (2, 2)])
        worse = repo.pushed({"a.sarif": SARIF % two}, "one more")
        assert (
            next(j for j in worse["judged"] if j["name"] == "r")["value"] == "1" and worse["run"]["verdict"] == "held"
        )
        still = repo.pushed({"notes": "words"}, "held still")
        assert still["run"]["verdict"] == "held"
        assert repo.pushed({"a.sarif": SARIF % (MARK % (2, 2))}, "another one")["run"]["verdict"] == "held"
        assert repo.pushed({"a.sarif": SARIF % ""}, "none")["run"]["verdict"] == "clear"
    if measure == "seconds.total":
        again = world.http.post(f"/projects/{repo.name}/runs/1/again", json={"which": "all"})
        assert again.status_code == 200
        later = repo.run_of(run["run"]["commit"])
        value = next(j for j in later["judged"] if j["name"] == "r")["value"]
        assert value is not None and later["run"]["verdict"] == verdict, value


def test_a_rule_may_be_about_some_kinds_of_tests(world: World) -> None:
    repo = world.repository("rules-kinds", None)
    plan = (
        HEAD
        + '[gate]\nnew-failures = "warn"\nfailed-steps = "warn"\n'
        + "".join(
            f'[[gate.rules]]\nname = "{name}"\nmeasure = "{measure}"\n{sign} = {limit}\nkinds = ["{kind}"]\n'
            for name, measure, sign, limit, kind in (
                ("deep", "tests.failed", "at-most", 0, "deep"),
                ("enough", "tests.total", "at-least", 2, "unit"),
                ("none", "tests.total", "at-most", 9, "odd"),
            )
        )
        + '[[jobs.unit.steps]]\ncommand = "mkdir -p out; cp a.xml b.xml out/"\ncollect = [{ tests = ["out/a.xml"] }, { kind = "deep", tests = ["out/b.xml"] }]\n'
    )
    two = "<testsuite name='t'><testcase name='a'/><testcase name='b'>{}</testcase></testsuite>"
    bad, good = two.format("<failure message='adrift'/>"), two.format("")
    for files, deep, enough in [
        ({"myriant.toml": plan, "a.xml": bad, "b.xml": good}, ("0", True), ("2", True)),
        ({"a.xml": good, "b.xml": bad}, ("1", False), ("2", True)),
    ]:
        run = repo.pushed(files)
        judged = {j["name"]: (j["value"], j["met"]) for j in run["judged"]}
        assert (judged["deep"], judged["enough"]) == (deep, enough), judged
        assert judged["none"] == (None, False) and run["run"]["verdict"] == "held"  # none of that kind: not measured


def test_rules_on_slower_tests_and_on_what_artifacts_weigh_are_judged(world: World) -> None:
    repo = world.repository("rules-weight", None)
    rules = "".join(
        f'[[gate.rules]]\nname = "{name}"\nmeasure = "{measure}"\nat-most = {limit}\n'
        for name, measure, limit in (("quick", "seconds.slower", 0), ("light", "artifacts.bytes", 1000))
    )
    job = step("mkdir -p out; cp a.xml cargo out/", 'tests = ["out/*.xml"]').replace(
        "[[jobs.unit.steps]]", 'artifacts = [{ files = ["out/cargo"] }]\n[[jobs.unit.steps]]', 1
    )

    def files(seconds: float, size: int) -> dict[str, str | None]:
        rows = "".join(f"<testcase name='lock {n}' time='0.5'/>" for n in range(5))
        return {
            "a.xml": f"<testsuite name='t'>{rows}<testcase name='gate' time='{seconds}'/></testsuite>",
            "cargo": "x" * size,
        }

    for change, verdict, said in [
        ({"myriant.toml": HEAD + job + rules, **files(0.5, 700)}, "clear", {"light": "700 bytes", "quick": None}),
        (files(0.6, 700), "clear", {"light": "700 bytes", "quick": "0"}),
        (files(4.0, 700), "held", {"light": "700 bytes", "quick": "1"}),
        (files(0.6, 1001), "held", {"light": "1001 bytes", "quick": "0"}),
        (files(0.6, 1000), "clear", {"light": "1000 bytes", "quick": "0"}),
    ]:
        run = repo.pushed(change)
        judged = {j["name"]: j["value"] for j in run["judged"] if j["name"] in said}
        assert (run["run"]["verdict"], judged) == (verdict, said), run["judged"]


@pytest.mark.parametrize(
    ("rule", "history"),
    [  # which of four lines are covered, what changes beside, the verdict, what the rule measured, whether it is met
        (
            'measure = "coverage.change"\nat-least = -0.25',
            [
                ("1111", {}, "clear", None, True),
                ("1110", {}, "clear", "−25.0 points", True),
                ("1000", {}, "held", "−50.0 points", False),
                ("1100", {}, "clear", "−25.0 points", True),
            ],
        ),
        (
            'measure = "coverage.lost"\nat-most = 0',
            [
                ("1111", {}, "clear", None, True),
                ("1110", {}, "held", "1", False),
                ("1111", {}, "clear", "0", True),
                ("1011", {"a.lua": "one\nTWO\nthree\nfour\n"}, "clear", "0", True),
            ],
        ),
        (
            'measure = "coverage.line"\nat-least = "best of 3"\nlevel = "warn"',
            [
                ("1111", {}, "clear", "100.0 %", True),
                ("1110", {}, "clear", "75.0 %", False),
                ("1110", {"notes": "a"}, "clear", "75.0 %", False),
                ("1100", {}, "clear", "50.0 %", False),
                ("1110", {}, "clear", "75.0 %", True),
            ],
        ),  # the best three are 75, 75 and 50 by now
    ],
)
def test_coverage_is_compared_with_what_it_was(
    world: World, rule: str, history: list[tuple[str, dict[str, str], str, str | None, bool]]
) -> None:
    plan = HEAD + step("mkdir -p out; cp a.lcov out/; " + GREEN, 'tests = ["out/*.xml"], coverage = ["out/a.lcov"]')
    plan += f'[[gate.rules]]\nname = "r"\n{rule}\n'
    repo = world.repository(f"compared-{rule.split('.')[1][:4]}", None)
    for n, (covered, more, verdict, value, met) in enumerate(history):
        lines = "".join(f"DA:{i},{hit}\n" for i, hit in enumerate(covered, 1))
        files = {"a.lcov": f"SF:a.lua\n{lines}end_of_record\n", "turn": str(n), **more}
        run = repo.pushed(
            {"myriant.toml": plan, "a.lua": "one\ntwo\nthree\nfour\n", **files} if not n else files, covered
        )
        judged = next(j for j in run["judged"] if j["name"] == "r")
        assert (run["run"]["verdict"], judged["value"], judged["met"]) == (verdict, value, met), (covered, judged)


def test_each_jobs_coverage_is_compared_with_that_at_its_own_baseline(world: World) -> None:
    """A run that was held for lost coverage is nobody's baseline, though its other job held nobody up."""
    covers = step("mkdir -p out; cp a.lcov out/; " + GREEN, 'tests = ["out/*.xml"], coverage = ["out/a.lcov"]')
    style = '[jobs.style]\n[[jobs.style.steps]]\nname = "style"\ncommand = "true"\n'
    rule = '[[gate.rules]]\nname = "r"\nmeasure = "coverage.line"\nat-least = "baseline"\n'
    lost = '[[gate.rules]]\nname = "l"\nmeasure = "coverage.lost"\nat-most = 0\n'
    repo = world.repository("own-baselines", None)

    def pushed(hits: str, **more: str) -> dict[str, Any]:
        lines = "".join(f"DA:{i},{hit}\n" for i, hit in enumerate(hits, 1))
        return repo.pushed({"a.lcov": f"SF:a.lua\n{lines}end_of_record\n", **more}, f"{hits} {more.keys()}")

    first = pushed("1110", **{"myriant.toml": HEAD + covers + style + rule + lost, "a.lua": "one\ntwo\nthree\nfour\n"})
    assert first["run"]["verdict"] == "clear", first["run"]["sentence"]
    for n in range(3):
        held = pushed("1000", turn=str(n))
        judged = {j["name"]: (j["value"], j["met"]) for j in held["judged"] if j["name"] in ("r", "l")}
        assert judged == {"r": ("25.0 %", False), "l": ("2", False)}, held["run"]["sentence"]
        page = world.get(f"/projects/own-baselines/runs/{held['run']['number']}/coverage")
        assert page["against_run"] == 1 and "−50.0 points" in page["said"], page["said"]
        assert page["lost"] == [{"path": "a.lua", "lines": [2, 3]}]
    assert pushed("1111", turn="x")["run"]["verdict"] == "clear"


def test_lines_that_changed_since_an_older_part_stay_changed(world: World) -> None:
    """Another job's newer baseline makes nothing covered that its own job never covered."""

    def covers(job: str) -> str:
        command = f"mkdir -p out; cp {job}.lcov out/; " + GREEN
        steps = step(command, f'tests = ["out/*.xml"], coverage = ["out/{job}.lcov"]')
        return (HEAD.replace("version = 1\n", "") + steps).replace("jobs.unit", f"jobs.{job}")

    def report(job: str, hits: str) -> dict[str, str | None]:
        lines = "".join(f"DA:{i},{hit}\n" for i, hit in enumerate(hits, 1))
        return {f"{job}.lcov": f"SF:{job}.lua\n{lines}end_of_record\n"}

    rule = '[[gate.rules]]\nname = "r"\nmeasure = "coverage.changed"\nat-least = 0.8\njobs = ["low"]\n'
    repo = world.repository("older-part", None)
    source = {"low.lua": "one\ntwo\n", "high.lua": "one\n"}
    plan = "version = 1\n" + covers("low") + covers("high") + rule
    assert (
        repo.pushed({"myriant.toml": plan, **source, **report("low", "11"), **report("high", "1")})["run"]["verdict"]
        == "clear"
    )
    for files in ({"low.lua": "one\ntwo\nthree\nfour\n", **report("low", "1100")}, {"README": "words"}):
        run = repo.pushed(files)
        [judged] = [j for j in run["judged"] if j["name"] == "r"]
        assert (judged["value"], judged["met"], run["run"]["verdict"]) == ("0.0 %", False, "held"), run["run"][
            "sentence"
        ]


def test_a_file_that_no_report_names_any_more_is_not_covered_while_it_stands(world: World) -> None:
    plan = HEAD + step("mkdir -p out; cp a.lcov out/; " + GREEN, 'tests = ["out/*.xml"], coverage = ["out/a.lcov"]')
    plan += '[[gate.rules]]\nname = "r"\nmeasure = "coverage.line"\nat-least = "baseline"\n'
    full = "SF:a.lua\nDA:1,1\nDA:2,1\nend_of_record\n"
    half = "SF:b.lua\nDA:1,1\nDA:2,0\nend_of_record\n"
    source = {"a.lua": "one\ntwo\n", "b.lua": "one\ntwo\n"}
    repo = world.repository("unnamed-file", None)
    steps: list[tuple[dict[str, str | None], str, str]] = [
        ({"myriant.toml": plan, "a.lcov": full + half, **source}, "75.0 %", "clear"),
        ({"a.lcov": full}, "50.0 %", "held"),  # not 100 %
        ({"turn": "1"}, "50.0 %", "held"),
        ({"b.lua": "zero\none\ntwo\n"}, "50.0 %", "held"),  # its lines are followed
        ({"b.lua": None}, "100.0 %", "clear"),
    ]
    for files, value, verdict in steps:
        run = repo.pushed(files)
        judged = next(j for j in run["judged"] if j["name"] == "r")
        assert (judged["value"], run["run"]["verdict"]) == (value, verdict), run["run"]["sentence"]


def test_coverage_that_begins_has_nothing_to_be_compared_with(world: World) -> None:
    repo = world.repository("begins", None)
    assert repo.pushed({"myriant.toml": HEAD + step(GREEN), "a.lua": "one\n"})["run"]["verdict"] == "clear"
    plan = HEAD + step("mkdir -p out; cp a.lcov out/; " + GREEN, 'tests = ["out/*.xml"], coverage = ["out/a.lcov"]')
    plan += '[[gate.rules]]\nname = "r"\nmeasure = "coverage.change"\nat-least = 0\n'
    for lines, verdict in (("DA:1,1\n", "clear"), ("DA:1,0\n", "held")):
        run = repo.pushed({"myriant.toml": plan, "a.lcov": f"SF:a.lua\n{lines}end_of_record\n"}, lines)
        assert run["run"]["verdict"] == verdict, run["run"]["sentence"]


def test_a_plan_that_asks_less_again_is_another_matter(world: World) -> None:
    repo = world.repository("again-less", None)
    strict = HEAD + step(GREEN)
    less = strict + '[gate]\nvanished = "warn"\n'
    assert repo.pushed({"myriant.toml": strict})["run"]["verdict"] == "clear"
    held = repo.pushed({"myriant.toml": less})
    assert held["run"]["verdict"] == "held"
    wish = {"reason": "for the move", "loosened": held["acceptable"]["loosened"]}
    number = held["run"]["number"]
    assert world.http.post(f"/projects/again-less/runs/{number}/acceptances", json=wish).status_code == 201
    until_noted(repo, held["run"]["commit"], "clear")
    assert repo.pushed({"notes": "words"})["run"]["verdict"] == "clear"  # the word holds on
    assert repo.pushed({"myriant.toml": strict})["run"]["verdict"] == "clear"
    again = repo.pushed({"myriant.toml": less})
    assert again["run"]["verdict"] == "held", again["run"]["sentence"]


def test_a_word_given_on_a_topic_is_used_up_by_its_squash(world: World) -> None:
    """The topic's commit is no ancestor of main's: the same two plans say that it is the same change."""
    repo = world.repository("squashed-less", None)
    strict = HEAD + step(GREEN)
    less = strict + '[gate]\nvanished = "warn"\n'
    assert repo.pushed({"myriant.toml": strict})["run"]["verdict"] == "clear"
    topic = repo.commit({"myriant.toml": less})
    repo.push("topic")
    held = repo.run_of(topic)
    wish = {"reason": "for the move", "loosened": held["acceptable"]["loosened"]}
    number = held["run"]["number"]
    assert world.http.post(f"/projects/squashed-less/runs/{number}/acceptances", json=wish).status_code == 201
    repo.git("reset", "--hard", "--quiet", "HEAD~1")
    squash = {"myriant.toml": less, "harbour": "deep"}
    assert repo.pushed(squash)["run"]["verdict"] == "clear"
    assert repo.pushed({"notes": "words"})["run"]["verdict"] == "clear"
    assert repo.pushed({"myriant.toml": strict})["run"]["verdict"] == "clear"
    again = repo.pushed({"myriant.toml": less})
    assert again["run"]["verdict"] == "held", again["run"]["sentence"]


def test_a_measure_of_nothing_is_not_measured(world: World) -> None:
    repo = world.repository("rules-nothing", None)
    rule = '[[gate.rules]]\nname = "r"\nmeasure = "analysis.total"\nat-most = 0\n'
    run = repo.pushed({"myriant.toml": HEAD + step(GREEN) + rule}, "first")
    assert run["run"]["verdict"] == "held" and "analysis.total was not measured" in run["run"]["sentence"]


SAYS = r"""mkdir -p out; { echo "<testsuite name='tide'>"
for f in tests/*; do set -- $(cat $f); case $2$MYRIANT_ATTEMPT in shy1) set -- $1 fail;; esac
case $2 in pass) echo "<testcase name='$1'/>";; fail) echo "<testcase name='$1'><failure message='adrift'/></testcase>";;
flaky) echo "<testcase name='$1'><flakyFailure message='adrift'/></testcase>";; esac
done; echo "</testsuite>"; } > out/a.xml; [ -f ends ] && exit $(cat ends); ! grep -q '<[a-z]*[fF]ailure' out/a.xml
"""
EXCUSED = 'version = 1\n[events]\npush = { unless-only = ["docs/**"] }\n'
OTHER = HEAD.replace("version = 1\n", "").replace("jobs.unit", "jobs.slow") + (
    "[[jobs.slow.steps]]\ncommand = 'mkdir -p out; cp slow.xml out/b.xml'\ncollect = { tests = [\"out/b.xml\"] }\n"
)
UNIT = EXCUSED + HEAD.replace("version = 1\n", "") + step("sh run.sh", 'tests = ["out/a.xml"]') + OTHER
TIDES = UNIT.replace("[jobs.unit]", '[jobs.tides]\nformerly = ["unit"]').replace("jobs.unit", "jobs.tides")


@pytest.mark.parametrize(
    ("name", "history"),
    [
        # what a step of another job lists is not missed in this one, though its cell has the same values
        ("cells", [({"tests/a": "gauge_one flaky\n"}, "main", "clear", "1 flaky test")]),
        # a status that came without a failing test is not how its tests fail, also where a result is taken over
        (
            "status",
            [
                ({"ends": "3"}, "main", "held", "no test says why"),
                ({"tests/a": "gauge_one fail\n"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ({}, "topic", "held", "ended with 3, which is not how its tests fail"),
                ({"ends": None}, "main", "clear", "1 quarantined failure"),
            ],
        ),
        # no attempt is its own witness: neither as it is read, nor as it was judged before
        (
            "witness",
            [
                ({"tests/a": "gauge_one fail\n"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ({"ends": "3"}, "main", "held", "ended with 3, which is not how its tests fail"),
                ({"notes": "words"}, "main", "held", "ended with 3, which is not how its tests fail"),
            ],
        ),
        (
            "anew",
            [
                ({"tests/a": "gauge_one fail\n", "ends": "3"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ("again job=slow", "main", "held", "ended with 3, which is not how its tests fail"),
            ],
        ),
        # what was brought along from a day of quarantine is not known for ever
        (
            "carried",
            [
                ({"tests/a": "gauge_one fail\n"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ({"notes": "words"}, "main", "clear", "1 quarantined failure"),
                ("holds again", "", "", ""),
                ({"docs/a": "words"}, "main", "held", "1 test newly fails"),
                ({"notes": "more"}, "main", "held", "1 test newly fails"),
            ],
        ),
        # a job of another name is still compared with what it was called, other jobs beside it or not
        (
            "job",
            [
                ({"myriant.toml": TIDES, "tests/a": None, "attic/a": A}, "main", "held", "1 test vanished"),
                ({"notes": "words"}, "main", "held", "1 test vanished"),
            ],
        ),
        # tests whose source is gone are not waited for
        (
            "gone",
            [
                ({"tests/a": "gauge_one fail\n"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ({"tests/b": None}, "main", "clear", "1 test removed"),
            ],
        ),
        # that a new test may be an old one under another name is a guess, and no guess explains what is missing
        (
            "guess",
            [
                ({"tests/a": "gauge_one fail\n"}, "main", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                (
                    {"tests/b": None, "attic/b": B, "tests/c": "gauge_too pass\n"},
                    "main",
                    "held",
                    "stopped before 1 of its tests",
                ),
                ({"notes": "words"}, "main", "held", "stopped before 1 of its tests"),
            ],
        ),
        # a context that is over counts no more where another says something: the note too
        (
            "over",
            [
                ({"tests/a": "gauge_one fail\n"}, "topic", "held", "1 test newly fails"),
                ("quarantine", "", "", ""),
                ({}, "main", "clear", "1 quarantined failure"),
                ("without topic", "topic", "held", "clear"),
            ],
        ),
        # a test that failed and is not listed when it runs again still fails, wherever the answer is taken over
        (
            "shy",
            [
                ({"tests/a": "gauge_one shy\n"}, "main", "held", "1 test newly fails"),
                ("again", "main", "held", "1 test newly fails"),
                ({}, "topic", "held", "1 test newly fails"),
            ],
        ),
    ],
)
def test_a_failed_step_is_explained_by_what_holds_there_and_then(
    world: World, name: str, history: list[tuple[Files | str, str, str, str]]
) -> None:
    repo = world.repository(f"explained-{name}", None)
    slow = junit(**{f"slow_{i}": "passed" for i in range(5)})
    files: Files = {"myriant.toml": UNIT, "run.sh": SAYS, "tests/a": A, "tests/b": B, "slow.xml": slow}
    assert repo.pushed(files)["run"]["verdict"] == "clear"
    commit = repo.git("rev-parse", "HEAD").strip()
    for what, branch, verdict, said in history:
        if what == "quarantine":
            number = world.contexts(commit, repo.name)[0]["run"]
            rows = world.get(f"/projects/{repo.name}/runs/{number}/tests", state="all", limit=100)["rows"]
            until = (datetime.now(UTC) + timedelta(days=9)).isoformat()
            wish = {"tests": [t["test"] for t in rows if t["name"] == "gauge_one"], "reason": "drifts", "owner": "Ada"}
            answer = world.http.post(f"/projects/{repo.name}/quarantines", json=wish | {"until": until})
            assert answer.status_code == 201, answer.text
            continue
        if what == "holds again":
            [row] = [r for r in world.get(f"/projects/{repo.name}/flaky")["tests"] if r["quarantine"]]
            ended = world.http.delete(f"/projects/{repo.name}/quarantines/{row['quarantine']['id']}?why=over")
            assert ended.is_success, ended.text
            continue
        if isinstance(what, str) and what.startswith("without "):
            until_noted(repo, commit, verdict)
            repo.git("push", "origin", f":refs/heads/{branch}")
            until_noted(repo, commit, said)
            continue
        if isinstance(what, str):
            number = world.contexts(commit, repo.name)[0]["run"]
            wish = {"which": "chosen" if " " in what else "all", "cells": what.partition(" ")[2]}
            assert world.http.post(f"/projects/{repo.name}/runs/{number}/again", json=wish).is_success
        else:
            commit = repo.commit(what) if what else commit
            repo.push(branch)
        word = until_final(world, commit, repo.name, f"push {branch}")
        assert word["verdict"] == verdict and said in word["sentence"], (what, word["sentence"])


def until_noted(repo: Repository, commit: str, verdict: str) -> None:
    """The commit note says this verdict, at last."""
    end = time.monotonic() + 60
    while not (note := repo.note(commit)).startswith(f"verdict: {verdict} "):
        assert time.monotonic() < end, note
        time.sleep(0.15)


def until_final(world: World, commit: str, project: str, context: str) -> dict[str, Any]:
    """What a context says of a commit once it is decided for good."""
    end = time.monotonic() + 120
    while time.monotonic() < end:
        found = [c for c in world.contexts(commit, project) if c["context"] == context and c["final"]]
        if found:
            return found[0]
        time.sleep(0.15)
    raise AssertionError(f"{commit} was not decided for {context}")
