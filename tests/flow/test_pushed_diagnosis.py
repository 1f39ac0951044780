"""From failures to causes: findings over real runs, quarantine, searches, moved tests, analysis, exports, sending."""

from __future__ import annotations

import hashlib
import time
from datetime import UTC, datetime, timedelta

import httpx
from sqlalchemy import select

from myriant.flow.conclude.judging import conclude_run
from myriant.flow.intake.sending import KEPT
from myriant.flow.upkeep.timekeeping import keep_time
from myriant.store.tables import Cell, Control, Project, Run, Sending
from waiting import until
from worlds import PLAN, World, junit, stored_project, writes


def case(name: str, failure: str = "", text: str = "", klass: str = "tides.gauge") -> str:
    inner = f'><failure message="{failure}">{text}</failure></testcase>' if failure else "/>"
    return f'<testcase classname="{klass}" name="{name}" time="0.02"{inner}'


def by_lua(**reports: str) -> str:
    """A test.sh whose report depends on the version of Lua: v51="<testcase…", rest="…"."""
    branches = "".join(
        f"{key[1]}.{key[2]}) cat > out/unit.xml <<'END'\n<testsuite name=\"s\">{body}</testsuite>\nEND\n;;\n"
        for key, body in reports.items()
        if key != "rest"
    )
    rest = f"*) cat > out/unit.xml <<'END'\n<testsuite name=\"s\">{reports['rest']}</testsuite>\nEND\n;;\n"
    return f'mkdir -p out\ncase "$MYRIANT_CELL_LUA" in\n{branches}{rest}esac\n'


def test_a_control_run_speaks_of_failures_in_its_cells_only_and_waits_for_no_other(world: World) -> None:
    site = world.site
    _, attempts = stored_project(site.store, cells=5)
    with site.store.transaction() as session:  # older ones, that no runner can take
        for cell in session.scalars(select(Cell).where(Cell.attempt_id.in_(attempts))):
            cell.wants = ["submarine"]
            session.add(Control(run_id=cell.run_id, cell_id=cell.id, place="here", commit="1" * 40, state="waiting"))
    repo = world.repository("two-sides", PLAN, **{"test.sh": by_lua(rest=case("a") + case("b"))})
    three = PLAN.replace('["5.1", "5.4"]', '["5.1", "5.2", "5.4"]')
    busy = world.repository("one-slot-left", three)
    busy.commit({"test.sh": "sleep 14\n" + writes(junit(a="passed"))})
    busy.push()
    until(lambda: world.get("/pulse")["running"], lambda running: running >= 3)
    held = repo.pushed(
        {"test.sh": by_lua(v51=case("a", "expected 1, got 2") + case("b"), rest=case("a") + case("b", "timed out"))}
    )
    with site.store.transaction() as session:
        run_id = session.scalars(select(Run.id).join(Project).where(Project.name == repo.name, Run.number == 2)).one()
    for _ in range(8):  # judged again and again, as it is when cells end together: what waits is not forgotten
        conclude_run(site, run_id)
        time.sleep(0.3)
    until(lambda: [f["control"] for f in repo.findings(held)["findings"]], lambda c: c == ["change", "change"])


def test_a_broken_off_sending_goes_on_where_it_stopped_and_outlives_a_killed_server(world: World) -> None:
    repo = world.repository("ferry", PLAN, **{"test.sh": writes(junit(a="passed"))})
    data = junit(a="passed", b="passed").encode()
    file = {"path": "r.xml", "digest": hashlib.sha256(data).hexdigest(), "size": len(data)}
    wish = {"id": "ab" * 16, "commit": repo.git("rev-parse", "HEAD").strip(), "job": "on-site", "files": [file]}
    offer, piece = "/projects/ferry/sendings", f"/projects/ferry/sendings/{wish['id']}/files/0"

    def put(offset: int, part: bytes) -> httpx.Response:
        return world.http.put(piece, params={"offset": offset}, content=part)

    assert world.http.post(offer, json=wish).json()["offsets"] == [0]
    assert put(0, data[:40]).json() == {"offset": 40}
    assert put(50, data[50:]).status_code == 422
    assert world.http.post(f"{offer}/{wish['id']}/finish").status_code == 422
    site = world.site
    with site.store.transaction() as session:  # nobody went on with it for days: what came is gone, and it begins anew
        session.get_one(Sending, wish["id"]).at = datetime.now(UTC) - KEPT - timedelta(minutes=1)
    keep_time(site)
    assert site.blobs.below(f"sendings/{wish['id']}/0") == []
    assert world.http.post(offer, json=wish).json()["offsets"] == [0]
    assert put(0, data[:40]).json() == {"offset": 40}
    assert world.http.post(offer, json=wish).json()["offsets"] == [40]
    assert put(20, data[20:]).json() == {"offset": len(data)}
    number = world.http.post(f"{offer}/{wish['id']}/finish").json()["run"]
    assert world.http.post(f"{offer}/{wish['id']}/finish").json()["run"] == number
    [server] = [p.process for p in world.installation.parts.parts if p.name == "server"]
    assert server is not None
    server.kill()
    read = until(lambda: world.get(f"/projects/ferry/runs/{number}"), lambda v: v["run"]["verdict"] != "undecided")
    assert (read["run"]["verdict"], read["cells"][0]["total"]) == ("none", 2)
    for wrong in ({"commit": "f" * 40}, {"job": "On Site"}, {"files": []}, {"id": "x"}, {"values": {"a": "b,c"}}):
        assert world.http.post(offer, json=wish | {"id": "cd" * 16} | wrong).status_code in (404, 422), wrong
