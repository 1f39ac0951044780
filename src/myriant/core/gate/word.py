"""A commit's word: what every place says of it, the worst of the newest verdicts of its contexts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from myriant.core.states import Verdict

_WORST_FIRST = (Verdict.HELD, Verdict.UNDECIDED, Verdict.CLEAR, Verdict.EXEMPT)


@dataclass(frozen=True, slots=True)
class Said:
    """The verdict of one run of a commit. `ended`: its context is over (pull request closed, branch deleted)."""

    context: str
    verdict: Verdict
    number: int  # of the run
    ended: bool = False


@dataclass(frozen=True, slots=True)
class Word:
    """What a commit is said to be, in which context, by which run. NONE is never a pass."""

    verdict: Verdict = Verdict.NONE
    context: str = ""
    number: int = 0


def newest_of_each(said: Iterable[Said]) -> list[Said]:
    """The newest verdict of each context, worst first. Evidence, and runs that nothing asked for, are no verdicts."""
    newest: dict[str, Said] = {}
    for one in sorted(said, key=lambda s: s.number):
        if one.context and one.verdict is not Verdict.NONE:
            newest[one.context] = one
    return sorted(newest.values(), key=lambda s: (_WORST_FIRST.index(s.verdict), s.context))


def word(said: Iterable[Said]) -> Word:
    """The word of a commit; a context that is over counts only where no other has a verdict."""
    every = newest_of_each(said)
    counting = [s for s in every if not s.ended] or every
    return Word(counting[0].verdict, counting[0].context, counting[0].number) if counting else Word()
