"""The caches of an attempt: found before its steps, saved after them; one that cannot be costs nothing."""

from __future__ import annotations

import logging
import time
from typing import Any

from myriant.runner import machine
from myriant.runner.attempt.ground import Ground
from myriant.runner.client import Refused
from myriant.runner.porter import BadArchive
from myriant.runner.porter_stream import PorterFailed
from myriant.wire.attempts import CacheAnswer
from myriant.wire.lease import CacheWish

_log = logging.getLogger(__name__)


class Caches:
    def __init__(self, ground: Ground) -> None:
        self.ground = ground
        self.told: list[dict[str, Any]] = []
        self._keys: dict[str, dict[str, Any]] = {}  # before the steps change anything
        self._found: dict[str, CacheAnswer] = {}

    def restore(self) -> None:
        for wish in self.ground.lease.caches:
            self._found[wish.name] = self._restore(wish)

    def _key(self, wish: CacheWish) -> dict[str, Any]:
        runtimes = {r.family: r.version for r in self.ground.runtimes if r}
        renewed = self.ground.porter.digests(wish.renew_on)
        return {"renew": renewed, "runtimes": runtimes, "system": machine.system_name(), "keep": wish.keep}

    def _restore(self, wish: CacheWish) -> CacheAnswer:
        ground, began = self.ground, time.monotonic()
        try:
            self._keys[wish.name] = self._key(wish)
            answer = ground.server.find_cache(ground.lease, wish.name, self._keys[wish.name])
        except PorterFailed as error:
            answer = CacheAnswer(said=f"what it depends on cannot be read: {error}")
        except Refused as error:
            answer = CacheAnswer(said=f"the server cannot be asked for it: {error}")
        told: dict[str, Any] = {"name": wish.name, "found": answer.entry is not None, "said": answer.said}
        if answer.entry is not None:
            archive = ground.room.base / "cache"
            try:
                ground.server.fetch_cache(ground.lease, answer.entry, archive, answer.digest)
                told |= {"bytes": answer.size, "files": ground.porter.unpack(archive)}
            except (BadArchive, ValueError, Refused) as error:
                told |= {"found": False, "said": f"what was kept is damaged: {error}"}
                answer = CacheAnswer(said=told["said"])
            finally:
                archive.unlink(missing_ok=True)
        told["seconds"] = time.monotonic() - began
        self.told.append(told)
        ground.say(f"cache {wish.name}: {'found' if told['found'] else 'missed'}; {told['said']}")
        return answer

    def settle(self, prepared: dict[str, float]) -> None:
        """Seconds that found caches won: the preparing steps when they were saved against now, less unpacking."""
        for told in self.told:
            answer = self._found[told["name"]]
            if told["found"]:
                both = prepared.keys() & answer.seconds.keys()
                before, after = sum(answer.seconds[n] for n in both), sum(prepared[n] for n in both)
                told |= {"won": before - after - told["seconds"], "before": before, "now": after}

    def save(self, prepared: dict[str, float]) -> None:
        for wish in self.ground.lease.caches:
            if self._found[wish.name].entry is None and wish.name in self._keys:
                self._save(wish, prepared)

    def _save(self, wish: CacheWish, prepared: dict[str, float]) -> None:
        ground = self.ground
        archive = ground.room.base / "cache"
        try:
            masks = None if ground.masker.idle else ground.masker.masks
            count, why = ground.porter.pack(wish.keep, archive, masks)
            if not count:
                ground.say(f"cache {wish.name} is not saved: {why}")
                return
            size = archive.stat().st_size
            said = ground.server.save_cache(ground.lease, wish.name, self._keys[wish.name], prepared, archive)
            next(t for t in self.told if t["name"] == wish.name)["saved"] = size
            ground.say(f"cache {wish.name}: {said}")
        except (Refused, PorterFailed) as error:
            _log.info("attempt %d: cache %s was not taken: %s", ground.lease.attempt, wish.name, error)
            ground.say(f"cache {wish.name} is not saved: {error}")
        finally:
            archive.unlink(missing_ok=True)
