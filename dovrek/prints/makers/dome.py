"""The whole sky with its lights, sidecar and proof of lighting."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dovrek.core.run.workers import Cancel, Workers
from dovrek.formats.bands import Banded
from dovrek.formats.dome_set import CUBE, DomeNumbers, DomeOrder, face_sky, write_dome_set
from dovrek.formats.kinds import printed
from dovrek.prints.makers.task import Task, laid_over, pictured
from dovrek.prints.parts import dome_numbers_of
from dovrek.prints.stored import StoredPicture
from dovrek.sky.reading import sky_to_text
from dovrek.store.orders import FACES_SHARE


def dome(task: Task) -> list[Path]:
    """All files, the dome first."""
    order, wish = task.order, task.wish()
    _, bits = printed()[order.format]
    written = DomeOrder(task.name, order.width, order.quality, order.sun == "in", order.centre,
                        bits, primaries=order.primaries,
                        face_pixels=order.width // FACES_SHARE if order.faces == "six" else 0)
    found: list[Callable[[], DomeNumbers]] = []
    stored = pictured(task, wish, between=lambda: found.append(task.counted(dome_numbers_of, wish)))
    faces = {}
    for face in CUBE if written.face_pixels else ():
        document = sky_to_text(face_sky(task.sky, written, face))
        faces[face] = _banded(pictured(task, written.face_wish, document,
                                       task.parts / f"face-{face}"))
    numbers = found[0]()
    task.progress.beat("writing the files")
    whole = _banded(laid_over(task, stored, wish, numbers.metered))
    own = Workers(2)  # those of the prints have nothing left to do
    try:
        said = write_dome_set(task.prints, task.sky, written, whole, numbers, own, Cancel(),
                              task.progress.seconds, faces)
    finally:
        own.close()
    return [task.prints / name for name in said["files"]]


def _banded(stored: StoredPicture) -> Banded:
    return Banded(stored.height, stored.width, stored.bands)
