"""Make real tools fail here, and keep what they said: `python -m tests.bench.shapes [NAME…]` writes tests/data/shapes.

Each file begins with the kind of failure that its log is to be told as, chosen by what was done to the tool, not by
what it said. Hosts of package indexes and folders of this machine are taken out.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

FOLDER = Path(__file__).parents[1] / "data/shapes"
MOST = 160  # lines kept of a log, the last ones
PYTHONS = "/root/.pyenv/versions"
WHEELS = Path(__file__).parents[2] / ".setup/wheels/3.11/ready"
NOWHERE = "http://127.0.0.1:9"  # nothing listens there

SHAPES: list[tuple[str, str, str]] = [
    # Python
    ("python-module", "module missing", "python3 -c 'import tidegauge'"),
    ("python-from", "name not exported", "python3 -c 'from json import tides'"),
    (
        "python-syntax",
        "syntax of a newer runtime",
        f"echo 'match 1:\n  case 1: pass' > t.py; {PYTHONS}/3.8.18/bin/python t.py",
    ),
    (
        "python-walrus",
        "syntax of a newer runtime",
        f"echo 'if (n := 3): pass' > t.py; {PYTHONS}/3.7.16/bin/python t.py",
    ),
    (
        "python-2-print",
        "syntax of a newer runtime",
        f"echo 'def f(a: int): return a' > t.py; {PYTHONS}/2.7.18/bin/python t.py",
    ),
    (
        "python-attribute",
        "attribute or function missing in this version",
        f"{PYTHONS}/3.8.18/bin/python -c 'import math; math.cbrt(8)'",
    ),
    ("python-recursion", "stack used up", "python3 -c 'f = lambda: f()\nf()' 2>&1 | tail -5; exit 1"),
    (
        "python-encoding",
        "locale or encoding",
        "printf 'caf\\xe9' > t.txt; python3 -c 'open(\"t.txt\", encoding=\"ascii\").read()'",
    ),
    (
        "python-utf8",
        "locale or encoding",
        "printf 'caf\\xe9' > t.txt; python3 -c 'open(\"t.txt\", encoding=\"utf-8\").read()'",
    ),
    ("python-file", "file missing", "python3 -c 'open(\"tides.csv\")'"),
    (
        "python-permission",
        "read-only place",
        'mkdir ro; mount -t tmpfs -o ro none ro && python3 -c \'open("ro/tide", "w")\'; s=$?; umount ro; exit $s',
    ),
    ("python-variable", "variable not set", "python3 -c 'import os; os.environ[\"TIDE_KEY\"]'"),
    ("python-memory", "out of memory", "ulimit -v 200000; python3 -c 'x = \"a\" * 10**9'"),
    ("python-files", "too many open files", "ulimit -n 20; python3 -c 'x = [open(\"/dev/null\") for _ in range(50)]'"),
    (
        "python-port",
        "port taken",
        "python3 -c 'import socket; a = socket.socket(); a.bind((\"127.0.0.1\", 0)); a.listen(); b = socket.socket(); b.bind(a.getsockname())'",
    ),
    (
        "python-refused",
        "connection refused",
        f"python3 -c 'import urllib.request; urllib.request.urlopen(\"{NOWHERE}\")'",
    ),
    (
        "python-name",
        "name not resolved",
        "python3 -c 'import urllib.request; urllib.request.urlopen(\"http://gauges.invalid\")'",
    ),
    (
        "python-certificate",
        "certificate not accepted",
        "CERT=1; openssl req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -subj /CN=gauge -days 1 2>/dev/null; (openssl s_server -quiet -accept 47111 -cert c.pem -key k.pem -www >/dev/null 2>&1 & echo $! > pid); sleep 1; python3 -c 'import urllib.request; urllib.request.urlopen(\"https://127.0.0.1:47111\")'; s=$?; kill $(cat pid); exit $s",
    ),
    (
        "curl-certificate",
        "certificate not accepted",
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -subj /CN=gauge -days 1 2>/dev/null; (openssl s_server -quiet -accept 47112 -cert c.pem -key k.pem -www >/dev/null 2>&1 & echo $! > pid); sleep 1; curl -sS https://127.0.0.1:47112; s=$?; kill $(cat pid); exit $s",
    ),
    (
        "pip-certificate",
        "certificate not accepted",
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -subj /CN=gauge -days 1 2>/dev/null; (openssl s_server -quiet -accept 47113 -cert c.pem -key k.pem -www >/dev/null 2>&1 & echo $! > pid); sleep 1; python3 -m pip download --no-input --retries 0 --index-url https://127.0.0.1:47113/simple 'tidegauge<4'; s=$?; kill $(cat pid); exit $s",
    ),
    (
        "pip-refused",
        "connection refused",
        f"python3 -m pip download --no-input --retries 1 --index-url {NOWHERE}/simple tidegauge",
    ),
    (
        "pip-name",
        "name not resolved",
        "python3 -m pip download --no-input --retries 1 --index-url https://gauges.invalid/simple tidegauge",
    ),
    ("pip-none", "no such version of a package", "python3 -m pip download --no-input --no-index tidegauge==9"),
    (
        "pip-hash",
        "digest of a package differs",
        'python3 -c \'import zipfile; z = zipfile.ZipFile("tg-1-py3-none-any.whl", "w"); z.writestr("tg-1.dist-info/METADATA", "Metadata-Version: 2.1\\nName: tg\\nVersion: 1\\n"); z.writestr("tg-1.dist-info/WHEEL", "Wheel-Version: 1.0\\n"); z.writestr("tg-1.dist-info/RECORD", ""); z.close()\'; echo \'tg==1 --hash=sha256:0000000000000000000000000000000000000000000000000000000000000000\' > r.txt; python3 -m pip install --no-input --no-index --find-links . --target out --require-hashes -r r.txt',
    ),
    (
        "pip-old-python",
        "runtime too old for a package",
        'mkdir p; printf \'[project]\\nname="tg"\\nversion="1"\\nrequires-python=">=3.99"\\n[build-system]\\nrequires=[]\\nbuild-backend="setuptools.build_meta"\\n\' > p/pyproject.toml; python3 -m pip install --no-input --no-build-isolation --no-index ./p',
    ),
    ("pip-no-file", "file missing", "python3 -m pip install --no-input -r requirements-tide.txt"),
    ("pytest-none", "no tests found", "echo 'x = 1' > test_it.py; python3 -m pytest -q -p no:cacheprovider test_it.py"),
    (
        "pytest-collect",
        "test cannot be collected",
        "echo 'raise ValueError(1)' > test_it.py; python3 -m pytest -q -p no:cacheprovider test_it.py",
    ),
    (
        "pytest-fixture",
        "fixture or set-up failed",
        "echo 'def test_a(gauge): pass' > test_it.py; python3 -m pytest -q -p no:cacheprovider test_it.py",
    ),
    (
        "pytest-assert",
        "values differ",
        "echo 'def test_a(): assert 3 == 4' > test_it.py; python3 -m pytest -q -p no:cacheprovider test_it.py",
    ),
    ("pytest-no-file", "file missing", "python3 -m pytest -q -p no:cacheprovider tests/nowhere.py"),
    (
        "unittest-assert",
        "values differ",
        "printf 'import unittest\\nclass T(unittest.TestCase):\\n  def test_a(self): self.assertEqual(3, 4)\\n' > test_it.py; python3 -m unittest test_it",
    ),
    (
        "python-zone",
        "clock or time zone",
        "PYTHONTZPATH=/nowhere python3 -c 'import zoneinfo; zoneinfo.ZoneInfo(\"Fen/Mark\")'",
    ),
    ("python-display", "display missing", "env -u DISPLAY python3 -c 'import tkinter; tkinter.Tk()'"),
    (
        "coverage-limit",
        "too little covered",
        f"export PYTHONPATH={WHEELS}; printf 'def low(x):\n  if x:\n    return 1\n  return 2\n' > tide.py; echo 'import tide; tide.low(1)' > t.py; python -m coverage run t.py && python -m coverage report --fail-under=95",
    ),
    ("mypy", "types do not fit", "echo 'x: int = \"a\"' > t.py; mypy --no-error-summary t.py"),
    ("ruff-format", "style differs", "echo 'x  =  1' > t.py; ruff format --check t.py"),
    ("ruff", "style differs", "echo 'import os' > t.py; ruff check --no-cache t.py"),
    (
        "sqlite-locked",
        "database locked or deadlocked",
        'python3 -c \'import sqlite3\na = sqlite3.connect("t.db", isolation_level=None); a.execute("create table t (x)"); a.execute("begin exclusive")\nsqlite3.connect("t.db", timeout=0).execute("insert into t values (1)")\'',
    ),
    (
        "sqlite-table",
        "table or column missing",
        'python3 -c \'import sqlite3; sqlite3.connect(":memory:").execute("select * from tides")\'',
    ),
    ("sqlite-shell-table", "table or column missing", "sqlite3 t.db 'select * from tides'"),
    # Lua
    ("lua-module", "module missing", "lua5.4 -e 'require \"gauge\"'"),
    ("lua-syntax", "syntax of a newer runtime", "echo 'goto x; ::x:: local y <const> = 1' > t.lua; lua5.1 t.lua"),
    ("lua-integer-division", "syntax of a newer runtime", "echo 'print(7 // 2)' > t.lua; lua5.1 t.lua"),
    ("lua-missing-function", "attribute or function missing in this version", "lua5.1 -e 'print(table.unpack({1}))'"),
    ("lua-assert", "values differ", "echo 'assert(3 == 4, \"expected 4, got 3\")' > t.lua; lua5.4 t.lua"),
    ("lua-file", "file missing", "lua5.4 nowhere.lua"),
    ("lua-stack", "stack used up", "lua5.4 -e 'local function f() return 1 + f() end f()' 2>&1 | head -3; exit 1"),
    # JavaScript
    ("node-module", "module missing", "node -e 'require(\"gauge\")'"),
    ("node-esm", "module missing", "echo 'import \"gauge\"' > t.mjs; node t.mjs"),
    ("node-export", "name not exported", "echo 'import { tides } from \"fs\"' > t.mjs; node t.mjs"),
    ("node-syntax", "syntax of a newer runtime", "echo 'let x = ;' > t.js; node t.js"),
    ("node-function", "attribute or function missing in this version", "node -e 'const tide = {}; tide.rise()'"),
    ("node-assert", "values differ", "node -e 'require(\"assert\").strictEqual(3, 4)'"),
    ("node-file", "file missing", 'node -e \'require("fs").readFileSync("tides.csv")\''),
    ("node-stack", "stack used up", "node -e 'const f = () => f(); f()'"),
    (
        "node-memory",
        "out of memory",
        "node --max-old-space-size=20 -e 'const a = []; while (true) a.push(new Array(1e5).fill(1))' 2>&1 | head -20; exit 134",
    ),
    (
        "node-port",
        "port taken",
        "node -e 'const n = require(\"net\"); const a = n.createServer().listen(0, () => n.createServer().listen(a.address().port))'",
    ),
    ("node-refused", "connection refused", f'node -e \'require("http").get("{NOWHERE}")\''),
    (
        "node-test",
        "values differ",
        'echo \'require("node:test")("a", () => require("assert").equal(3, 4))\' > t.test.js; node --test t.test.js',
    ),
    (
        "npm-lock",
        "lock file out of date",
        'mkdir g; echo \'{"name":"g","version":"1.0.0"}\' > g/package.json; echo \'{"name":"t","version":"1.0.0","dependencies":{"g":"file:g"}}\' > package.json; echo \'{"name":"t","version":"1.0.0","lockfileVersion":3,"requires":true,"packages":{"":{"name":"t","version":"1.0.0"}}}\' > package-lock.json; npm ci --offline',
    ),
    (
        "npm-no-lock",
        "lock file out of date",
        'echo \'{"name":"t","version":"1.0.0"}\' > package.json; npm ci --offline',
    ),
    ("npm-refused", "connection refused", f"npm install gauge --registry {NOWHERE} --fetch-retries=0"),
    (
        "npm-script",
        "command not found",
        'echo \'{"name":"t","scripts":{"test":"askharbour"}}\' > package.json; npm test',
    ),
    ("npm-no-script", "no such script", 'echo \'{"name":"t"}\' > package.json; npm run tides'),
    ("npm-json", "configuration cannot be read", "echo '{' > package.json; npm test"),
    # C, C++, Rust, Java
    ("gcc-error", "does not compile", "echo 'int main() { return tide; }' > t.c; gcc t.c"),
    ("gcc-header", "header or library missing", "echo '#include <gauge.h>' > t.c; gcc t.c"),
    ("gcc-library", "header or library missing", "echo 'int main() {}' > t.c; gcc t.c -lgauge"),
    ("gcc-undefined", "header or library missing", "echo 'int tide(); int main() { return tide(); }' > t.c; gcc t.c"),
    (
        "gcc-standard",
        "syntax of a newer runtime",
        "echo 'template<typename T> concept C = true; int main() {}' > t.cc; g++ -std=c++14 t.cc",
    ),
    (
        "gcc-crash",
        "crashed",
        "echo 'int main() { int *p = 0; return *p; }' > t.c; gcc -w t.c && bash -c './a.out; true'; exit 139",
    ),
    (
        "gcc-abort",
        "crashed",
        "echo '#include <stdlib.h>\nint main() { abort(); }' > t.c; gcc t.c && bash -c './a.out; true'; exit 134",
    ),
    (
        "gcc-sanitizer",
        "memory error",
        "echo '#include <stdlib.h>\nint main() { char *p = malloc(4); p[4] = 1; return p[4]; }' > t.c; gcc -fsanitize=address -w t.c && ./a.out",
    ),
    (
        "loader",
        "shared library missing",
        "echo 'int tide() { return 1; }' > g.c; gcc -shared -fPIC -o libgauge.so g.c; echo 'int tide(); int main() { return tide(); }' > t.c; gcc -w t.c -L. -lgauge; ./a.out",
    ),
    (
        "loader-symbol",
        "shared library missing",
        "echo 'int tide() { return 1; }' > g.c; gcc -shared -fPIC -o libgauge.so g.c; echo 'int tide(); int main() { return tide(); }' > t.c; gcc -w t.c -L. -lgauge; echo 'int x;' > g.c; gcc -shared -fPIC -o libgauge.so g.c; LD_LIBRARY_PATH=. ./a.out",
    ),
    ("make-target", "no such script", "make tides"),
    ("make-rule", "file missing", "printf 'all: tides.o\\n' > Makefile; make"),
    (
        "cmake-package",
        "header or library missing",
        "printf 'cmake_minimum_required(VERSION 3.10)\\nproject(t C)\\nfind_package(Gauge REQUIRED)\\n' > CMakeLists.txt; cmake .",
    ),
    (
        "cmake-old",
        "tool too old",
        "printf 'cmake_minimum_required(VERSION 99.0)\\nproject(t C)\\n' > CMakeLists.txt; cmake .",
    ),
    (
        "ctest-none",
        "no tests found",
        "printf 'cmake_minimum_required(VERSION 3.10)\\nproject(t C)\\nenable_testing()\\n' > CMakeLists.txt; cmake . > /dev/null; ctest --no-tests=error",
    ),
    (
        "ctest-timeout",
        "timeout",
        "printf 'cmake_minimum_required(VERSION 3.10)\\nproject(t C)\\nenable_testing()\\nadd_test(NAME slow COMMAND sleep 9)\\nset_tests_properties(slow PROPERTIES TIMEOUT 1)\\n' > CMakeLists.txt; cmake . > /dev/null; ctest",
    ),
    ("rust-error", "does not compile", "echo 'fn main() { let x: i32 = \"a\"; }' > t.rs; rustc t.rs"),
    (
        "rust-panic",
        "values differ",
        "printf '#[test]\\nfn a() { assert_eq!(3, 4); }\\n' > t.rs; rustc --test t.rs -o t && ./t",
    ),
    (
        "cargo-offline",
        "no such version of a package",
        "printf '[package]\\nname=\"t\"\\nversion=\"1.0.0\"\\n[dependencies]\\n%s\\n' 'tidegauge_fen = \"9\"' > Cargo.toml; mkdir src; echo 'fn main() {}' > src/main.rs; cargo build --offline",
    ),
    (
        "cargo-locked",
        "lock file out of date",
        "printf '[package]\\nname=\"t\"\\nversion=\"1.0.0\"\\n[dependencies]\\n%s\\n' '' > Cargo.toml; mkdir src; echo 'fn main() {}' > src/main.rs; cargo generate-lockfile -q --offline; mkdir -p g/src; printf '[package]\\nname=\"g\"\\nversion=\"1.0.0\"\\n' > g/Cargo.toml; echo > g/src/lib.rs; echo 'g = { path = \"g\" }' >> Cargo.toml; cargo build --offline --locked",
    ),
    ("javac-error", "does not compile", "echo 'class T { int x = \"a\"; }' > T.java; javac T.java"),
    ("javac-package", "module missing", "echo 'import fen.gauge.Tide; class T {}' > T.java; javac T.java"),
    ("java-class", "module missing", "java fen.Tide"),
    (
        "java-version",
        "runtime too old for a package",
        "echo 'class T { public static void main(String[] a) {} }' > T.java; javac T.java; printf '\\x00\\x00\\x00\\x63' | dd of=T.class bs=1 seek=4 conv=notrunc 2>/dev/null; java -cp . T",
    ),
    (
        "java-memory",
        "out of memory",
        "echo 'class T { public static void main(String[] a) { long[][] x = new long[1000][]; for (int i = 0; i < 1000; i++) x[i] = new long[1000000]; } }' > T.java; javac T.java; java -Xmx20m -cp . T",
    ),
    (
        "java-stack",
        "stack used up",
        "echo 'class T { static int f(int x) { return f(x) + 1; } public static void main(String[] a) { f(1); } }' > T.java; javac T.java; java -cp . T 2>&1 | head -5; exit 1",
    ),
    (
        "maven-offline",
        "no such version of a package",
        "printf '<project><modelVersion>4.0.0</modelVersion><groupId>f</groupId><artifactId>t</artifactId><version>1</version><dependencies><dependency><groupId>fen</groupId><artifactId>gauge</artifactId><version>9</version></dependency></dependencies></project>' > pom.xml; mvn -o -q -B test",
    ),
    ("maven-pom", "configuration cannot be read", "echo '<project>' > pom.xml; mvn -o -q -B test"),
    # Perl
    ("perl-module", "module missing", "perl -e 'use Tide::Gauge;'"),
    ("perl-syntax", "syntax of a newer runtime", "perl -e 'my $x = ;'"),
    ("perl-version", "runtime too old for a package", "perl -e 'use 7.0;'"),
    ("perl-test", "values differ", "printf 'use Test::More tests => 1; is(3, 4, \"tide\");' > t.t; prove t.t"),
    # shell, git, files, network
    ("shell-command", "command not found", "askharbour --tides"),
    ("shell-exec", "permission denied", "echo 'echo 1' > run.sh; ./run.sh"),
    ("shell-format", "cannot be executed", "printf '\\x7fELFnonsense' > run; chmod +x run; ./run"),
    ("shell-interpreter", "command not found", "printf '#!/usr/bin/askharbour\\n' > run; chmod +x run; ./run"),
    ("shell-unset", "variable not set", "set -u; echo $TIDE_KEY"),
    ("shell-killed", "stopped by a signal", "bash -c 'kill -TERM $$'; echo; exit 143"),
    ("disk-full", "disk full", "dd if=/dev/zero of=/dev/full bs=1k count=1"),
    (
        "timeout",
        "timeout",
        "echo 'import asyncio\nasync def f(): await asyncio.wait_for(asyncio.sleep(9), 0.1)\nasyncio.run(f())' > t.py; python3 t.py",
    ),
    ("git-remote", "git refused", "git clone -q /nowhere/tide"),
    ("git-branch", "git refused", "git init -q; git checkout season"),
    ("git-not-a-repository", "git refused", "cd /; git status"),
    (
        "git-conflict",
        "git refused",
        "git init -q -b main; git config user.email a@b.c; git config user.name A; echo 1 > f; git add f; git commit -qm 1; git checkout -qb b; echo 2 > f; git commit -qam 2; git checkout -q main; echo 3 > f; git commit -qam 3; git merge b",
    ),
    ("git-owner", "git refused", "git init -q r; chown -R nobody r; cd r; git status"),
    ("psql-refused", "connection refused", "psql -h 127.0.0.1 -p 9 -c 'select 1'"),
    ("curl-refused", "connection refused", f"curl -sS {NOWHERE}"),
    ("curl-name", "name not resolved", "curl -sS http://gauges.invalid"),
    (
        "curl-missing",
        "service answers with an error",
        "(python3 -m http.server 47114 >/dev/null 2>&1 & echo $! > pid); sleep 1; curl -sSf http://127.0.0.1:47114/tides; s=$?; kill $(cat pid); exit $s",
    ),
    ("wget-refused", "connection refused", f"wget -q -O- {NOWHERE} || wget -O- --tries=1 {NOWHERE}"),
    ("ssh-refused", "connection refused", "ssh -o BatchMode=yes -p 9 127.0.0.1 true"),
    ("apt-package", "no such version of a package", "apt-get install -y --no-download tidegauge-fen"),
    ("apt-lock", "permission denied", "su nobody -s /bin/sh -c 'apt-get update'"),
    ("tar-corrupt", "archive damaged", "echo nonsense > t.tar.gz; tar xzf t.tar.gz"),
    ("unzip-corrupt", "archive damaged", "echo nonsense > t.zip; unzip t.zip"),
    ("patch", "patch does not apply", "echo a > f; printf -- '--- f\\n+++ f\\n@@ -1 +1 @@\\n-x\\n+y\\n' | patch f"),
    ("chromium-sandbox", "browser did not start", "timeout 20 /usr/bin/chromium --headless --dump-dom about:blank"),
]


def clean(text: str, folder: str) -> str:
    """A log without what belongs to this machine."""
    text = text.replace("\r\n", "\n").replace(folder, "/workspace")
    text = re.sub(r"https?://(?!127\.0\.0\.1|gauges\.invalid)[\w.:-]+", "https://packages.example", text)
    text = re.sub(r"/root/\.pyenv/versions/[\d.]+|/work/main/\.venv", "/usr", text)
    text = re.sub(r"/root\b|/home/\w+", "/home/ada", text).replace("crates.io", "packages.example")
    return re.sub(r"[\w-]+\.(?:pypi|npmjs|crates|maven)[\w.]*", "packages.example", text)


def collect(only: tuple[str, ...] = ()) -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    venv = Path(__file__).parents[2] / ".venv/bin"
    for name, kind, script in (s for s in SHAPES if not only or s[0] in only):
        with tempfile.TemporaryDirectory(prefix="shape-") as folder:
            done = subprocess.run(
                ["bash", "-c", script],
                cwd=folder,
                capture_output=True,
                timeout=120,
                check=False,
                env={
                    "PATH": f"{venv}:{os.environ['PATH']}:/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin",
                    "HOME": folder,
                    "LC_ALL": "C.UTF-8",
                    "PIP_DISABLE_PIP_VERSION_CHECK": "1",
                    "NO_COLOR": "1",
                    "CARGO_HOME": "/root/.cargo",
                    "RUSTUP_HOME": "/root/.rustup",
                },
            )
        said = clean((done.stdout + done.stderr).decode("utf-8", "replace"), folder)
        lines = said.rstrip().splitlines()[-MOST:]
        if done.returncode == 0 or not said.strip():
            print(f"{name}: it did not fail, or said nothing ({done.returncode})")
            continue
        head = f"kind: {kind}\nexit: {done.returncode}\n\n"
        (FOLDER / f"{name}.txt").write_text(head + "\n".join(lines) + "\n")


if __name__ == "__main__":
    collect(tuple(sys.argv[1:]))
