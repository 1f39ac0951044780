"""The version that a file declares, as ten ecosystems write it, beside the tag that is published."""

from __future__ import annotations

import pytest

from myriant.core.plan.expectations import unmet
from myriant.core.plan.model import Expect

POM = """<?xml version="1.0"?><project xmlns="http://maven.apache.org/POM/4.0.0"><parent><version>9</version></parent>
<version>1.2.0</version><dependencies><version>7</version></dependencies></project>"""
BOMB = '<!DOCTYPE a [<!ENTITY b "1.2.0">]><project><version>&b;</version></project>'


@pytest.mark.parametrize(
    ("file", "key", "content", "declared"),
    [
        ("VERSION", None, "v1.2.0\n", "1.2.0"),
        ("pyproject.toml", "project.version", '[project]\nversion = "1.2.0"\n', "1.2.0"),
        ("Cargo.toml", "package.version", '[package]\nversion = "1.2.0"\n[dependencies]\nserde = "1"\n', "1.2.0"),
        ("setup.cfg", "metadata.version", "[metadata]\nversion = 1.2.0\n", "1.2.0"),
        ("package.json", "version", '{"version": "1.2.0"}', "1.2.0"),
        ("composer.json", "version", '{"require": {"php": "8"}, "version": "1.2.0"}', "1.2.0"),
        ("pom.xml", "project.version", POM, "1.2.0"),
        (
            "gate.csproj",
            "Project.PropertyGroup.Version",
            "<Project><PropertyGroup><Version>1.2.0</Version></PropertyGroup></Project>",
            "1.2.0",
        ),
        ("gate.gemspec", "version", 'Gem::Specification.new do |spec|\n  spec.version = "1.2.0"\nend', "1.2.0"),
        ("mix.exs", "version", '[app: :gate, version: "1.2.0", elixir: "~> 1.15"]', "1.2.0"),
        ("build.gradle", "version", "group = 'lock'\nversion = '1.2.0'\n", "1.2.0"),
        ("gradle.properties", "version", "version=1.2.0\n", "1.2.0"),
        ("DESCRIPTION", "Version", "Package: gate\nVersion: 1.2.0\nDepends: R\n", "1.2.0"),
        ("lockstep-1.2.0-1.rockspec", "version", 'rockspec_format = "3.0"\nversion = "1.2.0"\n', "1.2.0"),
        (
            "CMakeLists.txt",
            "VERSION",
            "cmake_minimum_required(VERSION 3.20)\nproject(gate VERSION 1.2.0 LANGUAGES C)",
            "3.20",
        ),
        (
            "CMakeLists.txt",
            "project(gate VERSION",
            "cmake_minimum_required(VERSION 3.20)\nproject(gate VERSION 1.2.0)",
            "1.2.0",
        ),
        ("Makefile.PL", "VERSION", "WriteMakefile(NAME => 'Gate', VERSION => '1.2.0');", "1.2.0"),
        ("gate/__init__.py", "__version__", '"""Locks."""\n__version__ = "1.2.0"\n', "1.2.0"),
        ("chart.yaml", "version", "apiVersion: v2\nversion: 1.2.0\n", "1.2.0"),
        ("pom.xml", "project.version", BOMB, None),
        ("pom.xml", "project.version", "<project>", None),
        ("pom.xml", "project.url", POM, None),
        ("package.json", "version", "{", None),
        ("package.json", "version", '{"version": ["1"]}', None),
        ("setup.cfg", "metadata.version", "version = 1", None),
        ("build.gradle", "version", "versionCode = 7", None),
        ("a.gradle", "version", "version" + " " * 3_000_000, None),
        ("mix.exs", "version", "", None),
    ],
)
def test_a_version_is_read_where_it_is_declared(file: str, key: str | None, content: str, declared: str | None) -> None:
    expect, files = Expect(tag_file=file, tag_key=key), {file: content.encode()}
    if declared is None:
        assert unmet(expect, "v1.2.0", files) == f"the tag v1.2.0 cannot be compared: {file} has no {key}"
        return
    assert unmet(expect, f"v{declared}", files) == ""
    where = f"{file} ({key})" if key else file
    told = content.strip() if key is None else declared
    assert unmet(expect, "v9", files) == f"the tag v9 does not equal {told} in {where}"
