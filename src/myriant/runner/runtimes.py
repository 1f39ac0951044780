"""Which runtimes this machine has: found by looking, known by asking them."""

from __future__ import annotations

import os
import re
import subprocess
import tomllib
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Family:
    """How programs of a family are called, how they tell their version, and the plain names a cell calls them by."""

    names: re.Pattern[str]
    ask: tuple[str, ...]
    answer: re.Pattern[str]
    plain: tuple[str, ...]
    companions: tuple[str, ...] = ()  # programs beside it, called alike: luac5.1 beside lua5.1
    home: str = ""  # the variable that names its folder


_NUMBERS = r"(\d+\.\d+(?:\.\d+)*)"
FAMILIES = {
    "lua": Family(re.compile(r"lua(5\.\d)?"), ("-v",), re.compile(r"^Lua (\d+\.\d+\.\d+)", re.M), ("lua",), ("luac",)),
    "python": Family(
        re.compile(r"python(3(\.\d+)?)?"),
        ("-V",),
        re.compile(r"^Python (\d+\.\d+\.\d+)\s*$", re.M),
        ("python", "python3"),
    ),
    "node": Family(
        re.compile(r"node(js)?"),
        ("--version",),
        re.compile(rf"^v{_NUMBERS}", re.M),
        ("node",),
        ("npm", "npx", "corepack"),
    ),
    "java": Family(
        re.compile(r"java"),
        ("-version",),
        re.compile(r'version "(?:1\.)?(\d+(?:\.\d+)*)'),
        ("java",),
        ("javac", "jar", "javadoc"),
        "JAVA_HOME",
    ),
    "perl": Family(
        re.compile(r"perl(5(\.\d+)*)?"),
        ("-e", 'printf "%vd\\n", $^V'),
        re.compile(rf"^{_NUMBERS}$", re.M),
        ("perl",),
        ("prove", "cpan", "cpanm"),
    ),
    "php": Family(
        re.compile(r"php(\d(\.\d+)?)?"),
        ("-r", "echo PHP_VERSION;"),
        re.compile(rf"^{_NUMBERS}", re.M),
        ("php",),
        ("phpize",),
    ),
    "ruby": Family(
        re.compile(r"ruby(\d\.\d+)?"),
        ("-e", "puts RUBY_VERSION"),
        re.compile(rf"^{_NUMBERS}$", re.M),
        ("ruby",),
        ("gem", "bundle", "rake", "irb"),
    ),
    "go": Family(re.compile(r"go"), ("version",), re.compile(rf"^go version go{_NUMBERS}", re.M), ("go",), ("gofmt",)),
    "rust": Family(
        re.compile(r"rustc"),
        ("--version",),
        re.compile(rf"^rustc {_NUMBERS}", re.M),
        ("rustc",),
        ("cargo", "rustdoc", "rustfmt"),
    ),
    "gcc": Family(
        re.compile(r"gcc(-\d+)?"),
        ("-dumpfullversion", "-dumpversion"),
        re.compile(rf"^{_NUMBERS}$", re.M),
        ("gcc", "cc"),
        ("g++",),
    ),
    "clang": Family(
        re.compile(r"clang(-\d+)?"), ("-dumpversion",), re.compile(rf"^{_NUMBERS}$", re.M), ("clang",), ("clang++",)
    ),
    "dotnet": Family(re.compile(r"dotnet"), ("--version",), re.compile(rf"^{_NUMBERS}", re.M), ("dotnet",)),
}
_VERSION_FOLDERS = (
    "~/.pyenv/versions/*/bin",
    "~/.nvm/versions/node/*/bin",
    "~/.rbenv/versions/*/bin",
    "~/.plenv/versions/*/bin",
    "~/perl5/perlbrew/perls/*/bin",
    "~/.rustup/toolchains/*/bin",
    "~/.sdkman/candidates/java/*/bin",
    "~/sdk/go*/bin",
    "/usr/local/go/bin",
    "/usr/lib/go-*/bin",
    "/usr/lib/jvm/*/bin",
    "/usr/lib/llvm-*/bin",
    "/opt/*/bin",
)
_SYSTEM = (Path("/usr/bin"), Path("/bin"), Path("/usr/local/bin"))
_ASKING = {"PATH": "/usr/bin:/bin", "HOME": "/nonexistent", "LC_ALL": "C", "DOTNET_CLI_TELEMETRY_OPTOUT": "1"}


@dataclass(frozen=True, slots=True)
class Runtime:
    family: str
    version: str
    path: Path
    system: bool = False

    @property
    def root(self) -> Path | None:
        """The folder to show in the sandbox beside /usr: the runtime's own, None when it lies in /usr."""
        return None if self.path.is_relative_to("/usr") else self.path.parent.parent

    def meets(self, wish: str) -> bool:
        return self.version == wish or self.version.startswith(wish + ".") or (wish == "system" and self.system)


def looked_at() -> list[Path]:
    """The folders where runtimes are looked for, as far as we may: PATH, the system's, version managers'."""
    folders = [Path(p) for p in os.environ.get("PATH", "").split(":") if p] + list(_SYSTEM)
    for glob in _VERSION_FOLDERS:
        base = Path(glob).expanduser()
        folders += sorted(Path(base.anchor).glob(str(base.relative_to(base.anchor))))
    return [f for f in dict.fromkeys(folders) if _is_open(f)]


def _is_open(folder: Path) -> bool:
    # PATH may come from somebody who sees more: Path.is_dir() would raise
    return os.path.isdir(folder) and os.access(folder, os.R_OK | os.X_OK)  # noqa: PTH112


def trace() -> tuple[tuple[str, int], ...]:
    """What changes when a runtime is installed or removed: the folders with their times of change (ns)."""
    return tuple((str(f), f.stat().st_mtime_ns) for f in looked_at())


def find_runtimes(registered: Path | None = None) -> list[Runtime]:
    """Every runtime found by looking, and those of a file of registered ones, newest first in its family."""
    programs = list(dict.fromkeys([*_registered(registered), *_programs(looked_at())]))
    with ThreadPoolExecutor(8) as asking:
        answers = list(asking.map(lambda p: _ask(*p), programs))
    found: dict[tuple[str, str], Runtime] = {}
    for runtime in answers:
        if runtime is not None:
            key = (runtime.family, runtime.version)
            if key not in found or (runtime.system and not found[key].system):
                found[key] = runtime
    return sorted(found.values(), key=lambda r: (r.family, [-int(p) for p in r.version.split(".")]))


class BadRegister(Exception):
    """The file of registered runtimes cannot be used; the text says why."""


def _registered(file: Path | None) -> Iterator[tuple[str, Path]]:
    """Programs from a TOML file with [[runtime]] tables of family and path. Raises BadRegister."""
    if file is None:
        return
    try:
        rows = tomllib.loads(file.read_text(encoding="utf-8")).get("runtime", [])
    except (OSError, ValueError) as error:
        raise BadRegister(f"{file} cannot be read: {error}") from error
    for row in rows if isinstance(rows, list) else []:
        family, path = (row.get("family"), row.get("path")) if isinstance(row, dict) else (None, None)
        if family not in FAMILIES or not isinstance(path, str):
            known = ", ".join(FAMILIES)
            raise BadRegister(f"{file}: each [[runtime]] has a family ({known}) and a path, not {row}")
        if not os.access(path, os.X_OK):
            raise BadRegister(f"{file}: {path} is no program")
        yield family, Path(path).resolve()


def _programs(folders: Sequence[Path]) -> Iterator[tuple[str, Path]]:
    for folder in folders:
        if folder.name == "shims":
            continue
        for entry in sorted(folder.iterdir()):
            for family, described in FAMILIES.items():
                if described.names.fullmatch(entry.name):
                    real = entry.resolve()
                    if os.access(real, os.X_OK):
                        yield family, real


def _ask(family: str, path: Path) -> Runtime | None:
    described = FAMILIES[family]
    try:
        done = subprocess.run(
            [path, *described.ask],
            capture_output=True,
            text=True,
            timeout=10,
            env=_ASKING,
            stdin=subprocess.DEVNULL,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired, UnicodeDecodeError):
        return None
    said = described.answer.search(done.stdout + done.stderr)
    if said is None:
        return None
    system = any((folder / name).resolve() == path for folder in _SYSTEM for name in described.plain)
    return Runtime(family, said[1], path, system)


def link_runtime(runtime: Runtime, folder: Path) -> None:
    """Make `folder` offer the runtime under its plain names: lua, python, python3."""
    described = FAMILIES[runtime.family]
    for name in described.plain:
        (folder / name).symlink_to(runtime.path)
    for companion in described.companions:
        beside = runtime.path.with_name(runtime.path.name.replace(described.plain[0], companion, 1))
        if beside.exists():
            (folder / companion).symlink_to(beside)


def home_of(runtime: Runtime) -> dict[str, str]:
    """The variable by which a family's tools find its folder."""
    variable = FAMILIES[runtime.family].home
    return {variable: str(runtime.path.parent.parent)} if variable else {}
