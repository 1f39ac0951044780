"""Foreign events: what a mapping reads, what it refuses, and who is believed."""

from __future__ import annotations

import hashlib
import hmac
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.states import PullState
from myriant.core.telling.foreign import (
    ForeignChange,
    ForeignError,
    Proof,
    is_proven,
    pointed,
    read_foreign,
    read_mapping,
)

PROOF = {"header": "X-Town-Signature", "how": "hmac-sha256", "before": "sha256="}
MAPPING: dict[str, Any] = {
    "number": "/change/id",
    "source": "/change/from",
    "target": "/change/into",
    "title": "/change/title",
    "author": "/change/by/0",
    "state": "/happened",
    "may-write": "/change/a~1b",
    "states": {"opened": "open", "landed": "merged", "dropped": "closed"},
    "proof": PROOF,
}
BODY: dict[str, Any] = {
    "happened": "opened",
    "change": {"id": 7, "from": "refs/heads/lock", "into": "main", "title": "A lock", "by": ["Ada"], "a/b": False},
}


def but(**change: Any) -> dict[str, Any]:
    return {**BODY, "change": {**BODY["change"], **change}}


READ = ForeignChange(7, "lock", "main", "A lock", "Ada", PullState.OPEN, False)


@pytest.mark.parametrize(
    ("body", "found"),
    [
        (BODY, READ),
        (but(id="7"), READ),
        ({**BODY, "happened": "landed"}, ForeignChange(7, "lock", "main", "A lock", "Ada", PullState.MERGED, False)),
        ({**BODY, "happened": "praised"}, ForeignChange(7, "lock", "main", "A lock", "Ada", None, False)),
        ({"pushed": ["main"]}, ForeignChange(None)),
        ([], ForeignChange(None)),
        ("words", ForeignChange(None)),
        (but(by=[], title=None), ForeignChange(7, "lock", "main", "", "", PullState.OPEN, False)),
        (but(**{"a/b": "no"}), ForeignChange(7, "lock", "main", "A lock", "Ada", PullState.OPEN, None)),
    ],
)
def test_a_body_is_read(body: Any, found: ForeignChange) -> None:
    assert read_foreign(read_mapping(json.dumps(MAPPING)), body) == found


@pytest.mark.parametrize(
    ("body", "said"),
    [
        (but(id=0), "no number"),
        (but(id=True), "no number"),
        (but(id=1.5), "no number"),
        (but(id="x7"), "no number"),
        (but(id=10**12), "no number"),
        (but(id="٧"), "no number"),
        (but(title=["A"]), "no text for title"),
        (but(**{"from": {"name": "lock"}}), "/change/from holds"),
        ({**BODY, "happened": None}, "no word for a state"),
    ],
)
def test_what_a_field_cannot_mean_is_said(body: Any, said: str) -> None:
    with pytest.raises(ForeignError, match=said):
        read_foreign(read_mapping(json.dumps(MAPPING)), body)


@pytest.mark.parametrize(
    ("mapping", "said"),
    [
        ("{", "no JSON"),
        ("[]", "no object"),
        ('{"numbr": "/a"}', "numbr"),
        ("{}", "number of a pull request"),
        ({"number": "a/b"}, "no JSON Pointer"),
        ({"number": 7}, "no JSON Pointer"),
        ({"number": "/a" * 50}, "no JSON Pointer"),
        ({"states": {"opened": "ajar"}}, "foreign words"),
        ({"states": {}}, "what its words mean"),
        ({"proof": None}, "proof"),
        ({"proof": {**PROOF, "how": "trust"}}, "proof"),
        ({"proof": {**PROOF, "header": "X Town"}}, "no name of a header"),
    ],
)
def test_a_mapping_that_cannot_be_used_is_refused(mapping: Any, said: str) -> None:
    text = mapping if isinstance(mapping, str) else json.dumps({**MAPPING, **mapping})
    with pytest.raises(ForeignError, match=said):
        read_mapping(text)


SIGNED = hmac.new(b"high water", b"{}", hashlib.sha256).hexdigest()


@pytest.mark.parametrize(
    ("how", "before", "shown", "believed"),
    [
        ("hmac-sha256", "sha256=", f"sha256={SIGNED}", True),
        ("hmac-sha256", "", SIGNED, True),
        ("hmac-sha256", "sha256=", SIGNED, False),
        ("hmac-sha256", "", "high water", False),
        ("hmac-sha256", "sha256=", "", False),
        ("token", "", "high water", True),
        ("token", "Bearer ", "Bearer high water", True),
        ("token", "", "low water", False),
        ("token", "", "", False),
        ("token", "", "hïgh", False),
    ],
)
def test_who_is_believed(how: str, before: str, shown: str, believed: bool) -> None:
    proof = Proof("X-Town", how, before)
    assert is_proven(proof, "high water", b"{}", {"x-town": shown}) is believed
    assert not is_proven(proof, "", b"{}", {"x-town": shown})


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=12,
)


@given(JSON)
def test_every_place_of_a_document_is_found_by_its_pointer(document: Any) -> None:
    def walk(value: Any, at: str) -> None:
        assert pointed(document, at) == value
        if isinstance(value, dict):
            for key, inner in value.items():
                walk(inner, f"{at}/{key.replace('~', '~0').replace('/', '~1')}")
        if isinstance(value, list):
            for i, inner in enumerate(value):
                walk(inner, f"{at}/{i}")

    walk(document, "")


@given(JSON, st.text(max_size=20))
def test_no_body_and_no_pointer_ends_the_reading(document: Any, pointer: str) -> None:
    pointed(document, f"/{pointer}")


@pytest.mark.parametrize(
    ("pointer", "found"),
    [("", {"~1": 5, "/": [7]}), ("/~01", 5), ("/~1/0", 7), ("/~1/00", None), ("/~1/1", None), ("/~1/-", None)],
)
def test_a_pointer_is_read_as_its_standard_says(pointer: str, found: Any) -> None:
    assert pointed({"~1": 5, "/": [7]}, pointer) == found
