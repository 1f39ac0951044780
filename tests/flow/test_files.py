"""Artifacts and what is handed over, with a real server and runner."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from myriant.flow.upkeep.timekeeping import keep_time
from myriant.store.tables import Report
from worlds import World, junit, writes

GREEN = writes(junit(level="passed"))
PLAN = """\
version = 1

[jobs.build]
vary      = { mode = ["fast", "exact"] }
artifacts = [{ files = ["dist/**", "nothing/**"], keep = "14 days" }]
hand-over = { table = "dist/*.txt" }

[[jobs.build.steps]]
name    = "build"
command = '''
mkdir -p dist "dist/in a folder"
echo "tides, $MYRIANT_CELL_MODE" > dist/tides.txt
echo deep > "dist/in a folder/été 'x' \\"y\\".bin"
ln -s /etc/passwd dist/leads-out
'''

[[jobs.build.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }

[jobs.pack]
after     = ["build"]
hand-over = { both = "both.txt" }

[[jobs.pack.steps]]
name    = "pack"
command = "cat $MYRIANT_FROM/build/mode=exact/dist/tides.txt $MYRIANT_FROM/build/mode=fast/dist/tides.txt > both.txt; test ! -w $MYRIANT_FROM/build"

[jobs.ship]
after = ["pack"]

[[jobs.ship.steps]]
name    = "ship"
command = '''
test "$(cat $MYRIANT_FROM/pack/both.txt)" = "tides, exact
tides, fast"
test -f $MYRIANT_FROM/build/mode=fast/dist/tides.txt
'''
"""


def test_files_are_kept_and_handed_over_to_later_jobs(world: World) -> None:
    repo = world.repository("files", PLAN, test__sh=GREEN)
    view = world.get("/projects/files/runs/1")
    assert view["run"]["verdict"] == "clear", view["run"]["sentence"]
    build = next(c for c in view["cells"] if c["key"] == "mode=exact")
    attempt = world.get(f"/attempts/{build['attempt_id']}")
    kept = {r["path"]: r for r in attempt["reports"] if r["content"] == "artifact"}
    assert set(kept) == {
        "dist/tides.txt",
        "dist/in a folder/été 'x' \"y\".bin",
    }  # a link that leads out is no file of the workspace
    assert [(r["path"], r["kind"]) for r in attempt["reports"] if r["content"] == "hand-over"] == [
        ("dist/tides.txt", "table")
    ]
    raw = world.http.get(f"/reports/{kept['dist/tides.txt']['id']}/raw")
    assert raw.content == b"tides, exact\n" and raw.headers["X-Content-Type-Options"] == "nosniff"
    log = world.http.get(f"/attempts/{build['attempt_id']}/log").text
    assert "no file was kept for the artifact nothing/**" in log
    assert "dist/leads-out is no regular file and is not kept" in log
    # what is to be handed over and is not there voids the attempt; what waits for it is skipped
    lacking = repo.pushed({"myriant.toml": PLAN.replace('"dist/*.txt"', '"dist/*.csv"')}, "No csv")
    states = {c["job"]: (c["state"], c["reason"]) for c in lacking["cells"]}
    assert states["build"] == ("void", "nothing to hand over: no file matches dist/*.csv (table)")
    assert states["pack"] == ("skipped", "build did not pass") and lacking["run"]["verdict"] == "held"
    # at the end of keeping the file goes, and nothing else
    site = world.site
    with site.store.view() as session:
        blobs = {k["path"]: session.get_one(Report, k["id"]).blob for k in kept.values()}
    assert all(site.blobs.get(blob) for blob in blobs.values())
    keep_time(site, datetime.now(UTC) + timedelta(days=15))
    for blob in blobs.values():
        with pytest.raises(FileNotFoundError):
            site.blobs.get(blob)  # its bytes are gone too, not only its row
    left = world.get(f"/attempts/{build['attempt_id']}")["reports"]
    assert sorted(r["content"] for r in left) == ["hand-over", "tests"]
    assert world.http.get(f"/reports/{kept['dist/tides.txt']['id']}/raw").status_code == 404
