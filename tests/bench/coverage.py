"""Coverage: merged beside an addition of the same vectors, read beside bare expat, bytes kept of a line."""

from __future__ import annotations

import xml.parsers.expat
from collections.abc import Iterator

import numpy as np
from tests.bench.measure import against, report

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, none
from myriant.core.coverage.packed import pack_file
from myriant.core.coverage.read import read_coverage

CELLS, FILES, LINES = 24, 3000, 200


def measure() -> None:
    luck = np.random.default_rng(1834)
    cells = [{f"src/lock_{n}.py": _file(luck) for n in range(FILES)} for _ in range(CELLS)]
    vectors = [[file.hits for file in cell.values()] for cell in cells]

    def add() -> None:
        for n in range(FILES):
            total = vectors[0][n].copy()
            for cell in vectors[1:]:
                total += cell[n]

    against("24 cells of 3,000 files merged", lambda: merge_files(cells), add, limit=5)
    packed = sum(len(pack_file(f)) for f in cells[0].values())
    report("bytes kept of a line, with random hits", [packed / (FILES * LINES)], "bytes")
    usual = [
        FileCoverage(np.arange(1, LINES + 1, dtype=np.int32), np.minimum(f.hits, 1), none(), none(), none())
        for f in cells[0].values()
    ]
    report("bytes kept of a line, covered or not", [sum(len(pack_file(f)) for f in usual) / (FILES * LINES)], "bytes")
    for name, text in (("Cobertura", _cobertura()), ("Clover", _clover()), ("JaCoCo", _jacoco())):
        against(
            f"{name} of 3,000 files read", lambda t=text: read_coverage(_pieces(t)), lambda t=text: _bare(t), limit=2.5
        )  # type: ignore[misc]


def _file(luck: np.random.Generator) -> FileCoverage:
    lines = np.arange(1, LINES + 1, dtype=np.int32) * 2
    return FileCoverage(lines, luck.integers(0, 50, LINES).astype(np.int32), none(), none(), none())


def _pieces(text: bytes) -> Iterator[bytes]:
    for at in range(0, len(text), 1 << 18):
        yield text[at : at + (1 << 18)]


def _bare(text: bytes) -> None:
    """Expat with handlers that do nothing."""
    parser = xml.parsers.expat.ParserCreate()
    parser.StartElementHandler = lambda name, attributes: None
    parser.EndElementHandler = lambda name: None
    for piece in _pieces(text):
        parser.Parse(piece, False)
    parser.Parse(b"", True)


def _cobertura() -> bytes:
    lines = "".join(f'<line number="{n}" hits="{n % 7}"/>' for n in range(1, LINES + 1))
    rows = "".join(
        f'<class name="l{n}" filename="src/lock_{n}.py"><methods/><lines>{lines}</lines></class>' for n in range(FILES)
    )
    return f'<?xml version="1.0"?><coverage><packages><package name="s"><classes>{rows}</classes></package></packages></coverage>'.encode()


def _clover() -> bytes:
    lines = "".join(f'<line num="{n}" count="{n % 7}" type="stmt"/>' for n in range(1, LINES + 1))
    rows = "".join(f'<file name="lock_{n}.js" path="src/lock_{n}.js">{lines}</file>' for n in range(FILES))
    return f'<?xml version="1.0"?><coverage clover="3"><project>{rows}</project></coverage>'.encode()


def _jacoco() -> bytes:
    lines = "".join(f'<line nr="{n}" mi="{n % 2}" ci="{n % 7}" mb="0" cb="0"/>' for n in range(1, LINES + 1))
    rows = "".join(f'<sourcefile name="Lock{n}.java">{lines}</sourcefile>' for n in range(FILES))
    return f'<?xml version="1.0"?><report name="s"><package name="src">{rows}</package></report>'.encode()
