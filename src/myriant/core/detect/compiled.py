"""Families whose tests are built first: Java, CMake, Go, Rust, .NET."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from myriant.core.detect.draft import Draft, at_least, folder_of, versions
from myriant.core.detect.repository import Tree, inside
from myriant.core.detect.scripted import in_folder


def java(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    pom, gradle = tree.like(r"(^|/)pom\.xml$"), tree.like(r"(^|/)build\.gradle(\.kts)?$")
    if pom:
        draft = Draft("java", "Java with Maven", folder=folder_of(pom[0]))
        release = tree.line(pom[0], r"<(?:maven\.compiler\.(?:release|source)|java\.version|release)>\s*(?:1\.)?(\d+)")
        draft.saw(pom[0], f"Java {release}" if release else "a Maven build")
        versions(draft, offers, release)
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
        in_folder(draft)
        yield draft
    if gradle:
        draft = Draft("java", "Java with Gradle", folder=folder_of(gradle[0]))
        release = tree.line(gradle[0], r"(?:languageVersion|sourceCompatibility|JavaLanguageVersion\.of)\D{0,40}?(\d+)")
        draft.saw(gradle[0], f"Java {release}" if release else "a Gradle build")
        versions(draft, offers, release)
        wrapper = tree.first(f"{draft.folder}/gradlew".lstrip("/"))
        draft.steps = [("test", f"{'./gradlew' if wrapper else 'gradle'} --no-daemon test")]
        draft.tests = ["**/build/test-results/test/*.xml"]
        yield draft


def cmake(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in tree.like(r"(^|/)CMakeLists\.txt$")[:1]:
        draft = Draft("cmake", "C or C++ with CMake", folder=folder_of(file))
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
        in_folder(draft)
        yield draft


def go(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in tree.like(r"(^|/)go\.mod$")[:1]:
        draft = Draft("go", "Go", folder=folder_of(file))
        low = tree.line(file, r"^go\s+(\d+\.\d+)")
        draft.saw(file, f"Go {low}" if low else "a Go module")
        versions(draft, offers, low)
        draft.steps = [("test", "mkdir -p out && gotestsum --junitfile out/unit.xml ./...")]
        draft.guesses.append("gotestsum is installed on the runners; it runs go test and writes the report")
        draft.tests = ["out/unit.xml"]
        in_folder(draft)
        yield draft


def rust(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    for file in tree.like(r"(^|/)Cargo\.toml$")[:1]:
        crate = tree.toml(file)
        draft = Draft("rust", "Rust with Cargo", folder=folder_of(file))
        low = inside(crate, "package", "rust-version")
        draft.saw(file, f"Rust from {low}" if low else "a Rust crate")
        draft.saw(tree.first("Cargo.lock"), "locked crates")
        if any(o.startswith("rust ") for o in offers):
            versions(draft, offers, at_least(str(low)) if low else None)
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
        in_folder(draft)
        yield draft


def dotnet(tree: Tree, offers: Sequence[str]) -> Iterator[Draft]:
    projects = tree.like(r"\.(csproj|fsproj)$")
    if not projects and not tree.like(r"\.sln$"):
        return
    draft = Draft("dotnet", ".NET")
    tests = [p for p in projects if "Microsoft.NET.Test.Sdk" in tree.text(p)]
    file = (tests or projects or tree.like(r"\.sln$"))[0]
    frameworks = re.findall(r"net(\d+\.\d+)", tree.line(file, r"<TargetFrameworks?>([^<]+)") or "")
    draft.saw(file, f"targets .NET {', '.join(frameworks)}" if frameworks else "a .NET project")
    versions(draft, offers, None, frameworks)
    draft.steps = [("test", 'dotnet test --logger "junit;LogFilePath=out/{assembly}.xml"')]
    if not any("JunitXml.TestLogger" in tree.text(p) for p in tests):
        draft.guesses.append("the test projects use the package JunitXml.TestLogger: none does yet")
    draft.tests = ["**/out/*.xml"]
    yield draft
