"""Every proposal is a valid plan with its evidence; those whose tools this machine has are carried out."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from myriant.core.detect.draft import Proposal
from myriant.core.detect.propose import detected, propose
from myriant.core.detect.repository import Tree
from myriant.core.plan.globs import matches
from myriant.core.plan.model import Plan
from myriant.core.plan.read import read_plan
from myriant.core.results.junit import read_junit
from myriant.core.results.model import Outcome

WHEELS = Path(__file__).parents[3] / ".setup/wheels"
OFFERS = [
    "python 3",
    "python 3.8",
    "python 3.11",
    "python 3.12",
    "python 3.12.1",
    "lua 5.1",
    "lua 5.4",
    "lua 5.4.4",
    "node 20",
    "node 20.11",
]

# files by family, the title expected, what the plan must hold, tools that carry it out here
REPOSITORIES: dict[str, tuple[dict[str, str], str, list[str], list[str]]] = {
    "python": (
        {
            "pyproject.toml": '[project]\nname = "weir"\nversion = "1"\nrequires-python = ">=3.11"\n',
            "requirements.txt": "pytest\n",
            ".python-version": "3.12\n",
            "weir.py": "def level(): return 3\n",
            "tests/test_weir.py": "import sys; sys.path.insert(0, '.')\nfrom weir import level\ndef test_level(): assert level() == 3\ndef test_low(): assert level() == 2\n",
        },
        "Python with pytest",
        ['python = ["3.11", "3.12"]', "-r requirements.txt", "--junitxml=out/unit.xml"],
        [],
    ),
    "python with coverage": (
        {
            "setup.py": "setup(python_requires='>=3.8', classifiers=['Programming Language :: Python :: 3.8', 'Programming Language :: Python :: 3.12'])",
            "requirements-dev.txt": "pytest\npytest-cov\n",
            "test_x.py": "",
        },
        "Python with pytest",
        ['python = ["3.8", "3.12"]', 'coverage = ["out/coverage.xml"]', "never falls"],
        [],
    ),
    "node": (
        {
            "package.json": '{"name": "gauge", "engines": {"node": ">=18"}, "scripts": {"test": "node --test"}}',
            "gauge.test.js": "const test = require('node:test'); const assert = require('node:assert');\ntest('level', () => assert.equal(3, 3));\ntest('low', () => assert.equal(3, 2));\n",
        },
        "Node with its own test program",
        ['node = ["20"]', "--test-reporter=junit"],
        ["node"],
    ),
    "node with Jest": (
        {"package.json": '{"devDependencies": {"jest": "29"}}', "package-lock.json": "{}", ".nvmrc": "v20\n"},
        "Node with Jest",
        ["npm ci", "jest-junit"],
        [],
    ),
    "node with Vitest in a folder": (
        {"web/package.json": '{"devDependencies": {"vitest": "2"}}', "web/yarn.lock": ""},
        "Node with Vitest",
        ['folder  = "web"', 'tests = ["web/out/unit.xml"]', "yarn install --frozen-lockfile"],
        [],
    ),
    "lua": (
        {
            "tests/gate_test.lua": "assert(1 == 1)\n",
            "tests/lock_test.lua": "assert(1 == 2)\n",
            "gate.lua": "return {}\n",
        },
        "Lua",
        ['lua = ["5.1", "5.4"]'],
        ["lua5.4"],
    ),
    "lua with busted": (
        {"gate-1.rockspec": 'dependencies = { "lua >= 5.3" }', "spec/gate_spec.lua": ""},
        "Lua with busted",
        ['lua = ["5.4"]'],
        [],
    ),
    "lua that writes": (
        {"test/run.lua": "io.open('out/results.xml', 'w'):write('<testsuite/>')"},
        "Lua",
        ['tests = ["out/results.xml"]'],
        [],
    ),
    "maven": (
        {"pom.xml": "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>"},
        "Java with Maven",
        ['java = ["17", "21"]', "surefire-reports"],
        [],
    ),
    "gradle": (
        {"build.gradle.kts": "java { toolchain { languageVersion = JavaLanguageVersion.of(21) } }", "gradlew": ""},
        "Java with Gradle",
        ["./gradlew"],
        [],
    ),
    "cmake": (
        {
            "CMakeLists.txt": "cmake_minimum_required(VERSION 3.13)\nproject(sluice C)\nenable_testing()\nadd_executable(t t.c)\nadd_test(NAME good COMMAND t)\nadd_test(NAME bad COMMAND t x)\n",
            "t.c": "int main(int n, char **v) { return n - 1; }\n",
        },
        "C or C++ with CMake",
        ["--output-junit"],
        ["cmake", "ctest", "cc"],
    ),
    "perl": (
        {"Makefile.PL": "WriteMakefile(MIN_PERL_VERSION => '5.010')", "t/basic.t": ""},
        "Perl with prove",
        ["prove -l -r"],
        [],
    ),
    "php": (
        {
            "composer.json": '{"require": {"php": "^8.2"}, "require-dev": {"phpunit/phpunit": "^11"}}',
            "composer.lock": "{}",
            "phpunit.xml.dist": "",
        },
        "PHP with PHPUnit",
        ['php = ["8.2", "8.3"]', "--log-junit"],
        [],
    ),
    "ruby": (
        {"Gemfile": 'gem "rspec"\n', ".ruby-version": "3.3.1\n", "spec/a_spec.rb": ""},
        "Ruby with RSpec",
        ['ruby = ["3.3", "3.4"]', "RspecJunitFormatter"],
        [],
    ),
    "ruby with Minitest": (
        {"Gemfile": 'gem "minitest"\n', "test/a_test.rb": ""},
        "Ruby with Minitest",
        ["rake test"],
        [],
    ),
    "go": ({"go.mod": "module fenmark.example/tide\n\ngo 1.22\n"}, "Go", ['go = ["1.22", "1.23"]', "gotestsum"], []),
    "rust": (
        {
            "Cargo.toml": '[package]\nname = "lockgate"\nversion = "0.1.0"\nedition = "2021"\n',
            "src/lib.rs": '#[cfg(test)] mod tests { #[test] fn good() {} #[test] fn bad() { panic!("low") } }\n',
        },
        "Rust with Cargo",
        ["cargo test --no-run", "--format junit"],
        ["cargo"],
    ),
    "dotnet": (
        {
            "Tide.Tests/Tide.Tests.csproj": '<Project><TargetFrameworks>net8.0;net9.0</TargetFrameworks><PackageReference Include="Microsoft.NET.Test.Sdk"/></Project>'
        },
        ".NET",
        ['dotnet = ["8.0", "9.0"]'],
        [],
    ),
    "shell with bats": ({"test/lock.bats": ""}, "Shell tests with Bats", ["bats --report-formatter junit"], []),
    "shell": ({"tests/good.sh": "exit 0\n", "tests/bad.sh": "echo no; exit 3\n"}, "Shell scripts as tests", [], ["sh"]),
}


def proposed(files: dict[str, str], offers: list[str] = OFFERS) -> list[Proposal]:
    tree = Tree(list(files), lambda path: files[path].encode() if path in files else None)
    return propose(tree, main="main", offers=offers)


def plan_of(proposal: Proposal) -> Plan:
    reading = read_plan(proposal.text.encode())
    assert not reading.errors, [str(p) for p in reading.problems]
    assert reading.plan is not None
    return reading.plan


@pytest.mark.parametrize("name", REPOSITORIES)
def test_a_proposal_is_a_valid_plan_with_evidence(name: str) -> None:
    files, title, holds, _ = REPOSITORIES[name]
    proposal = proposed(files)[0]
    assert proposal.title == title
    assert [h for h in holds if h not in proposal.text] == [], proposal.text
    assert proposal.evidence and {e.file for e in proposal.evidence} <= set(files)
    plan = plan_of(proposal)
    assert plan.jobs and all(any(c.tests for c in s.collect) or s.name != "test" for j in plan.jobs for s in j.steps)
    assert [p.message for p in read_plan(proposal.text.encode()).problems] == []
    for offers in ([], ["python 3.7", "node 18", "lua 5.0"]):
        plan_of(proposed(files, offers)[0])
    assert detected(Tree(list(files), lambda p: None)) or name == "shell"


@pytest.mark.parametrize("name", [n for n, r in REPOSITORIES.items() if r[3] or n == "python"])
def test_a_proposal_whose_tools_are_here_finds_the_passing_and_the_failing_test(name: str, tmp_path: Path) -> None:
    files, _, _, tools = REPOSITORIES[name]
    absent = [t for t in tools if shutil.which(t) is None]
    if absent:
        pytest.skip(f"not on this machine: {', '.join(absent)}")
    for path, text in files.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_text(text)
    links = tmp_path / "links"
    links.mkdir()
    for plain, real in (("lua", "lua5.4"), ("python", "python3")):
        if shutil.which(real):
            (links / plain).symlink_to(str(shutil.which(real)))
    environment = {
        **os.environ,
        "PATH": f"{links}:{os.environ['PATH']}",
        "PIP_NO_INDEX": "1",
        "PIP_FIND_LINKS": " ".join(str(p) for p in [WHEELS, *WHEELS.glob("*/")]),
        "CARGO_NET_OFFLINE": "true",
    }
    [job] = plan_of(proposed(files)[0]).jobs
    if name == "python":  # its own package is not built here, without a network
        (tmp_path / "pyproject.toml").unlink()
        files = {k: v for k, v in files.items() if k != "pyproject.toml"}
        [job] = plan_of(proposed(files)[0]).jobs
    statuses = []
    for step in job.steps:
        assert isinstance(step.command, str)
        done = subprocess.run(
            ["/bin/sh", "-e", "-c", step.command], cwd=tmp_path, env=environment, capture_output=True, text=True
        )
        statuses.append(done.returncode)
        if step is not job.steps[-1]:
            assert done.returncode == 0, done.stdout + done.stderr
    found = [
        p
        for p in tmp_path.rglob("*.xml")
        if any(matches(g, str(p.relative_to(tmp_path))) for s in job.steps for c in s.collect for g in c.tests)
    ]
    results = [read_junit([p.read_bytes()]) for p in found]
    assert (sum(r.count(Outcome.PASSED) for r in results), sum(r.count(Outcome.FAILED) for r in results)) == (1, 1), (
        done.stdout + done.stderr
    )
    assert statuses[-1] != 0


def test_nothing_is_proposed_for_an_empty_repository_and_hostile_files_do_no_harm() -> None:
    assert proposed({}) == []
    hostile = {
        "pyproject.toml": "[" * 5000,
        "package.json": '{"engines": 3, "scripts": []}',
        "composer.json": "[" * 100000,
        "Cargo.toml": "package = 1",
        "a'b/test_x.py": "",
        "pom.xml": "\0",
    }
    for proposal in proposed(hostile):
        plan_of(proposal)
