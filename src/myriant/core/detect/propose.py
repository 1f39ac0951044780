"""Detection and proposals: from a repository's files to plans that fit, with the evidence and the guesses."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from myriant.core.detect.compiled import cmake, dotnet, go, java, rust
from myriant.core.detect.draft import Draft, Proposal
from myriant.core.detect.repository import Evidence, Tree
from myriant.core.detect.scripted import lua, node, perl, php, python, ruby, shell


def propose(tree: Tree, *, main: str = "main", offers: Sequence[str] = ()) -> list[Proposal]:
    """Plans for a repository, the likeliest first; `offers` are runtime wishes that runners meet ("python 3.12")."""
    found: list[Draft] = []
    for look in _LOOKS:
        found += look(tree, offers)
    return [draft.done(main) for draft in found]


def detected(tree: Tree) -> list[Evidence]:
    """What the repository shows of itself, whether or not a proposal comes of it."""
    return [Evidence(path, says) for pattern, says in _SIGNS for path in tree.like(pattern)[:1]]


_SIGNS = [
    (r"(^|/)pyproject\.toml$", "a Python project"),
    (r"(^|/)setup\.(py|cfg)$", "a Python project"),
    (r"(^|/)(poetry|uv)\.lock$|(^|/)Pipfile\.lock$", "locked Python packages"),
    (r"(^|/)requirements[^/]*\.txt$", "Python packages"),
    (r"(^|/)\.python-version$", "a Python version"),
    (r"(^|/)package\.json$", "a Node project"),
    (r"(^|/)(package-lock\.json|yarn\.lock|pnpm-lock\.yaml)$", "locked Node packages"),
    (r"(^|/)\.(nvmrc|node-version)$", "a Node version"),
    (r"\.rockspec$", "a Lua rock"),
    (r"\.lua$", "Lua sources"),
    (r"(^|/)pom\.xml$", "a Maven build"),
    (r"(^|/)build\.gradle(\.kts)?$", "a Gradle build"),
    (r"(^|/)CMakeLists\.txt$", "a CMake build"),
    (r"(^|/)(Makefile\.PL|Build\.PL|cpanfile)$", "a Perl distribution"),
    (r"(^|/)composer\.json$", "a PHP package"),
    (r"(^|/)composer\.lock$", "locked PHP packages"),
    (r"(^|/)phpunit\.xml(\.dist)?$", "PHPUnit's settings"),
    (r"(^|/)Gemfile$", "a Ruby bundle"),
    (r"(^|/)Gemfile\.lock$", "locked Ruby gems"),
    (r"(^|/)\.ruby-version$", "a Ruby version"),
    (r"(^|/)go\.mod$", "a Go module"),
    (r"(^|/)Cargo\.toml$", "a Rust crate"),
    (r"(^|/)Cargo\.lock$", "locked crates"),
    (r"(^|/)rust-toolchain(\.toml)?$", "a Rust version"),
    (r"\.(csproj|fsproj|sln)$", "a .NET project"),
    (r"\.bats$", "shell tests"),
    (r"(^|/)Makefile$", "a Makefile"),
]


_LOOKS: list[Callable[[Tree, Sequence[str]], Iterator[Draft]]] = [
    python,
    node,
    lua,
    java,
    cmake,
    perl,
    php,
    ruby,
    go,
    rust,
    dotnet,
    shell,
]
