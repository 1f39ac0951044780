"""The sentence that says a run's verdict: a text a person could paste into a chat."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from myriant.core.diagnosis.compare import Tally
from myriant.core.gate.judge import Judged
from myriant.core.plan.keys import FRACTIONS
from myriant.core.plan.model import BuiltIn
from myriant.core.states import Verdict
from myriant.core.written import bytes_text, counted, day, duration, percent, points

MOST_REASONS = 4
MOST_OF_ONE = 240  # characters


@dataclass(frozen=True, slots=True)
class Told:
    """What the sentence is made of."""

    verdict: Verdict
    tally: Tally
    where: str | None  # the selector that explains the new failures
    first_here: int  # tests that are new only because their cell has no earlier result
    judged: Sequence[Judged]
    cells: int
    cells_ended_well: int  # with a result that can be trusted
    seconds: float
    baseline: str | None  # short id of the gate baseline's commit
    removed: int = 0  # tests whose source is gone
    tests: bool = True  # the plan collects some
    coverage: Fraction | None = None
    coverage_before: Fraction | None = None
    retests: int = 0  # how often failed tests were run again within attempts
    reruns: int = 0  # attempts that were made again by a person's wish
    open_cells: int = 0  # that still wait or run: the verdict came early
    more_failing: bool = False  # cells may have failed since that are not counted yet
    excused: Sequence[str] = ()  # jobs whose results were brought along, and from where
    accepted: Sequence[str] = ()  # what a person has accepted
    kept: Sequence[str] = ()  # jobs that did not run, for what is told already
    asked: bool = True  # for a verdict; else it is evidence only


NOT_ASKED = "No verdict is asked for"


def sentence(told: Told) -> str:
    """For example: Held: 3 tests newly fail, only where python=3.8. 11 of 12 cells in 1 min 48 s, against 9f3c21a."""
    early = " early" if told.open_cells else ""
    begin = f"{told.verdict.capitalize()}{early}" if told.asked else NOT_ASKED
    parts = [f"{begin}: {_main(told)}{_again(told)}."]
    aside = _aside(told.tally)
    if aside:
        parts.append(f"Set aside: {aside}.")
    parts += _waivers(told.judged)
    named = any(j.holds_run and j.rule.measure == "coverage.line" for j in told.judged)
    if told.coverage is not None and not named:
        parts.append(_coverage(told.coverage, told.coverage_before))
    parts += [f"{said}." for said in (*told.excused[:2], *told.accepted[:1])]
    against = f", against {told.baseline}" if told.baseline else ", with nothing earlier to compare with"
    if told.open_cells:
        parts[0] = f"{parts[0].removesuffix('.')}{against}."
    elif told.cells:
        parts.append(f"{told.cells_ended_well} of {counted(told.cells, 'cell')} in {duration(told.seconds)}{against}.")
    return " ".join(parts)


def progress(done: int, cells: int, running: int, failing: int, *, judged: bool = True) -> str:
    """How far a run is of which nothing can be said yet: Undecided: 5 of 15 cells done, 4 running. One that is not
    `judged` is evidence only.
    """
    begin = "Undecided" if judged else NOT_ASKED
    if not cells:
        return f"{begin}: reading the plan."
    so_far = f", {failing:,} with failures so far" if failing else ""
    return f"{begin}: {done:,} of {counted(cells, 'cell')} done, {running:,} running{so_far}."


EACH_SAID = 16


def is_said_anew(failing: int) -> bool:
    """Whether the sentence of a run that is held early is made anew with so many cells that failed: with each of the
    first, then at every doubling, as all of them are compared for it.
    """
    return failing <= EACH_SAID or failing & (failing - 1) == 0


def left(cells: int) -> str:
    """What is added to the sentence of a run that is held early, as long as cells of it are open."""
    return f"{counted(cells, 'cell')} still to end, which cannot clear it." if cells else ""


def _main(told: Told) -> str:
    holding = [_said(j, told) for j in sorted(told.judged, key=_turn) if j.holds_run]
    if told.kept:
        holding.append(f"so {_listed(told.kept)} did not run")
    warning = [f"{_said(j, told)} (warns)" for j in told.judged if not j.met and not j.holds_run and not j.waived]
    said = [*holding, *warning]
    if len(said) > MOST_REASONS:
        more = len(said) - MOST_REASONS + 1
        said = [*said[: MOST_REASONS - 1], counted(more, "further reason")]
    if told.tally.tests_fixed:
        said.append(f"{counted(told.tally.tests_fixed, 'test')} fixed")
    if told.removed:
        said.append(f"{counted(told.removed, 'test')} removed with {'its' if told.removed == 1 else 'their'} source")
    if not holding:
        said.insert(0, _passed(told))
    return "; ".join(said)


_ORDER = (BuiltIn.NEW, BuiltIn.STEPS, BuiltIn.VOID, BuiltIn.VANISHED, BuiltIn.SKIPPED, BuiltIn.LOOSENED)


def _turn(j: Judged) -> int:
    """Causes first: new failures, failed steps, what gave no result, lost tests, then the plan's rules."""
    return _ORDER.index(j.built_in) if j.built_in is not None else len(_ORDER)


def _listed(names: Sequence[str]) -> str:
    shown = list(names[:MOST_REASONS])
    more = [counted(len(names) - len(shown), "other job")] if len(names) > len(shown) else []
    *first, last = [*shown, *more]
    return f"{', '.join(first)} and {last}" if first else last


def _passed(told: Told) -> str:
    """How many of the tests that ran have passed; skipped ones stand apart."""
    tally = told.tally
    ran = tally.tests_passed + tally.tests_failed + tally.tests_errored
    if not ran and not tally.tests_total:
        return "every step ended well" if told.tests else "no tests, every step ended well"
    skipped = f", {counted(tally.tests_skipped, 'skipped', 'skipped')}" if tally.tests_skipped else ""
    return f"{tally.tests_passed:,} of {counted(ran, 'test')} passed{skipped}"


def _said(j: Judged, told: Told) -> str:
    number = int(j.value or 0)
    match j.built_in:
        case BuiltIn.VOID:
            return f"no trustworthy result: {_short(j.reason)}"
        case BuiltIn.STEPS:
            return _short(j.reason)
        case BuiltIn.NEW:
            where = f", only where {told.where}" if told.where else ""
            first = f" ({told.first_here} for the first time in their cell)" if told.first_here else ""
            least = "at least " if told.more_failing else ""
            return f"{least}{counted(number, 'test')} newly {'fails' if number == 1 else 'fail'}{first}{where}"
        case BuiltIn.VANISHED:
            return f"{counted(number, 'test')} vanished"
        case BuiltIn.SKIPPED:
            return f"{counted(number, 'test')} newly skipped"
        case BuiltIn.LOOSENED:
            return f"the plan asks less: {_short(j.reason)}"
        case None:
            return f"{j.rule.name}: {shown(j)}"


def _short(text: str) -> str:
    return text if len(text) <= MOST_OF_ONE else f"{text[: MOST_OF_ONE - 1]}…"


def _aside(tally: Tally) -> str:
    told = (
        (tally.tests_known, "known failure", "known failures"),
        (tally.tests_quarantined, "quarantined failure", "quarantined failures"),
    )
    return ", ".join(counted(n, one, many) for n, one, many in told if n)


def _waivers(judged: Sequence[Judged]) -> list[str]:
    """What is not met and waived, with who said so and until when; the rest is counted."""
    found = [j for j in judged if j.waived is not None]
    said = [
        f"{j.rule.name} ({shown(j)}) is waived by {j.waived.by} until {day(j.waived.until)}: {_ended(j.waived.reason)}"
        for j in found[:1]
        if j.waived is not None
    ]
    return [*said, *([f"{counted(len(found) - 1, 'further rule')} waived."] if len(found) > 1 else [])]


def _ended(text: str) -> str:
    """A person's words as one sentence."""
    one = _short(" ".join(text.split()))
    return one if one.endswith((".", "!", "?", "…")) else f"{one}."


def _again(told: Told) -> str:
    """What was run again, for whoever wonders why a red test is not counted."""
    flaky = f"{counted(told.tally.tests_flaky, 'flaky test')} passed" if told.tally.tests_flaky else ""
    ways = [counted(n, one) for n, one in ((told.retests, "retest"), (told.reruns, "rerun")) if n]
    if not ways:
        return f"; {flaky} when run again" if flaky else ""
    return f"; {flaky} after {' and '.join(ways)}" if flaky else f"; after {' and '.join(ways)}"


def _coverage(now: Fraction, before: Fraction | None) -> str:
    if before is None:
        return f"Line coverage {percent(now)}."
    return f"Line coverage {percent(now)} ({points(now - before).removesuffix(' points')})."


def shown(judged: Judged) -> str:
    """A judged rule in words: `81.2 %, at least 80.0 %`."""
    sign = judged.rule.sign.replace("-", " ")
    if judged.value is None:
        return judged.reason
    if judged.limit is None and judged.rule.limit == "baseline":
        return f"{value_text(judged.rule.measure, judged.value, None)}, {judged.reason or 'no baseline'}"
    limit = value_text(judged.rule.measure, judged.limit or Fraction(0), None)
    return f"{value_text(judged.rule.measure, judged.value, judged.limit)}, {sign} {limit}"


def value_text(measure: str, value: Fraction, limit: Fraction | None) -> str:
    if measure in FRACTIONS:
        return percent(value, limit)
    if measure == "coverage.change":
        return points(value, limit)
    if measure == "seconds.total":
        return duration(float(value))
    if measure == "artifacts.bytes":
        return bytes_text(int(value))
    return f"{int(value):,}" if value.denominator == 1 else f"{float(value):.3f}"
