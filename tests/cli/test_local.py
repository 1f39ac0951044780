"""What runs elsewhere, on one's own machine: here, reproduce, environment, secret, runners."""

from __future__ import annotations

import stat
import subprocess
from pathlib import Path

import pytest

from worlds import World, junit, writes

PLAN = """\
version = 1
[jobs.unit]
vary    = { lua = ["5.1", "5.4"], tide = ["low", "high"] }
runtime = ["lua"]
[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
[jobs.style]
[[jobs.style.steps]]
name    = "style"
command = "echo untidy; exit 3"
"""
ONLY_51 = 'case "$(lua -v 2>&1)" in *5.1*) cp red.xml out/unit.xml; exit 1;; esac; cp green.xml out/unit.xml'
FILES = {"red.xml": junit(a="passed", b="expected 1, got 2"), "green.xml": junit(a="passed", b="passed")}


def test_the_plan_runs_on_the_working_tree_as_it_stands(world: World) -> None:
    repo = world.repository("at-home", None)
    repo.commit(
        {
            "myriant.toml": PLAN,
            "test.sh": "mkdir -p out; cp green.xml out/unit.xml",
            **FILES,
            ".gitignore": "out/\nheavy/\n",
        }
    )
    (repo.tree / "heavy").mkdir()
    (repo.tree / "heavy/big").write_text("ignored")
    clean = world.command("here", "unit", "--cell", "tide=low", cwd=repo.tree)
    assert clean.returncode == 0 and "2 of 2 cells passed" in clean.stdout, clean.stdout + clean.stderr
    (repo.tree / "test.sh").write_text(f"test ! -e heavy || exit 9; mkdir -p out; {ONLY_51}")  # not committed
    broken = world.command("here", "unit", cwd=repo.tree)
    assert broken.returncode == 1
    for part in ("2 tests, 1 failed; 2 of 4 cells passed", "t › b", "only where lua=5.1", "expected  1", "actual    2"):
        assert part in broken.stdout, broken.stdout
    style = world.command("here", "style", cwd=repo.tree)
    assert (
        style.returncode == 1
        and "step style failed, and no test says why" in style.stdout
        and "| untidy" in style.stdout
    )
    assert not (repo.tree / "out").exists(), "nothing is left in the working tree"


LCOV = "SF:gauge.lua\\nDA:1,1\\nDA:2,%s\\nDA:3,0\\nend_of_record\\n"
COVERED = """\
version = 1
[jobs.unit]
vary = { lua = ["5.1", "5.4"] }
runtime = ["lua"]
[[jobs.unit.steps]]
command = "sh test.sh"
collect = { tests = ["out/unit.xml"], coverage = ["out/lcov.info"] }
"""


def test_changed_lines_that_nothing_ran_are_named(world: World) -> None:
    repo = world.repository("uncovered-here", None)
    here = 'case "$(lua -v 2>&1)" in *5.1*) hit=1;; *) hit=0;; esac; mkdir -p out; cp green.xml out/unit.xml; '
    script = here + f"printf '{LCOV}' $hit > out/lcov.info"
    repo.commit(
        {"myriant.toml": COVERED, "test.sh": script, "gauge.lua": "one\ntwo\n", **FILES, ".gitignore": "out/\n"}
    )
    repo.push("main")
    (repo.tree / "gauge.lua").write_text("one\nTWO\nTHREE\n")
    (repo.tree / "sluice.lua").write_text("a\nb\n")  # which no report knows
    done = world.command("here", cwd=repo.tree)
    assert done.returncode == 0, done.stdout + done.stderr
    for part in (
        "66.7 % of 3 lines are covered",
        "3 of 4 lines that changed since origin/main were run by nothing",
        "  sluice.lua:1-2",
        "  gauge.lua:3",
    ):
        assert part in done.stdout, done.stdout
    repo.git("branch", "--unset-upstream", "main")
    repo.commit({"gauge.lua": "ONE\nTWO\nTHREE\n"})
    again = world.command("here", "--cell", "lua=5.4", cwd=repo.tree)
    assert "nothing that changed since the last commit can be covered" in again.stdout, again.stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("here", "no-job"), "the plan has no job no-job"),
        (("here", "--cell", "lua="), "an empty value selects nothing"),
        (("here", "--cell", "lua=9.9"), "no cell of the plan is meant by that"),
        (("reproduce", "99999", "unit lua=5.1"), "has no run #99999"),
        (("reproduce", "1", "unit lua=5.1"), "means 2 cells of #1, not one"),
        (("environment", "--against", "99999999"), "there is no attempt 99999999"),
        (("secret", "set", "elsewhere", "lower"), "lower is no name for a secret"),
        (("runners", "drain", "nobody"), "there is no runner nobody"),
    ],
)
def test_a_wrong_wish_is_answered_in_one_line(world: World, words: tuple[str, ...], said: str) -> None:
    if not any(p["name"] == "wishes" for p in world.get("/projects")):
        repo = world.repository("wishes", None)
        repo.pushed({"myriant.toml": PLAN, "test.sh": writes(junit(a="passed")), **FILES})
    tree = world.folder / "wishes tree"
    more = ("--project", "wishes") if words[0] == "reproduce" else ()
    done = subprocess.run(
        [".venv/bin/myriant", *words, *more],
        cwd=tree,
        capture_output=True,
        text=True,
        input="x" * 20,
        executable=str(world_program()),
        env=environment(world),
    )
    assert done.returncode != 0 and said in done.stderr and "Traceback" not in done.stderr, done.stderr


def world_program() -> str:
    from pathlib import Path

    return str(Path(__file__).parents[2] / ".venv/bin/myriant")


def environment(world: World) -> dict[str, str]:
    import os

    return {**os.environ, "MYRIANT_DATA": str(world.installation.place.data)}


def test_a_cell_of_a_run_is_rebuilt_here(world: World) -> None:
    repo = world.repository("rebuilt", None)
    files = {"myriant.toml": PLAN, "test.sh": f"mkdir -p out; echo from $(git log -1 --format=%H); {ONLY_51}", **FILES}
    run = repo.pushed(files)
    repo.commit({"test.sh": "exit 7"})  # what is here now does not matter
    number = str(run["run"]["number"])
    done = world.command("reproduce", number, "unit lua=5.1,tide=high", "--project", "rebuilt", cwd=world.folder)
    assert done.returncode == 1 and "from " in done.stdout and "t › b" in done.stdout, done.stdout + done.stderr
    well = world.command("reproduce", number, "job=unit,lua=5.4,tide=low", "--project", "rebuilt", cwd=world.folder)
    assert well.returncode == 0, well.stdout + well.stderr


def test_this_machine_is_told_and_compared_with_an_attempts(world: World) -> None:
    repo = world.repository("compared-here", None)
    run = repo.pushed({"myriant.toml": PLAN, "test.sh": writes(junit(a="passed")), **FILES})
    mine = world.command("environment", cwd=repo.tree)
    assert mine.returncode == 0 and "runtimes  lua 5.4" in mine.stdout and "architecture" in mine.stdout
    against = world.command("environment", "--against", str(run["cells"][0]["attempt_id"]), cwd=repo.tree)
    assert against.returncode == 0 and against.stdout.startswith("0 differ"), against.stdout


def test_secrets_and_runners_by_command(world: World, tmp_path: Path) -> None:
    repo = world.repository("by-command", None)
    program, env = world_program(), environment(world)
    done = subprocess.run(
        [program, "secret", "set", repo.name, "TIDE_KEY", "--branch", "main"],
        input="a long tide\n",
        text=True,
        env=env,
        capture_output=True,
    )
    assert done.returncode == 0, done.stderr
    listed = world.command("secret", "list", repo.name)
    assert (
        "TIDE_KEY" in listed.stdout
        and "branches main; never used" in listed.stdout
        and "a long tide" not in listed.stdout
    )
    key = Path(env["MYRIANT_DATA"]) / "private/key"
    elsewhere = tmp_path / "of-ours"
    elsewhere.write_text("as it was")
    key.with_suffix(".part").symlink_to(elsewhere)  # as somebody who took the server over would leave it
    rotated = world.command("secret", "rotate-key")
    assert "secrets are sealed with a new key" in rotated.stdout
    assert elsewhere.read_text() == "as it was"
    beside, status = key.parent.stat(), key.stat()
    assert (status.st_uid, stat.S_IMODE(status.st_mode)) == (beside.st_uid, 0o600)
    assert "CANNOT BE OPENED" not in world.command("secret", "list", repo.name).stdout, (
        "the key is read when it is needed"
    )
    assert world.command("secret", "remove", repo.name, "TIDE_KEY").returncode == 0
    name = world.get("/runners")[0]["name"]
    assert "lua 5.4" in world.command("runners", "list").stdout
    assert world.command("runners", "drain", name, "--reason", "to be cleaned").returncode == 0
    assert "drained by admin: to be cleaned" in world.command("runners", "list").stdout
    assert world.command("runners", "resume", name).returncode == 0
    assert len(world.command("runners", "token").stdout.strip()) > 30
