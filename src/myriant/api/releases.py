"""Releases: what lies behind the verdict, what is live, and signed statements of what was made."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from myriant.api.access import VIEWER, TheSite
from myriant.flow.views.releases import Releases, attested, public_key, releases_of

router = APIRouter()


class StatementKey(BaseModel):
    key: str  # Ed25519, hexadecimal


@router.get("/projects/{project}/releases", dependencies=[VIEWER])
def releases(site: TheSite, project: str) -> Releases:
    """The newest runs with something behind their verdict, and what is live."""
    return releases_of(site, project)


@router.get("/projects/{project}/runs/{number}/attestation", dependencies=[VIEWER])
def attestation(site: TheSite, project: str, number: int) -> dict[str, Any]:
    """A signed statement of what a clear run tested and made: in-toto in a DSSE envelope."""
    return attested(site, project, number)


@router.get("/attestation-key", dependencies=[VIEWER])
def attestation_key(site: TheSite) -> StatementKey:
    """The public key by which such statements are seen to be this installation's."""
    return StatementKey(key=public_key(site))
