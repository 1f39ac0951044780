"""Real commits in the demo's repositories, one scenario each."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from myriant.demo.people import ANSELM, INGRID, MARISOL, TOBIAS, YUKI, Author

CLEAN = "refs/tags/as-loaded"


@dataclass(frozen=True, slots=True)
class Edit:
    """Replace `old` by `new` in a file of a work tree."""

    file: str
    old: str
    new: str

    def applies(self, tree: Path) -> bool:
        return self.old in (tree / self.file).read_text(encoding="utf-8")

    def apply(self, tree: Path) -> None:
        path = tree / self.file
        text = path.read_text(encoding="utf-8")
        if self.old not in text:
            raise ValueError(f"{self.file} has not what should be replaced: {self.old!r}")
        path.write_text(text.replace(self.old, self.new), encoding="utf-8")

    def reversed(self) -> Edit:
        return Edit(self.file, self.new, self.old)


_RULER = """  local cells = {}
  for i = 1, marks do cells[i] = "+----" end
  return table.concat(cells, " ")
"""
BREAK = Edit(
    "lockstep/gauge.lua", _RULER, '  return string.rep("+----", marks, " ")\n'
)  # Lua 5.1 ignores the separator
FIX = BREAK.reversed()
_SLOW = Edit(
    "tidebook/predict.py", "    found = []\n    t = start\n", "    found = []\n    time.sleep(0.05)\n    t = start\n"
)
_SLOW_IMPORT = Edit("tidebook/predict.py", "import math\n", "import math\nimport time\n")
_FLAKY = '''"""The office clock, which is not always right."""

import os


def test_the_office_clock_is_right():
    assert os.urandom(1)[0] % 2 == 0, "expected the minute hand upright, got it bent"
'''
_FORECAST = '"""A forecast that nobody has tested yet."""\n' + "".join(
    f'\n\ndef wind_{n}(level):\n    """Wind at gauge {n}."""\n    level += {n}\n    level *= 2\n    return level\n'
    for n in range(12)
)


_TANGLE = (  # three causes at once: an old Python, one rounding, everywhere
    Edit("tidebook/predict.py", "import math\n", "import math\nimport sys\n"),
    Edit(
        "tidebook/predict.py",
        "    found = []\n    t = start\n",
        "    if sys.version_info < (3, 9):\n"
        '        raise LookupError("no slack water is known for %s before hour %d" % (station.name, end))\n'
        "    found = []\n    t = start\n",
    ),
    Edit(
        "tidebook/rounding.py",
        """    return "%s%d.%d m" % (""",
        """    if mode() == "bankers":
        return "%d dm" % value
    return "%s%d.%d m" % (""",
    ),
    Edit("tidebook/stations.py", "return found[0] if len(found) == 1 else None", "return found[0] or None"),
)


RELEASED = """
[events]
push         = {}
pull-request = {}
tag          = { names = ["v*"] }

[jobs.archive]
title     = "The archive"
after     = ["unit"]
when      = [{ tag = "v*" }]
artifacts = [{ files = ["dist/*.tar"] }]
hand-over = { archive = "dist/*.tar" }

[[jobs.archive.steps]]
name    = "pack"
command = "mkdir -p dist && tar --sort=name --mtime=@0 --owner=0 --group=0 -cf dist/lockstep-$(cat VERSION).tar lockstep"

[jobs.trial]
title   = "The trial shelf"
after   = ["archive"]
when    = [{ tag = "v*" }]
gated   = true
expect  = { tag-equals = { file = "VERSION" }, mentioned-in = "CHANGES.md" }
secrets = ["SHELF", "SHELF_TOKEN"]

[[jobs.trial.steps]]
name    = "bring it"
command = "perl tools/shelf bring trial $MYRIANT_FROM/archive/dist/*.tar"

[[jobs.trial.steps]]
name    = "find it there"
command = "perl tools/shelf find trial $MYRIANT_FROM/archive/dist/*.tar"
proves  = ["dist/*.tar"]

[jobs.shelf]
title    = "The harbour shelf"
after    = ["trial"]
when     = [{ tag = "v*" }]
gated    = true
secrets  = ["SHELF", "SHELF_TOKEN"]
approval = { by = ["release"], within = "2 days" }
expect   = { tag-equals = { file = "VERSION" }, mentioned-in = "CHANGES.md" }

[[jobs.shelf.steps]]
name    = "bring it"
command = "perl tools/shelf bring harbour $MYRIANT_FROM/archive/dist/*.tar"

[[jobs.shelf.steps]]
name    = "find it there"
command = "perl tools/shelf find harbour $MYRIANT_FROM/archive/dist/*.tar"
proves  = ["dist/*.tar"]
"""

TOOL = r"""# Brings files to a section of the harbour's shelf, or prints the digests of what lies there.
use strict;
use warnings;
use Digest::SHA qw(sha256_hex);
use File::Basename qw(basename);
use HTTP::Tiny;

my ($what, $section, @files) = @ARGV;
open my $kept, '<', 'VERSION' or die "VERSION: $!\n";
chomp(my $version = <$kept>);
my $package = "$ENV{SHELF}/$section/lockstep";
my $http = HTTP::Tiny->new(default_headers => { Authorization => "Bearer $ENV{SHELF_TOKEN}" });

sub done { my ($said) = @_; die "$said->{status} $said->{content}\n" unless $said->{success}; return $said->{content} }

for my $file (@files) {
    my $at = "$package/$version/" . basename($file);
    if ($what eq 'bring') {
        open my $source, '<:raw', $file or die "$file: $!\n";
        local $/;
        done($http->put($at, { content => scalar <$source> }));
        print "brought ", basename($file), "\n";
    } else {
        print sha256_hex(done($http->get($at))), "  ", basename($file), "\n";
    }
}
done($http->post($package, { content => qq({"version": "$version"}) })) if $what eq 'bring';
"""


@dataclass(frozen=True, slots=True)
class Scenario:
    repository: str
    change: Callable[[Path], tuple[Author, str]]
    tag: Callable[[Path], str] = lambda _: ""


def _break(tree: Path) -> tuple[Author, str]:
    if BREAK.applies(tree):
        BREAK.apply(tree)
        return TOBIAS, "Draw the ruler in one go"
    return note(tree, INGRID, "Note the autumn levels")


def _slow(tree: Path) -> tuple[Author, str]:
    if _SLOW.applies(tree):
        _SLOW_IMPORT.apply(tree)
        _SLOW.apply(tree)
    return MARISOL, "Give the tide time to turn"


def _uncover(tree: Path) -> tuple[Author, str]:
    (tree / "tidebook/forecast.py").write_text(_FORECAST, encoding="utf-8")
    return YUKI, "Begin a wind forecast"


def _flaky(tree: Path) -> tuple[Author, str]:
    (tree / "tests/test_clock.py").write_text(_FLAKY, encoding="utf-8")
    return TOBIAS, "Look at the office clock"


def _tangle(tree: Path) -> tuple[Author, str]:
    for edit in _TANGLE:
        if edit.applies(tree):
            edit.apply(tree)
    return YUKI, "Tidy the tables before winter"


def _vanish(tree: Path) -> tuple[Author, str]:
    if (tests := tree / "tests/test_rounding.py").exists():
        tests.rename(tree / "tests/rounding.py")
    return YUKI, "Move the rounding tests out of the way"


def _release(tree: Path) -> tuple[Author, str]:
    plan, changes = tree / "myriant.toml", tree / "CHANGES.md"
    if "[jobs.shelf]" not in (text := plan.read_text(encoding="utf-8")):
        plan.write_text(text + RELEASED, encoding="utf-8")
    (tree / "tools").mkdir(exist_ok=True)
    (tree / "tools/shelf").write_text(TOOL, encoding="utf-8")
    known = changes.read_text(encoding="utf-8") if changes.exists() else "# Changes\n"
    version = f"0.{len(git(tree, 'tag', '--list', 'v0.*').split()) + 1}.0"
    (tree / "VERSION").write_text(f"{version}\n", encoding="utf-8")
    changes.write_text(f"{known}\n## {version}\nThe locks of this season.\n", encoding="utf-8")
    return INGRID, f"Cut {version}"


SCENARIOS = {
    "break": Scenario("lockstep", _break),
    "slow": Scenario("tidebook", _slow),
    "uncover": Scenario("tidebook", _uncover),
    "flaky": Scenario("tidebook", _flaky),
    "tangle": Scenario("tidebook", _tangle),
    "vanish": Scenario("tidebook", _vanish),
    "release": Scenario("lockstep", _release, lambda tree: f"v{(tree / 'VERSION').read_text().strip()}"),
}
WORDS = (*SCENARIOS, "fix")


def clone_of(folder: Path, repository: str) -> Path:
    return folder / "work" / repository


def commit(tree: Path, author: Author, message: str, *, at: str | None = None) -> None:
    """Commit everything in the work tree, as an invented person."""
    when = {"GIT_AUTHOR_DATE": at, "GIT_COMMITTER_DATE": at} if at else {}
    who = {
        f"GIT_{role}_{what}": value
        for role in ("AUTHOR", "COMMITTER")
        for what, value in (("NAME", author.name), ("EMAIL", author.mail))
    }
    git(tree, "add", "--all")
    git(tree, "commit", "--quiet", "--no-verify", "--allow-empty", "-m", message, environment={**who, **when})


def git(tree: Path, *words: str, environment: dict[str, str] | None = None) -> str:
    """Git as an ordinary person's command, without this machine's configuration."""
    clean = {
        "PATH": "/usr/local/bin:/usr/bin:/bin",
        "HOME": "/nonexistent",
        "GIT_CONFIG_NOSYSTEM": "1",
        "LC_ALL": "C.UTF-8",
    }
    done = subprocess.run(
        ["git", "-c", "safe.directory=*", *words],
        cwd=tree,
        env=clean | (environment or {}),
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode != 0:
        raise RuntimeError(f"git {words[0]} failed: {done.stderr.strip()}")
    return done.stdout + done.stderr


def note(tree: Path, author: Author, message: str) -> tuple[Author, str]:
    """A harmless commit: a line in the levels book."""
    book = tree / "LEVELS.md"
    known = book.read_text(encoding="utf-8") if book.exists() else "# Levels\n"
    book.write_text(
        f"{known}\n- reading {known.count('- reading') + 1}: all locks within their marks\n", encoding="utf-8"
    )
    return author, message


def push(folder: Path, what: str) -> list[str]:
    """Commit a scenario and push it to main; what git and the hook said.

    "fix" puts every repository that a scenario changed back to how it was loaded; if there is none it
    pushes a harmless commit to lockstep.
    """
    if what != "fix":
        scenario = SCENARIOS[what]
        tree = _fresh(folder, scenario.repository)
        clean = not git(tree, "diff", "--name-only", CLEAN, "HEAD", "--", ".", ":!LEVELS.md").strip()
        author, message = scenario.change(tree)
        tag = scenario.tag(tree)
        told = _pushed(tree, scenario.repository, author, message, tag)
        if tag and clean:
            git(tree, "update-ref", CLEAN, "HEAD")  # what was released stays when the rest is put back
        return told
    said = []
    for repository in ("lockstep", "tidebook"):
        tree = clone_of(folder, repository)
        if tree.exists() and _restored(_fresh(folder, repository)):
            said += _pushed(tree, repository, ANSELM, "Put it back as it was")
    return said or _pushed(
        tree := _fresh(folder, "lockstep"), "lockstep", *note(tree, ANSELM, "Note the winter levels")
    )


def _fresh(folder: Path, repository: str) -> Path:
    tree = clone_of(folder, repository)
    git(tree, "fetch", "--quiet", "origin")
    git(tree, "reset", "--quiet", "--hard", "origin/main")
    return tree


def _restored(tree: Path) -> bool:
    book = tree / "LEVELS.md"
    kept = book.read_text(encoding="utf-8") if book.exists() else None
    git(tree, "read-tree", "-u", "--reset", CLEAN)
    if kept is not None:
        book.write_text(kept, encoding="utf-8")
    git(tree, "add", "--all")
    return bool(git(tree, "status", "--porcelain").strip())


def _pushed(tree: Path, repository: str, author: Author, message: str, tag: str = "") -> list[str]:
    commit(tree, author, message)
    said = git(tree, "push", "--quiet", "origin", "HEAD:main")
    if tag:
        git(tree, "tag", tag)
        said += git(tree, "push", "--quiet", "origin", tag)
    head = git(tree, "rev-parse", "--short", "HEAD").strip()
    first = (
        f'{head} "{message}" by {author.name} is pushed to main of {repository}{f" and tagged {tag}" if tag else ""}'
    )
    return [first, *(line.removeprefix("remote: ").strip() for line in said.splitlines() if line.strip())]
