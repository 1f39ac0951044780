"""The invented people of Fenmark Waterways."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Author:
    name: str

    @property
    def mail(self) -> str:
        return f"{self.name.split()[0].lower()}@fenmark.example"


INGRID = Author("Ingrid Halloway")
TOBIAS = Author("Tobias Wrenfield")
MARISOL = Author("Marisol Quay")
ANSELM = Author("Anselm Dyke")
YUKI = Author("Yuki Sallowmere")
CASPER = Author("Casper Reed")  # a stranger
