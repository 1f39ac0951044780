"""Releases: what lies behind the verdict comes out once, one at a time, by a person's word, and can be proven."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from myriant.api.attempts import NOT_THERE, part_of
from simulated import FAMILY
from worlds import World, junit

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


@pytest.mark.parametrize(
    ("wanted", "answer"),
    [
        ("bytes=0-3", (0, 4)),
        ("bytes=4-", (4, 10)),
        ("bytes=-3", (7, 10)),
        ("bytes=-30", (0, 10)),
        ("bytes=9-9", (9, 10)),
        ("bytes=8-99", (8, 10)),
        ("bytes=10-", NOT_THERE),
        ("bytes=-0", NOT_THERE),
        ("bytes=5-4", None),
        ("bytes=-", None),
        ("bytes=0-1,3-4", None),
        ("lines=0-3", None),
        ("bytes=x-3", None),
        (f"bytes={'9' * 40}-", None),
    ],
)
def test_a_part_of_a_file_is_what_was_asked_for_or_the_whole(wanted: str, answer: tuple[int, int] | None) -> None:
    assert part_of(wanted, 10) == answer


def test_artifacts_are_found_over_all_runs_and_a_download_goes_on_where_it_stopped(world: World) -> None:
    repo = world.repository("found", None)
    plan = PLAN.partition("[jobs.publish]")[0]
    repo.pushed({"myriant.toml": plan, "a.xml": junit(a="passed"), "wheel": "0123456789"}, "Cut it")
    held = repo.pushed({"a.xml": junit(a="adrift"), "wheel": "abcdefghij"}, "Break it")["run"]
    every = world.get("/projects/found/artifacts")
    assert [(a["run"], a["verdict"], a["of"], a["path"]) for a in every["artifacts"]] == [
        (held["number"], "held", "main", "dist/lock.whl"),
        (1, "clear", "main", "dist/lock.whl"),
    ]
    assert every["before"] is None and world.get("/projects/found/artifacts", text="LOCK.w") == every
    first = every["artifacts"][1]
    assert world.get("/projects/found/artifacts", text=first["digest"][:9])["artifacts"] == [first]
    assert world.get("/projects/found/artifacts", text="%")["artifacts"] == []
    at = f"/reports/{first['report']}/raw"
    whole = world.http.get(at)
    mark = whole.headers["etag"]
    assert (
        whole.content == b"0123456789" and mark == f'"{first["digest"]}"' and whole.headers["accept-ranges"] == "bytes"
    )
    rest = world.http.get(at, headers={"Range": "bytes=6-", "If-Range": mark})
    assert (rest.status_code, rest.content, rest.headers["content-range"]) == (206, b"6789", "bytes 6-9/10")
    assert world.http.get(at, headers={"Range": "bytes=10-"}).status_code == 416
    changed = world.http.get(at, headers={"Range": "bytes=6-", "If-Range": '"another"'})
    assert (changed.status_code, changed.content) == (200, b"0123456789")


def test_a_statement_is_of_a_clear_run_signed_and_about_these_very_files(world: World, tmp_path: Path) -> None:
    repo = world.repository("sworn", None)
    repo.pushed({"myriant.toml": PLAN, "a.xml": junit(a="passed"), "wheel": "one"}, "Cut it")
    held = repo.pushed({"a.xml": junit(a="adrift")}, "Break it")["run"]
    assert world.http.get(f"/projects/sworn/runs/{held['number']}/attestation").status_code == 409
    made = world.command("attest", "fetch", "1", "--project", "sworn")
    key = world.command("attest", "key").stdout.strip()
    file, wheel, other = tmp_path / "said.json", tmp_path / "lock.whl", tmp_path / "other.whl"
    file.write_text(made.stdout)
    wheel.write_text("one")
    other.write_text("two")
    good = world.command("attest", "verify", str(file), str(wheel), "--key", key)
    assert good.returncode == 0 and "is dist/lock.whl of that run" in good.stdout and "sworn #1, main" in good.stdout
    wrong = world.command("attest", "verify", str(file), str(wheel), str(other))
    assert wrong.returncode == 1 and "was NOT made by that run" in wrong.stdout
    told = json.loads(made.stdout)
    changed = {**told, "payload": told["payload"][:-8] + told["payload"][-8:].swapcase()}
    odd = (changed, {**told, "payloadType": "text/plain"}, {**told, "signatures": []}, {}, [], "words")
    for text in odd:
        file.write_text(json.dumps(text))
        said = world.command("attest", "verify", str(file), "--key", key)
        assert said.returncode == 1 and said.stderr.startswith("myriant: "), (text, said)
    file.write_text(made.stdout)
    foreign = world.command("attest", "verify", str(file), "--key", "00" * 32)
    assert foreign.returncode == 1 and "does not hold" in foreign.stderr
    assert world.command("attest", "verify", str(tmp_path / "none")).returncode == 2
