"""Errors as problem details (RFC 9457): what, why and the mend, with a stable type."""

from __future__ import annotations

import errno

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import InterfaceError, OperationalError
from starlette.exceptions import HTTPException

from myriant.flow.errors import FlowError

_STATUS = {"not-found": 404, "refused": 409, "lease-lost": 409, "bad-input": 422, "replaced": 409}


def problem(status: int, kind: str, detail: str, mend: str = "") -> JSONResponse:
    body = {
        "type": f"/problems/{kind}",
        "title": kind.replace("-", " "),
        "status": status,
        "detail": detail,
        "mend": mend,
    }
    return JSONResponse(body, status, media_type="application/problem+json")


def answer_problems(app: FastAPI) -> None:
    """Turn every error into problem details."""

    @app.exception_handler(FlowError)
    async def flow(_: Request, error: FlowError) -> JSONResponse:
        return problem(_STATUS[error.kind], error.kind, str(error), error.mend)

    @app.exception_handler(HTTPException)
    async def http(_: Request, error: HTTPException) -> JSONResponse:
        kind = {401: "not-signed-in", 403: "forbidden", 404: "not-found"}.get(error.status_code, "refused")
        return problem(error.status_code, kind, str(error.detail))

    @app.exception_handler(RequestValidationError)
    async def invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        return problem(422, "bad-input", f"{where}: {first['msg']}", "see /api/v1/openapi.json")

    @app.exception_handler(OSError)
    async def disk(_: Request, error: OSError) -> JSONResponse:
        if isinstance(error, FileNotFoundError):
            return problem(
                404, "not-found", "the stored file is gone", "it may have been removed at the end of keeping"
            )
        full = error.errno in (errno.ENOSPC, errno.EDQUOT)
        said = "the server's disk is full" if full else f"the server's files cannot be used: {error.strerror}"
        mend = "make room on the server; runners keep what they have and try again"
        answer = problem(503, "storage-away", said, mend)
        answer.headers["Retry-After"] = "5"
        return answer

    @app.exception_handler(OperationalError)
    @app.exception_handler(InterfaceError)
    async def database(_: Request, error: Exception) -> JSONResponse:
        answer = problem(503, "database-away", "the database cannot be reached now", "try again in a moment")
        answer.headers["Retry-After"] = "2"
        return answer
