"""How each kind of print is made: its parts computed by workers, its files written at the end.

A maker gives the files it wrote, the print's own first; when it raises OSError none of them is
left. To add a kind, write its file after the pattern of `backplate` and name it in MAKERS and in
the kinds of `store.orders`.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dovrek.prints.makers.backplate import backplate
from dovrek.prints.makers.clip import film, frames
from dovrek.prints.makers.dome import dome
from dovrek.prints.makers.task import Task
from dovrek.prints.makers.volume import volume
from dovrek.store.orders import BACKPLATE, DOME, FILM, FRAMES, VOLUME

MAKERS: dict[str, Callable[[Task], list[Path]]] = {
    BACKPLATE: backplate, DOME: dome, FILM: film, FRAMES: frames, VOLUME: volume}

__all__ = ["MAKERS", "Task"]
