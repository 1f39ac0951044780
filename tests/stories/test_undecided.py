"""What may keep a verdict open, and what may not."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from inprocess import Stories
from worlds import junit, writes

STEP = '[[jobs.{job}.steps]]\nname = "test"\ncommand = "sh test.sh"\ncollect = {{ tests = ["out/unit.xml"] }}\n'
HEAD = "version = 1\n\n[events]\npush = {}\npull-request = {}\n\n"
UNIT = HEAD + '[jobs.unit]\ntitle = "Unit"\n{more}' + STEP.format(job="unit")
ADVISORY = UNIT.replace(
    "{more}", 'vary = { lua = ["5.4", "5.9"] }\nruntime = ["lua"]\nadvisory = [{ lua = ">= 5.5" }]\n'
)
GREEN, RED = writes(junit(a="passed", b="passed")), writes(junit(a="passed", b="gone bad"), status=1)


def test_an_advisory_cell_that_no_runner_can_run_keeps_no_verdict_open(world: Stories) -> None:
    repo = world.repository("advisory", None)
    run = repo.pushed({"myriant.toml": ADVISORY, "test.sh": GREEN})
    stuck = next(c for c in run["cells"] if c["key"] == "lua=5.9")
    assert run["run"]["verdict"] == "clear" and run["run"]["ended_at"], run["run"]["sentence"]
    assert stuck["state"] == "waiting" and "no runner offers lua 5.9" in stuck["reason"]
    assert repo.pushed({"test.sh": RED})["run"]["verdict"] == "held"
    assert repo.pushed({"test.sh": GREEN})["run"]["verdict"] == "clear"


def test_a_pull_request_may_rename_a_job_and_put_one_behind_it(world: Stories) -> None:
    repo = world.repository("renames", None)
    plan = UNIT.replace("{more}", "")
    rule = '[[gate.rules]]\nname = "enough"\nmeasure = "tests.total"\nat-least = 1\njobs = ["unit"]\n'
    repo.pushed({"myriant.toml": plan + rule, "test.sh": GREEN})
    repo.git("checkout", "-q", "-b", "topic")
    renamed = plan.replace("[jobs.unit]", '[jobs.tests]\nformerly = ["unit"]').replace("jobs.unit", "jobs.tests")
    behind = '\n[jobs.more]\ntitle = "More"\nafter = ["tests"]\n' + STEP.format(job="more")
    commit = repo.commit({"myriant.toml": renamed + behind + rule.replace('"unit"', '"tests"')})
    repo.push("topic")
    wish = {"source": "topic", "target": "main", "state": "open"}
    assert world.http.put("/projects/renames/pull-requests/3", json=wish).is_success
    found = world.word(commit, "renames", "pull-request 3")
    assert found is not None and found["verdict"] == "clear", found
    cells = world.get(f"/projects/renames/runs/{found['run']}")["cells"]
    assert [(c["job"], c["state"]) for c in cells] == [("tests", "passed"), ("more", "passed")]


def test_a_rule_that_is_waived_on_a_branch_holds_no_pull_request_into_it_that_leaves_it_as_it_is(
    world: Stories,
) -> None:
    repo = world.repository("waived-main", None)
    rule = '[[gate.rules]]\nname = "enough"\nmeasure = "tests.total"\nat-least = {n}\n'
    plan = UNIT.replace("{more}", "")
    held = repo.pushed({"myriant.toml": plan + rule.replace("{n}", "3"), "test.sh": GREEN})["run"]
    assert held["verdict"] == "held"
    until = (datetime.now(UTC) + timedelta(days=9)).isoformat()
    wish = {"rule": "enough", "until": until, "reason": "the third test comes in May"}
    answer = world.http.post(f"/projects/waived-main/runs/{held['number']}/waivers", json=wish)
    assert answer.status_code == 201, answer.text

    def pulled(number: int, script: str) -> tuple[str, str]:
        repo.git("checkout", "-q", "-B", f"topic-{number}", "main")
        commit = repo.commit({"test.sh": script, "notes": str(number)})
        repo.push(f"topic-{number}")
        wish = {"source": f"topic-{number}", "target": "main", "state": "open"}
        assert world.http.put(f"/projects/waived-main/pull-requests/{number}", json=wish).is_success
        found = world.word(commit, "waived-main", f"pull-request {number}")
        assert found is not None
        return found["verdict"], found["sentence"]

    assert pulled(1, "# as it is\n" + GREEN)[0] == "clear"
    worse = pulled(2, writes(junit(a="passed")))
    assert worse[0] == "held", worse
