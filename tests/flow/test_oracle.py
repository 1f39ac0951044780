"""Random histories in a real repository: after every step all places say what a plain model says, and the same."""

from __future__ import annotations

import pytest

from conftest import World
from oracle import live


@pytest.mark.parametrize("seed", [1, 2])
def test_every_place_says_the_word_of_the_oracle(world: World, seed: int) -> None:
    driver = live(world, f"oracle-{seed}", seed, 7)
    assert sum(driver.told.values()) > 7
