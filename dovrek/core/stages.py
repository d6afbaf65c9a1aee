"""Work that can be kept, and work that can be dropped."""

from __future__ import annotations

import hashlib
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")
KEPT_PER_STAGE = 6


class Cancelled(Exception):
    """The work was superseded; nothing of it counts."""


class Cancel:
    """A flag that Python checks between pieces and kernels read between rows."""

    def __init__(self) -> None:
        self.flag = np.zeros(1, dtype=np.uint8)

    def set(self) -> None:
        self.flag[0] = 1

    @property
    def is_set(self) -> bool:
        return bool(self.flag[0])

    def check(self) -> None:
        if self.flag[0]:
            raise Cancelled


class Workers:
    """A pool of threads for nogil kernels."""

    def __init__(self, threads: int = 2, niceness: Callable[[], None] | None = None) -> None:
        self.threads = max(1, threads)
        self.pool = ThreadPoolExecutor(self.threads, initializer=niceness)

    def over(self, cancel: Cancel, chunk: int = 4) -> Callable[[Callable[[int, int], None], int],
                                                                None]:
        """A function that spreads `f(first, last)` over 0 … n in chunks; raises Cancelled."""

        def run(f: Callable[[int, int], None], n: int) -> None:
            def piece(first: int) -> None:
                if not cancel.is_set:
                    f(first, min(first + chunk, n))

            list(self.pool.map(piece, range(0, n, chunk)))
            cancel.check()

        return run

    def all(self, cancel: Cancel, tasks: list[Callable[[], Any]]) -> list[Any]:
        """Run tasks side by side and return their results; raises Cancelled."""

        def one(task: Callable[[], Any]) -> Any:
            return None if cancel.is_set else task()

        results = list(self.pool.map(one, tasks))
        cancel.check()
        return results

    def close(self) -> None:
        self.pool.shutdown(wait=True, cancel_futures=True)


def digest(*parts: Any) -> str:
    """A short hash of plain values (their repr)."""
    return hashlib.blake2b(repr(parts).encode(), digest_size=12).hexdigest()


class StageCache:
    """Results of stages by name and the hash of what they depend on.

    What is already in `behind` is read from there; what is built is kept here alone, so that
    trials never push out what the main picture needs.
    """

    def __init__(self, kept: int = KEPT_PER_STAGE, behind: StageCache | None = None) -> None:
        self._kept, self._behind = kept, behind
        self._lock = threading.Lock()  # two searches, or a picture and its trials, may ask at once
        self._stages: dict[str, OrderedDict[str, Any]] = {}
        self.seconds: dict[str, float] = {}
        self.built: list[str] = []

    def __contains__(self, place: tuple[str, str]) -> bool:
        if place[1] in self._stages.get(place[0], {}):
            return True
        return self._behind is not None and place in self._behind

    def reset_clock(self) -> None:
        """Forget the timings, before a new measured run."""
        self.seconds, self.built = {}, []

    def get(self, stage: str, key: str, build: Callable[[], T], keep: int = 0) -> T:
        """The stored result, or the built one; nothing is stored when `build` raises."""
        with self._lock:
            results = self._stages.setdefault(stage, OrderedDict())
            if key in results:
                results.move_to_end(key)
                found: T = results[key]
                return found
        if self._behind is not None and (stage, key) in self._behind:
            there: T = self._behind.get(stage, key, build)
            return there
        value = self.once(stage, build)
        with self._lock:
            results[key] = value
            while len(results) > (keep or self._kept):
                results.popitem(last=False)
        return value

    def once(self, stage: str, build: Callable[[], T]) -> T:
        """The built result, timed as a stage but not kept: a larger one is made of it."""
        start = time.perf_counter()
        value = build()
        self.seconds[stage] = self.seconds.get(stage, 0.0) + time.perf_counter() - start
        self.built.append(stage)
        return value
