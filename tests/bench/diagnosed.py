"""What diagnosis says of an invented past: of each answer how often it was given, right, wrong and withheld."""

from __future__ import annotations

import itertools
import json
import random
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from tests.bench.invented import FILES, HOUR, RUNNERS, Fault, Past, Result

from myriant.core.diagnosis import chance, control, search
from myriant.core.diagnosis.explain import beyond_chance, explain
from myriant.core.diagnosis.frames import Frame
from myriant.core.diagnosis.suspects import Failure, Touched, rank
from myriant.core.plan.selectors import parse_selector

SORTS = ("steady", "always", "random", "hours", "order", "runner", "world", "overlapping", "random and always")
Counts = dict[str, Counter[str]]  # by sort: right, wrong, withheld


@dataclass(frozen=True, slots=True)
class Case:
    past: Past
    sort: str
    faults: dict[str, Fault]
    results: list[Result]
    rng: random.Random

    @property
    def by_chance(self) -> bool:
        return any(f.by_chance for f in self.faults.values())


def cases(seed: int, each: int, sampled: bool) -> Iterator[Case]:
    for number in range(each):
        past = Past(seed * 1000 + number, sampled=sampled)
        for sort in SORTS:
            rng = random.Random(f"{seed} {number} {sort}")
            parts = {"overlapping": ("always", "always"), "random and always": ("always", "random")}.get(sort, (sort,))
            faults = {f"s{i}": past.fault(part, rng) for i, part in enumerate(parts)}
            yield Case(past, sort, faults, past.results(faults, rng), rng)


def told(past: Past, results: Sequence[Result]) -> chance.Chance:
    rows = [(r.commit, r.commit, r.cell, r.failed, True, r.runner, int(r.at / HOUR) % 24) for r in results]
    return chance.judged(chance.flat(rows), past.cells, RUNNERS)


# --- how often it fails by chance ------------------------------------------------------------------


def flaky(case: Case) -> tuple[str, str, bool | None]:
    """Of "flaky or not": of the product, of the plain method; and whether the interval holds the true rate."""
    found = told(case.past, case.results)
    bad = sum(r.failed for r in case.results)
    truly = case.by_chance and bad > 0
    said = (
        "withheld"
        if 0.05 < found.sure < chance.SURE or (found.sure >= 0.95 and not found.flaky)
        else ("right" if found.flaky == truly else "wrong")
    )
    if not found.flaky and truly and found.sure <= 0.05:
        said = "withheld"  # no sign yet; nothing is claimed but that it is not shown
    plain = "right" if (0 < bad < len(case.results) and bad >= 2) == truly else "wrong"
    held = None
    if found.flaky and truly:
        true = case.past.rate(case.faults, _scope(case.past, found.only), found.since or 0)
        held = true is not None and found.low - 1e-9 <= true <= found.high + 1e-9
    return said, plain, held


def _scope(past: Past, only: str) -> Callable[[Result], bool]:
    if not only:
        return lambda r: True
    if only.startswith("runner "):
        return lambda r: RUNNERS[r.runner] == only.removeprefix("runner ")
    if only.startswith("from "):
        first, last = int(only.split()[1]), int(only.split()[3])
        return lambda r: (int(r.at / HOUR) % 24 - first) % 24 < (last - first) % 24
    holds = parse_selector(only).holds
    return lambda r: holds(past.cells[r.cell])


# --- a newly failing test: what its control runs say -----------------------------------------------


def first_failing(case: Case) -> tuple[list[Result], list[Result], int] | None:
    """The results up to a run in which the test newly fails, that run's, and the commit of the run before."""
    commits = [c for c, _ in case.past.runs]
    by_commit: dict[int, list[Result]] = defaultdict(list)
    for r in case.results:
        by_commit[r.commit].append(r)
    for before, now in itertools.pairwise(commits[8:]):
        was = {r.cell for r in by_commit[before] if r.failed}
        if any(r.failed and r.cell not in was for r in by_commit[now]) and not was:
            return [r for r in case.results if r.commit < now], by_commit[now], before
    return None


def controlled(case: Case, found: tuple[list[Result], list[Result], int]) -> tuple[str, str, int] | None:
    """What the product says, what one repeat each says, and how many repeats the product took."""
    past, now, before = found
    failed = [r for r in now if r.failed]
    cell, here, base = failed[0].cell, control.Tries(), control.Tries()
    run = control.Tries(len(now) - len(failed), len(failed))
    exact = explain(case.past.cells, [any(r.failed and r.cell == i for r in now) for i in range(len(case.past.cells))])
    window = past[-30 * len(case.past.cells) :]
    known = control.Tries(sum(not r.failed for r in window), sum(r.failed for r in window))
    before_it = told(case.past, past)
    random = before_it.sure if before_it.now else 0.0
    at, plain, repeats = max(r.at for r in now) + 300, "", 0
    answer = control.answer(here, base, run, exact.parts, 9, known, random)
    while True:
        want_here, want_base = control.wanted(answer)
        if not (want_here or want_base):
            break
        if want_here:
            again = case.past.again(case.faults, now[0].commit, cell, at, case.rng)
            here = control.Tries(here.passed + (not again.failed), here.failed + again.failed)
        if want_base:
            again = case.past.again(case.faults, before, cell, at, case.rng)
            base = control.Tries(base.passed + (not again.failed), base.failed + again.failed)
        at, repeats = at + 120, repeats + want_here + want_base
        plain = plain or ("chance" if here.passed else "world" if base.failed else "change")
        answer = control.answer(here, base, run, exact.parts, 9, known, random)
    # what is true of this failure: which of the faults signs it, and did its commit bring it
    fault = case.faults[failed[0].signature]
    if fault.sort == "always":
        truth = {"change"}
    elif fault.sort == "world":
        truth = {"world"}
    else:
        truth = {"chance", "world"} if fault.sort in ("hours", "runner") else {"chance"}
    rated = lambda said: "withheld" if said == "unsure" else "right" if said in truth else "wrong"  # noqa: E731
    return rated(answer.said), rated(plain), repeats


# --- where it shows ---------------------------------------------------------------------------------


def where(case: Case, found: tuple[list[Result], list[Result], int], said: str) -> tuple[str, str]:
    """The condition named for the first failure's signature, by the product and without its cautions."""
    _, now, _ = found
    signature = next(r.signature for r in now if r.failed)
    fault = case.faults[signature]
    mine = {r.cell for r in now if r.signature == signature}
    others = {r.cell for r in now if r.failed} - mine
    ran = [r.cell for r in now if r.cell not in others]
    missing = [c for c in case.past.all_cells if c not in case.past.cells]
    cells = case.past.cells
    told = explain([cells[c] for c in ran], [c in mine for c in ran], [*(cells[c] for c in sorted(others)), *missing])
    sure = said in ("change", "world") or (said != "chance" and beyond_chance(told, len(mine), len(ran)))
    plain = explain([cells[c] for c in (r.cell for r in now)], [r.failed for r in now], missing)
    names = [told.selector, *told.rivals] if sure and told.exact else []
    return (
        _named(case.past, fault, [n for n in names if n]),
        _named(case.past, fault, [plain.selector] if plain.selector else []),
    )


def _named(past: Past, fault: Fault, names: Sequence[str]) -> str:
    if not names:
        return "withheld"
    if fault.by_chance and not fault.where:
        return "wrong"
    truth = [fault.holds(c) for c in past.all_cells]
    return "right" if any([parse_selector(n).holds(c) for c in past.all_cells] == truth for n in names) else "wrong"


# --- which change -----------------------------------------------------------------------------------


def suspected(case: Case, found: tuple[list[Result], list[Result], int]) -> tuple[str, str] | None:
    _, now, before = found
    fault = case.faults[next(r.signature for r in now if r.failed)]
    commits = list(range(now[0].commit, before, -1))
    if fault.sort != "always" or fault.start not in commits:
        return None
    stack = case.rng.sample(FILES, 2)
    if case.rng.random() < 0.7:
        stack.insert(case.rng.randrange(3), fault.file)
    frames = [Frame(f, 10, "f", True) for f in stack]
    touched = [Touched(str(c), case.past.touched[c]) for c in commits]
    ranked = rank(touched, Failure(frames, ["tests/test_it.lua"]))
    spoken = [s for s in ranked if s.because]
    lead = spoken and (len(spoken) == 1 or spoken[0].score > spoken[1].score)
    rated = lambda commit: "right" if int(commit) == fault.start else "wrong"  # noqa: E731
    return rated(spoken[0].commit) if lead else "withheld", rated(touched[0].commit)


# --- the first bad commit ---------------------------------------------------------------------------


def searched(case: Case, found: tuple[list[Result], list[Result], int]) -> tuple[str, str, int] | None:
    """The search's answer and plain bisection's, with the tries of the first."""
    past, now, _ = found
    cell = next(r.cell for r in now if r.failed)
    fault = case.faults[next(r.signature for r in now if r.failed)]
    bad = now[0].commit
    wide = case.rng.randrange(2, 24)  # commits that went by unseen, as in a nightly run
    good = max((r.commit for r in past if r.cell == cell and not r.failed and r.commit <= bad - wide), default=None)
    if good is None or bad - good < 2:
        return None
    commits = list(range(good + 1, bad + 1))
    known = told(case.past, [r for r in [*past, *now] if r.commit <= good or r.commit == bad])
    before = known.now and (known.since is None or known.since <= good)
    odds = (known.sure if before else 0.0, known.rate)
    begun = max(r.at for r in now)
    tried = [search.Tried(search.GOOD, False, today=False), search.Tried(len(commits) - 1, True, today=False)]
    at = begun + case.rng.random() * 20 * HOUR
    count = 0
    while True:
        belief = search.Belief(len(commits), tried, *odds)
        wanted = search.next_tries(belief, tried, 4)
        if not wanted:
            break
        at += 600
        for place in wanted:
            again = case.past.again(case.faults, good if place < 0 else commits[place], cell, at, case.rng)
            tried.append(search.Tried(place, again.failed))
            count += 1
    answer = belief.found()
    kind, first = search.Kind, (commits[answer.at] if answer.at is not None else None)
    if not answer.certain:
        said = "withheld"
    elif answer.kind is kind.GONE:  # it says of no commit anything
        said = "withheld" if fault.by_chance or fault.end > bad else "right"
    elif fault.sort not in ("hours", "world"):
        since = fault.start if good < fault.start <= bad else None
        said = "right" if first == since else "wrong"  # none is named: true of what began before
    else:
        said = "wrong" if first is not None else "right"
    return said, _bisected(case, fault, cell, good, bad, at), count


def _bisected(case: Case, fault: Fault, cell: int, good: int, bad: int, at: float) -> str:
    low, high = good + 1, bad
    while low < high:
        middle = (low + high) // 2
        if case.past.again(case.faults, middle, cell, at, case.rng).failed:
            high = middle
        else:
            low = middle + 1
    return "right" if fault.sort not in ("hours", "world") and low == fault.start else "wrong"


def tables(seed: int, each: int, sampled: bool) -> tuple[dict[str, Counts], dict[str, list[float]]]:
    """By question (and by question + " plainly") and sort, the counts; and figures beside them."""
    found: dict[str, Counts] = defaultdict(lambda: defaultdict(Counter))
    more: dict[str, list[float]] = defaultdict(list)

    def count(question: str, sort: str, said: str, plain: str) -> None:
        found[question][sort][said] += 1
        found[f"{question} plainly"][sort][plain] += 1

    for case in cases(seed, each, sampled):
        said, plain, held = flaky(case)
        count("flaky", case.sort, said, plain)
        if held is not None:
            more[f"interval holds: {case.sort}"].append(held)
        begun = first_failing(case)
        if begun is None:
            continue
        control_said = ""
        if (answer := controlled(case, begun)) is not None:
            count("control", case.sort, *answer[:2])
            more["repeats"].append(answer[2])
            control_said = {"withheld": "unsure"}.get(answer[0], _said(case, begun, answer[0]))
        count("where", case.sort, *where(case, begun, control_said))
        if (named := suspected(case, begun)) is not None:
            count("suspect", case.sort, *named)
        if (answer := searched(case, begun)) is not None:
            count("first bad", case.sort, *answer[:2])
            more[f"tries: {case.sort}"].append(answer[2])
    return found, more


def _said(case: Case, begun: tuple[list[Result], list[Result], int], rated: str) -> str:
    """The word behind a rating, near enough for what depends on it."""
    fault = case.faults[next(r.signature for r in begun[1] if r.failed)]
    true = {"always": "change", "world": "world"}.get(fault.sort, "chance")
    return true if rated == "right" else "chance" if true != "chance" else "change"


def measure() -> None:
    for sampled in (False, True):
        counts, more = tables(14, 60, sampled)
        name = "pairwise sample" if sampled else "full matrix"
        for question, by_sort in counts.items():
            for sort, c in [*by_sort.items(), ("all", sum(by_sort.values(), Counter()))]:
                print(json.dumps({"measure": f"{question}, {name}: {sort}", **c}), flush=True)
        for what, values in more.items():
            print(
                json.dumps(
                    {"measure": f"{what}, {name}", "mean": round(sum(values) / len(values), 3), "samples": len(values)}
                ),
                flush=True,
            )


if __name__ == "__main__":
    measure()
