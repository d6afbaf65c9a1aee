"""Nodes are built as soon as what they stand on is there, on all threads."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator
from concurrent.futures import CancelledError, Future, ThreadPoolExecutor
from contextlib import contextmanager
from functools import partial
from typing import Any, TypeVar, cast

from dovrek.core.run.cache import StageCache
from dovrek.core.run.stage import Known, Node, Tools, nodes_in
from dovrek.core.run.workers import Cancelled

T = TypeVar("T")


class Maker:
    """Builds nodes: what is at hand is taken, the rest is made, side by side where it may be."""

    def __init__(self, cache: StageCache, tools: Tools) -> None:
        self.cache, self.tools = cache, tools

    def holds(self, *nodes: Node[Any]) -> bool:
        """Whether all are at hand."""
        return all(node.place in self.cache for node in nodes)

    def make(self, node: Node[T]) -> T:
        """The node's result. Raises Cancelled."""
        return cast(T, self.all([node])[0])

    def all(self, nodes: Iterable[Node[Any]]) -> list[Any]:
        """The results of nodes, in order. Raises Cancelled."""
        nodes = list(nodes)
        found: dict[str, Any] = {}
        missing = self._missing(nodes, found)
        if missing:
            _Making(self, missing, found).run()
        return [found[node.key] for node in nodes]

    @contextmanager
    def beside(self, nodes: list[Node[Any]]) -> Iterator[None]:
        """Nodes are built while the body runs; all are there when it has ended. Raises
        Cancelled."""
        if self.holds(*nodes):
            yield
            return
        with ThreadPoolExecutor(1) as one:
            built = one.submit(self.all, nodes)
            yield
            built.result()

    def _missing(self, nodes: list[Node[Any]], found: dict[str, Any]) -> dict[str, Node[Any]]:
        """All that must be built for nodes; what is at hand goes into `found`."""
        missing: dict[str, Node[Any]] = {}
        waiting = list(nodes)
        while waiting:
            node = waiting.pop()
            if node.key in found or node.key in missing:
                continue
            if isinstance(node, Known):
                found[node.key] = node.value
                continue
            there, value = self.cache.find(node.place)
            if there:
                found[node.key] = value
                continue
            missing[node.key] = node
            waiting += nodes_in(list(node.inputs.values()))
        return missing

    def build(self, node: Node[T], found: dict[str, Any]) -> T:
        """The result of a node whose inputs are found. Raises Cancelled."""
        self.tools.cancel.check()
        inputs = {name: _filled(value, found) for name, value in node.inputs.items()}
        made = self.cache.timed(node.of.name, lambda: node.of.build(self.tools, **inputs))
        self.tools.cancel.check()
        return made


def _filled(value: Any, found: dict[str, Any]) -> Any:
    """An input with results in the place of nodes. (A function within `build` that calls itself
    would hold itself, and all that was found, until Python looks for such rings: hundreds of
    megabytes in a process that hardly makes any.)"""
    if isinstance(value, Node):
        return found[value.key]
    if type(value) in (tuple, list):
        return type(value)(_filled(each, found) for each in value)
    return value


class _Making:
    """The missing nodes of one call. Wide ones run from the thread that asked, one after another,
    and spread over the pool; the others run in it, as many as there are threads, meanwhile."""

    def __init__(self, maker: Maker, missing: dict[str, Node[Any]], found: dict[str, Any]) -> None:
        self._maker, self._missing, self._found = maker, missing, found
        self._begun: set[str] = set()
        self._beside = 0  # in the pool
        self._error: BaseException | None = None
        self._news = threading.Condition()
        self._below = {key: [n.key for n in nodes_in(list(node.inputs.values()))
                             if n.key in missing] for key, node in missing.items()}
        self._height = dict.fromkeys(missing, 0)  # steps from a node to the end
        for key in _downward(self._below):
            for below in self._below[key]:
                self._height[below] = max(self._height[below], self._height[key] + 1)

    def run(self) -> None:
        """Build all. Raises Cancelled, and what a builder raises."""
        try:
            while True:
                with self._news:
                    self._start()
                    while (wide := self._next(wide=True)) is None:
                        if self._error is not None:
                            raise self._error
                        if not self._missing:
                            return
                        self._news.wait()
                self._done(wide, self._maker.build(wide, self._found))
        finally:
            with self._news:  # nothing of this call goes on when it has ended
                # Not the error that is raised: its traceback holds this call with all it found.
                self._error = RuntimeError("the call has ended")
                while self._beside:
                    self._news.wait()

    def _next(self, wide: bool) -> Node[Any] | None:
        """What should be begun: the most stands on it, or it is the longest."""
        ready = [] if self._error else [
            node for key, node in self._missing.items()
            if node.of.wide == wide and key not in self._begun
            and not any(below in self._missing for below in self._below[key])]
        if not ready:
            return None
        node = max(ready, key=lambda n: (self._height[n.key], _size(n, self._found)))
        self._begun.add(node.key)
        return node

    def _start(self) -> None:
        """Give the pool what is ready; the lock is held."""
        workers = self._maker.tools.workers
        while self._beside < workers.threads and (node := self._next(wide=False)) is not None:
            self._beside += 1
            try:
                built = workers.pool.submit(self._maker.build, node, self._found)
            except RuntimeError as error:  # the pool is closed
                self._beside -= 1
                self._error = error
            else:
                built.add_done_callback(partial(self._ended, node))

    def _ended(self, node: Node[Any], built: Future[Any]) -> None:
        error: BaseException | None = None
        try:
            error = built.exception()  # raised where all was asked for
            if error is None:
                self._done(node, built.result())
        except CancelledError:  # the pool was closed
            error = Cancelled()
        except BaseException as other:
            error = other
        with self._news:
            self._error = self._error or error
            self._beside -= 1
            self._start()
            self._news.notify_all()

    def _done(self, node: Node[Any], value: Any) -> None:
        if node.of.kept:
            self._maker.cache.put(node.place, value, node.of.outlasts(node.inputs))
        with self._news:
            self._found[node.key] = value
            del self._missing[node.key]


def _downward(below: dict[str, list[str]]) -> list[str]:
    """Keys in an order in which each comes before all that it stands on."""
    order: list[str] = []
    seen: set[str] = set()

    def visit(key: str) -> None:
        if key not in seen:
            seen.add(key)
            for each in below[key]:
                visit(each)
            order.append(key)

    for key in below:
        visit(key)
    return order[::-1]


def _size(node: Node[Any], found: dict[str, Any]) -> int:
    """About how long a node takes: by the bytes it is made of."""
    return sum(getattr(found.get(i.key), "nbytes", 0)
               for i in nodes_in(list(node.inputs.values())))
