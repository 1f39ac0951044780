"""Errors as problem details (RFC 9457): what, why and the mend, with a stable type."""

from __future__ import annotations

import errno
import logging

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import DataError, InterfaceError, OperationalError
from starlette.exceptions import HTTPException

from myriant.flow.errors import FlowError, is_deadlock

_log = logging.getLogger(__name__)
_STATUS = {"not-found": 404, "refused": 409, "forbidden": 403, "lease-lost": 409, "bad-input": 422, "replaced": 409}


def problem(status: int, kind: str, detail: str, mend: str = "") -> JSONResponse:
    body = {
        "type": f"/problems/{kind}",
        "title": kind.replace("-", " "),
        "status": status,
        "detail": detail,
        "mend": mend,
    }
    return JSONResponse(body, status, media_type="application/problem+json")


def answer_of(error: Exception) -> JSONResponse:
    """The problem that an error is, whatever it is."""
    match error:
        case FlowError():
            return problem(_STATUS[error.kind], error.kind, str(error), error.mend)
        case HTTPException():
            kind = {401: "not-signed-in", 403: "forbidden", 404: "not-found"}.get(error.status_code, "refused")
            return problem(error.status_code, kind, str(error.detail))
        case RequestValidationError():
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            return problem(422, "bad-input", f"{where}: {first['msg']}", "see /api/v1/openapi.json")
        case FileNotFoundError():
            return problem(
                404, "not-found", "the stored file is gone", "it may have been removed at the end of keeping"
            )
        case OSError():
            full = error.errno in (errno.ENOSPC, errno.EDQUOT)
            said = "the server's disk is full" if full else f"the server's files cannot be used: {error.strerror}"
            mend = "make room on the server; runners keep what they have and try again"
            return _later(problem(503, "storage-away", said, mend), 5)
        case OperationalError() if is_deadlock(error):
            said = "something else changed the same things at that moment"
            return _later(problem(503, "database-away", said, "try again in a moment"), 1)
        case OperationalError() | InterfaceError():
            return _later(
                problem(503, "database-away", "the database cannot be reached now", "try again in a moment"), 2
            )
        case DataError():
            return problem(
                422, "bad-input", "a value cannot be kept: a number out of range, or a text with a NUL", "leave it out"
            )
        case _:
            _log.error("an answer failed", exc_info=error)
            return problem(500, "fault", "the server failed to answer; its log says why", "tell who runs it")


def _later(answer: JSONResponse, seconds: int) -> JSONResponse:
    answer.headers["Retry-After"] = str(seconds)
    return answer


def answer_problems(app: FastAPI) -> None:
    """Turn every error into problem details."""

    async def answer(_: Request, error: Exception) -> JSONResponse:
        return answer_of(error)

    known = (FlowError, HTTPException, RequestValidationError, OSError, OperationalError, InterfaceError, DataError)
    for kind in (*known, Exception):
        app.add_exception_handler(kind, answer)
