"""Stages: what is kept, what is dropped, work over threads and its end half-way."""

from __future__ import annotations

import gc
import sys
import threading
import weakref
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.run.cache import StageCache
from dovrek.core.run.maker import Maker
from dovrek.core.run.stage import Known, Stage, Tools, key_of, stage
from dovrek.core.run.workers import Cancel, Cancelled, Workers


@pytest.fixture
def workers() -> Iterator[Workers]:
    some = Workers(2)
    yield some
    some.close()


@stage("doubled")
def doubled(tools: Tools, value: int) -> NDArray[np.int64]:
    return np.full(64, 2 * value)


@stage("sum", wide=True)
def total(tools: Tools, parts: list[NDArray[np.int64]], more: int) -> int:
    return int(sum(p.sum() for p in parts)) + more


@stage("fails")
def fails(tools: Tools, value: int) -> int:
    raise Cancelled


@stage("fails wide", wide=True)
def fails_wide(tools: Tools, value: int) -> int:
    raise Cancelled


@stage("nested")
def nested(tools: Tools, parts: list[Any]) -> int:
    return len(parts)


@stage("not kept", kept=False)
def unkept(tools: Tools, part: NDArray[np.int64]) -> NDArray[np.int64]:
    return part + 1


def maker_of(workers: Workers, cache: StageCache | None = None) -> Maker:
    return Maker(cache or StageCache(), Tools(workers, Cancel()))


def test_nodes_are_built_once_with_what_they_stand_on(workers: Workers) -> None:
    maker = maker_of(workers)
    node = total(parts=[doubled(value=1), doubled(value=2)], more=5)
    assert not maker.holds(node) and maker.make(node) == 64 * 6 + 5
    assert sorted(maker.cache.built) == ["doubled", "doubled", "sum"]
    again = total(more=5, parts=[doubled(value=1), doubled(value=2)])
    assert maker.holds(again) and maker.make(again) == 64 * 6 + 5
    assert maker.make(total(parts=[doubled(value=2)], more=0)) == 64 * 4
    assert sorted(maker.cache.built) == ["doubled", "doubled", "sum", "sum"]
    assert maker.cache.seconds["doubled"] >= 0.0
    maker.cache.reset_clock()
    assert maker.cache.built == [] and maker.holds(again)


def test_what_a_larger_result_is_made_of_need_not_be_kept(workers: Workers) -> None:
    maker = maker_of(workers)
    node = total(parts=[unkept(part=doubled(value=3))], more=0)
    assert maker.make(node) == 64 * 7
    assert not maker.holds(unkept(part=doubled(value=3))) and maker.holds(doubled(value=3))


def test_the_longest_unused_go_when_bytes_run_out() -> None:
    cache, one = StageCache(5 * 512), np.zeros(64)
    for key in "abcde":
        cache.put(("stage", key), one.copy())
    assert cache.bytes == 5 * 512 and cache.find(("stage", "a"))[0]
    cache.put(("other", "f"), (one.copy(), one.copy()))  # all stages share the room
    assert [("stage", k) in cache for k in "abcde"] == [True, False, False, True, True]
    assert ("other", "f") in cache and cache.bytes == 5 * 512


def test_an_array_that_results_share_counts_once_and_a_part_of_it_as_the_whole() -> None:
    cache, one = StageCache(6000), np.zeros(500)
    cache.put(("stage", "part"), one[:3])
    assert cache.bytes == one.nbytes
    cache.put(("scene", "whole"), (one, [one[5:]], np.zeros(10)))
    assert cache.bytes == one.nbytes + 80
    cache.put(("scene", "whole"), (one, 3))  # made once more
    assert cache.bytes == one.nbytes
    for key in range(9):  # the part goes, and what it was of stays with the scene
        cache.find(("scene", "whole"))
        cache.put(("other", str(key)), np.zeros(50))
    assert ("stage", "part") not in cache and ("scene", "whole") in cache
    kept = sum(("other", str(key)) in cache for key in range(9))
    assert cache.bytes == one.nbytes + kept * 400 <= 6000 and kept == 5


def test_a_result_above_the_bound_stays_while_it_is_asked_for() -> None:
    cache = StageCache(1000)
    cache.put(("scene", "huge"), np.zeros(4096))
    for key in range(9):
        cache.put(("light", str(key)), np.zeros(64))
        assert cache.find(("scene", "huge"))[0]
    for key in range(9):
        cache.put(("light", f"more {key}"), np.zeros(64))
    assert ("scene", "huge") not in cache and cache.bytes <= 4 * 512


def test_trials_read_what_lies_behind_and_add_nothing_to_it(workers: Workers) -> None:
    behind = StageCache()
    maker_of(workers, behind).make(doubled(value=1))
    trials = StageCache(behind=behind)
    maker = maker_of(workers, trials)
    assert maker.make(total(parts=[doubled(value=1), doubled(value=7)], more=0)) == 64 * 16
    assert doubled(value=7).place in trials and doubled(value=7).place not in behind
    assert behind.built == ["doubled"] and sorted(trials.built) == ["doubled", "sum"]
    trials.memo("note", "k")["known"] = 1
    assert behind.memo("note", "k") == {"known": 1}


@pytest.mark.parametrize("and_then", [doubled, fails, fails_wide])
def test_what_is_dropped_is_gone_at_once(workers: Workers, and_then: Stage[Any]) -> None:
    """Nothing waits for the collector of rings, which seldom comes where few objects are made."""
    maker, seen = maker_of(workers), []

    def watched(name: str, build: Callable[[], Any]) -> Any:
        value = build()
        if isinstance(value, np.ndarray):
            seen.append(weakref.ref(value))
        return value

    maker.cache.timed = watched  # type: ignore[method-assign]
    gc.collect()
    gc.disable()
    try:
        parts = [[doubled(value=1), (doubled(value=2), 3)], and_then(value=total(
            parts=[doubled(value=4), doubled(value=5)], more=0))]
        with suppress(Cancelled):
            maker.all([nested(parts=parts)])
        assert len(seen) >= 2
        maker.cache = StageCache()
        assert [ref() for ref in seen] == [None] * len(seen)
    finally:
        gc.enable()


def test_what_fails_is_not_kept(workers: Workers) -> None:
    maker = maker_of(workers)
    with pytest.raises(Cancelled):
        maker.make(fails(value=1))
    assert not maker.holds(fails(value=1))
    maker.tools.cancel.set()
    with pytest.raises(Cancelled):
        maker.make(doubled(value=9))


def test_a_builder_sees_nothing_but_its_inputs() -> None:
    hidden = 3
    with pytest.raises(TypeError, match="more than its inputs"):
        stage("leaky")(lambda tools: hidden)
    with pytest.raises(TypeError, match="no input"):
        doubled(value={"a": 1})


def test_what_is_known_stands_under_its_key(workers: Workers) -> None:
    maker = maker_of(workers)
    assert maker.make(total(parts=[Known("here", np.ones(4))], more=1)) == 5
    assert "known" not in maker.cache.built


def test_many_threads_share_a_cache() -> None:
    """A value that another thread pushes out is still given to the one that asked for it."""
    cache, wrong = StageCache(8), []

    def ask(start: int) -> None:
        try:
            for n in range(20_000):
                key = (start * n) % 6
                there, value = cache.find(("stage", str(key)))
                if there and int(value[0]) != key:
                    wrong.append(key)
                cache.put(("stage", str(key)), np.full(1, key))
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
    assert not wrong and cache.bytes == 4 * 8


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


def test_keys_tell_values_apart() -> None:
    assert key_of(1, "a") == key_of(1, "a")
    other = [key_of(1, "b"), key_of("1", "a"), key_of(1.0, "a"), key_of((1, "a")), key_of([1, "a"]),
             key_of(True, "a"), key_of(np.array([1]), "a"), key_of(np.array([1.0]), "a"),
             key_of(doubled(value=1), "a"), key_of(doubled(value=2), "a"), key_of(None, "a")]
    assert len({key_of(1, "a"), *other}) == len(other) + 1


@stage("waits")
def waits(tools: Tools, mine: int) -> int:
    """Until `wide_meets` has come to where it waits too."""
    MEET.wait(20)
    return mine


@stage("wide meets", wide=True)
def wide_meets(tools: Tools, mine: int) -> int:
    MEET.wait(20)
    return mine


@stage("closed", wide=True)
def closing(tools: Tools, mine: int) -> int:
    tools.workers.close()
    return mine


@stage("broken")
def broken(tools: Tools, mine: int) -> int:
    raise ValueError("no such number")


@stage("pair", kept=False)
def pair(tools: Tools, one: int, other: int) -> int:
    return one + other


MEET = threading.Barrier(3)


def test_wide_work_and_narrow_go_side_by_side(workers: Workers) -> None:
    """Two narrow nodes and a wide one wait for one another: none is kept until others are done."""
    maker = maker_of(workers)
    nodes = [waits(mine=1), wide_meets(mine=2), waits(mine=3)]
    assert maker.all(nodes) == [1, 2, 3] and not MEET.broken


def test_what_is_asked_for_beside_is_there_at_the_end(workers: Workers) -> None:
    maker = maker_of(workers)
    with maker.beside([doubled(value=4)]):
        assert maker.make(doubled(value=5))[0] == 10
    assert maker.cache.built.count("doubled") == 2 and maker.holds(doubled(value=4))
    with maker.beside([doubled(value=4)]):  # at hand
        pass
    assert maker.cache.built.count("doubled") == 2
    with pytest.raises(ValueError, match="no such number"), maker.beside([broken(mine=1)]):
        assert maker.make(doubled(value=6))[0] == 12


def test_what_breaks_is_said_and_nothing_goes_on(workers: Workers) -> None:
    maker = maker_of(workers)
    with pytest.raises(ValueError, match="no such number"):
        maker.make(pair(one=broken(mine=1), other=total(parts=[doubled(value=1)], more=0)))
    assert "pair" not in maker.cache.built
    assert maker.make(doubled(value=1))[0] == 2  # and others go on


def test_a_pool_that_closes_keeps_nobody_waiting() -> None:
    workers = Workers(2)
    maker = maker_of(workers)
    with pytest.raises((RuntimeError, Cancelled)):
        maker.make(pair(one=closing(mine=1), other=pair(one=closing(mine=1), other=2)))
