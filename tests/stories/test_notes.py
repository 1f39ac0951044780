"""The note on a commit: one for all projects that watch the repository."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise

from inprocess import Stories
from myriant.flow.tasks import look_at
from worlds import junit, writes


def test_one_note_says_what_every_project_says_that_watches_a_repository(world: Stories) -> None:
    """Held here and clear there is held, whoever writes last; a renamed one's blocks go on, a removed one's go."""
    repo = world.repository("twice-a", test__sh=writes(junit(a="passed")))
    wish = {"address": f"{repo.origin}/", "name": "twice-b"}
    assert world.http.post("/projects", json=wish).status_code == 201

    def first_and_blocks(commit: str) -> tuple[str, list[str]]:
        lines = repo.note(commit).split("\n")
        return lines[0], [line for line, run in pairwise(lines) if run.startswith("run: #")]

    def pushed(report: str) -> str:
        commit = repo.commit({"test.sh": writes(report)})
        repo.push()
        look_at(world.site, "twice-b")
        world.settle()
        return commit

    held = pushed(junit(a="gone"))
    both = ["twice-a, push to main: held", "twice-b, push to main: held"]
    assert first_and_blocks(held) == ("verdict: held (twice-a, push to main)", both)
    number = world.word(held, "twice-b")["run"]  # type: ignore[index]
    [finding] = world.get(f"/projects/twice-b/runs/{number}/findings")["findings"]
    until = (datetime.now(UTC) + timedelta(days=9)).isoformat()
    tests = [t["test"] for t in finding["tests"]]
    world.http.post("/projects/twice-b/quarantines", json={"tests": tests, "reason": "it flickers", "until": until})
    again = world.http.post(f"/projects/twice-b/runs/{number}/again", json={"which": "all"})
    assert again.status_code == 200
    mixed = ["twice-a, push to main: held", "twice-b, push to main: clear"]
    assert first_and_blocks(held) == ("verdict: held (twice-a, push to main)", mixed)
    assert world.http.patch("/projects/twice-b", json={"name": "twice-c"}).is_success
    world.settle()
    assert first_and_blocks(held)[1] == ["twice-a, push to main: held", "twice-c, push to main: clear"]
    assert world.http.delete("/projects/twice-c", params={"really": "twice-c"}).is_success
    world.settle()
    assert first_and_blocks(held) == ("verdict: held (push to main)", ["twice-a, push to main: held"])
