"""The variables that the steps of an attempt see, layer by layer."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from myriant.runner.runtimes import Runtime, home_of
from myriant.runner.sandbox import WORKSPACE, Room
from myriant.runner.tracer import Setting, place, trace
from myriant.wire.lease import Lease, StepWish

Layer = tuple[str, Mapping[str, str]]
Found = Sequence[tuple[str, str, int, str]]  # name, file, line and value that files set
HIDDEN = "(secret)"


class Variables:
    """All layers for one attempt; `ports` are those of its companions."""

    def __init__(
        self, lease: Lease, runtimes: Sequence[Runtime], room: Room, shared: Sequence[Path], *, walled: bool
    ) -> None:
        self.lease, self.runtimes, self.room, self.shared, self.walled = lease, runtimes, room, shared, walled
        self.ports: dict[str, str] = {}

    def of(self, step: StepWish | None = None, more: Mapping[str, str] | None = None) -> dict[str, str]:
        """Name and value of everything that a step (None: a companion) sees."""
        values: dict[str, str] = {}
        for _, layer in self.layers(step):
            values |= layer
        return values | dict(more or {})

    def layers(self, step: StepWish | None = None, *, hide: bool = False) -> list[Layer]:
        """The layers, each stronger than those before; secrets are hidden on demand."""
        names = [*self.lease.job_secrets, *(step.secrets if step else ())]
        secrets = {n: HIDDEN if hide else self.lease.secrets[n] for n in names if n in self.lease.secrets}
        return [
            *((f"the runtime {r.family} {r.version}", home_of(r)) for r in self.runtimes),
            *self._planned(step),
            ("a secret of the project", secrets),
            ("a companion's port", self.ports),
            ("Myriant", self._fixed()),
            *(
                (f"the dimension {k}", {f"MYRIANT_CELL_{k.upper().replace('-', '_')}": v})
                for k, v in self.lease.values.items()
            ),
        ]

    def _planned(self, step: StepWish | None) -> list[Layer]:
        position = self.lease.steps.index(step) if step is not None and step in self.lease.steps else None
        if not self.lease.origins:
            return [("the plan", self.lease.env), ("the step", step.env if step else {})]
        placed = [
            (origin, name)
            for name, origins in self.lease.origins.items()
            for origin in origins
            if origin.step is None or origin.step == position
        ]
        return [(origin.place, {name: origin.value}) for origin, name in placed]

    def traced(self, look: Callable[[Sequence[str]], Found]) -> list[dict[str, Any]]:
        """Every setting for the whole job, then what single steps set otherwise; with the files that set it too.

        `look` finds the lines of files that set a name.
        """
        whole = trace(self.layers(hide=True))
        ours = {n for _, layer in self._planned(None) for n in layer} | set(self.lease.secrets)
        steps = [(step, trace(self.layers(step, hide=True))) for step in self.lease.steps if step.env or step.secrets]
        others = [
            (step, {n: s for n, s in found.items() if n not in whole or whole[n].value != s.value})
            for step, found in steps
        ]
        found = look(sorted((ours & set(whole)).union(*(changed for _, changed in others))))
        place(whole, ours & set(whole), found)
        rows = [_row(setting, "") for setting in whole.values()]
        for step, changed in others:
            place(changed, set(changed), found)
            rows += [_row(setting, step.name) for setting in changed.values()]
        return rows

    def _fixed(self) -> dict[str, str]:
        lease, room = self.lease, self.room
        folders = [str(r.path.parent) for r in self.runtimes if r.root]
        first = "/run/runtime" if self.walled else str(room.links)
        return {
            "PATH": ":".join([first, *folders, "/usr/local/bin", "/usr/bin", "/bin"]),
            "HOME": "/home/cell" if self.walled else str(room.home),
            "USER": "cell",
            "LOGNAME": "cell",
            "TMPDIR": "/tmp" if self.walled else str(room.tmp),
            "LANG": "C.UTF-8",
            "TERM": "xterm-256color",
            "CI": "true",
            "MYRIANT": "1",
            "MYRIANT_PROJECT": lease.project,
            "MYRIANT_RUN": str(lease.run),
            "MYRIANT_ATTEMPT": str(lease.number),
            "MYRIANT_JOB": lease.job,
            "MYRIANT_SHARED": ":".join(map(str, self.shared)),
            **{f"MYRIANT_{name.upper().replace('-', '_')}": value for name, value in lease.told.items()},
            **({"MYRIANT_BASE_COMMIT": lease.before} if "branch" in lease.told else {}),
            "MYRIANT_FROM": "/run/from" if self.walled else str(room.handed),
            "MYRIANT_WORKSPACE": WORKSPACE if self.walled else str(room.workspace),
        }


def _row(setting: Setting, step: str) -> dict[str, Any]:
    told = asdict(setting)
    secret = setting.value == HIDDEN
    told["overrode"] = [[o, HIDDEN if secret else v] for o, v in setting.overrode]
    if secret:
        for place in told["files"]:
            place["value"] = HIDDEN
    return told | {"step": step}
