"""Signed statements of what was tested and made from what: in-toto Statements v1 in DSSE envelopes v1.

Sources: the in-toto Attestation Framework, Statement v1; the Dead Simple Signing Envelope, protocol v1.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

TYPE = "https://in-toto.io/Statement/v1"
PREDICATE = "urn:myriant:tested:v1"
PAYLOAD = "application/vnd.in-toto+json"


class BadStatement(ValueError):
    """An envelope that says nothing, or not what was signed; in words."""


@dataclass(frozen=True, slots=True)
class Subject:
    """A file by its SHA-256."""

    name: str
    digest: str


def statement(subjects: Sequence[Subject], predicate: Mapping[str, Any]) -> dict[str, Any]:
    """What was tested, and the files that it made."""
    named = [{"name": s.name, "digest": {"sha256": s.digest}} for s in subjects]
    return {"_type": TYPE, "subject": named, "predicateType": PREDICATE, "predicate": dict(predicate)}


def envelope(said: Mapping[str, Any], sign: Callable[[bytes], bytes], key_id: str) -> dict[str, Any]:
    """A statement with its signature."""
    body = json.dumps(said, sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()
    signature = base64.b64encode(sign(to_sign(PAYLOAD, body))).decode()
    return {
        "payloadType": PAYLOAD,
        "payload": base64.b64encode(body).decode(),
        "signatures": [{"keyid": key_id, "sig": signature}],
    }


def to_sign(kind: str, body: bytes) -> bytes:
    """The bytes that are signed: DSSE's pre-authentication encoding."""
    return b"DSSEv1 %d %s %d %s" % (len(kind.encode()), kind.encode(), len(body), body)


def opened(text: bytes, verify: Callable[[bytes, bytes], bool]) -> dict[str, Any]:
    """The statement of an envelope whose signature holds. Raises BadStatement."""
    try:
        outer = json.loads(text)
        kind, body = outer["payloadType"], base64.b64decode(outer["payload"], validate=True)
        signatures = [base64.b64decode(s["sig"], validate=True) for s in outer["signatures"]]
    except (ValueError, KeyError, TypeError, binascii.Error, RecursionError) as error:
        raise BadStatement(f"this is no signed statement: {error}") from error
    if kind != PAYLOAD:
        raise BadStatement(f"this is signed, but a {str(kind)[:80]} and no statement")
    if not any(verify(s, to_sign(kind, body)) for s in signatures):
        raise BadStatement("the signature does not hold: it was changed, or signed with another key")
    said = json.loads(body)
    if not isinstance(said, dict) or said.get("_type") != TYPE or said.get("predicateType") != PREDICATE:
        raise BadStatement("it is signed, but says something else than what was tested")
    return said


def name_of(said: Mapping[str, Any], content: bytes) -> str:
    """The subject that has this content, empty when none has."""
    digest = hashlib.sha256(content).hexdigest()
    return next((s["name"] for s in said["subject"] if s["digest"].get("sha256") == digest), "")
