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
    try:
        url, address = os.environ["MYRIANT_DATABASE_URL"], os.environ["MYRIANT_ADDRESS"]
        place = Place(Path(os.environ["MYRIANT_DATA"]))
    except KeyError as missing:
        stop(f"the variable {missing} is not set", "this command is started by: myriant up")
    blobs = Blobs(os.environ.get("MYRIANT_BLOBS", str(place.blobs)))
    return Site(Store(url), blobs, place.mirrors, address, Path(os.environ.get("MYRIANT_KEY_FILE", place.key)))
