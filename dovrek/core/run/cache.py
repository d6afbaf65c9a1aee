"""Results of stages, kept by their keys, bounded in bytes together.

Each array counts once, for a scene holds the very arrays that its stages gave.
"""

from __future__ import annotations

import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

import numpy as np

from dovrek.core.run.shelf import Shelf

T = TypeVar("T")
Place = tuple[str, str]  # a stage's name and a key
BYTES_KEPT = 500 * 2**20
PLACES_KEPT, MEMOS_KEPT = 4000, 100
LATEST = 4  # results that stay however large: a scene above the bound, and what is asked of it


def arrays_of(value: Any) -> dict[int, int]:
    """Bytes of the memory that a result's arrays stand in, by its place: a part of an array keeps
    all of it."""
    found: dict[int, int] = {}
    waiting = [value]
    while waiting:
        each = waiting.pop()
        if isinstance(getattr(each, "nbytes", None), int):  # arrays, and what knows its own
            while isinstance(getattr(each, "base", None), np.ndarray):
                each = each.base
            found[id(each)] = each.nbytes
        elif isinstance(each, tuple | list):
            waiting += each
        elif is_dataclass(each) and not isinstance(each, type):
            waiting += (getattr(each, one.name) for one in fields(each))
    return found


class StageCache:
    """Results of stages, the longest unused dropped first.

    What is already in `behind` is read from there; what is built is kept here alone, so that
    trials never push out what the main picture needs. What stands on the `shelf` is read from it.
    """

    def __init__(self, most_bytes: int = BYTES_KEPT, behind: StageCache | None = None,
                 shelf: Shelf | None = None) -> None:
        self._most, self._behind, self._shelf = most_bytes, behind, shelf
        self._lock = threading.Lock()  # two searches, or a picture and its trials, may ask at once
        self._results: OrderedDict[Place, tuple[Any, dict[int, int]]] = OrderedDict()
        self._sharing: Counter[int] = Counter()  # results that an array is kept by
        self._memos: OrderedDict[Place, dict[Any, Any]] = OrderedDict()
        self.bytes = 0
        self.seconds: dict[str, float] = {}
        self.built: list[str] = []

    def __contains__(self, place: Place) -> bool:
        return (place in self._results or (self._behind is not None and place in self._behind)
                or (self._shelf is not None and place in self._shelf))

    def find(self, place: Place) -> tuple[bool, Any]:
        """Whether a result is at hand, and the result."""
        with self._lock:
            if place in self._results:
                self._results.move_to_end(place)
                return True, self._results[place][0]
        there, value = self._behind.find(place) if self._behind is not None else (False, None)
        if not there and self._shelf is not None:
            there, value = self._shelf.find(place)
            if there:
                self.put(place, value)
        return there, value

    def put(self, place: Place, value: Any, outlasts: bool = False) -> None:
        """Keep a result, and drop what has not been used for longest if there is too much. One
        that `outlasts` the process goes to the shelf, too."""
        if outlasts and self._shelf is not None:
            self._shelf.put(place, value)
        arrays = arrays_of(value)
        with self._lock:
            had = self._results.pop(place, None)
            self._results[place] = (value, arrays)
            for array, size in arrays.items():
                self.bytes += 0 if self._sharing[array] else size
                self._sharing[array] += 1
            if had is not None:
                self._let_go(had[1])
            while len(self._results) > LATEST and (self.bytes > self._most
                                                   or len(self._results) > PLACES_KEPT):
                _, dropped = self._results.popitem(last=False)
                self._let_go(dropped[1])

    def _let_go(self, arrays: dict[int, int]) -> None:
        """Count off the arrays of a result that is no longer kept; the lock is held, and the result
        still there, for its arrays' places would be given to others."""
        for array, size in arrays.items():
            self._sharing[array] -= 1
            if not self._sharing[array]:
                del self._sharing[array]
                self.bytes -= size

    def timed(self, name: str, build: Callable[[], T]) -> T:
        """The built result; its seconds are added up under a name."""
        start = time.perf_counter()
        value = build()
        with self._lock:
            self.seconds[name] = self.seconds.get(name, 0.0) + time.perf_counter() - start
            self.built.append(name)
        return value

    def memo(self, name: str, key: str) -> dict[Any, Any]:
        """A note that spares trying again, kept under a key where all read it; no final result may
        depend on it."""
        if self._behind is not None:
            return self._behind.memo(name, key)
        with self._lock:
            place = (name, key)
            note = self._memos.setdefault(place, {})
            self._memos.move_to_end(place)
            while len(self._memos) > MEMOS_KEPT:
                self._memos.popitem(last=False)
            return note

    def reset_clock(self) -> None:
        """Forget the timings, before a new measured run."""
        self.seconds, self.built = {}, []
