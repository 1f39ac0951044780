"""How much of each thing may travel. A plan's own limits bound what a lease holds."""

from __future__ import annotations

from myriant.core.plan.model import MOST_BYTES, MOST_STEPS

PROTOCOL = 1
MOST_TEXT = MOST_BYTES  # characters of a command or name: a plan holds no longer one
MOST_POSITION = MOST_STEPS * 4  # of a step: shared steps stand in for one
MOST_REASON = 4000
MOST_LISTED = 10_000  # reasons, names of files and the like
MOST_PIECE = 8 << 20  # bytes of log, of a record, of a parcel's head
MOST_PART = 32 << 20  # of a long report
MOST_REPORT = 1 << 30
MOST_CACHE = 5 << 30
MOST_SLOTS = 1024
MOST_BODY = 64 << 20  # of any other call
