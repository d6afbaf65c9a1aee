"""Boards of small pictures: test strips, contact sheets, versions to compare.

A board is ordered at once and painted by the render thread whenever no window waits for its
own picture. What has been painted is kept, so that asking again costs nothing.
"""

from __future__ import annotations

import itertools
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field

from dovrek.sky.document import Sky
from dovrek.web.live.looks import Look

BOARDS_KEPT, PAINTED_KEPT = 12, 600
FORGOTTEN_S = 25.0  # a board that no window asks for is not painted on


@dataclass
class Frame:
    """One small picture: the sky it shows and the change that leads to it."""

    label: str
    sky: Sky
    alter: Callable[[Sky], Sky]
    note: str = ""
    png: bytes | None = None
    fault: str = ""
    chosen: bool = False  # the sky as it stands
    clip_s: float | None = None  # a second of the sky's clip

    @property
    def ready(self) -> bool:
        return self.png is not None or bool(self.fault)


@dataclass
class Board:
    """Frames ordered together. `width` is that of a frame of 16:9."""

    slug: str
    title: str
    frames: list[Frame]
    width: int = 192
    quality: str = "sketch"
    columns: int = 0
    look: Look = field(default_factory=Look)
    soon: bool = False  # moments under what light is at hand
    patient: bool = False  # painted when nothing else is to be done, and kept whoever asks
    kept: Callable[[bytes], None] | None = None  # called with the picture of a patient frame
    polled: float = field(default_factory=time.monotonic)
    id: int = 0

    def key(self, frame: Frame) -> str:
        told = frame.sky.model_dump_json(
            exclude={"name"} if frame.clip_s is not None else {"name", "motion"})
        return f"{self.look}{self.width}{self.quality}{frame.clip_s}{self.soon}" + told


class Boards:
    """All boards on order; guarded by the lock it is given."""

    def __init__(self, lock: threading.Condition) -> None:
        self._lock = lock
        self._boards: OrderedDict[int, Board] = OrderedDict()
        self._painted: OrderedDict[str, bytes] = OrderedDict()
        self._numbers = itertools.count(1)

    def add(self, board: Board) -> Board:
        with self._lock:
            board.id = next(self._numbers)
            self._boards[board.id] = board
            while sum(not b.patient for b in self._boards.values()) > BOARDS_KEPT:
                del self._boards[next(k for k, b in self._boards.items() if not b.patient)]
            for frame in board.frames:
                frame.png = self._painted.get(board.key(frame))
            return board

    def find(self, number: int) -> Board | None:
        with self._lock:
            board = self._boards.get(number)
            if board is not None:
                board.polled = time.monotonic()
            return board

    def drop(self, number: int) -> None:
        with self._lock:
            self._boards.pop(number, None)

    def next_frame(self, patient: bool = False) -> tuple[Board, Frame] | None:
        """The frame to paint next: of the newest board that a window still asks for, or of a
        patient one. The lock is held."""
        for board in reversed(self._boards.values()):
            forgotten = not patient and time.monotonic() - board.polled > FORGOTTEN_S
            if board.patient != patient or forgotten:
                continue
            for frame in board.frames:
                if not frame.ready:
                    return board, frame
        return None

    def painted(self, board: Board, frame: Frame, png: bytes) -> None:
        with self._lock:
            frame.png = png
            key = board.key(frame)
            self._painted[key] = png
            for other in self._boards.values():  # who else waits for the same picture
                for twin in other.frames:
                    if not twin.ready and other.key(twin) == key:
                        twin.png = png
            while len(self._painted) > PAINTED_KEPT:
                self._painted.popitem(last=False)
            if board.patient:
                self._boards.pop(board.id, None)
            self._lock.notify_all()
        if board.kept is not None:
            board.kept(png)

    def failed(self, frame: Frame, text: str) -> None:
        with self._lock:
            frame.fault = text
            self._lock.notify_all()

    def wait(self, number: int, have: int, seconds: float) -> Board | None:
        """The board once more than `have` of its frames are ready."""
        end = time.monotonic() + seconds
        with self._lock:
            while True:
                board = self._boards.get(number)
                if board is None:
                    return None
                board.polled = time.monotonic()
                left = end - time.monotonic()
                if sum(f.ready for f in board.frames) > have or left <= 0:
                    return board
                self._lock.wait(min(left, 1.0))
