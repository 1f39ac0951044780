"""What waits to be told: the newest word of each thing, once, in order, and never lost without a word."""

from __future__ import annotations

import contextlib
import json
import threading
from typing import Any

import httpx
import pytest

from myriant.runner.client import LeaseLost, Refused, Server
from myriant.runner.untold import Untold
from myriant.wire.lease import Lease
from waiting import until

LEASE = Lease.model_construct(attempt=7)


def step(position: int, state: str) -> dict[str, Any]:
    return {"position": position, "state": state}


def test_what_waits_at_the_end_is_the_newest_word_of_each_step_and_record() -> None:
    told: list[Any] = []
    untold = Untold(lambda *what: told.append(what))
    for position, state in ((1, "running"), (0, "running"), (0, "passed"), (1, "failed")):
        untold.add_step(LEASE, step(position, state))
    untold.add_record(LEASE, "settings", ["old"])
    untold.add_record(LEASE, "settings", ["new"])
    steps, records = untold.take(LEASE)
    assert [(s["position"], s["state"]) for s in steps] == [(0, "passed"), (1, "failed")]
    assert records == {"settings": ["new"]} and told == []
    assert untold.take(LEASE) == ([], {})
    untold.end()


def test_what_lasts_is_told_by_itself_and_only_once() -> None:
    told: list[str] = []
    untold = Untold(lambda lease, steps, records: told.extend(s["state"] for s in steps))
    untold.add_step(LEASE, step(0, "running"))
    until(lambda: told == ["running"])
    untold.add_step(LEASE, step(0, "passed"))
    assert [s["state"] for s in untold.take(LEASE)[0]] == ["passed"]
    assert told == ["running"]
    untold.end()


def test_an_end_waits_for_what_is_being_told_and_comes_after_it() -> None:
    order: list[str] = []
    begun, may_end = threading.Event(), threading.Event()

    def tell(*_: Any) -> None:
        begun.set()
        may_end.wait(60)
        order.append("told")

    untold = Untold(tell)
    untold.add_step(LEASE, step(0, "running"))
    assert begun.wait(60)
    taking = threading.Thread(target=lambda: (untold.take(LEASE), order.append("taken")))
    taking.start()
    may_end.set()
    taking.join(60)
    assert order == ["told", "taken"]
    untold.end()


@pytest.mark.parametrize("asks", ["add_step", "add_record", "take"])
def test_what_telling_failed_with_reaches_whoever_tells_more(asks: str) -> None:
    failed = threading.Event()

    def lost(*_: Any) -> None:
        failed.set()
        raise LeaseLost("taken back")

    untold = Untold(lost)
    untold.add_step(LEASE, step(0, "running"))
    assert failed.wait(60)
    more = {"add_step": (LEASE, step(0, "passed")), "add_record": (LEASE, "phases", []), "take": (LEASE,)}[asks]

    def refused() -> bool:
        try:
            getattr(untold, asks)(*more)
        except LeaseLost:
            return True
        return False

    until(refused)
    untold.end()


@pytest.mark.parametrize(
    ("command", "refuses", "calls"),
    [
        ("sh", False, ["finish with 2"]),
        ("sh", True, ["finish with 2", "steps", "steps"]),  # what the end is refused for takes no step along
        ("x" * (5 << 20), False, ["steps", "steps", "finish with 0"]),  # together they may be more than a call takes
    ],
)
def test_no_step_is_lost_with_an_end_that_is_refused_or_too_long(
    monkeypatch: pytest.MonkeyPatch, command: str, refuses: bool, calls: list[str]
) -> None:
    asked: list[str] = []

    def answer(request: httpx.Request) -> httpx.Response:
        name = request.url.path.rsplit("/", 1)[1]
        if name == "finish":
            asked.append(f"finish with {len(json.loads(request.content).get('steps', []))}")
            return httpx.Response(422 if refuses else 204, json={"detail": "no"} if refuses else None)
        asked.append(name)
        return httpx.Response(204)

    monkeypatch.setattr("myriant.runner.untold.MOMENT", 3600.0)  # nothing is told before the end
    server = Server("http://tide.example", "t", httpx.MockTransport(answer))
    lease = Lease.model_construct(attempt=7, token="t")
    for position in (0, 1):
        server.step(lease, {**step(position, "passed"), "command": command})
    with pytest.raises(Refused) if refuses else contextlib.nullcontext():
        server.finish(lease, {})
    assert asked == calls
    server.close()
