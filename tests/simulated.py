"""Runners that speak the protocol and execute nothing: what each cell does is the test's to say."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from worlds import PLAN, Repository, World, parcel

FAMILY = "brine"  # a runtime that only simulated runners offer


class Simulated:
    """A runner that speaks the protocol and executes nothing."""

    def __init__(self, world: World, name: str, slots: int = 4, labels: tuple[str, ...] = (), token: str = "") -> None:
        self.world, self.name, self.boot = world, name, f"{name}-1"
        self.token = token or world.installation.parts.environment["MYRIANT_RUNNER_TOKEN"]
        self.slots, self.labels = slots, labels
        self.id = self.enrol()

    def enrol(self) -> int:
        told = {
            "protocol": 1,
            "name": self.name,
            "slots": self.slots,
            "isolation": "none",
            "version": "1",
            "boot": self.boot,
            "labels": list(self.labels),
            "runtimes": [{"family": FAMILY, "version": "1.0", "path": "/x"}],
        }
        answer = self.world.http.post("/runners", json=told, headers=self.own)
        assert answer.status_code == 200, answer.text
        return int(answer.json()["runner"])

    @property
    def own(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.token}"}

    def asked(self, free: int = 1, holding: tuple[int, ...] = (), wait: float = 3) -> Any:
        body = {"boot": self.boot, "free": free, "holding": list(holding), "wait": wait}
        return self.world.http.post(f"/runners/{self.id}/claim", json=body, headers=self.own)

    def claim(self, free: int = 1, holding: tuple[int, ...] = (), wait: float = 10) -> list[dict[str, Any]]:
        answer = self.asked(free, holding, wait)
        assert answer.status_code == 200, answer.text
        return list(answer.json())

    @contextmanager
    def beating(self, leases: list[dict[str, Any]]) -> Iterator[None]:
        """The runner is heard of, holding whatever leases are in the list."""
        over = threading.Event()

        def beat() -> None:
            while not over.wait(2):
                held = {str(lease["attempt"]): lease["token"] for lease in list(leases)}
                self.world.http.post(f"/runners/{self.id}/heartbeat", json={"attempts": held}, headers=self.own)

        thread = threading.Thread(target=beat, daemon=True)
        thread.start()
        try:
            yield
        finally:
            over.set()
            thread.join()

    def tell(self, lease: dict[str, Any], method: str, path: str, **options: Any) -> Any:
        headers = {"Authorization": f"Bearer {lease['token']}", **options.pop("headers", {})}
        return self.world.http.request(method, f"/attempts/{lease['attempt']}{path}", headers=headers, **options)

    def finish(self, lease: dict[str, Any], report: str | None = None, **said: Any) -> None:
        if report is not None:
            sent = self.tell(lease, "PUT", "/reports", content=parcel(report.encode()))
            assert sent.status_code == 204, sent.text
        assert self.tell(lease, "POST", "/finish", json=said).status_code == 204


def briny(world: World, name: str, cells: int = 1) -> Repository:
    values = ", ".join(f'"{i}"' for i in range(cells))
    plan = PLAN.replace(
        'vary    = { lua = ["5.1", "5.4"] }', f'vary = {{ tide = [{values}] }}\npin = {{ {FAMILY} = "1.0" }}'
    )
    plan = plan.replace('["lua"]', f'["{FAMILY}"]').replace("version = 1\n", "version = 1\n[gate]\n", 0)
    return world.repository(name, plan)
