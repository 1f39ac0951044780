"""Files of an attempt as one archive, written while it is sent."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator

from hypothesis import given
from hypothesis import strategies as st

from myriant.api.zips import zipped

NAMES = st.text(st.characters(codec="utf-8", exclude_characters="\0/\\", exclude_categories=["Cs", "Cc"]), min_size=1)


@given(st.dictionaries(NAMES, st.lists(st.binary(max_size=200), max_size=5), max_size=4))
def test_what_was_put_in_comes_out(files: dict[str, list[bytes]]) -> None:
    sent = b"".join(zipped(list(files.items())))
    with zipfile.ZipFile(io.BytesIO(sent)) as archive:
        assert archive.testzip() is None
        assert {name: archive.read(name) for name in archive.namelist()} == {n: b"".join(c) for n, c in files.items()}


def test_a_piece_is_sent_before_the_next_is_read() -> None:
    read = []

    def pieces() -> Iterator[bytes]:
        for i in range(40):
            read.append(i)
            yield bytes([i]) * 100_000

    out = zipped([("large.bin", pieces())])
    assert len(next(out)) < 200_000 and len(read) == 1
    held = max(len(piece) for piece in out)
    assert held < 200_000 and len(read) == 40
