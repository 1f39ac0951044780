"""When the invented people work: about ten weeks of working days, up to now."""

from __future__ import annotations

import random
from datetime import datetime, timedelta

DAYS = 70


def moments(count: int, now: datetime, luck: random.Random) -> list[datetime]:
    """`count` moments in office hours of the last ten weeks, in order, the last some hours ago."""
    first = (now - timedelta(days=DAYS)).replace(hour=0, minute=0, second=0, microsecond=0)
    working = [d for d in (first + timedelta(days=i) for i in range(DAYS)) if d.weekday() < 5]
    found = {
        luck.choice(working) + timedelta(minutes=luck.randrange(8 * 60, 18 * 60), seconds=luck.randrange(60))
        for _ in range(count * 2)
    }
    return sorted(luck.sample(sorted(found), count)) if len(found) >= count else sorted(found)
