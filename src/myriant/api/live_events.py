"""Server-sent events about what changed."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, Request
from fastapi.responses import StreamingResponse

from myriant.api.access import VIEWER
from myriant.core.digits import number_of

router = APIRouter()


@router.get("/live", response_class=StreamingResponse, dependencies=[VIEWER])
async def live(request: Request, last_event_id: Annotated[str | None, Header()] = None) -> StreamingResponse:
    """Server-sent events about what changed."""
    last = number_of(last_event_id or "", 18)
    return StreamingResponse(
        request.app.state.live.stream(last), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )
