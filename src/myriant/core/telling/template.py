"""Requests by template: named values in an address, in headers and in a JSON body."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlsplit

Value = str | int | float | bool | None
_PLACE = re.compile(r"\{([a-z][a-z_.]*|secret:[A-Z][A-Z0-9_]*)\}")
METHODS = ("POST", "PUT", "PATCH")
MOST_BODY = 64 * 1024
_HEADER = re.compile(r"[A-Za-z0-9-]{1,80}")
_OURS = frozenset({"host", "content-length", "transfer-encoding", "connection", "content-type"})

# every value a template can name, with an example
VALUES: Mapping[str, tuple[str, Value]] = {
    "project": ("the project's name", "lockstep"),
    "number": ("the run's number", 81),
    "commit": ("the commit, in full", "cf81ee6a5d2c8c1c2b4f0d7d3f3bb7d8e9a0c1d2"),
    "short": ("the commit's first seven letters", "cf81ee6"),
    "title": ("the commit's title", "Draw the ruler in one go"),
    "author": ("who wrote it", "Tobias Wrenfield"),
    "branch": ("the branch, of a pull request its target", "main"),
    "source": ("a pull request's own branch", ""),
    "pull_request": ("a pull request's number", None),
    "base": ("the commit that a pull request was merged into", ""),
    "tag": ("the tag", ""),
    "context": ("where the word holds", "push main"),
    "state": ("pending, clear, held or exempt", "held"),
    "news": ("held, held by more, cleared, released; empty where nothing changed", "held"),
    "sentence": ("the verdict in a sentence", "Held: 1 test newly fails, only where lua=5.1."),
    "address": ("of the run's page", "http://127.0.0.1:8420/p/lockstep/runs/81"),
    "text": ("sentence, findings and numbers as Markdown that reads well as plain text", "Held: 1 test newly fails."),
    "tests.new": ("tests that newly fail", 1),
    "tests.fixed": ("tests fixed since the baseline", 0),
    "tests.total": ("tests that gave a result", 73),
    "coverage.line": ("share of lines covered, in percent with one digit", None),
    "coverage.changed": ("share of changed lines covered, in percent with one digit", None),
}


class TemplateError(ValueError):
    """A template that cannot be used; says what, where and what would do."""


@dataclass(frozen=True, slots=True)
class Template:
    """A request: `body` is JSON text in which strings may hold {names}."""

    url: str
    method: str = "POST"
    headers: Mapping[str, str] = ()  # type: ignore[assignment]  # an empty mapping
    body: str = ""


@dataclass(frozen=True, slots=True)
class Filled:
    url: str
    method: str
    headers: dict[str, str]
    body: bytes


def checked(template: Template) -> Template:
    """The template, when it can be used. Raises TemplateError."""
    fill(template, {name: example for name, (_, example) in VALUES.items()}, _any_secret)
    return template


def _any_secret(name: str) -> str:
    return "https://secret.example"


def fill(template: Template, values: Mapping[str, Value], secret: Any) -> Filled:
    """A request with its values. `secret` gives a secret's value by name, or raises TemplateError.

    A string of the body that is one {name} and nothing else becomes the value itself, number or null.
    """
    if template.method not in METHODS:
        raise TemplateError(f"the method {template.method[:20]!r} is none of {', '.join(METHODS)}")
    url = _address(template.url, values, secret)
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname or any(c.isspace() for c in url):
        raise TemplateError("the address is none: write http:// or https:// and a host")
    if _PLACE.search(urlsplit(template.url).netloc):
        raise TemplateError("the host cannot come from a value: whoever pushes could choose where it goes")
    headers = {}
    for name, text in dict(template.headers).items():
        if not _HEADER.fullmatch(name) or name.lower() in _OURS:
            raise TemplateError(f"the header {name[:80]!r} cannot be set")
        told = _PLACE.sub(lambda m: _text(_value(m[1], values, secret, "a header")), text)
        headers[name] = "".join(" " if ord(c) < 32 or ord(c) == 127 else c for c in told)[:4000]
    try:
        tree = json.loads(template.body or json.dumps({name: f"{{{name}}}" for name in VALUES}))
    except (ValueError, RecursionError) as error:
        raise TemplateError(f"the body is no JSON: {error}") from error
    body = json.dumps(_filled(tree, values, secret), ensure_ascii=False).encode("utf-8", "replace")
    if len(body) > MOST_BODY:
        raise TemplateError(f"the body would have more than {MOST_BODY:,} bytes")
    return Filled(url, template.method, {**headers, "Content-Type": "application/json"}, body)


def _address(template: str, values: Mapping[str, Value], secret: Any) -> str:
    """An address with its values quoted; one that is a secret and nothing else is that secret."""
    whole = _PLACE.fullmatch(template)
    if whole and whole[1].startswith("secret:"):
        return _text(_value(whole[1], values, secret, "the address")).strip()
    return _PLACE.sub(lambda m: quote(_text(_value(m[1], values, secret, "the address")), safe=""), template)


def _filled(tree: Any, values: Mapping[str, Value], secret: Any) -> Any:
    if isinstance(tree, str):
        whole = _PLACE.fullmatch(tree)
        if whole:
            return _value(whole[1], values, secret, "the body")
        return _PLACE.sub(lambda m: _text(_value(m[1], values, secret, "the body")), tree)
    if isinstance(tree, list):
        return [_filled(t, values, secret) for t in tree]
    if isinstance(tree, dict):
        return {k: _filled(t, values, secret) for k, t in tree.items()}
    return tree


def _value(name: str, values: Mapping[str, Value], secret: Any, where: str) -> Value:
    if name.startswith("secret:"):
        found: str = secret(name.removeprefix("secret:"))
        return found
    if name not in VALUES:
        raise TemplateError(f"there is no value {{{name}}} for {where}; known: {', '.join(sorted(VALUES))}")
    return values.get(name)


def _text(value: Value) -> str:
    return "" if value is None else str(value)
