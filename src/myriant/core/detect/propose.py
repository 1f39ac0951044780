"""Detection and proposals: from a repository's files to plans that fit, with the evidence and the guesses."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

from myriant.core.detect.repository import Evidence, Tree, inside
from myriant.core.plan.table import quoted
from myriant.core.plan.versions import version_key

_VERSION = re.compile(r"\d+(?:\.\d+)?")
_KNOWN = {
    "python": ["3.9", "3.10", "3.11", "3.12", "3.13"],
    "node": ["20", "22", "24"],
    "lua": ["5.1", "5.2", "5.3", "5.4"],
    "java": ["11", "17", "21"],
    "ruby": ["3.2", "3.3", "3.4"],
    "php": ["8.1", "8.2", "8.3"],
    "go": ["1.22", "1.23"],
    "perl": ["5.36"],
    "rust": ["1.80"],
    "dotnet": ["8.0"],
}


@dataclass(frozen=True, slots=True)
class Proposal:
    """A plan that would fit; `guesses` are what a person should look at, each with the line where it stands."""

    family: str
    title: str
    text: str
    evidence: tuple[Evidence, ...]
    guesses: tuple[str, ...]


@dataclass(slots=True)
class _Draft:
    """A plan in the making."""

    family: str
    title: str
    job: str = "unit"
    job_title: str = "Unit tests"
    versions: list[str] = field(default_factory=list)  # of the family; none: no runtime is asked for
    steps: list[tuple[str, str]] = field(default_factory=list)
    tests: list[str] = field(default_factory=list)
    coverage: list[str] = field(default_factory=list)
    renew_on: list[str] = field(default_factory=list)
    folder: str = ""
    evidence: list[Evidence] = field(default_factory=list)
    guesses: list[str] = field(default_factory=list)

    def saw(self, file: str | None, says: str) -> None:
        if file:
            self.evidence.append(Evidence(file, says))

    def done(self, main: str) -> Proposal:
        lines = [
            "version = 1",
            "",
            "[events]",
            f"push         = {{ branches = [{quoted(main)}] }}",
            f"pull-request = {{ into = [{quoted(main)}] }}",
            "",
            f"[jobs.{self.job}]",
            f"title   = {quoted(self.job_title)}",
        ]
        if self.versions:
            values = ", ".join(quoted(v) for v in self.versions)
            lines += [f"vary    = {{ {self.family} = [{values}] }}", f"runtime = [{quoted(self.family)}]"]
        if self.folder:
            lines.append(f"folder  = {quoted(self.folder)}")
        lines.append('timeout = "20 min"')
        collect = [f"tests = [{', '.join(map(quoted, self.tests))}]"]
        if self.coverage:
            collect.append(f"coverage = [{', '.join(map(quoted, self.coverage))}]")
        for i, (name, command) in enumerate(self.steps):
            written = quoted(command) if "\n" not in command else f"'''\n{command}\n'''"
            lines += ["", f"[[jobs.{self.job}.steps]]", f"name    = {quoted(name)}", f"command = {written}"]
            if i == len(self.steps) - 1:
                lines.append(f"collect = {{ {', '.join(collect)} }}")
        if self.coverage:
            lines += ["", "[[gate.rules]]", 'name     = "line coverage never falls"', 'measure  = "coverage.line"']
            lines.append('at-least = "baseline"')
        return Proposal(self.family, self.title, "\n".join(lines) + "\n", tuple(self.evidence), tuple(self.guesses))


def propose(tree: Tree, *, main: str = "main", offers: Sequence[str] = ()) -> list[Proposal]:
    """Plans for a repository, the likeliest first; `offers` are runtime wishes that runners meet ("python 3.12")."""
    found: list[_Draft] = []
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


def _versions(draft: _Draft, offers: Sequence[str], lowest: str | None, exact: Sequence[str] = ()) -> None:
    """Choose the values of the family's dimension: those declared, else those that runners offer from the lowest on."""
    family = draft.family
    offered = {o.partition(" ")[2] for o in offers if o.startswith(f"{family} ")}
    depth = max((v.count(".") for v in _KNOWN.get(family, ())), default=1)
    usable = sorted((v for v in offered if v.count(".") == depth and _VERSION.match(v)), key=version_key)
    if exact:
        draft.versions = sorted(dict.fromkeys(exact), key=version_key)
    elif usable:
        least = lowest or _KNOWN.get(family, [usable[0]])[0]
        fitting = [v for v in usable if version_key(v) >= version_key(least)]
        draft.versions = fitting or [lowest or usable[-1]]
        draft.guesses.append(f"versions of {family}: {', '.join(draft.versions)} are those that your runners offer")
    else:
        known = [v for v in _KNOWN.get(family, ()) if lowest is None or version_key(v) >= version_key(lowest)]
        draft.versions = [known[0], known[-1]] if len(known) > 1 else known or ([lowest] if lowest else [])
        draft.guesses.append(f"versions of {family}: no runner offers {family} yet, so these are a guess")


def _at_least(wish: str | None) -> str | None:
    found = re.search(r"(?:>=|~=|\^|~|==)?\s*(\d+(?:\.\d+)?)", wish or "")
    return found[1] if found else None


def _folder(path: str) -> str:
    return path.rsplit("/", 1)[0] if "/" in path else ""


# --- families -----------------------------------------------------------------------------------


def _python(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    marks = tree.like(r"(^|/)(pyproject\.toml|setup\.py|setup\.cfg|pytest\.ini|requirements[^/]*\.txt|Pipfile)$")
    tests = tree.like(r"(^|/)(test_[^/]*|[^/]*_test)\.py$")
    if not marks and not tests:
        return
    folder = "" if any("/" not in m for m in marks) or not marks else _folder(marks[0])
    at = f"{folder}/" if folder else ""
    draft = _Draft("python", "Python with pytest", folder=folder)
    project = tree.toml(f"{at}pyproject.toml")
    wish = inside(project, "project", "requires-python") or inside(project, "tool", "poetry", "dependencies", "python")
    wish = (
        wish
        or tree.line(f"{at}setup.py", r"python_requires\s*=\s*[\"']([^\"']+)")
        or tree.line(f"{at}setup.cfg", r"python_requires\s*=\s*(.+)")
    )
    draft.saw(
        tree.first(f"{at}pyproject.toml", f"{at}setup.py", f"{at}setup.cfg"),
        f"requires Python {wish}" if wish else "a Python project",
    )
    named = tree.first(f"{at}pyproject.toml", f"{at}setup.cfg", f"{at}setup.py")
    envs = re.findall(r"Programming Language :: Python :: 3\.(\d+)", tree.text(named)) if named else []
    if envs:
        draft.saw(named, f"names {len(envs)} versions")
    if pinned := tree.line(f"{at}.python-version", r"(\d+\.\d+)"):
        draft.saw(f"{at}.python-version", f"Python {pinned}")
    _versions(draft, offers, _at_least(str(wish)) if wish else pinned, [f"3.{minor}" for minor in envs])
    texts = " ".join(tree.text(m) for m in marks[:20])
    uses_pytest = "pytest" in texts or bool(tree.first(f"{at}conftest.py", f"{at}tests/conftest.py", f"{at}pytest.ini"))
    uses_pytest = uses_pytest or any("import pytest" in tree.text(t) for t in tests[:20])
    if tests:
        draft.saw(tests[0], f"{len(tests)} test files")
    install = [f"-r {f.removeprefix(at)}" for f in marks if re.fullmatch(rf"{re.escape(at)}requirements[^/]*\.txt", f)]
    package = tree.first(f"{at}pyproject.toml", f"{at}setup.py")
    if package and (not package.endswith(".toml") or "build-system" in project or "project" in project):
        extras = inside(project, "project", "optional-dependencies") or {}
        extra = next((e for e in ("test", "tests", "testing", "dev") if e in extras), None)
        install.append(f"-e '.[{extra}]'" if extra else "-e .")
    if "pytest" not in " ".join(tree.text(f"{at}{i[3:]}") for i in install if i.startswith("-r ")):
        install.append("pytest")
        if not uses_pytest:
            draft.guesses.append("pytest runs the tests: nothing in the repository names a test program")
    covers = "pytest-cov" in texts or "pytest_cov" in texts
    draft.steps = [
        ("environment", f"python -m venv .venv && .venv/bin/python -m pip install -q {' '.join(install)}"),
        (
            "test",
            ".venv/bin/python -m pytest --junitxml=out/unit.xml"
            + (" --cov --cov-report=xml:out/coverage.xml" if covers else ""),
        ),
    ]
    draft.tests, draft.coverage = ["out/unit.xml"], ["out/coverage.xml"] if covers else []
    _in_folder(draft)
    yield draft


def _in_folder(draft: _Draft) -> None:
    """Reports lie below the folder where the commands run."""
    if draft.folder:
        draft.tests = [f"{draft.folder}/{t}" for t in draft.tests]
        draft.coverage = [f"{draft.folder}/{c}" for c in draft.coverage]


def _node(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in [f for f in tree.like(r"(^|/)package\.json$") if "node_modules" not in f][:1]:
        package, folder = tree.json(file), _folder(file)
        at = f"{folder}/" if folder else ""
        used = {**(package.get("dependencies") or {}), **(package.get("devDependencies") or {})}
        script = str(inside(package, "scripts", "test") or "")
        draft = _Draft("node", "Node", folder=folder)
        engine = inside(package, "engines", "node")
        draft.saw(file, f"Node {engine}" if engine else "a Node project")
        pinned = tree.line(f"{at}.nvmrc", r"v?(\d+)") or tree.line(f"{at}.node-version", r"v?(\d+)")
        _versions(draft, offers, _at_least(str(engine)) if engine else pinned)
        lock = tree.first(f"{at}package-lock.json", f"{at}yarn.lock", f"{at}pnpm-lock.yaml")
        draft.saw(lock, "locked packages")
        install = {
            "package-lock.json": "npm ci",
            "yarn.lock": "yarn install --frozen-lockfile",
            "pnpm-lock.yaml": "pnpm install --frozen-lockfile",
        }.get((lock or "").removeprefix(at), "npm install")
        report = "mkdir -p out && "
        if "vitest" in used:
            draft.title, command = (
                "Node with Vitest",
                "npx vitest run --reporter=default --reporter=junit --outputFile.junit=out/unit.xml",
            )
        elif "jest" in used:
            draft.title, command = (
                "Node with Jest",
                "JEST_JUNIT_OUTPUT_FILE=out/unit.xml npx jest --reporters=default --reporters=jest-junit",
            )
            if "jest-junit" not in used:
                install += " && npm install --no-save jest-junit"
                draft.guesses.append("jest-junit writes the report; it is installed beside your packages")
        elif "mocha" in used:
            draft.title, command = "Node with Mocha", "npx mocha --reporter xunit --reporter-option output=out/unit.xml"
        else:
            draft.title = "Node with its own test program"
            command = "node --test --test-reporter=junit --test-reporter-destination=out/unit.xml"
            if "--test" not in script:
                draft.guesses.append("node --test finds and runs the tests")
        if script:
            draft.saw(file, f"its test script is: {script[:120]}")
        if used or lock:
            draft.steps.append(("install", install))
        draft.steps.append(("test", report + command))
        draft.tests = ["out/unit.xml"]
        _in_folder(draft)
        yield draft


def _lua(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    if not tree.like(r"\.(lua|rockspec)$"):
        return
    draft = _Draft("lua", "Lua")
    rock = next(iter(tree.like(r"\.rockspec$")), None)
    low = tree.line(rock, r"lua\s*(?:>=|~>)\s*(5\.\d)") if rock else None
    if rock:
        draft.saw(rock, f"Lua from {low}" if low else "a Lua rock")
    _versions(draft, offers, low)
    writers = [f for f in tree.like(r"\.lua$") if re.search(r"<testsuite", tree.text(f))][:1]
    unit = [f for f in tree.like(r"\.lua$") if re.search(r"require\s*\(?\s*[\"'](luaunit|test\.luaunit)", tree.text(f))]
    specs = tree.like(r"_spec\.lua$")
    if specs:
        draft.title = "Lua with busted"
        draft.saw(specs[0], f"{len(specs)} specification files")
        draft.steps = [("test", "mkdir -p out && busted --output=junit > out/unit.xml")]
        draft.guesses.append("busted is installed on the runners")
    elif writers:
        out = tree.line(writers[0], r"[\"']([\w./-]+\.xml)[\"']") or "out/unit.xml"
        draft.saw(writers[0], "writes JUnit XML itself")
        draft.steps = [
            (
                "test",
                f"mkdir -p {_folder(out) or '.'} && lua {writers[0]}"
                + ("" if out in tree.text(writers[0]) else f" {out}"),
            )
        ]
        draft.guesses.append(f"{writers[0]} runs the tests and writes {out}")
        draft.tests = [out]
    elif unit:
        draft.title = "Lua with LuaUnit"
        runner = next((u for u in unit if "LuaUnit" in tree.text(u) or "os.exit" in tree.text(u)), unit[0])
        draft.saw(runner, "tests with LuaUnit")
        draft.steps = [("test", f"mkdir -p out && lua {runner} -o junit -n out/unit.xml")]
    else:
        tests = tree.like(r"(^|/)(tests?/[^/]*|test[^/]*|[^/]*_test)\.lua$")
        draft.steps = [("test", _each_as_case("lua", tests[:200] or ["test.lua"]))]
        draft.guesses.append("each test file is one test that passes when it ends with 0")
        if tests:
            draft.saw(tests[0], f"{len(tests)} test files")
    draft.tests = draft.tests or ["out/unit.xml"]
    yield draft


def _each_as_case(program: str, files: Sequence[str]) -> str:
    """A command that runs each file as one test case and writes JUnit XML of it."""
    return (
        "mkdir -p out\nstatus=0\necho '<testsuite name=\"files\">' > out/unit.xml\n"
        f"for file in {' '.join(files)}; do\n"
        f"  if {program} \"$file\"; then echo \"<testcase classname='files' name='$file'/>\" >> out/unit.xml\n"
        "  else status=1; echo \"<testcase classname='files' name='$file'><failure message='it did not end with 0'/></testcase>\" >> out/unit.xml\n"  # noqa: E501
        "  fi\ndone\necho '</testsuite>' >> out/unit.xml\nexit $status"
    )


def _java(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    pom, gradle = tree.like(r"(^|/)pom\.xml$"), tree.like(r"(^|/)build\.gradle(\.kts)?$")
    if pom:
        draft = _Draft("java", "Java with Maven", folder=_folder(pom[0]))
        release = tree.line(pom[0], r"<(?:maven\.compiler\.(?:release|source)|java\.version|release)>\s*(?:1\.)?(\d+)")
        draft.saw(pom[0], f"Java {release}" if release else "a Maven build")
        _versions(draft, offers, release)
        wrapper = tree.first(f"{draft.folder}/mvnw".lstrip("/"))
        draft.saw(wrapper, "the build's own Maven")
        draft.steps = [("test", f"{'./mvnw' if wrapper else 'mvn'} -B --no-transfer-progress test")]
        draft.tests = (
            ["target/surefire-reports/TEST-*.xml"]
            if "<modules>" not in tree.text(pom[0])
            else ["**/target/surefire-reports/TEST-*.xml"]
        )
        if "jacoco" in tree.text(pom[0]):
            draft.guesses.append("JaCoCo measures coverage here; its reports are not read yet")
        _in_folder(draft)
        yield draft
    if gradle:
        draft = _Draft("java", "Java with Gradle", folder=_folder(gradle[0]))
        release = tree.line(gradle[0], r"(?:languageVersion|sourceCompatibility|JavaLanguageVersion\.of)\D{0,40}?(\d+)")
        draft.saw(gradle[0], f"Java {release}" if release else "a Gradle build")
        _versions(draft, offers, release)
        wrapper = tree.first(f"{draft.folder}/gradlew".lstrip("/"))
        draft.steps = [("test", f"{'./gradlew' if wrapper else 'gradle'} --no-daemon test")]
        draft.tests = ["**/build/test-results/test/*.xml"]
        yield draft


def _cmake(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in tree.like(r"(^|/)CMakeLists\.txt$")[:1]:
        draft = _Draft("cmake", "C or C++ with CMake", folder=_folder(file))
        text = tree.text(file)
        draft.saw(
            file, "adds tests" if re.search(r"enable_testing|include\s*\(\s*CTest", text, re.I) else "a CMake build"
        )
        if not re.search(r"enable_testing|include\s*\(\s*CTest|add_test", text, re.I):
            draft.guesses.append("ctest finds tests: CMakeLists.txt does not enable any at its top")
        draft.steps = [
            ("configure", "cmake -S . -B build -DCMAKE_BUILD_TYPE=Release"),
            ("build", "cmake --build build --parallel"),
            ("test", "ctest --test-dir build --output-on-failure --output-junit unit.xml"),
        ]
        draft.tests = ["build/unit.xml"]
        draft.guesses.append("CMake is 3.21 or newer on the runners")
        _in_folder(draft)
        yield draft


def _perl(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    tests = tree.like(r"(^|/)t/.*\.t$")
    marks = tree.like(r"(^|/)(Makefile\.PL|Build\.PL|cpanfile|dist\.ini)$")
    if not tests and not marks:
        return
    draft = _Draft("perl", "Perl with prove")
    low = tree.line(marks[0], r"(?:MIN_PERL_VERSION|perl)\W+v?5\.0*(\d+)") if marks else None
    if marks:
        draft.saw(marks[0], f"Perl from 5.{low}" if low else "a Perl distribution")
    if tests:
        draft.saw(tests[0], f"{len(tests)} test files")
    _versions(draft, offers, f"5.{low}" if low else None)
    if tree.has("cpanfile"):
        draft.steps.append(("install", "cpanm --installdeps --notest ."))
    draft.steps.append(("test", "mkdir -p out && prove -l -r --formatter TAP::Formatter::JUnit t > out/unit.xml"))
    draft.guesses.append("TAP::Formatter::JUnit is installed on the runners")
    draft.tests = ["out/unit.xml"]
    yield draft


def _php(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in tree.like(r"(^|/)composer\.json$")[:1]:
        package = tree.json(file)
        draft = _Draft("php", "PHP with PHPUnit", folder=_folder(file))
        wish = inside(package, "require", "php")
        draft.saw(file, f"PHP {wish}" if wish else "a PHP package")
        draft.saw(tree.first("composer.lock"), "locked packages")
        draft.saw(tree.first("phpunit.xml", "phpunit.xml.dist"), "PHPUnit's settings")
        _versions(draft, offers, _at_least(str(wish)) if wish else None)
        if "phpunit/phpunit" not in (package.get("require-dev") or {}):
            draft.guesses.append("PHPUnit runs the tests: composer.json does not name it")
        draft.steps = [
            ("install", "composer install --no-interaction --no-progress"),
            ("test", "vendor/bin/phpunit --log-junit out/unit.xml"),
        ]
        draft.tests = ["out/unit.xml"]
        _in_folder(draft)
        yield draft


def _ruby(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in tree.like(r"(^|/)Gemfile$")[:1]:
        draft = _Draft("ruby", "Ruby with RSpec", folder=_folder(file))
        at = f"{draft.folder}/" if draft.folder else ""
        low = tree.line(f"{at}.ruby-version", r"(\d+\.\d+)") or tree.line(file, r"^\s*ruby\s+[\"'][^\d]*(\d+\.\d+)")
        draft.saw(file, "a Ruby bundle")
        draft.saw(tree.first(f"{at}.ruby-version"), f"Ruby {low}")
        _versions(draft, offers, low)
        specs = tree.like(r"_spec\.rb$")
        draft.steps = [("install", "bundle install --quiet")]
        if specs or "rspec" in tree.text(file):
            draft.saw(specs[0] if specs else file, "tests with RSpec")
            draft.steps.append(
                ("test", "bundle exec rspec --format progress --format RspecJunitFormatter --out out/unit.xml")
            )
            if "rspec_junit_formatter" not in tree.text(file):
                draft.guesses.append("the gem rspec_junit_formatter is in the Gemfile: it is not yet")
            draft.tests = ["out/unit.xml"]
        else:
            draft.title = "Ruby with Minitest"
            draft.steps.append(("test", "bundle exec rake test"))
            draft.guesses.append("the gem minitest-reporters writes JUnit XML into test/reports")
            draft.tests = ["test/reports/*.xml"]
        _in_folder(draft)
        yield draft


def _go(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in tree.like(r"(^|/)go\.mod$")[:1]:
        draft = _Draft("go", "Go", folder=_folder(file))
        low = tree.line(file, r"^go\s+(\d+\.\d+)")
        draft.saw(file, f"Go {low}" if low else "a Go module")
        _versions(draft, offers, low)
        draft.steps = [("test", "mkdir -p out && gotestsum --junitfile out/unit.xml ./...")]
        draft.guesses.append("gotestsum is installed on the runners; it runs go test and writes the report")
        draft.tests = ["out/unit.xml"]
        _in_folder(draft)
        yield draft


def _rust(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    for file in tree.like(r"(^|/)Cargo\.toml$")[:1]:
        crate = tree.toml(file)
        draft = _Draft("rust", "Rust with Cargo", folder=_folder(file))
        low = inside(crate, "package", "rust-version")
        draft.saw(file, f"Rust from {low}" if low else "a Rust crate")
        draft.saw(tree.first("Cargo.lock"), "locked crates")
        if any(o.startswith("rust ") for o in offers):
            _versions(draft, offers, _at_least(str(low)) if low else None)
        at = f"{draft.folder}/" if draft.folder else ""
        suites = ["--lib"] if tree.has(f"{at}src/lib.rs") else []
        suites += ["--bins"] if tree.has(f"{at}src/main.rs") and not suites else []
        names = [re.sub(r".*/|\.rs$", "", t) for t in tree.like(rf"^{re.escape(at)}tests/[^/]+\.rs$")]
        runs = [*((s, s.strip("-")) for s in suites), *((f"--test {n}", n) for n in names)] or [("", "unit")]
        ending = "-- -Z unstable-options --format junit >"
        draft.steps = [
            ("build", "cargo test --no-run"),
            (
                "test",
                "mkdir -p out\nstatus=0\n"
                + "\n".join(
                    f"RUSTC_BOOTSTRAP=1 cargo test -q {which} {ending} out/{name}.xml || status=1"
                    for which, name in runs
                )
                + "\nexit $status",
            ),
        ]
        draft.guesses.append(
            "the standard test program writes JUnit XML, an option that RUSTC_BOOTSTRAP allows on stable Rust"
        )
        draft.tests = ["out/*.xml"]
        _in_folder(draft)
        yield draft


def _dotnet(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    projects = tree.like(r"\.(csproj|fsproj)$")
    if not projects and not tree.like(r"\.sln$"):
        return
    draft = _Draft("dotnet", ".NET")
    tests = [p for p in projects if "Microsoft.NET.Test.Sdk" in tree.text(p)]
    file = (tests or projects or tree.like(r"\.sln$"))[0]
    frameworks = re.findall(r"net(\d+\.\d+)", tree.line(file, r"<TargetFrameworks?>([^<]+)") or "")
    draft.saw(file, f"targets .NET {', '.join(frameworks)}" if frameworks else "a .NET project")
    _versions(draft, offers, None, frameworks)
    draft.steps = [("test", 'dotnet test --logger "junit;LogFilePath=out/{assembly}.xml"')]
    if not any("JunitXml.TestLogger" in tree.text(p) for p in tests):
        draft.guesses.append("the test projects use the package JunitXml.TestLogger: none does yet")
    draft.tests = ["**/out/*.xml"]
    yield draft


def _shell(tree: Tree, offers: Sequence[str]) -> Iterator[_Draft]:
    bats = tree.like(r"\.bats$")
    scripts = tree.like(r"(^|/)(tests?/[^/]*|test[^/]*|[^/]*[_-]test)\.sh$")
    if bats:
        draft = _Draft("shell", "Shell tests with Bats")
        draft.saw(bats[0], f"{len(bats)} files of tests")
        draft.steps = [
            ("test", f"mkdir -p out && bats --report-formatter junit --output out {_folder(bats[0]) or '.'}")
        ]
        draft.guesses.append("bats is installed on the runners")
        draft.tests = ["out/report.xml"]
        yield draft
    elif scripts:
        draft = _Draft("shell", "Shell scripts as tests")
        draft.saw(scripts[0], f"{len(scripts)} test scripts")
        draft.steps = [("test", _each_as_case("sh", scripts[:200]))]
        draft.guesses.append("each script is one test that passes when it ends with 0")
        draft.tests = ["out/unit.xml"]
        yield draft


_LOOKS: list[Callable[[Tree, Sequence[str]], Iterator[_Draft]]] = [
    _python, _node, _lua, _java, _cmake, _perl, _php, _ruby, _go, _rust, _dotnet, _shell,
]  # fmt: skip
