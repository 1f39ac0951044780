"""Events of a host in its own shape: fields found in a foreign body by JSON Pointer (RFC 6901)."""

from __future__ import annotations

import hashlib
import hmac
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from myriant.core.states import PullState

POINTED = ("number", "source", "target", "title", "author", "state", "may-write")
_KEYS = (*POINTED, "states", "proof")
_PROOF = ("header", "how", "before")
HOWS = ("hmac-sha256", "token")
MOST_DEPTH = 40
_HEADER = re.compile(r"[A-Za-z0-9-]{1,80}")
_ARRAY_PLACE = re.compile(r"0|[1-9][0-9]{0,6}")
_MISSING = object()


class ForeignError(ValueError):
    """A mapping that cannot be used, or a body that it does not fit; says what and where. `mend` says what would do."""

    def __init__(self, said: str, mend: str = "") -> None:
        super().__init__(said)
        self.mend = mend


@dataclass(frozen=True, slots=True)
class Proof:
    """How the sender shows that it knows the secret: in which header, and whether by the secret itself or by the HMAC
    of the body. `before` stands before it.
    """

    header: str
    how: str
    before: str = ""


@dataclass(frozen=True, slots=True)
class ForeignMapping:
    """By name, where a field stands; `states` says what a foreign word of the state means."""

    at: Mapping[str, str]
    states: Mapping[str, PullState]
    proof: Proof


@dataclass(frozen=True, slots=True)
class ForeignChange:
    """What a body says of a pull request; no number: it is about none, and only a bell."""

    number: int | None
    source: str | None = None
    target: str | None = None
    title: str = ""
    author: str = ""
    state: PullState | None = PullState.OPEN
    may_write: bool | None = None


def read_mapping(text: str) -> ForeignMapping:
    """A mapping from its JSON text. Raises ForeignError."""
    try:
        told = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise ForeignError(f"the mapping is no JSON: {error}", 'write for example {"number": "/change/id"}') from error
    if not isinstance(told, dict):
        raise ForeignError("the mapping is no object of JSON", 'write for example {"number": "/change/id"}')
    unknown = [k for k in told if k not in _KEYS]
    if unknown:
        raise ForeignError(f"the mapping has {str(unknown[0])[:80]!r}", f"it knows {', '.join(_KEYS)}")
    at = {}
    for name in POINTED:
        where = told.get(name)
        if where is None:
            continue
        if not isinstance(where, str) or (where and not where.startswith("/")) or where.count("/") > MOST_DEPTH:
            raise ForeignError(f"{name} has no JSON Pointer: {str(where)[:80]!r}", "write for example /change/id")
        at[name] = where
    if "number" not in at:
        raise ForeignError("the mapping does not say where the number of a pull request stands", 'give "number"')
    return ForeignMapping(at, _states(told.get("states", {}), "state" in at), _proof(told.get("proof")))


def _states(told: Any, pointed: bool) -> Mapping[str, PullState]:
    if not isinstance(told, dict) or any(v not in set(PullState) for v in told.values()):
        raise ForeignError("states are foreign words with open, merged or closed", 'write {"landed": "merged"}')
    if pointed and not told:
        raise ForeignError("the mapping says where the state stands, but not what its words mean", 'give "states"')
    return {str(k): PullState(v) for k, v in told.items()}


def _proof(told: Any) -> Proof:
    mend = 'write {"header": "X-Town-Signature", "how": "hmac-sha256", "before": "sha256="}'
    if not isinstance(told, dict) or set(told) - set(_PROOF) or told.get("how") not in HOWS:
        raise ForeignError('"proof" says by which header the sender shows that it knows the secret', mend)
    header, before = told.get("header"), told.get("before", "")
    if not isinstance(header, str) or not _HEADER.fullmatch(header) or not isinstance(before, str):
        raise ForeignError(f"{str(header)[:80]!r} is no name of a header", mend)
    return Proof(header, told["how"], before)


def is_proven(proof: Proof, secret: str, body: bytes, headers: Mapping[str, str]) -> bool:
    """Whether a request was sent by somebody who knows the secret. Names of headers are in lower case."""
    shown = headers.get(proof.header.lower(), "")
    if not secret or not shown.startswith(proof.before):
        return False
    wanted = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest() if proof.how == "hmac-sha256" else secret
    return hmac.compare_digest(shown.removeprefix(proof.before).encode(), wanted.encode())


def pointed(document: Any, pointer: str) -> Any:
    """What stands at a JSON Pointer; None where nothing does."""
    for part in pointer.split("/")[1:]:
        name = part.replace("~1", "/").replace("~0", "~")
        if isinstance(document, dict):
            document = document.get(name, _MISSING)
        elif isinstance(document, list) and _ARRAY_PLACE.fullmatch(name) and int(name) < len(document):
            document = document[int(name)]
        else:
            document = _MISSING
        if document is _MISSING:
            return None
    return document


def read_foreign(mapping: ForeignMapping, body: Any) -> ForeignChange:
    """What a foreign body says. Raises ForeignError where a field has what it cannot mean."""
    found = {name: pointed(body, where) for name, where in mapping.at.items()}
    number = found.get("number")
    if isinstance(number, str) and number.isascii() and number.isdigit() and len(number) <= 9:
        number = int(number)
    if number is None:
        return ForeignChange(None)
    if isinstance(number, bool) or not isinstance(number, int) or not 0 < number < 10**9:
        raise ForeignError(f"{mapping.at['number']} holds {_shown(number)}, which is no number of a pull request")
    state: PullState | None = PullState.OPEN
    if "state" in mapping.at:
        word = found.get("state")
        if not isinstance(word, str | bool | int):
            raise ForeignError(f"{mapping.at['state']} holds {_shown(word)}, which is no word for a state")
        state = mapping.states.get(str(word).lower() if isinstance(word, bool) else str(word))
    may_write = found.get("may-write")
    return ForeignChange(
        number,
        _text(mapping, found, "source", 500),
        _text(mapping, found, "target", 500),
        _text(mapping, found, "title", 500) or "",
        _text(mapping, found, "author", 200) or "",
        state,
        may_write if isinstance(may_write, bool) else None,
    )


def _text(mapping: ForeignMapping, found: Mapping[str, Any], name: str, most: int) -> str | None:
    value = found.get(name)
    if value is None:
        return None
    if not isinstance(value, str):
        raise ForeignError(f"{mapping.at[name]} holds {_shown(value)}, which is no text for {name}")
    return value.removeprefix("refs/heads/")[:most]


def _shown(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)[:80]
