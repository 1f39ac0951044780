"""Requests by template: what is filled in, what is refused, and that no value breaks out of its place."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.telling.template import VALUES, Template, TemplateError, fill

TOLD = {n: example for n, (_, example) in VALUES.items()}
AT = "https://rooms.example/hooks"


def secret(name: str) -> str:
    if name != "ROOM_KEY":
        raise TemplateError(f"the project has no secret {name}")
    return "opensesame"


@pytest.mark.parametrize(
    ("body", "filled"),
    [
        ('{"a": "{sentence}"}', {"a": TOLD["sentence"]}),
        ('{"n": "{number}"}', {"n": 81}),  # one name and nothing else is the value itself
        ('{"n": "run {number}"}', {"n": "run 81"}),
        ('{"n": "{pull_request}"}', {"n": None}),
        ('{"n": "[{pull_request}]"}', {"n": "[]"}),
        ('[{"deep": ["{short}", 1, true]}]', [{"deep": ["cf81ee6", 1, True]}]),
        ('{"k": "{secret:ROOM_KEY}"}', {"k": "opensesame"}),
        ('{"k": "{ not a name }"}', {"k": "{ not a name }"}),
        ('{"{number}": 1}', {"{number}": 1}),  # keys stay as they are
    ],
)
def test_values_stand_where_they_are_named(body: str, filled: Any) -> None:
    assert json.loads(fill(Template(AT, body=body), TOLD, secret).body) == filled


def test_without_a_body_every_value_is_sent() -> None:
    assert json.loads(fill(Template(AT), TOLD, secret).body) == TOLD


@pytest.mark.parametrize(
    ("template", "said"),
    [
        (Template("rooms.example"), "the address is none"),
        (Template("ftp://rooms.example"), "the address is none"),
        (Template("https://rooms.example/a b"), "the address is none"),
        (Template("https://{branch}/x"), "the host cannot come from a value"),
        (Template("https://{branch}.rooms.example/x"), "the host cannot come from a value"),
        (Template(AT, body="{"), "the body is no JSON"),
        (Template(AT, body="[" * 100_000), "the body is no JSON"),
        (Template(AT, body='{"a": "{verdict}"}'), "there is no value {verdict} for the body"),
        (Template(AT + "?{verdict}"), "there is no value {verdict} for the address"),
        (Template(AT, body='{"a": "{secret:OTHER}"}'), "the project has no secret OTHER"),
        (Template(AT, method="GET"), "the method 'GET' is none of"),
        (Template(AT, headers={"Host": "elsewhere"}), "cannot be set"),
        (Template(AT, headers={"a\r\nb": "x"}), "cannot be set"),
        (Template(AT, body=json.dumps(["x" * 70_000])), "more than 65,536 bytes"),
    ],
)
def test_a_template_that_cannot_be_used_is_refused_in_words(template: Template, said: str) -> None:
    with pytest.raises(TemplateError) as refused:
        fill(template, TOLD, secret)
    assert said in str(refused.value)


@given(st.text(st.characters(exclude_categories=["Cs"])))
def test_no_value_leaves_its_place(text: str) -> None:
    told = {**TOLD, "title": text, "branch": text}
    wish = Template(f"{AT}/{{branch}}?title={{title}}", headers={"X-Title": "{title}"}, body='{"t": "<{title}>"}')
    filled = fill(wish, told, secret)
    assert json.loads(filled.body) == {"t": f"<{text}>".encode("utf-8", "replace").decode()}
    assert filled.url.startswith(AT + "/") and filled.url.count("?") == 1 and "#" not in filled.url
    assert filled.url.removeprefix(AT + "/").count("/") == 0
    assert not any(ord(c) < 32 for c in filled.headers["X-Title"])
