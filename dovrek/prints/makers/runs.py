"""Parts of a print dealt to lanes (workers), each with a run of neighbours: frames of a clip that
stand beside one another share the moments that a worker solves and keeps."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Generic, TypeVar

P = TypeVar("P")
WORTH = 3  # parts that are left of a run, from which on an idle lane takes half of them


class Runs(Generic[P]):
    """What is not given out yet, in their order."""

    def __init__(self, parts: Iterable[P]) -> None:
        self._free = [run] if (run := list(parts)) else []
        self._of: dict[str, list[P]] = {}

    def __bool__(self) -> bool:
        return any(self._free) or any(self._of.values())

    def keep(self, lanes: Collection[str]) -> None:
        """These lanes are there now; the runs of others are anybody's."""
        self._free += [run for lane, run in self._of.items() if lane not in lanes and run]
        self._of = {lane: self._of.get(lane, []) for lane in lanes}

    def back(self, part: P) -> None:
        """A part that was given out and is not coming."""
        self._free.append([part])

    def next(self, lane: str) -> P | None:
        """What a lane, one of those kept, should do next; nothing when all is dealt, or when others
        are nearly through theirs."""
        run = self._of[lane]
        if not run:
            run = self._of[lane] = self._share()
        return run.pop(0) if run else None

    def _share(self) -> list[P]:
        """A run for a lane without: of what is free, as much as each without gets, else the latter
        half of the longest."""
        if self._free:
            longest = max(self._free, key=len)
            idle = sum(not run for run in self._of.values())
            part = -(-len(longest) // idle)
            share, longest[:part] = longest[:part], []
            self._free = [run for run in self._free if run]
            return share
        longest = max(self._of.values(), key=len)
        if len(longest) < WORTH:
            return []
        middle = len(longest) // 2
        share, longest[middle:] = longest[middle:], []
        return share
