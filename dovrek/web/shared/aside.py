"""Building that a page asks for beside the pictures, which go on meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Workers
from dovrek.web.shared.answers import live

BYTES = 200 * 2**20  # of what is built
Found = TypeVar("Found")


def aside(find: Callable[[Preparer], Found]) -> Found:
    """What is found by a preparer that reads what pictures have built, and builds the rest by
    itself, on one thread."""
    preparer = Preparer(Workers(1), StageCache(BYTES, live().studio.preparer.cache))
    try:
        return find(preparer)
    finally:
        preparer.workers.close()
