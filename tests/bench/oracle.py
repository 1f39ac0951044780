"""Long random histories, each place asked after each step: `python -m tests.bench.oracle [STEPS] [SEED] [KILLS]`."""

from __future__ import annotations

import itertools
import json
import random
import sys
from collections import Counter

from oracle import ACTIONS, WALKS, Disagreement, Driver
from worlds import one_installation  # the tests' own folder is on the path

HISTORY = 40  # changes of one repository, after each of which every place is asked


def measure(steps: int = 2000, seed: int = 1, kills: bool = True) -> Counter[str]:
    """Live so many changes; what was told, how often, and every disagreement. The first of each history ends it, and
    without kills (where a seeded fault is looked for) all.
    """
    told: Counter[str] = Counter()
    actions = [*ACTIONS, *([Driver.killed] if kills else [])]
    walks = itertools.cycle(random.Random(seed).sample(WALKS, len(WALKS)))  # each comes, in an order of the seed's own
    done, history, turn = 0, 0, 0
    with one_installation("myriant-oracle-") as world:
        while done < steps:
            history += 1
            driver = Driver(world, f"history-{seed}-{history}", seed * 10_000 + history)
            try:
                while driver.looks < min(HISTORY, steps - done):
                    turn += 1
                    driver.step(next(walks) if turn % 3 == 2 else driver.rng.choice(actions))
            except Disagreement as odd:
                told[odd.kind] += 1
                after = done + driver.looks
                line = {"measure": "oracle: disagreement", "kind": odd.kind, "after": after, "said": str(odd)}
                print(json.dumps(line), flush=True)
                if not kills:
                    break
            done += max(1, driver.looks)
            told += driver.told
            if history % 5 == 0:
                print(json.dumps({"measure": "oracle: so far", "steps": done, **told}), flush=True)
    kinds = {kind: told.pop(kind, 0) for kind in ("false clear", "false held", "disagreement")}
    line = {"measure": "oracle", "steps": done, "histories": history, "seed": seed, **kinds, "words": dict(told)}
    print(json.dumps(line), flush=True)
    return Counter(kinds)


if __name__ == "__main__":
    words = sys.argv[1:]
    found = measure(int(words[0]) if words else 2000, int(words[1]) if len(words) > 1 else 1, len(words) < 3)
    sys.exit(1 if found.total() else 0)
