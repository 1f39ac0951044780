"""The made-up commit that stands for a tree where a job is not told which commit it tests.

It depends on the tree alone: no id, message, author, time, tag or history of the true commit can be seen by it.
"""

from __future__ import annotations

from pathlib import Path

from myriant.repos import answers
from myriant.repos.git import git

_WHEN = "2000-01-01T00:00:00Z"
_WHO = {"NAME": "Myriant", "EMAIL": "myriant@localhost", "DATE": _WHEN}
_MESSAGE = 'One tree, whichever commit it is of\n\nWrite told = ["commit"] in the job to see the true one.'


def made_up_commit(repository: Path, tree: str) -> str:
    """Make the commit that stands for a tree in a repository, if it is not there yet; its id. Raises GitError."""
    environment = {f"GIT_{role}_{what}": value for role in ("AUTHOR", "COMMITTER") for what, value in _WHO.items()}
    made = git(repository, "commit-tree", "-m", _MESSAGE, tree, environment=environment)
    return answers.word(made)
