"""Releases: what lies behind the verdict comes out once, one at a time, by a person's word, and can be proven."""

from __future__ import annotations

from itertools import count
from typing import Any

from myriant.flow.state.attempts import lose
from myriant.store.tables import Attempt
from simulated import FAMILY, Simulated
from waiting import until
from worlds import Repository, World, junit

PLAN = f"""version = 1
[jobs.unit]
artifacts = [{{ files = ["dist/**"] }}]
[[jobs.unit.steps]]
command = "mkdir -p out dist; cp a.xml out/; cp wheel dist/lock.whl"
collect = {{ tests = ["out/a.xml"] }}
[jobs.publish]
gated = true
pin = {{ {FAMILY} = "1.0" }}
approval = {{ by = ["release"], within = "1 h" }}
[[jobs.publish.steps]]
command = "true"
"""


def card(world: World, repo: Repository, number: int) -> dict[str, Any]:
    cards = world.get(f"/projects/{repo.name}/releases")["cards"]
    return next(c for c in cards if c["run"]["number"] == number)


def approve(world: World, repo: Repository, number: int, reason: str) -> None:
    at = f"/projects/{repo.name}/runs/{number}"
    until(lambda: [a for a in world.get(at)["approvals"] if a["state"] == "waiting"])
    answer = world.http.post(f"{at}/approvals/publish", json={"given": True, "reason": reason})
    assert answer.status_code == 204, answer.text


def live(world: World, repo: Repository) -> list[int]:
    return [one["run"] for one in world.get(f"/projects/{repo.name}/releases")["live"]]


def test_one_release_at_a_time_by_a_word_each_and_back_again(world: World) -> None:
    repo = world.repository("cards", None)
    sim = Simulated(world, "port")
    leases: list[dict[str, Any]] = []
    with sim.beating(leases):
        repo.pushed({"myriant.toml": PLAN, "a.xml": junit(a="passed"), "wheel": "one"}, "Cut the first")
        asked = until(lambda: world.get("/projects/cards/runs/1")["approvals"])[0]
        assert asked["about"].startswith("main at ") and "with dist/lock.whl" in asked["about"]
        assert live(world, repo) == [] and card(world, repo, 1)["targets"][0]["approval"] == "waiting"
        approve(world, repo, 1, "seen on the trial")
        leases += sim.claim()
        repo.pushed({"wheel": "two"}, "Cut the second")
        approve(world, repo, 2, "seen too")
        until(lambda: "waits for #1" in card(world, repo, 2)["targets"][0]["reason"])
        sim.finish(leases.pop())
        until(lambda: live(world, repo) == [1])
        leases += until(lambda: sim.claim(wait=2))  # when the first has ended, the second begins by itself
        sim.finish(leases.pop())
        until(lambda: live(world, repo) == [2])
        two = card(world, repo, 2)
        assert two["notes"] == ["Cut the second"] and [m["path"] for m in two["made"]] == ["dist/lock.whl"]
        assert (two["targets"][0]["by"], two["targets"][0]["because"]) == ("admin", "seen too")
        # the older one is brought back: with a word of its own, and its verdict stays
        again = world.http.post("/projects/cards/runs/1/again", json={"which": "chosen", "cells": "job=publish"})
        assert again.status_code == 202 or again.status_code == 200, again.text
        assert sim.claim(wait=1) == [] and world.get("/projects/cards/runs/1")["run"]["verdict"] == "clear"
        approve(world, repo, 1, "the second drifts")
        leases += until(lambda: sim.claim(wait=2))
        sim.finish(leases.pop())
        until(lambda: live(world, repo) == [1])
        said = [line["said"] for line in world.get("/projects/cards/audit") if line["what"] == "approved"]
        assert len(said) == 3 and "#1 publish, main at " in said[0] and said[0].endswith(": the second drifts")
        # one whose runner is lost is not repeated by itself
        repo.pushed({"wheel": "three"}, "Cut the third")
        approve(world, repo, 3, "so")
        [lost] = until(lambda: sim.claim(wait=2))
        site = world.site
        with site.store.transaction() as session:
            lose(session, session.get_one(Attempt, lost["attempt"]), "runner port was not heard of")
        assert card(world, repo, 3)["targets"][0]["state"] == "void" and sim.claim(wait=1) == []
        assert live(world, repo) == [1] and "is void" in card(world, repo, 3)["run"]["sentence"]


OFFERS = """version = 1
[jobs.pack]
artifacts = [{ files = ["dist/*"], offer = true }, { files = ["private/*"] }]
[[jobs.pack.steps]]
command = "mkdir -p out dist private; cp a.xml out/; cp wheel dist/lock.whl; cp wheel private/key"
collect = { tests = ["out/a.xml"] }
"""
TAKES = """version = 1
[jobs.use]
takes = [{ project = "offering", files = ["%s"]%s }]
[[jobs.use.steps]]
command = "mkdir -p out; find $MYRIANT_FROM -type f; cat $MYRIANT_FROM/offering/pack/dist/lock.whl; cp a.xml out/"
collect = { tests = ["out/a.xml"] }
"""


def test_a_job_is_given_what_the_newest_clear_run_of_another_project_offers(world: World) -> None:
    offering, taking = world.repository("offering", None), world.repository("taking", None)
    passes = junit(a="passed")

    def taken(files: str = "dist/*.whl", more: str = "") -> dict[str, Any]:
        plan = TAKES % (files, more)
        return taking.pushed({"myriant.toml": plan, "a.xml": passes, "n": str(next(_count))}, "Use it")

    def why(run: dict[str, Any]) -> str:
        assert run["run"]["verdict"] == "held" and run["cells"][0]["state"] == "void"
        return str(run["cells"][0]["reason"])

    nothing = "a clear run of its main branch with dist/*.whl, kept and offered by its jobs, is missing"
    assert why(taken()) == "nothing can be taken from offering: it has no artifact of a clear run of its main branch"
    # an advisory cell that failed holds no run, and what it made is given to nobody
    advisory = OFFERS.replace("[jobs.pack]", '[jobs.pack]\nvary = { n = ["1"] }\nadvisory = [{ n = "1" }]') + (
        '[jobs.other]\n[[jobs.other.steps]]\ncommand = "cp b.xml o.xml"\ncollect = { tests = ["o.xml"] }\n'
    )
    oddly = world.repository("oddly", None)
    files = {"myriant.toml": advisory, "a.xml": junit(a="adrift"), "b.xml": passes, "wheel": "odd"}
    assert oddly.pushed(files, "Try")["run"]["verdict"] == "clear"
    odd = taking.pushed({"myriant.toml": (TAKES % ("dist/*.whl", "")).replace("offering", "oddly"), "a.xml": passes})
    assert why(odd) == f"nothing can be taken from oddly: {nothing}"
    first = offering.pushed({"myriant.toml": OFFERS, "a.xml": passes, "wheel": "one"}, "Pack it")["run"]
    offering.pushed({"a.xml": junit(a="adrift"), "wheel": "two"}, "Break it")
    # what is held is given to nobody; what is not offered neither
    run = taken()
    assert run["run"]["verdict"] == "clear"
    assert run["taken"] == [{"job": "use", "project": "offering", "run": first["number"], "paths": ["dist/lock.whl"]}]
    log = world.http.get(f"/attempts/{run['cells'][0]['attempt_id']}/log/raw").text
    assert "/run/from/offering/pack/dist/lock.whl" in log and log.endswith("one") and "private" not in log
    assert why(taken("private/*")).startswith(
        "nothing can be taken from offering: a clear run of its main branch with pr"
    )
    assert (
        why(taken(more=', tag = "v*"'))
        == "nothing can be taken from offering: it has no artifact of a clear run of a tag v*"
    )
    assert why(taken(more=', job = "other"')) == "nothing can be taken from offering: " + nothing.replace(
        "its jobs", "job other"
    )
    unknown = taking.pushed(
        {"myriant.toml": (TAKES % ("*", "")).replace('"offering"', '"nowhere"')}, "Take from nobody"
    )
    assert why(unknown) == "nothing can be taken from nowhere: there is no such project"
    # the same content with another package is another answer: it is not taken over
    plan = {"myriant.toml": TAKES % ("dist/*.whl", ""), "a.xml": passes, "n": "same"}
    before = taking.pushed(plan, "Use it")
    same = taking.pushed({}, "Nothing changed")
    assert same["cells"][0]["reused"] == before["run"]["number"]
    offering.pushed({"a.xml": passes, "wheel": "three"}, "Mend it")
    other = taking.pushed({}, "Nothing changed here")
    assert (
        other["cells"][0]["reused"] is None and other["taken"][0]["run"] == first["number"] + 2
    )  # not the one that broke


_count = count(1)
