"""Stages: what is kept, what is dropped, work over threads and its end half-way."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator

import pytest

from dovrek.core.run.workers import Cancel, Cancelled, Workers
from dovrek.core.run.cache import StageCache, digest


@pytest.fixture
def workers() -> Iterator[Workers]:
    some = Workers(2)
    yield some
    some.close()


def test_the_last_asked_for_are_kept() -> None:
    cache, made = StageCache(2), []

    def built(key: str) -> str:
        return cache.get("stage", key, lambda: made.append(key) or key.upper())

    assert [built(k) for k in "abacab"] == list("ABACAB")
    assert made == ["a", "b", "c", "b"]  # `a`, asked for again, outlived `b`
    assert ("stage", "b") in cache and ("stage", "c") not in cache
    assert cache.built == ["stage"] * 4 and cache.seconds["stage"] >= 0.0
    cache.reset_clock()
    assert cache.built == [] and ("stage", "b") in cache


def test_a_stage_keeps_its_own_number() -> None:
    cache = StageCache(1)
    for key in "abc":
        cache.get("many", key, lambda: 0, keep=3)
        cache.get("one", key, lambda: 0)
    assert [("many", k) in cache for k in "abc"] == [True] * 3
    assert [("one", k) in cache for k in "abc"] == [False, False, True]


def test_trials_read_what_lies_behind_and_add_nothing_to_it() -> None:
    behind = StageCache(1)
    behind.get("stage", "main", lambda: 1)
    trials = StageCache(4, behind)
    assert trials.get("stage", "main", lambda: 2) == 1
    assert trials.get("stage", "trial", lambda: 3) == 3
    assert ("stage", "trial") in trials and ("stage", "trial") not in behind
    assert behind.built == ["stage"] and trials.built == ["stage"]


def test_what_fails_is_not_kept() -> None:
    cache = StageCache()

    def fail() -> int:
        raise Cancelled

    with pytest.raises(Cancelled):
        cache.get("stage", "key", fail)
    assert ("stage", "key") not in cache and cache.get("stage", "key", lambda: 4) == 4


def test_many_threads_share_a_cache() -> None:
    """A value that another thread pushes out is still given to the one that asked for it."""
    cache, wrong = StageCache(1), []

    def ask(start: int) -> None:
        try:
            for n in range(20_000):
                key = str((start * n) % 2)
                if cache.get("stage", key, lambda key=key: key) != key:  # type: ignore[misc]
                    wrong.append(key)
        except Exception as error:
            wrong.append(repr(error))

    often = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        threads = [threading.Thread(target=ask, args=(n,)) for n in range(1, 7)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        sys.setswitchinterval(often)
    assert not wrong
    assert sum(("stage", str(n)) in cache for n in range(2)) == 1


def test_rows_are_spread_once_each(workers: Workers) -> None:
    seen: list[int] = []
    workers.over(Cancel(), chunk=4)(lambda first, last: seen.extend(range(first, last)), 23)
    assert sorted(seen) == list(range(23))
    assert workers.all(Cancel(), [lambda k=k: k * k for k in range(9)]) == [  # type: ignore[misc]
        k * k for k in range(9)]


def test_dropped_work_ends_and_says_so(workers: Workers) -> None:
    cancel, done = Cancel(), []

    def rows(first: int, last: int) -> None:
        done.append(first)
        cancel.set()

    with pytest.raises(Cancelled):
        workers.over(cancel, chunk=1)(rows, 500)
    assert len(done) <= 2  # a thread may have begun its piece beside the one that cancelled
    with pytest.raises(Cancelled):
        workers.all(cancel, [lambda: done.append(-1)])
    assert -1 not in done
    with pytest.raises(Cancelled):
        cancel.check()


def test_a_digest_tells_values_apart() -> None:
    assert digest(1, "a") == digest(1, "a")
    assert len({digest(1), digest(1.0), digest("1"), digest([1]), digest(1, 1)}) == 5
