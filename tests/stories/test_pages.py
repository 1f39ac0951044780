"""Pages that meet two features: each answers, whatever a run has seen."""

from __future__ import annotations

import pytest

from inprocess import Stories
from worlds import PLAN, junit, writes

SHOWN = """<testsuite name="s"><testcase classname="t" name="a">%s<system-out>[[ATTACHMENT|shots/a.png]]</system-out>
</testcase></testsuite>"""


def test_a_failing_test_that_names_an_attachment_is_shown_beside_the_picture_before(world: Stories) -> None:
    plan = PLAN.replace('["out/unit.xml"]', '["out/unit.xml"], attachments = ["shots/*.png"]')
    picture = "mkdir -p shots; echo one > shots/a.png\n"
    repo = world.repository("pictured", plan, test__sh=picture + writes(SHOWN % ""))
    run = repo.pushed({"test.sh": picture + writes(SHOWN % '<failure message="m"/>')})
    assert run["run"]["verdict"] == "held"
    (finding,) = repo.findings(run)["findings"]
    (kept,) = finding["attachments"]
    assert kept["path"] == "shots/a.png" and kept["report"] and kept["before"]
    assert world.get("/projects/pictured/morning")


@pytest.mark.parametrize("by", ["branch", "pull-request"])
def test_what_main_took_over_from_elsewhere_is_known_in_every_later_held_run(world: Stories, by: str) -> None:
    repo = world.repository(f"over-{by}", test__sh=writes(junit(a="passed", b="passed", c="passed")))
    repo.git("checkout", "--quiet", "-b", "side")
    commit = repo.commit({"test.sh": writes(junit(a="adrift", b="passed", c="passed"))}, "break a")
    repo.push("side")
    if by == "pull-request":
        told = world.http.put(f"/projects/{repo.name}/pull-requests/1", json={"source": "side", "target": "main"})
        assert told.status_code == 200, told.text
    repo.git("checkout", "--quiet", "main")
    repo.git("merge", "--quiet", "--ff-only", "side")
    repo.push()
    assert repo.run_of(commit)["run"]["verdict"] == "held"
    for broken in ("b", "c"):
        cases = {name: "adrift" if name in ("a", broken) else "passed" for name in "abc"}
        run = repo.pushed({"test.sh": writes(junit(**cases))}, f"break {broken}")
        marks = {f["title"]: f["mark"] for f in repo.findings(run)["findings"]}
        assert marks and set(marks.values()) <= {"new", "known"}, marks
    assert world.get(f"/projects/{repo.name}/morning")


def test_what_was_never_fixed_did_not_come_back(world: Stories) -> None:
    repo = world.repository("came-back", test__sh=writes(junit(a="passed", b="passed")))
    red = writes(junit(a="passed", b="gone bad"), status=1)
    back = []
    for script in (red, red + "# still\n", writes(junit(a="passed", b="passed")), red):
        run = repo.pushed({"test.sh": script})
        back.append([f["back_since"] and f["back_since"]["number"] for f in repo.findings(run)["findings"]])
    assert back == [[None], [None], [], [3]]
