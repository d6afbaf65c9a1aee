"""Threads for nogil kernels, and work that can be dropped."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np


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
