"""Source: runners fetch commits from the server's mirror by git's smart HTTP protocol."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

from myriant.flow.site import Site
from myriant.repos.git import clean_environment


async def upload_pack(
    site: Site, project_id: int, *, advertise: bool, protocol: str, body: bytes
) -> AsyncIterator[bytes]:
    """What `git upload-pack` answers, as it comes (gitprotocol-http)."""
    arguments = [
        "-c",
        "safe.directory=*",
        "upload-pack",
        "--stateless-rpc",
        *(["--advertise-refs"] if advertise else []),
    ]
    environment = clean_environment()
    if protocol.startswith("version="):
        environment["GIT_PROTOCOL"] = protocol
    process = await asyncio.create_subprocess_exec(
        "git",
        *arguments,
        str(site.mirrors / f"{project_id}.git"),
        stdin=asyncio.subprocess.DEVNULL if advertise else asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.DEVNULL,
        env=environment,
    )
    assert process.stdout is not None
    try:
        if process.stdin is not None:
            process.stdin.write(body)
            process.stdin.close()
        while chunk := await process.stdout.read(1 << 16):
            yield chunk
        await process.wait()
    finally:
        if process.returncode is None:
            process.kill()
            await process.wait()
