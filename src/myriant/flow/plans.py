"""The plan of a run, read once for each text."""

from __future__ import annotations

from functools import lru_cache

from myriant.core.plan.model import Plan
from myriant.core.plan.read import read_plan


@lru_cache(maxsize=256)
def plan_of(text: str | None) -> Plan | None:
    """The plan that a run keeps, None when it has none that can be used."""
    return read_plan((text or "").encode()).plan
