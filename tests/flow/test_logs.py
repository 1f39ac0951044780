"""Logs as they are read by line: against a plain reading of the same bytes."""

from __future__ import annotations

import random
from collections.abc import Iterator

import pytest
from test_fleet import Simulated, briny, pushed

from worlds import World

LONG = 20_000


@pytest.fixture(scope="module")
def runner(world: World) -> Iterator[Simulated]:
    yield (made := Simulated(world, "scribe", 64))
    world.http.delete(f"/runners/{made.name}")


def pieces(seed: int) -> list[bytes]:
    luck = random.Random(seed)
    kinds = [
        b"",
        b"\n",
        b"\n\n\n",
        b"plain line\n",
        b"no end",
        b"\r\n",
        b" 10 %\r 20 %\r",
        b"\x1b[31mred\x1b[0m\n",
        b"\xff\xfe\x00binary\n",
        b"x" * 45_000,
        b"y" * 19_999 + b"\n",
        b"z" * 30_001 + b"NeedlE in a long line",
        "Ä".encode() * 9_000,
        b"\xe2\x82",
        b"\xac euro\n",
        b"tide " * 30 + b"\n",
        bytes(range(256)),
    ]
    return [luck.choice(kinds) * luck.choice([1, 1, 2, 5]) for _ in range(luck.randint(0, 40))]


@pytest.mark.parametrize("seed", range(8))
def test_lines_are_those_of_the_bytes_wherever_the_pieces_were_cut(world: World, runner: Simulated, seed: int) -> None:
    repo = briny(world, f"scribe-{seed}")
    pushed(repo)
    [lease] = [found for found in runner.claim(1) if found["project"] == repo.name]
    offset = 0
    for piece in (parts := pieces(seed)):
        assert runner.tell(lease, "PUT", "/log", params={"offset": offset}, content=piece).status_code == 200
        offset += len(piece)
    whole = b"".join(parts)
    attempt = lease["attempt"]
    assert world.http.get(f"/attempts/{attempt}/log/raw").content == whole
    wanted = whole.split(b"\n")
    if not wanted[-1]:
        wanted.pop()
    lines: list[dict] = []
    luck = random.Random(seed)
    while True:
        answer = world.get(f"/attempts/{attempt}/log/lines", first=len(lines) + 1, count=luck.randint(1, 7))
        assert answer["state"]["size"] == len(whole) and answer["state"]["lines"] == len(wanted)
        if not answer["lines"]:
            break
        lines += answer["lines"]
    assert [line["number"] for line in lines] == list(range(1, len(wanted) + 1))
    for line, text in zip(lines, wanted, strict=True):
        assert line["text"] == text[:LONG].decode("utf-8", "replace") and line["longer"] == max(0, len(text) - LONG)
    for text in ("PLAIN", "euro", "tide tide", "needle", "zneedle", "xxx", "ää", "nowhere"):
        hits = world.get(f"/attempts/{attempt}/log/search", text=text)
        expected = [i + 1 for i, line in enumerate(wanted) if text.lower() in line.decode("utf-8", "replace").lower()]
        assert (hits["count"], hits["lines"]) == (len(expected), expected), text
    runner.finish(lease, void="done")
