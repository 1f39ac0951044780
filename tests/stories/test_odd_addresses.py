"""Odd addresses: whatever stands where a name or a number is expected, the answer is an error that says so, never 5xx."""

from __future__ import annotations

import itertools
import re
from collections.abc import Collection, Iterator, Mapping
from urllib.parse import quote

import pytest

from inprocess import Stories, StoryRepository
from myriant.api.access import permissions_of
from myriant.api.app import api_routes
from worlds import PLAN, junit, writes

ODD = (  # as bytes of the address
    "²".encode(),  # a digit, but no number
    "٣".encode(),
    b"\0",
    b"7\0",
    b"\xed\xa0\x80",  # half of a surrogate pair
    b"\xff",
    "main\u2028x".encode(),
    "\u202egnp.1".encode(),
    b"9" * 30,
    b"9" * 5000,
    b"-1",
    b"1e9",
    b"%",
    b"..",
    b" ",
)
NOT_ASKED = re.compile(r"/live$|\.pdf$")  # a stream; a browser


@pytest.fixture(scope="module")
def repo(world: Stories) -> StoryRepository:
    return world.repository("odd", PLAN, **{"test.sh": writes(junit(a="passed"))})


def addresses(names: Collection[str] = (), each: int = 4) -> Iterator[tuple[str, str]]:
    """Routes with a part of their address odd, `each` of the odd ones in turn, the other parts as they should be;
    `names`: only those that one of these permissions opens.
    """
    good = {"project": "odd", "number": "1", "run": "1", "test": "0", "attempt": "1", "report": "1"}
    turn = itertools.cycle(quote(odd, safe="") for odd in ODD)
    for route in api_routes():
        if NOT_ASKED.search(route.path) or (names and permissions_of(route)[0].name not in names):
            continue
        for method in sorted(route.methods):
            for part in re.findall(r"\{(\w+)(?::\w+)?\}", route.path):
                for odd in itertools.islice(turn, each):
                    yield method, _filled(route.path, {**good, part: odd})
            for query in route.dependant.query_params if method == "GET" else ():
                for odd in itertools.islice(turn, each):
                    yield method, f"{_filled(route.path, good)}?{query.alias}={odd}"


def _filled(path: str, given: Mapping[str, str]) -> str:
    return re.sub(r"\{(\w+)(?::\w+)?\}", lambda m: given.get(m[1], "1"), path)


@pytest.mark.parametrize(
    ("names", "each"), [((), 4), (("lease", "runner", "hook", "open"), 2)], ids=["signed in", "strangers"]
)
def test_no_odd_address_is_the_servers_fault(
    world: Stories, repo: StoryRepository, names: tuple[str, ...], each: int
) -> None:
    headers = {"Authorization": ""} if names else {}
    failed, asked = [], 0
    for method, path in addresses(names, each):
        body = {} if method in ("GET", "HEAD") else {"json": {}}
        answer = world.http.request(method, path, headers=headers, **body)
        asked += 1
        if answer.status_code >= 500:
            failed.append(f"{answer.status_code} {method} {path[:150]}: {answer.text[:100]}")
    assert not failed, "\n".join(failed[:40])
    assert asked > 25


@pytest.mark.parametrize("path", ["/attempts/²/steps", "/runners/²/claim", "/attempts/²/record/x"])
def test_a_digit_that_is_no_number_is_a_stranger(world: Stories, path: str) -> None:
    assert 400 <= world.http.post(path, headers={"Authorization": "Bearer x"}, json={}).status_code < 500
