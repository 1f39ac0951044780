"""Pull requests that are tested together."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from myriant.api.access import MAINTAINER, MEMBER, ThePerson, TheSite
from myriant.flow.actions.batches import begin_batch
from myriant.flow.actions.batches import stop_batch as _stop_batch
from myriant.flow.errors import Forbidden

router = APIRouter()


class NewBatch(BaseModel):
    pulls: list[int] = Field(min_length=2, max_length=20)  # in the order in which they are merged
    merge: bool = False  # into their target, once they are clear together: a maintainer's word


class BatchNumber(BaseModel):
    number: int


@router.post("/projects/{project}/batches", status_code=201, dependencies=[MEMBER])
def test_together(site: TheSite, who: ThePerson, project: str, wish: NewBatch) -> BatchNumber:
    """Test open pull requests merged one upon the other, and find which of them makes the gate hold."""
    if wish.merge and not who.may("maintainer"):
        raise Forbidden("only a maintainer has pull requests merged", "leave merge out")
    return BatchNumber(number=begin_batch(site, project, wish.pulls, who, merge=wish.merge))


@router.delete("/projects/{project}/batches/{number}", status_code=204, dependencies=[MAINTAINER])
def stop_batch(site: TheSite, who: ThePerson, project: str, number: int) -> None:
    """Test no more of it."""
    _stop_batch(site, project, number, who)
