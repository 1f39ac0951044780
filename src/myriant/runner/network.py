"""The network of an attempt: its own, with loopback, and outward traffic where a step may have it."""

from __future__ import annotations

import json
import os
import select
import shutil
import subprocess
import time
from pathlib import Path

from myriant.runner.relay import Relay, named_ports
from myriant.settings import settings

_PRIVATE = (
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "198.18.0.0/15",
)
RESOLVER = "10.0.2.3"  # answers as the machine's own resolver does
_GATEWAY = "10.0.2.2"
REACHABLE = "MYRIANT_REACHABLE"  # what steps may reach all the same: 10.1.0.0/16,192.168.7.3,127.0.0.1:8422
_HOLDING = ("bwrap", "--unshare-net", "--ro-bind", "/", "/", "--dev", "/dev", "--die-with-parent", "sleep", "infinity")


class OwnNetwork:
    """A network that the steps and companions of one attempt share (root only).

    The machine's own addresses and its private neighbours are not in it, unless the operator names them; nothing
    comes in from outside. Raises OSError when it cannot be made.
    """

    def __init__(self, etc: Path, *, outward: bool) -> None:
        self.outward = outward
        self._process = subprocess.Popen(_HOLDING, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        self._way: subprocess.Popen[bytes] | None = None
        self._alive = -1
        self._relay: Relay | None = None
        try:
            self.pid = self._inside()
            if outward:
                self._open()
                (etc / "resolv.conf").write_text(f"nameserver {RESOLVER}\n")
        except BaseException:
            self.end()
            raise

    def _inside(self) -> int:
        """The process that waits inside, once it does."""
        mine = Path("/proc/self/ns/net").readlink()
        top = Path(f"/proc/{self._process.pid}/task/{self._process.pid}/children")
        for _ in range(200):
            for child in top.read_text().split():
                inside = Path("/proc") / child
                if (inside / "cmdline").read_bytes().startswith(b"sleep") and (inside / "ns/net").readlink() != mine:
                    return int(child)
            time.sleep(0.01)
        raise OSError("a network of its own could not be made")

    def _open(self) -> None:
        for program in ("slirp4netns", "ip"):
            if shutil.which(program) is None:
                raise OSError(f"{program} is not installed (apt-get install slirp4netns iproute2)")
        ready, told = os.pipe()
        over, self._alive = os.pipe()  # it ends when this side is closed: with this process, however that ends
        try:
            self._way = subprocess.Popen(
                [
                    "slirp4netns",
                    "--configure",
                    "--mtu=65520",
                    "--disable-host-loopback",
                    f"--ready-fd={told}",
                    f"--exit-fd={over}",
                    str(self.pid),
                    "tap0",
                ],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=(told, over),
            )
            os.close(told)
            told = -1
            if not select.select([ready], [], [], 10)[0] or os.read(ready, 1) != b"1":
                raise OSError("slirp4netns does not work here")
        finally:
            os.close(ready)
            os.close(over)
            if told >= 0:
                os.close(told)
        lines = "".join(f"{line}\n" for line in routes(own_addresses(), settings().reachable))
        done = subprocess.run(
            ["nsenter", f"--net=/proc/{self.pid}/ns/net", "--", "ip", "-batch", "-"],
            input=lines.encode(),
            capture_output=True,
            check=False,
        )
        if done.returncode:
            raise OSError(f"its routes could not be set: {done.stderr.decode('utf-8', 'replace').strip()[-200:]}")
        if ports := named_ports(settings().reachable):
            self._relay = Relay(self.pid, ports)

    def end(self) -> None:
        if self._relay is not None:
            self._relay.end()
        both = [p for p in (self._way, self._process) if p is not None]
        for process in both:
            process.kill()
        for process in both:
            process.wait()
        if self._alive >= 0:
            os.close(self._alive)
            self._alive = -1


def routes(own: list[str], reachable: str) -> list[str]:
    """What is said to `ip`: private networks and the machine's own addresses lead nowhere, but for what is named."""
    places = [place for word in reachable.split(",") if (place := word.strip())]
    named = [place for place in places if not place.startswith("127.")]  # those are passed on
    refused = [place for place in (*_PRIVATE, *own) if place not in named]
    return [
        *(f"route replace prohibit {place}" for place in dict.fromkeys(refused)),
        *(f"route replace {place} via {_GATEWAY} dev tap0" for place in named),
    ]


def own_addresses() -> list[str]:
    """The machine's own IPv4 addresses; slirp4netns gives no way to the others."""
    done = subprocess.run(["ip", "-j", "-4", "addr"], capture_output=True, check=False)
    try:
        found = json.loads(done.stdout)
        return [f"{a['local']}/32" for link in found for a in link["addr_info"] if not a["local"].startswith("127.")]
    except (ValueError, KeyError, TypeError) as error:
        raise OSError("this machine's own addresses cannot be learned") from error
