"""An attempt's network: its own loopback, the way outward, and nothing of this machine or its neighbours."""

from __future__ import annotations

import os
import shutil
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from myriant.runner.filter import program
from myriant.runner.network import OwnNetwork, own_addresses, routes
from myriant.runner.relay import named_ports
from myriant.runner.sandbox import Room, Sandbox, find_sandbox

TRY = """import socket, sys
try: print("reached", socket.create_connection((sys.argv[1], int(sys.argv[2])), 3).getpeername()[0])
except OSError as error: print("no", error)
"""


@pytest.fixture
def walls(tmp_path: Path) -> Iterator[tuple[Sandbox, Room]]:
    work = Path("/var/tmp") / f"myriant-network-{os.getpid()}-{time.monotonic_ns()}"
    work.mkdir(mode=0o755)
    sandbox = find_sandbox(work)
    if not sandbox.outward:
        pytest.skip(sandbox.warning)
    room = Room(work / "room", 61997)
    room.make()
    room.give_to_user()
    room.give("try.py", TRY)
    yield sandbox, room
    shutil.rmtree(work)


def said(sandbox: Sandbox, room: Room, *words: str, net: int | None = None, network: bool = True) -> str:
    path = "/usr/bin:/bin:/usr/sbin:/sbin"
    command, values, folder = sandbox.command(words, room=room, environment={"PATH": path}, net=net, network=network)
    done = subprocess.run(command, env=values, cwd=folder, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    return done.stdout + done.stderr


def test_a_step_reaches_neither_this_machine_nor_its_neighbours(walls: tuple[Sandbox, Room]) -> None:
    sandbox, room = walls
    with socket.create_server(("0.0.0.0", 0)) as server:
        port = str(server.getsockname()[1])
        network = OwnNetwork(room.etc, outward=True)
        try:
            own = own_addresses()[0].removesuffix("/32")
            tried = {
                a: said(sandbox, room, "python3", "/run/given/try.py", a, port, net=network.pid)
                for a in ("127.0.0.1", own, "10.0.2.2", "localhost", "192.168.1.1", "169.254.169.254")
            }
            assert all(t.startswith("no ") for t in tried.values()), tried
            assert said(sandbox, room, "python3", "/run/given/try.py", own, port).startswith("reached"), "without it"
            way = said(sandbox, room, "ip", "route", "get", "198.51.100.7", net=network.pid)
            assert "via 10.0.2.2 dev tap0" in way, "the world is there"
            assert "nameserver 10.0.2.3" in said(sandbox, room, "cat", "/etc/resolv.conf", net=network.pid)
            changed = said(sandbox, room, "ip", "route", "del", "10.0.0.0/8", net=network.pid)
            assert "not permitted" in changed, "and a step cannot open it"
        finally:
            network.end()


def test_two_commands_of_an_attempt_share_its_loopback_and_no_other_has_it(walls: tuple[Sandbox, Room]) -> None:
    sandbox, room = walls
    one, other = OwnNetwork(room.etc, outward=True), OwnNetwork(room.etc, outward=False)
    serve = "import socket; s = socket.create_server(('127.0.0.1', 9)); print('up', flush=True)\nwhile 1: s.accept()"
    command, values, folder = sandbox.command(
        ["python3", "-c", serve.replace("9", "5432")], room=room, environment={"PATH": "/usr/bin:/bin"}, net=one.pid
    )
    companion = subprocess.Popen(command, env=values, cwd=folder, stdout=subprocess.PIPE, start_new_session=True)
    try:
        assert companion.stdout is not None and companion.stdout.readline() == b"up\n"
        for net, found in ((one.pid, "reached"), (other.pid, "no "), (None, "no ")):
            told = said(sandbox, room, "python3", "/run/given/try.py", "127.0.0.1", "5432", net=net)
            assert told.startswith(found), (net, told)
    finally:
        os.killpg(companion.pid, 9)
        companion.wait()
        one.end()
        other.end()


def test_what_the_operator_names_is_reachable() -> None:
    lines = routes(["192.0.2.7/32"], " 10.1.0.0/16, 192.168.0.0/16 ,")
    assert "route replace prohibit 192.0.2.7/32" in lines and "route replace prohibit 10.0.0.0/8" in lines
    assert "route replace 10.1.0.0/16 via 10.0.2.2 dev tap0" in lines
    assert "route replace prohibit 192.168.0.0/16" not in lines
    assert "route replace 192.168.0.0/16 via 10.0.2.2 dev tap0" in lines


def test_no_step_makes_a_user_namespace(walls: tuple[Sandbox, Room]) -> None:
    sandbox, room = walls
    for words in (
        ["unshare", "-U", "id"],
        ["unshare", "-r", "id"],
        ["bwrap", "--unshare-user", "--ro-bind", "/", "/", "id"],
    ):
        assert "uid=" not in said(sandbox, room, *words), words
    threads = "import threading as t; x = t.Thread(target=print, args=('thread',)); x.start(); x.join()"
    assert said(sandbox, room, "python3", "-c", threads) == "thread\n", "threads and children are as ever"


def run_filter(code: bytes, *, arch: int, number: int, flags: int) -> int:
    """What the kernel would answer: a small interpreter of classic BPF."""
    data = struct.pack("<iIQ6Q", number, arch, 0, flags, 0, 0, 0, 0, 0)
    rows = [struct.unpack("<HBBI", code[i : i + 8]) for i in range(0, len(code), 8)]
    at, held = 0, 0
    while True:
        operation, if_true, if_false, value = rows[at]
        at += 1
        if operation == 0x06:
            return int(value)
        if operation == 0x20:
            held = struct.unpack_from("<I", data, value)[0]
        else:
            holds = {0x15: held == value, 0x35: held >= value, 0x45: bool(held & value)}[operation]
            at += if_true if holds else if_false


@pytest.mark.parametrize(
    ("machine", "arch", "number", "flags", "allowed"),
    [
        ("x86_64", 0xC000003E, 56, 0x10000000, False),
        ("x86_64", 0xC000003E, 56, 0x11, True),
        ("x86_64", 0xC000003E, 272, 0x10000000, False),
        ("x86_64", 0xC000003E, 272, 0x40000000, True),
        ("x86_64", 0xC000003E, 435, 0, False),
        ("x86_64", 0xC000003E, 0, 0x10000000, True),
        ("x86_64", 0xC000003E, 0x40000038, 0, False),
        ("x86_64", 0x40000003, 120, 0x10000000, False),
        ("aarch64", 0xC00000B7, 220, 0x10000011, False),
        ("aarch64", 0xC00000B7, 97, 0x10000000, False),
        ("aarch64", 0xC00000B7, 56, 0x10000000, True),
        ("aarch64", 0xC00000B7, 435, 0, False),
    ],
)
def test_the_filter_refuses_new_users_and_nothing_else(
    machine: str, arch: int, number: int, flags: int, allowed: bool
) -> None:
    assert (run_filter(program(machine), arch=arch, number=number, flags=flags) == 0x7FFF0000) is allowed
    assert program("riscv64") == b""


def test_nothing_of_it_outlives_a_runner_that_is_killed(walls: tuple[Sandbox, Room]) -> None:
    _, room = walls
    code = (
        "import sys, time; from pathlib import Path; from myriant.runner.network import OwnNetwork\n"
        "n = OwnNetwork(Path(sys.argv[1]), outward=True); print(n.pid, n._way.pid, flush=True); time.sleep(600)"
    )
    runner = subprocess.Popen([sys.executable, "-c", code, str(room.etc)], stdout=subprocess.PIPE, text=True)
    assert runner.stdout is not None
    pids = [int(word) for word in runner.stdout.readline().split()]
    assert len(pids) == 2 and all(running(pid) for pid in pids)
    runner.kill()
    runner.wait()
    end = time.monotonic() + 30
    while any(running(pid) for pid in pids) and time.monotonic() < end:
        time.sleep(0.05)
    assert not any(running(pid) for pid in pids)


def running(pid: int) -> bool:
    try:
        return (Path("/proc") / str(pid) / "stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


@pytest.mark.parametrize(
    ("reachable", "ports"),
    [
        ("", []),
        ("127.0.0.1:8422", [8422]),
        ("10.1.0.0/16, 127.0.0.1:8422,127.0.0.1:9", [8422, 9]),
        ("127.0.0.1", []),
        ("127.0.0.1:0,127.0.0.1:65536,127.0.0.1:x,127.0.0.1:-1", []),
        ("192.168.7.3:80", []),
        ("127.0.0.0/8", []),
    ],
)
def test_only_ports_that_are_named_are_passed_on_and_no_route_opens_the_loopback(
    reachable: str, ports: list[int]
) -> None:
    assert named_ports(reachable) == ports
    assert not [line for line in routes([], reachable) if "127." in line]
