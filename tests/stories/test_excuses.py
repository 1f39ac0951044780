"""An exempt word holds as long as its ground does."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import pytest
import sqlalchemy as sa

from inprocess import Stories, StoryRepository
from myriant.store.tables import Quarantine, Waiver
from worlds import junit

PLAN = """version = 1

[events]
push = {}

[jobs.unit]
title    = "Unit"
touching = ["src/**"]

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh || true"
collect = { tests = ["out/unit.xml"] }

[[gate.rules]]
name    = "enough tests"
measure = "tests.total"
at-least = 2
"""
SOON = (datetime.now(UTC) + timedelta(days=20)).isoformat()
Act = Callable[[Stories, StoryRepository, int], None]


def _said(world: Stories, repo: StoryRepository, commit: str) -> tuple[str, str, str]:
    """What run, commit and note say."""
    found = world.word(commit, repo.name)
    assert found is not None
    view = world.get(f"/projects/{repo.name}/runs/{found['run']}")["run"]
    assert found["sentence"] == view["sentence"] and repo.note(commit).startswith(f"verdict: {found['verdict']} ")
    return found["verdict"], view["verdict"], view["sentence"]


def _run_again(world: Stories, repo: StoryRepository, number: int) -> None:
    answer = world.http.post(f"/projects/{repo.name}/runs/{number}/again", json={"which": "all"})
    assert answer.status_code == 200, answer.text


def _fail_again(world: Stories, repo: StoryRepository, number: int) -> None:
    (world.folder / f"{repo.name}.xml").write_text(junit(a="passed", b="gone bad"))
    _run_again(world, repo, number)


def _pass_again(world: Stories, repo: StoryRepository, number: int) -> None:
    (world.folder / f"{repo.name}.xml").write_text(junit(a="passed", b="passed"))
    _run_again(world, repo, number)


def _end_waiver(world: Stories, repo: StoryRepository, _: int) -> None:
    [waiver] = world.get(f"/projects/{repo.name}/waivers")
    answer = world.http.delete(f"/projects/{repo.name}/waivers/{waiver['id']}")
    assert answer.status_code == 200, answer.text


def _end_quarantine(world: Stories, repo: StoryRepository, _: int) -> None:
    [held] = [f["quarantine"] for f in world.get(f"/projects/{repo.name}/flaky")["tests"] if f["quarantine"]]
    answer = world.http.delete(f"/projects/{repo.name}/quarantines/{held['id']}")
    assert answer.status_code == 200, answer.text


def _time_passes(world: Stories, repo: StoryRepository, _: int) -> None:
    """Waivers and quarantines end by their dates."""
    with world.site.store.transaction() as session:
        for table in (Waiver, Quarantine):
            session.execute(sa.update(table).values(until=datetime.now(UTC) - timedelta(seconds=1)))
    world.sweep()


def _made(world: Stories, name: str, *reports: str) -> tuple[StoryRepository, int]:
    """A project whose tests write what a file outside holds; the number of its newest run, a report each."""
    file = world.folder / f"{name}.xml"
    repo = world.repository(name, PLAN)
    repo.commit({"test.sh": f"mkdir -p out; cp {file} out/unit.xml\n"})
    number = 0
    for turn, report in enumerate(reports):
        file.write_text(report)
        number = repo.pushed({"src/a": str(turn)})["run"]["number"]
    return repo, number


def _by_waiver(world: Stories, name: str) -> tuple[StoryRepository, int]:
    repo, number = _made(world, name, junit(a="passed"))
    wish = {"rule": "enough tests", "until": SOON, "reason": "for a while"}
    answer = world.http.post(f"/projects/{name}/runs/{number}/waivers", json=wish)
    assert answer.status_code == 201, answer.text
    return repo, number


def _by_quarantine(world: Stories, name: str) -> tuple[StoryRepository, int]:
    repo, number = _made(world, name, junit(a="passed", b="passed"), junit(a="passed", b="shy today"))
    [found] = repo.findings({"run": {"number": number}})["findings"]
    wish = {"tests": [found["tests"][0]["test"]], "until": SOON, "reason": "it is shy"}
    answer = world.http.post(f"/projects/{name}/quarantines", json=wish)
    assert answer.status_code == 201, answer.text
    return repo, repo.pushed({"src/a": "x"})["run"]["number"]


def _plain(world: Stories, name: str) -> tuple[StoryRepository, int]:
    return _made(world, name, junit(a="passed", b="passed"))


@pytest.mark.parametrize(
    ("name", "ground", "acts"),
    [
        ("again", _plain, [(_fail_again, "held", "which was tested again and is held"), (_pass_again, "exempt", "")]),
        ("waived", _by_waiver, [(_end_waiver, "held", "the waiver of “enough tests” is over")]),
        ("waived-long", _by_waiver, [(_time_passes, "held", "the waiver of “enough tests” is over")]),
        ("aside", _by_quarantine, [(_end_quarantine, "held", "the quarantine of a test that failed there is over")]),
        ("aside-long", _by_quarantine, [(_time_passes, "held", "the quarantine of a test that failed there is over")]),
    ],
)
def test_an_exempt_word_goes_with_its_ground(
    world: Stories,
    name: str,
    ground: Callable[[Stories, str], tuple[StoryRepository, int]],
    acts: list[tuple[Act, str, str]],
) -> None:
    repo, number = ground(world, f"excused-{name}")
    assert world.get(f"/projects/{repo.name}/runs/{number}")["run"]["verdict"] == "clear"
    commit = repo.commit({"README": "1"})
    repo.push()
    assert _said(world, repo, commit)[:2] == ("exempt", "exempt")
    for act, verdict, words in acts:
        act(world, repo, number)
        said = _said(world, repo, commit)
        assert said[:2] == (verdict, verdict) and words in said[2]
    # what is pushed upon it is tested where nothing good is left to stand on
    after = repo.pushed({"README": "2"})["run"]
    assert (after["verdict"] == "exempt") is (acts[-1][1] == "exempt"), after["sentence"]


def test_a_run_that_is_tested_again_leaves_every_other_ground_as_it_is(world: Stories) -> None:
    repo, number = _made(world, "excused-other", junit(a="passed", b="passed"), junit(a="passed", b="passed"))
    with world.nobody_working():
        _run_again(world, repo, number - 1)
        commit = repo.commit({"README": "1"})
        repo.push()
        found = world.word(commit, repo.name)
    assert found is not None and found["verdict"] == "exempt" and f"#{number}" in found["sentence"], found


def test_a_clear_run_that_rests_on_a_ground_in_part_goes_with_it(world: Stories) -> None:
    """One job ran, the other's results were brought along: nor is what was brought along a ground for the next."""
    beside = '\n[jobs.words]\ntitle = "Words"\n[[jobs.words.steps]]\nname = "read"\ncommand = "true"\n'
    file = world.folder / "partly.xml"
    file.write_text(junit(a="passed", b="passed"))
    repo = world.repository("partly", PLAN + beside)
    repo.pushed({"test.sh": f"mkdir -p out; cp {file} out/unit.xml\n", "src/a": "1"})
    number = repo.pushed({"src/a": "2"})["run"]["number"]
    commits = []
    for turn in range(2):
        commits.append(repo.commit({"README": str(turn)}))
        repo.push()
    said = [_said(world, repo, c)[0] for c in commits]
    _fail_again(world, repo, number)
    now = [_said(world, repo, c) for c in commits]
    assert said == ["clear", "clear"] and [n[0] for n in now] == ["held", "held"]
    assert all(f"unit was not tested here: it stands on #{number}" in n[2] and "fixed" not in n[2] for n in now), now
    on_top = repo.pushed({"README": "2"})["run"]
    assert on_top["verdict"] == "held" and "1 test newly fails" in on_top["sentence"], on_top["sentence"]
    _pass_again(world, repo, number)
    assert [_said(world, repo, c)[0] for c in commits] == ["clear", "clear"]
