"""Looking into a workspace: packages that installers left, files that set a name, files of classes."""

from __future__ import annotations

import json
import re
import stat

from myriant.runner.inside.beneath import read_small, walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

_NAMES = re.compile(
    r"(\.env.*|.*\.env|.*\.(ini|cfg|conf|properties|xml|ya?ml|toml|json)|application|setup\.cfg)", re.IGNORECASE
)
_SKIPPED = {".git", "node_modules", ".venv", "venv", "__pycache__", "target", "dist", "build"}
_MOST_FILES, _MOST_BYTES, _MOST_PLACES = 2000, 256 * 1024, 50
_SET = re.compile(
    r"""^\s*(?:export\s+|set\s+|-\s+)?["']?(?P<name>[A-Za-z_][\w.-]*)["']?\s*(?:=|:)\s*(?P<value>.*?)\s*,?\s*$"""
)
_ELEMENT = re.compile(r"<(?P<name>[A-Za-z_][\w.-]*)>(?P<value>[^<]*)</(?P=name)>")
_ATTRIBUTES = re.compile(
    r"""(?:name|key)\s*=\s*["'](?P<name>[A-Za-z_][\w.-]*)["'][^>]*?value\s*=\s*["'](?P<value>[^"']*)["']"""
)
_MOST_PACKAGES = 3000
_DIST = re.compile(r"(?P<name>.+?)-(?P<version>\d[^-]*)\.(?:dist|egg)-info")
_WHERE = re.compile(  # the folders to look into: three deep, and where packages lie
    r"(?!(?:.*/)?\.git$)(?:(?!node_modules/)[^/]+/){0,2}[^/]+"
    r"|(?:[^/]+/){0,3}lib[^/]*(?:/python[^/]*(?:/site-packages)?)?"
    r"|(?:[^/]+/){0,3}node_modules(?:/@[^/]+)?(?:/[^/@]+)?"
)
_SITE = re.compile(r"(?P<top>(?:[^/]+/){0,3})lib[^/]*/python[^/]*/site-packages/(?P<entry>[^/]+)")
_MODULE = re.compile(r"(?:[^/]+/){0,3}node_modules/(?:@[^/]+/)?[^/]+/package\.json")


def packages(top: int) -> dict[str, Any]:
    """Packages installed in the workspace, by reading what installers leave there: Python's and Node's."""
    found: dict[str, str] = {}
    venvs: set[str] = set()
    sites: list[tuple[str, str]] = []
    for entry in walk(top, lambda path: _WHERE.fullmatch(path) is not None):
        if len(found) + len(sites) >= _MOST_PACKAGES:
            break
        folder, _, name = entry.path.rpartition("/")
        if name == "pyvenv.cfg":
            venvs.add(folder + "/" if folder else "")
        elif (site := _SITE.fullmatch(entry.path)) and _DIST.fullmatch(site["entry"]):
            sites.append((site["top"], site["entry"]))
        elif name == "package.json" and _MODULE.fullmatch(entry.path) and stat.S_ISREG(entry.mode):
            try:
                told = json.loads(read_small(top, entry.path, 1 << 20))
                found[f"node {told['name']}"[:300]] = str(told["version"])[:100]
            except (OSError, ValueError, KeyError, TypeError, RecursionError):
                continue
    for where, dist in sites:
        known = _DIST.fullmatch(dist)
        if known and where in venvs:
            found[f"python {known['name']}"] = known["version"]
    return {"packages": dict(sorted(found.items()))}


def names(top: int, *, wanted: Sequence[str]) -> dict[str, Any]:
    """Lines of settings files that set one of the names: [name, file, line, value]."""
    look_for, counts, files = set(wanted), dict.fromkeys(wanted, 0), 0
    found: list[tuple[str, str, int, str]] = []
    for entry in walk(top, lambda path: path.rpartition("/")[2] not in _SKIPPED):
        name = entry.path.rpartition("/")[2]
        if not _NAMES.fullmatch(name) or not stat.S_ISREG(entry.mode) or entry.status.st_size >= _MOST_BYTES:
            continue
        if entry.path == "myriant.toml":
            continue  # the plan is where the values in force come from
        files += 1
        if files > _MOST_FILES:
            break
        try:
            text = read_small(top, entry.path, _MOST_BYTES).decode("utf-8", "replace")
        except OSError:
            continue
        for setting, line, value in _lines(text, xml=name.lower().endswith(".xml")):
            if setting in look_for and counts[setting] < _MOST_PLACES:
                counts[setting] += 1
                found.append((setting, entry.path, line, value[:500]))
    return {"found": found}


def locate(top: int, *, classes: Sequence[str]) -> dict[str, Any]:
    """For each class name the file it stands in, and what is left of the name: `tests.test_tide.TestLow`."""
    wanted = {c: re.split(r"[./\\\\]", c) if re.fullmatch(r"[\w./\\\\-]+", c) else [] for c in classes}
    stems: dict[str, str] = {}
    for entry in walk(top, lambda path: path.rpartition("/")[2] not in _SKIPPED):
        if stat.S_ISREG(entry.mode):
            folder, _, name = entry.path.rpartition("/")
            stems.setdefault(f"{folder}/{name.rpartition('.')[0]}".lstrip("/"), entry.path)
    found: dict[str, tuple[str, list[str]]] = {}
    for name, parts in wanted.items():
        for size in range(len(parts), 0, -1):
            file = stems.get("/".join(parts[:size]))
            if file is not None and not any(p in ("", "..") for p in parts[:size]):
                found[name] = (file, parts[size:])
                break
    return {"found": found}


def _lines(text: str, *, xml: bool) -> Iterator[tuple[str, int, str]]:
    """Names set in a file with line (from 1) and value: dotenv, ini, properties, XML, YAML, TOML and JSON."""
    for number, line in enumerate(text.split("\n"), 1):
        if len(line) > 2000 or line.lstrip().startswith(("#", ";", "//", "<!--")):
            continue
        if xml:
            for found in (*_ELEMENT.finditer(line), *_ATTRIBUTES.finditer(line)):
                yield found["name"], number, found["value"].strip()
        elif (row := _SET.match(line)) is not None:
            yield row["name"], number, _plain(row["value"])


def _plain(value: str) -> str:
    value = re.sub(r"\s+#.*$", "", value) if value[:1] not in "\"'" else value
    if len(value) >= 2 and value[0] in "\"'" and value[-1] == value[0]:
        return value[1:-1]
    return value
