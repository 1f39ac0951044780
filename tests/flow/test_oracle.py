"""Random histories in a real repository: after every step all places say what a plain model says, and the same.

The long campaign is `python -m tests.bench oracle`, and how many seeded faults it notices `python -m tests.bench seeded`.
"""

from __future__ import annotations

from itertools import count
from random import Random

from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, rule, run_state_machine_as_test

from oracle import ACTIONS, Action, Driver
from worlds import World

_numbers = count(1)


def test_every_place_says_the_word_of_the_oracle(world: World) -> None:
    told = 0

    class History(RuleBasedStateMachine):
        def __init__(self) -> None:
            super().__init__()
            self.driver = Driver(world, f"history-{next(_numbers)}", 0)

        @rule(luck=st.randoms(use_true_random=False), action=st.sampled_from(ACTIONS))
        def lives_on(self, luck: Random, action: Action) -> None:
            nonlocal told
            self.driver.rng = luck
            self.driver.step(action)
            told += 1

    # every step is a real push: few of them here, and none to make a failing history shorter
    run_state_machine_as_test(  # type: ignore[no-untyped-call]
        History,
        settings=settings(
            max_examples=2,
            stateful_step_count=8,
            derandomize=True,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        ),
    )
    assert told >= 8
