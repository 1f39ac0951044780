"""Answers that many ask for at once, kept for a moment."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable


class Shortly:
    """What was made for a name is given again for so many seconds; at most so many names are kept."""

    def __init__(self, seconds: float, most: int) -> None:
        self.seconds, self.most = seconds, most
        self._kept: OrderedDict[Hashable, tuple[float, str]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, name: Hashable, make: Callable[[], str]) -> str:
        """The text of a name, no older than `seconds`. What `make` raises passes, and is not kept."""
        began = time.monotonic()
        with self._lock:
            kept = self._kept.get(name)
        if kept is not None and began - kept[0] < self.seconds:
            return kept[1]
        made = make()
        with self._lock:
            self._kept[name] = began, made
            self._kept.move_to_end(name)
            while len(self._kept) > self.most:
                self._kept.popitem(last=False)
        return made
