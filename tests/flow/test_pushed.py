"""From a push to a verdict, with the real server, worker, runner, git and PostgreSQL."""

from __future__ import annotations

import socket
import subprocess

from sqlalchemy import delete, update

from myriant.store.tables import Project
from worlds import PLAN, Repository, World, junit, writes

GREEN = writes(junit(a="passed", b="passed"))
RED = writes(junit(a="passed", b="expected 1, got 2"), status=1)


def test_the_waiting_command_exits_with_the_verdict(world: World) -> None:
    repo = world.repository("exits", test__sh=GREEN)
    good = repo.git("rev-parse", "HEAD").strip()
    bad = repo.commit({"test.sh": RED}, "break")
    repo.push()
    assert world.command("verdict", "HEAD", "--wait", cwd=repo.tree).returncode == 1
    assert world.command("verdict", good).returncode == 0
    slow = repo.commit({"test.sh": "sleep 30\n"}, "slow")
    repo.push()
    repo.run_of(slow, until="there")
    assert world.command("verdict", slow, "--wait", "--within", "0.5").returncode == 3
    assert world.command("verdict", "0" * 40).returncode == 4
    assert world.command("verdict", "--nonsense").returncode == 2
    said = world.command("verdict", bad).stdout
    assert (
        said.startswith("exits #2 (push main): held. Held: 1 test newly fails")
        and f"{world.address}/p/exits/runs/2" in said
    )


def test_a_step_cannot_reach_the_machine_or_leave_anything_behind(world: World) -> None:
    script = """
set +e
echo "secret: $MYRIANT_RUNNER_TOKEN$MYRIANT_DATABASE_URL"; id -u; ls -A /root /var /home 2>&1; cat /etc/shadow 2>&1
(sleep 7213 &) ; env | sort; pwd; git log --format=%s; ls /tmp; touch /tmp/mine
""" + writes(junit(a="passed"))
    plan = PLAN.replace('["5.1", "5.4"]', '["5.4"]')
    told = plan[plan.index("[jobs.unit]") :].replace("jobs.unit", "jobs.told")
    told = told.replace("runtime =", 'source = { history = "full", tags = true }\nruntime =')
    repo = world.repository("walls", f"{plan}\n{told}".replace('"Unit"', '"Unit"'))
    repo.git("tag", "v1")
    repo.git("push", "-q", "origin", "v1")
    run = repo.pushed({"test.sh": script}, "look around")
    [cell] = [c for c in run["cells"] if c["job"] == "unit"]
    [knows] = [c for c in run["cells"] if c["job"] == "told"]
    all_told = world.http.get(f"/attempts/{knows['attempt_id']}/log").text
    assert "look around\nfirst\n" in all_told and f"MYRIANT_COMMIT={run['run']['commit']}" in all_told.splitlines()
    log = world.http.get(f"/attempts/{cell['attempt_id']}/log").text
    assert cell["state"] == "passed", log
    assert "secret: \n6100" in log and "/etc/shadow: No such file" in log
    assert "One tree, whichever commit it is of\n" in log, "without being told a job sees no commit"
    assert not any(word in log for word in ("look around", "first", "MYRIANT_COMMIT", run["run"]["commit"][:7]))
    for line in (
        "CI=true",
        "MYRIANT=1",
        "MYRIANT_CELL_LUA=5.4",
        "/workspace",
    ):
        assert line in log.splitlines(), line
    assert "TOKEN" not in log.replace("secret:", "")
    assert subprocess.run(["pgrep", "-f", "^sleep 7213"], capture_output=True).returncode == 1
    assert not (world.installation.place.work / f"attempt-{cell['attempt_id']}").exists()


def test_a_gigabyte_of_output_is_cut_and_said(world: World) -> None:
    repo = world.repository("loud", PLAN.replace('["5.1", "5.4"]', '["5.4"]'))
    run = repo.pushed({"test.sh": "head -c 1000000000 /dev/zero | tr '\\0' 'x'\n" + GREEN}, within=90)
    [cell] = run["cells"]
    attempt = world.get(f"/attempts/{cell['attempt_id']}")
    tail = world.http.get(f"/attempts/{cell['attempt_id']}/log", params={"start": attempt["log_size"] - 200}).text
    assert run["run"]["verdict"] == "clear" and attempt["log_size"] < 2_100_000
    assert len(world.http.get(f"/attempts/{cell['attempt_id']}/log/raw").content) == attempt["log_size"]
    assert "998,000,000 more bytes of output were not kept" in tail


def test_what_is_there_when_a_repository_is_added_runs_nothing(world: World) -> None:
    first = world.repository("before", None)
    first.commit({"myriant.toml": PLAN, "test.sh": GREEN})
    first.push()
    first.push("side")
    origin = world.folder / "added-later.git"
    subprocess.run(["git", "clone", "--quiet", "--bare", str(first.origin), str(origin)], check=True)
    answer = world.http.post("/projects", json={"address": str(origin), "name": "added-later"}).json()
    assert answer["hooked"] and answer["branches"] == 2
    first.git("remote", "set-url", "origin", str(origin))
    repo = Repository(world, "added-later", origin, first.tree)
    view = repo.pushed({"x": "1"}, "The first that is heard")
    assert view["run"]["number"] == 1, "neither its branches nor the trial of its hook started anything"


def test_an_existing_hook_is_kept_and_runs_first(world: World) -> None:
    origin = world.folder / "hooked.git"
    subprocess.run(["git", "init", "--quiet", "--bare", str(origin)], check=True)
    hook = origin / "hooks/post-receive"
    hook.write_text("#!/bin/sh\necho the old hook saw $(wc -l) line\n")
    hook.chmod(0o755)
    answer = world.http.post("/projects", json={"address": str(origin), "name": "hooked"}).json()
    assert answer["hooked"] and answer["chained"]
    tree = world.folder / "hooked tree"
    subprocess.run(["git", "clone", "--quiet", str(origin), str(tree)], check=True, capture_output=True)
    repo = Repository(world, "hooked", origin, tree)
    repo.git("config", "user.name", "Ada Fen")
    repo.git("config", "user.email", "ada@fenmark.example")
    repo.commit({"myriant.toml": PLAN, "test.sh": GREEN})
    said = repo.push()
    assert "the old hook saw 1 line" in said and "myriant: run #1 http" in said


def test_a_push_while_the_hook_cannot_reach_the_server_is_found_by_looking_whatever_another_repository_does(
    world: World,
) -> None:
    repo = world.repository("missed", test__sh=GREEN)
    hook = repo.origin / "hooks/myriant-bells"
    text = hook.read_text()
    hook.write_text(text.replace(f" {world.installation.port} ", " 9 "))
    commit = repo.commit({"x": "1"})
    assert "cannot be reached now" in repo.push()
    hook.write_text(text)
    site = world.site
    with socket.create_server(("127.0.0.1", 0)) as silent:
        address = f"http://127.0.0.1:{silent.getsockname()[1]}/never-answers.git"
        with site.store.transaction() as session:
            session.add(Project(name="never-answers", address=address, main_branch="main"))
            session.execute(update(Project).where(Project.name == "missed").values(looked_at=None))  # it is due
        assert repo.run_of(commit, within=30)["run"]["verdict"] == "clear"
    with site.store.transaction() as session:
        session.execute(delete(Project).where(Project.name == "never-answers"))


def test_every_door_asks_who_is_there(world: World) -> None:
    import httpx

    bare = httpx.Client(base_url=f"{world.address}/api/v1")
    for method, path in [
        ("GET", "/projects"),
        ("GET", "/live"),
        ("POST", "/projects"),
        ("POST", "/projects/story/bell"),
        ("POST", "/runners"),
        ("POST", "/runners/1/claim"),
        ("POST", "/sign-in-links"),
        ("GET", "/words/0"),
    ]:
        body = {
            "address": "x",
            "moved": [],
            "free": 1,
            "protocol": 1,
            "name": "n",
            "slots": 1,
            "runtimes": [],
            "isolation": "",
            "version": "",
            "boot": "",
        }
        answer = bare.request(method, path, json=body if method == "POST" else None)
        assert answer.status_code == 401, (path, answer.text)
        assert answer.headers["content-type"] == "application/problem+json"
    assert bare.post("/attempts/1/finish", json={}).json()["type"] == "/problems/lease-lost"
    assert bare.get("/attempts/1/source/info/refs", params={"service": "git-upload-pack"}).status_code == 409
    link = world.http.post("/sign-in-links", json={}).json()["link"].split("#")[1]
    assert bare.post("/sign-in", json={"token": link}).status_code == 204
    assert bare.get("/projects").status_code == 200
    assert bare.post("/sign-in", json={"token": link}).status_code == 404
    assert (
        bare.post("/projects", json={"address": "/x"}, headers={"Origin": "http://elsewhere.example"}).status_code
        == 403
    )
