"""What a step printed at the target, against what the run made."""

from __future__ import annotations

import pytest

from myriant.core.release.proof import proven, unproven

A, B = "ab" * 32, "cd" * 32
MADE = [("dist/a.tar", A), ("dist/b.tar", B), ("notes.md", "ef" * 32)]
LACKS_A = f"step find did not find what was made: dist/a.tar ({A[:12]}…), of 1 file"


@pytest.mark.parametrize(
    ("globs", "printed", "why"),
    [
        (("dist/*.tar",), f"{A}  a.tar\n{B}  b.tar\n", ""),
        (("dist/*.tar",), f"sha256:{A.upper()} and ({B})", ""),
        (("dist/a.tar",), A, ""),
        (("dist/*.tar",), A, f"step find did not find what was made: dist/b.tar ({B[:12]}…), of 2 files"),
        (("dist/a.tar",), f"{A}0", LACKS_A),
        (("dist/a.tar",), A[:-1], LACKS_A),
        (("dist/a.tar",), "\x1b[31m\xff", LACKS_A),
        (("dist/*.whl",), A, "step find proves nothing: the run made no artifact of dist/*.whl"),
    ],
)
def test_only_the_very_digests_of_what_was_made_prove_that_it_arrived(
    globs: tuple[str, ...], printed: str, why: str
) -> None:
    assert unproven("step find", globs, proven(globs, MADE, printed.encode("latin-1", "replace"))) == why
