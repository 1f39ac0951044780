"""The lines that a change added or modified, and whether they are covered."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from pathlib import PurePosixPath

import numpy as np

from myriant.core.coverage.model import FileCoverage
from myriant.core.diagnosis.discovery import looks_like_test


def changed_lines_covered(
    files: Mapping[str, FileCoverage], changed: Mapping[str, Collection[int]], present: Collection[str]
) -> tuple[int, int] | None:
    """Covered and coverable lines among those changed; None when the reports name no file that is `present`.

    A changed file of a kind that the reports know (by its ending), which they do not name and which is no test, was
    run by nobody: each of its changed lines counts, and none of them is covered.
    """
    known = [path for path in files if path in present]
    if not known:
        return None
    endings = {PurePosixPath(path).suffix for path in known} - {""}
    covered = coverable = 0
    for path, lines in changed.items():
        file = files.get(path)
        if file is not None:
            touched = np.isin(file.lines, list(lines))
            coverable, covered = coverable + int(touched.sum()), covered + int((file.hits[touched] > 0).sum())
        elif path in present and PurePosixPath(path).suffix in endings and not looks_like_test(path):
            coverable += len(lines)
    return covered, coverable
