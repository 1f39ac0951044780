"""Usual lines: what passing attempts print is learned, step by step."""

from __future__ import annotations

import numpy as np

from myriant.core.diagnosis.usual import Digests, are_usual, digests_of
from myriant.flow.logs import (
    MOST_JUDGED,
    counted_chunks,
    first_lines,
    line_at,
    lines_from,
    pack_digests,
    the_attempt,
    unpack_digests,
)
from myriant.flow.site import Site
from myriant.store.attempts import steps_of
from myriant.store.logs import attempts_learned, usual_lines_to_change
from myriant.store.tables import Cell, Run

_MOST_KNOWN = 50_000


_LEARNED = 20  # passing attempts of a step after which only some are learned from


def learn_usual(site: Site, attempt_id: int) -> None:
    """Remember what a passing attempt printed, step by step. Running twice adds nothing new."""
    with site.store.transaction() as session:
        attempt = the_attempt(session, attempt_id)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        known = attempts_learned(session, run.project_id, cell.job)
        if known and min(known.values()) >= _LEARNED and attempt_id % _LEARNED:
            return  # enough is known: one attempt in so many keeps it fresh
        chunks = counted_chunks(site, session, attempt)
        steps = steps_of(session, attempt_id)
    found: dict[str, Digests] = {}
    for step in steps:
        if step.log_from is not None and step.log_to is not None and step.log_to > step.log_from:
            first, last = line_at(site, chunks, step.log_from), line_at(site, chunks, step.log_to)
            rows = first_lines(lines_from(site, chunks, first), min(last - first, MOST_JUDGED))
            found[step.name] = digests_of(text for _, text, *_ in rows)
    for name, digests in sorted(found.items()):
        with site.store.transaction() as session:
            row = usual_lines_to_change(session, run.project_id, cell.job, name, pack_digests(digests[:0]))
            before = unpack_digests(row.digests)
            fresh = digests[~are_usual(digests, before)]
            if len(fresh) and len(before) < _MOST_KNOWN:
                row.digests = pack_digests(np.union1d(before, fresh[: _MOST_KNOWN - len(before)]))
            row.attempts += 1
