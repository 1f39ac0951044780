"""What changed, for whoever listens."""

from __future__ import annotations

from datetime import timedelta

import sqlalchemy as sa

from myriant.flow.views.changes import missed_since
from myriant.store.changes import changes_lately, tell
from myriant.store.tables import Change
from worlds import World


def test_who_listens_for_the_first_time_hears_the_newest_change_of_each_thing_lately(world: World) -> None:
    store = world.site.store
    with store.transaction() as session:
        for run in (1, 2, 1):
            tell(session, "run", "lately", run)
        tell(session, "project", "lately")
    with store.transaction() as session:
        mine = [c for c in changes_lately(session, timedelta(seconds=30)) if c.project == "lately"]
        assert [(c.kind, c.run) for c in mine] == [("run", 2), ("run", 1), ("project", None)]
        session.execute(
            sa.update(Change).where(Change.project == "lately").values(at=sa.func.now() - timedelta(minutes=5))
        )
    assert not [c for c in missed_since(world.site, None) if c.project == "lately"]
    assert [c for c in missed_since(world.site, mine[0].id) if c.project == "lately"]
