"""Forty faults put one by one into what decides a commit's word: which of them the oracle's histories notice.

`python -m tests.bench.seeded [SIDE BY SIDE] [NUMBER …]`; each is given up to STEPS steps of random history.
"""

from __future__ import annotations

import json
import re
import sys
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

from tests.bench.altered import Alteration as A
from tests.bench.altered import altered, run

STEPS, LONGEST = 100, 900.0
FAULTS = [
    # the word
    A(
        "core/gate/word.py",
        "(Verdict.HELD, Verdict.UNDECIDED, Verdict.CLEAR,",
        "(Verdict.CLEAR, Verdict.HELD, Verdict.UNDECIDED,",
    ),
    A("core/gate/word.py", "key=lambda s: s.number)", "key=lambda s: -s.number)"),
    A("core/gate/word.py", "[s for s in every if not s.ended] or every", "every"),
    A("store/judged.py", "(project, context) not in going_on", "False"),
    A("store/judged.py", "if here and all(r.verdict in", "if here and any(r.verdict in"),
    A(
        "flow/views/words.py",
        "word(said.get(project, {}).get(commit, ()))",
        "word(said.get(project, {}).get(commit, ())[-1:])",
    ),
    A("flow/views/run/verdicts.py", "whole: Word = word(said)", "whole: Word = word(said[-1:])"),
    A("flow/announce/notes.py", "commit_note(word(said),", "commit_note(word(said[-1:]),"),
    # rules
    A("core/gate/judge.py", "any(j.holds_run for j in judged) else", "all(j.holds_run for j in judged) else"),
    A("core/gate/judge.py", 'return not self.met and self.rule.level == "block"', "return not self.met"),
    A("core/gate/judge.py", "if j.holds_run and j.built_in is not BuiltIn.LOOSENED:", "if j.holds_run:"),
    A("core/gate/judge.py", "good -= set(j.jobs or j.rule.jobs or jobs)", "good -= set(jobs)"),
    A("core/gate/judge.py", "Fraction(total), Fraction(0), not total,", "Fraction(total), Fraction(0), total <= 1,"),
    A("core/gate/loosened.py", 'yield f"job {old.id} is gone"', "yield from ()"),
    A(
        "core/gate/loosened.py",
        "if _LEVELS[now.level_of(rule)] < _LEVELS[before.level_of(rule)]:",
        "if _LEVELS[now.level_of(rule)] > _LEVELS[before.level_of(rule)]:",
    ),
    A("core/gate/less.py", "if job in ended:", "if job not in ended:"),
    A("core/gate/less.py", "if not (told or then) & now and not now - then:", "if not (told or then) & now:"),
    A("core/gate/aside.py", "if status not in allowed:", "if False:"),
    # beside the baselines
    A(
        "flow/compare/outcomes.py",
        "        if not run.base:\n            then = without_failures",
        "        if run.base:\n            then = without_failures",
    ),
    A(
        "flow/compare/outcomes.py",
        "set_aside_at(session, run.project_id, base.ended_at or base.created_at)",
        "list(quarantined_tests(session, run.project_id))",
    ),
    A("flow/compare/outcomes.py", "aside = list(quarantined_tests(session, run.project_id))", "aside: list[int] = []"),
    A(
        "flow/compare/outcomes.py",
        "        if name in found:\n            found[name] = with_earlier",
        "        if name not in found:\n            found[name] = with_earlier",
    ),
    A("flow/conclude/lessening.py", "if places.get(r.commit, 0) > 0]", "if places.get(r.commit, 0) >= 0]"),
    A(
        "flow/conclude/lessening.py",
        "if line in lines and (plans == pair or commit == run.commit or mirror.is_ancestor(commit, run.commit)):",
        "if line in lines:",
    ),
    A(
        "flow/conclude/judging.py",
        "for c in ended if c.state not in TRUSTED]",
        "for c in ended if c.state == State.STOPPED]",
    ),
    A("flow/conclude/judging.py", "for said in c.counts.unexplained]", "for said in ()]"),
    A("flow/conclude/judging.py", "row.good = row.trusted and job in good", "row.good = row.trusted"),
    A(
        "flow/conclude/judging.py",
        "all(c.why == Why.BROUGHT_ALONG for c in beside.binding)",
        "any(c.why == Why.BROUGHT_ALONG for c in beside.binding)",
    ),
    # what has to run
    A(
        "flow/compare/baselines.py",
        "[s for s in newest.values() if s.context.startswith(_PUSH)]\n        fine",
        "list(newest.values())\n        fine",
    ),
    A("flow/compare/baselines.py", "fine = counting and all(", "fine = counting and any("),
    A(
        "flow/compare/baselines.py",
        "own = newest.get(run.context) if run.event == EventKind.SCHEDULE else None",
        "own = newest.get(run.context)",
    ),
    A("core/plan/intent.py", "wanted.unless_only and all(_matches", "wanted.unless_only and any(_matches"),
    A(
        "core/plan/intent.py",
        "if looked and not any(_matches(looked, f) for f in changed):",
        "if looked and not all(_matches(looked, f) for f in changed):",
    ),
    A("core/diagnosis/compare.py", "known = fails & failing(before)", "known = fails & failing(before) & False"),
    A(
        "flow/planning/reading.py",
        "if found.excused and not asks_less(session, project, run, plan, nearest):",
        "if found.excused:",
    ),
    A("flow/planning/reading.py", "if pushed.reason or not {(c.job", "if pushed.reason and not {(c.job"),
    A("flow/planning/cells.py", "parts = [run.project_id, run.tree, part,", "parts = [run.project_id, part,"),
    A(
        "flow/compare/aside.py",
        "then = {(cell.job, c.key): c for c in there if c.job == known_as}",
        "then = {(cell.job, c.key): c for c in there}",
    ),
    # what people do
    A(
        "flow/actions/accepting.py",
        "        runs.call_for_conclusion(session, run, urgent=True)\n        return total",
        "        return total",
    ),
    A("flow/intake/refs.py", "numbers += [n for pull in pulls if", "numbers += [n for pull in pulls[1:] if"),
]


def measure(side_by_side: int = 5, numbers: Sequence[int] = ()) -> None:
    with ThreadPoolExecutor(side_by_side) as threads:
        caught = list(threads.map(_try, numbers or range(len(FAULTS))))
    line = {"measure": "seeded faults", "faults": len(caught), "caught": sum(caught)}
    print(json.dumps(line), flush=True)


def _try(number: int) -> bool:
    fault = FAULTS[number]
    began = time.monotonic()
    with altered(fault) as folder:
        status, said = run(folder, ["tests.bench.oracle", str(STEPS), str(100 + number), "no kills"], LONGEST)
    kinds = re.findall(r'"oracle: disagreement", "kind": "([a-z ]+)", "after": ([0-9]+)', said)
    told = {"measure": "seeded fault", "number": number, "file": fault.file, "was": fault.was, "now": fault.now}
    found = {
        "caught": bool(kinds or status),  # one that was not through in time without a word is not caught
        "as": kinds[0][0] if kinds else "no answer" if status else "time" if status is None else "",
        "steps": int(kinds[0][1]) if kinds else STEPS,
    }
    print(json.dumps({**told, **found, "seconds": round(time.monotonic() - began)}), flush=True)
    return bool(kinds or status)


if __name__ == "__main__":
    measure(int(sys.argv[1]) if len(sys.argv) > 1 else 5, [int(word) for word in sys.argv[2:]])
