"""Who asks: a person with a role."""

from __future__ import annotations

from dataclasses import dataclass

ROLES = ("viewer", "member", "maintainer", "admin")


@dataclass(frozen=True, slots=True)
class Person:
    id: int
    name: str
    role: str

    def may(self, role: str) -> bool:
        return ROLES.index(self.role) >= ROLES.index(role)
