"""What a job expects of the tag that it publishes."""

from __future__ import annotations

import configparser
import json
from collections.abc import Mapping
from typing import Any
from xml.parsers import expat

import re2

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


MOST_BYTES = 4 << 20  # of a file that declares a version


def _value(content: bytes, file: str, key: str | None) -> Any:
    """What a file declares under a key: the value at its path in JSON, TOML, XML or INI.

    In any other file it is the first assignment to it, as build files, package descriptions and sources write one:
    `version = "1.2"`, `Version: 1.2`, `VERSION 1.2`.
    """
    text = content[:MOST_BYTES].decode("utf-8", "replace")
    if not key:
        return text.strip()
    ending = file.rsplit(".", 1)[-1].lower()
    try:
        if ending == "json":
            return _at(json.loads(text), key)
        if ending in ("xml", "csproj", "fsproj", "vbproj", "nuspec"):
            return _in_xml(text, key)
        if ending in ("cfg", "ini"):
            return _in_sections(text, key)
        if ending == "toml":
            return _at(loads(text), key)
    except (ValueError, RecursionError, expat.ExpatError, configparser.Error):
        return None
    # RE2: linear in the text, which a stranger may have written
    found = re2.search(_ASSIGNED.format(re2.escape(key)), text)
    return next(filter(None, found.groups())) if found else None


_ASSIGNED = r"""(?m)(?:^|[\s({{,])(?:[\w@]+\.)?{}["']?\s*(?:=>|:=|=|:|\s)\s*(?:"([^"\n]+)"|'([^'\n]+)'|([^\s"'),;]+))"""


def _at(value: Any, key: str) -> Any:
    for part in key.split("."):
        if not isinstance(value, dict) or part not in value:
            return None
        value = value[part]
    return value if isinstance(value, str | int | float) else None


def _in_sections(text: str, key: str) -> str | None:
    section, _, name = key.rpartition(".")
    found = configparser.ConfigParser(interpolation=None, strict=False)
    found.read_string(text)
    return found.get(section, name, fallback=None)


def _in_xml(text: str, key: str) -> str | None:
    """The text of the first element at a path of names, whatever their namespaces."""
    wanted, stack, found = key.split("."), list[str](), list[str]()

    def begin(name: str, _: Any) -> None:
        stack.append(name.rpartition(" ")[2])

    def said(data: str) -> None:
        if stack == wanted and not ended:
            found.append(data)

    def end(_: str) -> None:
        if stack == wanted and found:
            ended.append(True)
        stack.pop()

    def refuse(*_: Any) -> None:
        raise ValueError("entities are not read")

    ended: list[bool] = []
    parser = expat.ParserCreate(namespace_separator=" ")
    parser.StartElementHandler, parser.CharacterDataHandler, parser.EndElementHandler = begin, said, end
    parser.EntityDeclHandler = refuse
    parser.Parse(text, True)
    return "".join(found).strip() or None
