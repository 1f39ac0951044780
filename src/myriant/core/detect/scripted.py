"""Families whose tests run as scripts: Python, Node, Lua, Perl, PHP, Ruby, shell."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from myriant.core.detect.draft import Draft, at_least, folder_of, versions
from myriant.core.detect.repository import Tree, inside
from myriant.core.plan.watched_paths import version_from_git


def python(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    marks = tree.like(r"(^|/)(pyproject\.toml|setup\.py|setup\.cfg|pytest\.ini|requirements[^/]*\.txt|Pipfile)$")
    tests = tree.like(r"(^|/)(test_[^/]*|[^/]*_test)\.py$")
    if not marks and not tests:
        return
    folder = "" if any("/" not in m for m in marks) or not marks else folder_of(marks[0])
    at = f"{folder}/" if folder else ""
    draft = Draft("python", "Python with pytest", folder=folder)
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
    versions(draft, offers, at_least(str(wish)) if wish else pinned, [f"3.{minor}" for minor in envs])
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
    if tool := version_from_git(lambda path: tree.text(f"{at}{path}") if tree.has(f"{at}{path}") else ""):
        draft.source = '{ history = "full", tags = true }'
        draft.saw(package or named, f"{tool} reads the version from git's tags")
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
    in_folder(draft)
    yield draft


def in_folder(draft: Draft) -> None:
    """Reports lie below the folder where the commands run."""
    if draft.folder:
        draft.tests = [f"{draft.folder}/{t}" for t in draft.tests]
        draft.coverage = [f"{draft.folder}/{c}" for c in draft.coverage]


def node(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in [f for f in tree.like(r"(^|/)package\.json$") if "node_modules" not in f][:1]:
        package, folder = tree.json(file), folder_of(file)
        at = f"{folder}/" if folder else ""
        used = {**(package.get("dependencies") or {}), **(package.get("devDependencies") or {})}
        script = str(inside(package, "scripts", "test") or "")
        draft = Draft("node", "Node", folder=folder)
        engine = inside(package, "engines", "node")
        draft.saw(file, f"Node {engine}" if engine else "a Node project")
        pinned = tree.line(f"{at}.nvmrc", r"v?(\d+)") or tree.line(f"{at}.node-version", r"v?(\d+)")
        versions(draft, offers, at_least(str(engine)) if engine else pinned)
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
        in_folder(draft)
        yield draft


def lua(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    if not tree.like(r"\.(lua|rockspec)$"):
        return
    draft = Draft("lua", "Lua")
    rock = next(iter(tree.like(r"\.rockspec$")), None)
    low = tree.line(rock, r"lua\s*(?:>=|~>)\s*(5\.\d)") if rock else None
    if rock:
        draft.saw(rock, f"Lua from {low}" if low else "a Lua rock")
    versions(draft, offers, low)
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
                f"mkdir -p {folder_of(out) or '.'} && lua {writers[0]}"
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


def perl(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    tests = tree.like(r"(^|/)t/.*\.t$")
    marks = tree.like(r"(^|/)(Makefile\.PL|Build\.PL|cpanfile|dist\.ini)$")
    if not tests and not marks:
        return
    draft = Draft("perl", "Perl with prove")
    low = tree.line(marks[0], r"(?:MIN_PERL_VERSION|perl)\W+v?5\.0*(\d+)") if marks else None
    if marks:
        draft.saw(marks[0], f"Perl from 5.{low}" if low else "a Perl distribution")
    if tests:
        draft.saw(tests[0], f"{len(tests)} test files")
    versions(draft, offers, f"5.{low}" if low else None)
    if tree.has("cpanfile"):
        draft.steps.append(("install", "cpanm --installdeps --notest ."))
    draft.steps.append(("test", "mkdir -p out && prove -l -r --formatter TAP::Formatter::JUnit t > out/unit.xml"))
    draft.guesses.append("TAP::Formatter::JUnit is installed on the runners")
    draft.tests = ["out/unit.xml"]
    yield draft


def php(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in tree.like(r"(^|/)composer\.json$")[:1]:
        package = tree.json(file)
        draft = Draft("php", "PHP with PHPUnit", folder=folder_of(file))
        wish = inside(package, "require", "php")
        draft.saw(file, f"PHP {wish}" if wish else "a PHP package")
        draft.saw(tree.first("composer.lock"), "locked packages")
        draft.saw(tree.first("phpunit.xml", "phpunit.xml.dist"), "PHPUnit's settings")
        versions(draft, offers, at_least(str(wish)) if wish else None)
        if "phpunit/phpunit" not in (package.get("require-dev") or {}):
            draft.guesses.append("PHPUnit runs the tests: composer.json does not name it")
        draft.steps = [
            ("install", "composer install --no-interaction --no-progress"),
            ("test", "vendor/bin/phpunit --log-junit out/unit.xml"),
        ]
        draft.tests = ["out/unit.xml"]
        in_folder(draft)
        yield draft


def ruby(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in tree.like(r"(^|/)Gemfile$")[:1]:
        draft = Draft("ruby", "Ruby with RSpec", folder=folder_of(file))
        at = f"{draft.folder}/" if draft.folder else ""
        low = tree.line(f"{at}.ruby-version", r"(\d+\.\d+)") or tree.line(file, r"^\s*ruby\s+[\"'][^\d]*(\d+\.\d+)")
        draft.saw(file, "a Ruby bundle")
        draft.saw(tree.first(f"{at}.ruby-version"), f"Ruby {low}")
        versions(draft, offers, low)
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
        in_folder(draft)
        yield draft


def shell(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    bats = tree.like(r"\.bats$")
    scripts = tree.like(r"(^|/)(tests?/[^/]*|test[^/]*|[^/]*[_-]test)\.sh$")
    if bats:
        draft = Draft("shell", "Shell tests with Bats")
        draft.saw(bats[0], f"{len(bats)} files of tests")
        draft.steps = [
            ("test", f"mkdir -p out && bats --report-formatter junit --output out {folder_of(bats[0]) or '.'}")
        ]
        draft.guesses.append("bats is installed on the runners")
        draft.tests = ["out/report.xml"]
        yield draft
    elif scripts:
        draft = Draft("shell", "Shell scripts as tests")
        draft.saw(scripts[0], f"{len(scripts)} test scripts")
        draft.steps = [("test", _each_as_case("sh", scripts[:200]))]
        draft.guesses.append("each script is one test that passes when it ends with 0")
        draft.tests = ["out/unit.xml"]
        yield draft
