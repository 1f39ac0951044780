"""The site of a process that `myriant up` started."""

from __future__ import annotations

import json
import os
from pathlib import Path

from myriant.blobs import Blobs
from myriant.cli.errors import stop
from myriant.cli.place import Place
from myriant.cli.users import User, become
from myriant.flow.site import Site
from myriant.settings import settings
from myriant.store.engine import Store


def site_beside(data: Path) -> Site:
    """The site of an installation that runs on this machine, found by its data directory.

    Where root asks, this process becomes the owner of the server's folder for good: what lies there may be a link to
    anything, had somebody taken the server over.
    """
    place = Place(data)
    try:
        said = json.loads(place.connection.read_text())
    except (OSError, ValueError):
        stop(f"no Myriant runs on {data}", "start it with: myriant up")
    owner = place.private.stat()
    if os.geteuid() == 0 and owner.st_uid != 0:
        become(User(owner.st_uid, owner.st_gid))
    return Site(Store(said["database"]), Blobs(str(place.blobs)), place.mirrors, said["address"], place.key)


def site_from_environment() -> Site:
    given = settings()
    for name in ("database_url", "address", "data"):
        if not getattr(given, name):
            stop(f"the variable MYRIANT_{name.upper()} is not set", "this command is started by: myriant up")
    place = Place(given.data or Path())
    blobs = Blobs(given.blobs or str(place.blobs))
    return Site(Store(given.database_url), blobs, place.mirrors, given.address, given.key_file or place.key)
