"""Git's smart HTTP for fetching, for runners by their lease and for people by their token (gitprotocol-http)."""

from __future__ import annotations

import zlib
from collections.abc import AsyncIterator

from fastapi import HTTPException, Request
from fastapi.responses import StreamingResponse

from myriant.api.bounds import MOST_WANTED
from myriant.flow.dispatch.source import upload_pack
from myriant.flow.site import Site

_HEADERS = {"Cache-Control": "no-store"}


def refs_answer(site: Site, project: int, request: Request) -> StreamingResponse:
    """What the mirror has."""
    protocol = request.headers.get("git-protocol", "")

    async def answer() -> AsyncIterator[bytes]:
        if not protocol.startswith("version=2"):
            yield b"001e# service=git-upload-pack\n0000"
        async for chunk in upload_pack(site, project, advertise=True, protocol=protocol, body=b""):
            yield chunk

    kind = "application/x-git-upload-pack-advertisement"
    return StreamingResponse(answer(), media_type=kind, headers=_HEADERS)


async def pack_answer(site: Site, project: int, request: Request) -> StreamingResponse:
    """What was asked for, as one pack."""
    data = await request.body()
    if request.headers.get("content-encoding") == "gzip":
        data = _unzipped(data)
    protocol = request.headers.get("git-protocol", "")
    return StreamingResponse(
        upload_pack(site, project, advertise=False, protocol=protocol, body=data),
        media_type="application/x-git-upload-pack-result",
        headers=_HEADERS,
    )


def _unzipped(data: bytes) -> bytes:
    """A compressed request, which may not become longer than a plain one."""
    reader = zlib.decompressobj(wbits=31)
    try:
        plain = reader.decompress(data, MOST_WANTED)
    except zlib.error as error:
        raise HTTPException(400, "the request's compression is damaged") from error
    if reader.unconsumed_tail:
        raise HTTPException(413, f"the request unpacks to more than {MOST_WANTED:,} bytes")
    if not reader.eof:
        raise HTTPException(400, "the request's compression is damaged")
    return plain
