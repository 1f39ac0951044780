"""Which statements of flow, runner, api and store each test reaches, in every process it starts.

This folder on PYTHONPATH and MYRIANT_REACHED naming a folder make each Python process note, for the test that goes on
(`reached_tests` writes its number), the statements that were reached: a mark before each statement of a function, read
five times a second. What is seen in the moment in which one test follows another is noted for both.
"""

from __future__ import annotations

import ast
import atexit
import hashlib
import marshal
import os
import sys
import threading
import time
from importlib.machinery import ModuleSpec, PathFinder, SourceFileLoader
from pathlib import Path
from types import CodeType, ModuleType

FOLDER = Path(os.environ.get("MYRIANT_REACHED", "/nonexistent"))
PACKAGES = ("myriant.flow", "myriant.runner", "myriant.api", "myriant.store")
INSIDE = "myriant.runner.inside"  # runs in the sandbox, where none of this is
MARK = "_reached"
_marks: dict[str, bytearray] = {}
_lock = threading.Lock()


class _Marking(ast.NodeTransformer):
    """A mark before each statement of each function; the line on which the statement begins is its name."""

    def __init__(self) -> None:
        self.depth = 0

    def generic_visit(self, node: ast.AST) -> ast.AST:
        function = isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
        self.depth += function
        super().generic_visit(node)
        if self.depth and not isinstance(node, ast.ClassDef):
            for field in ("body", "orelse", "finalbody"):
                body = getattr(node, field, None)
                if isinstance(body, list):
                    setattr(node, field, [each for statement in body for each in self._marked(statement)])
        self.depth -= function
        return node

    @staticmethod
    def _marked(statement: ast.stmt) -> list[ast.stmt]:
        mark = ast.parse(f"{MARK}[{statement.lineno}] = 1").body[0]
        for node in ast.walk(mark):
            if hasattr(node, "lineno"):
                ast.copy_location(node, statement)
        return [mark, statement]


class _Loader(SourceFileLoader):
    def get_code(self, fullname: str) -> CodeType:
        path = Path(self.path)
        name = hashlib.sha256(f"{path} {path.stat().st_mtime_ns}".encode()).hexdigest()
        kept = FOLDER / "code" / name
        if kept.exists():
            code: CodeType = marshal.loads(kept.read_bytes())
            return code
        tree = _Marking().visit(ast.parse(path.read_bytes()))
        code = compile(ast.fix_missing_locations(tree), self.path, "exec", dont_inherit=True)
        aside = kept.with_suffix(f".{os.getpid()}")
        aside.write_bytes(marshal.dumps(code))
        aside.rename(kept)
        return code

    def exec_module(self, module: ModuleType) -> None:
        lines = Path(self.path).read_bytes().count(b"\n") + 2
        _marks[self.path] = module.__dict__[MARK] = bytearray(lines)
        super().exec_module(module)


class _Finder:
    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> ModuleSpec | None:
        if not name.startswith(PACKAGES) or name.startswith(INSIDE):
            return None
        spec = PathFinder.find_spec(name, path)  # type: ignore[arg-type]
        if spec is not None and isinstance(spec.loader, SourceFileLoader):
            spec.loader = _Loader(name, spec.loader.path)
        return spec


class _Notes:
    """What this process has noted, in a file of its own."""

    def __init__(self) -> None:
        self.test, self.known = "", set[tuple[str, str, int]]()

    def note(self) -> None:
        """Keep what was reached since the last time, for the test of then and the test of now."""
        with _lock:
            self._note()

    def _note(self) -> None:
        now = FOLDER / f"now-{os.environ.get('PYTEST_XDIST_WORKER', 'main')}"  # a worker learns its name late
        try:
            test = now.read_text()
        except OSError:
            test = ""
        tests = {t for t in (self.test, test) if t}
        if test != self.test:
            self.known.clear()
        self.test = test
        found = set[tuple[str, str, int]]()
        for path, marks in list(_marks.items()):
            line = marks.find(1)
            while line >= 0:
                marks[line] = 0
                found |= {(t, path, line) for t in tests}
                line = marks.find(1, line + 1)
        if new := found - self.known:
            self.known |= new
            with (FOLDER / f"seen-{os.getpid()}").open("a") as file:
                file.writelines(f"{t}\t{path.rpartition('/myriant/')[2]}\t{line}\n" for t, path, line in sorted(new))


notes = _Notes()


def _watch() -> None:
    atexit.register(notes.note)

    def on() -> None:
        while True:
            time.sleep(0.2)
            notes.note()

    threading.Thread(target=on, daemon=True, name="reached").start()


def _watch_again() -> None:
    _lock.release()
    _watch()


if FOLDER.is_dir():
    (FOLDER / "code").mkdir(exist_ok=True)
    sys.meta_path.insert(0, _Finder)  # type: ignore[arg-type]
    _watch()
    os.register_at_fork(before=_lock.acquire, after_in_parent=_lock.release, after_in_child=_watch_again)
