"""What a job expects of the tag that it publishes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from myriant.core.plan.document import loads
from myriant.core.plan.model import Expect


def unmet(expect: Expect, tag: str, files: Mapping[str, bytes | None]) -> str:
    """Why the expectations are not met by these files, empty when they are."""
    version = tag.removeprefix("v")
    if expect.tag_file:
        content = files.get(expect.tag_file)
        if content is None:
            return f"the tag {tag} cannot be compared: there is no {expect.tag_file}"
        found = _value(content, expect.tag_file, expect.tag_key)
        if found is None:
            return f"the tag {tag} cannot be compared: {expect.tag_file} has no {expect.tag_key}"
        if str(found).removeprefix("v") != version:
            where = f"{expect.tag_file}{f' ({expect.tag_key})' if expect.tag_key else ''}"
            return f"the tag {tag} does not equal {str(found)[:80]} in {where}"
    if expect.mentioned_in:
        content = files.get(expect.mentioned_in)
        if content is None or version not in content.decode("utf-8", "replace"):
            return f"{expect.mentioned_in} does not mention {version}"
    return ""


def _value(content: bytes, file: str, key: str | None) -> Any:
    text = content.decode("utf-8", "replace")
    if not key:
        return text.strip()
    try:
        value: Any = json.loads(text) if file.endswith(".json") else loads(text)
    except (ValueError, RecursionError):
        return None
    for part in key.split("."):
        if not isinstance(value, dict) or part not in value:
            return None
        value = value[part]
    return value if isinstance(value, str | int | float) else None
