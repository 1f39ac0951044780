"""Who asks: a person with a role."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.core.states import Role

ROLES = tuple(Role)


@dataclass(frozen=True, slots=True)
class Person:
    id: int
    name: str
    role: str

    def may(self, role: str) -> bool:
        return ROLES.index(Role(self.role)) >= ROLES.index(Role(role))
