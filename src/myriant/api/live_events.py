"""Server-sent events about what changed."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, Request
from fastapi.responses import StreamingResponse

from myriant.api.access import VIEWER

router = APIRouter()


@router.get("/live", response_class=StreamingResponse, dependencies=[VIEWER])
async def live(request: Request, last_event_id: Annotated[str | None, Header()] = None) -> StreamingResponse:
    """Server-sent events about what changed."""
    last = int(last_event_id) if last_event_id and last_event_id.isdigit() else None
    return StreamingResponse(
        request.app.state.live.stream(last), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )
