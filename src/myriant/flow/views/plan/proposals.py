"""Proposals: plans that fit what the repository shows."""

from __future__ import annotations

from dataclasses import asdict, dataclass

from myriant.core.detect.draft import Proposal
from myriant.core.detect.propose import detected, propose
from myriant.core.detect.repository import Evidence, Tree
from myriant.core.plan.advice_of_texts import misplaced
from myriant.flow.repositories import first_look
from myriant.flow.site import Site
from myriant.flow.standing_plan import fetched
from myriant.store.runners import runners_in_touch


@dataclass(frozen=True, slots=True)
class Proposals:
    detected: list[Evidence]
    proposals: list[Proposal]
    files: int
    misplaced: str


def proposals_for(site: Site, project_name: str, branch: str | None = None) -> Proposals:
    """What the repository shows of itself, and the plans that would fit."""
    project, mirror, heads = fetched(site, project_name)
    commit = heads.get(branch or project.main_branch)
    files = mirror.files(commit) if commit else []
    with site.store.view() as session:
        offers = [o for r in runners_in_touch(session) for o in r.offers]
    tree = Tree(files, lambda path: mirror.file(commit, path) if commit else None)
    return Proposals(
        detected(tree), propose(tree, main=project.main_branch, offers=offers), len(files), misplaced(files)
    )


@dataclass(frozen=True, slots=True)
class Looked:
    """What a repository's address leads to."""

    address: str
    name: str
    branches: int
    main_branch: str
    local: bool
    hookable: bool
    empty: bool
    said: str


def offers_now(site: Site) -> list[str]:
    """Every runtime wish and label that runners in touch meet."""
    with site.store.view() as session:
        return sorted({o for r in runners_in_touch(session) for o in r.offers})


def look_at_repository(site: Site, address: str) -> Looked:
    """Try whether a repository can be read, and say how its events would be heard. Raises BadInput with the reason."""
    found = first_look(address)
    return Looked(**asdict(found))
