"""Secrets in files: read piece by piece, masked as one."""

from __future__ import annotations

from pathlib import Path

import pytest

from myriant.runner.masking import Masker

PIECE = 256 * 1024


@pytest.mark.parametrize("before", [PIECE - 1, PIECE - 7, PIECE - 13, PIECE, 2 * PIECE - 6, 3 * PIECE - 2])
def test_a_secret_across_the_border_of_two_pieces_of_a_file_is_masked(tmp_path: Path, before: int) -> None:
    secret, file = b"s3cret-of-tide", tmp_path / "report.xml"
    file.write_bytes(b"x" * before + secret + b"y" * 100)
    masker = Masker({"TIDE": secret.decode()})
    assert masker.masks(file) and masker.mask_file(file)
    assert file.read_bytes() == b"x" * before + b"***TIDE***" + b"y" * 100
    assert not masker.mask_file(file)
