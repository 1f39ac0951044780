"""What is repeated, how often, and what is said of it: control runs, searches side by side, chance over many runs."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select

from myriant.store.tables import Control, Project, Run, Search
from waiting import until
from worlds import PLAN, Repository, World, junit, writes

ONE = PLAN.replace('["5.1", "5.4"]', '["5.1"]')
GREEN = junit(a="passed", b="passed")


def failing_from(number: int) -> str:
    """A report in which tests fail from some commit on: a from the third, b from the fifth."""
    return writes(junit(a="expected 1, got 2" if number >= 3 else "passed", b="too low" if number >= 5 else "passed"))


def searched(world: World, repo: Repository, run: dict[str, Any], *tests: int) -> list[dict[str, Any]]:
    """The answers of searches that began together."""
    paths = [f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}/search" for test in tests]
    for path in paths:
        assert world.http.post(path).status_code == 200
    return [until(lambda p=path: world.get(p), lambda s: s["state"] != "running") for path in paths]  # type: ignore[misc]


def numbers_by_name(repo: Repository, run: dict[str, Any]) -> dict[str, int]:
    found = repo.findings(run)["findings"]
    return {t["title"].rpartition(" ")[2]: t["test"] for f in found for t in f["tests"]}


def test_searches_of_one_cell_share_every_try_and_each_names_its_own_commit(world: World) -> None:
    repo = world.repository("two-faults", ONE, **{"test.sh": writes(GREEN)})
    for number in range(8):
        repo.commit({"test.sh": failing_from(number), "n.txt": str(number)}, f"commit {number}")
    repo.push()
    run = repo.run_of(repo.git("rev-parse", "HEAD").strip())
    tests = numbers_by_name(repo, run)
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{tests['a']}/search"
    assert world.http.post(path).json()["state"] == "running"
    assert world.http.delete(path).json()["state"] == "stopped"  # and goes on below, with what was tried
    a, b = searched(world, repo, run, tests["a"], tests["b"])
    assert (a["answer"]["title"], b["answer"]["title"]) == ("commit 3", "commit 5"), (a["said"], b["said"])
    assert (
        a["said"].startswith(f"{a['answer']['commit'][:7]} is the first bad commit, with 9") and "100" not in a["said"]
    )
    site = world.site
    a, b = (world.get(f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{tests[t]}/search") for t in "ab")
    with site.store.transaction() as session:
        own = dict(
            session.execute(
                select(Search.test, func.count())
                .join(Control, Control.search_id == Search.id)
                .group_by(Search.test)
                .where(
                    Search.run_id
                    == select(Run.id).join(Project).where(Project.name == repo.name, Run.number == 2).scalar_subquery()
                )
            ).all()  # type: ignore[arg-type]
        )
    assert a["tries"] == b["tries"] >= sum(own.values()), "what one tried, the other knows"
