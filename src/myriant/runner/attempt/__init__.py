"""One attempt: a fresh workspace of the exact commit, the steps one after another, the reports they wrote."""

from myriant.runner.attempt.execution import Execution

__all__ = ["Execution"]
