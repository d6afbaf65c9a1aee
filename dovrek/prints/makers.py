"""How each kind of print is made: its parts computed by workers, its files written at the end.

A maker gives the files it wrote, the print's own first; when it raises OSError none of them is
left.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from distributed import Client, Future
from numpy.typing import NDArray

from dovrek.core.air.sun_place import Place
from dovrek.core.picture.calming import calm
from dovrek.core.picture.clip import seconds_of
from dovrek.core.picture.render import Metered
from dovrek.core.picture.studio import Wish
from dovrek.core.prepare.preparer import seen_layers
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.passes import passes_of
from dovrek.core.transport.sample import OUT
from dovrek.formats.dome_set import DomeNumbers, DomeOrder, write_dome_set
from dovrek.formats.kinds import printed
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from dovrek.formats.sidecar import sidecar, write_sidecar
from dovrek.formats.webm import write_film
from dovrek.prints.cluster import WAIT_LIMIT_S, next_done, result_of, taken
from dovrek.prints.tiles import (
    compute_frame,
    compute_tile,
    depth_of,
    dome_numbers_of,
    numbers_of,
    print_tiles,
    store_part,
    stored_frame,
    stored_tile,
    tile_path,
)
from dovrek.sky.document import Sky
from dovrek.store.print_jobs import BACKPLATE, DOME, FILM, Order

AHEAD = 4  # parts given out at once, so that a cancel stops soon


class Reporting(Protocol):
    """How far a print is, and whether it is still wanted."""

    done: int
    total: int

    @property
    def seconds(self) -> float: ...

    def beat(self, waiting: str = "") -> None: ...


@dataclass
class Task:
    """A print to make."""

    name: str  # of its files
    order: Order
    sky: Sky
    document: str
    parts: Path  # folder of what is computed so far
    prints: Path  # folder of finished prints
    progress: Reporting
    client: Callable[[], Client]

    def wish(self) -> Wish:
        order = self.order
        if order.kind == DOME:
            return Wish(order.width, order.height, order.quality, "dome", False, True,
                        order.centre)
        return Wish(order.width, order.height, order.quality, "picture", True,
                    order.ground == "on", passes=order.passes == "all")


def backplate(task: Task) -> list[Path]:
    """A picture through the lens, with its passes, and its sidecar."""
    order, wish, sky = task.order, task.wish(), task.sky
    frame, client = _pictured(task, wish)
    # The film and the sidecar's numbers come from where the scene is: the workers.
    numbers: tuple[Place, Metered, dict[str, Any]] = result_of(
        client.submit(numbers_of, task.document, wish, pure=False), task.progress.beat)
    sun, metered, light = numbers
    task.progress.beat()
    form, bits = printed()[order.format]
    path = task.prints / f"{task.name}{form.extensions[0]}"
    developing = Developing(*metered, bits, "exposed", order.ground == "off")
    shown = [x.id for x in seen_layers(sky)]
    parts = passes_of(frame[..., OUT:], wish.settings.samples, len(shown)) if wish.passes else None
    notes = write_picture(path, frame[..., :OUT], developing, parts, shown)
    return _with_sidecar(task, path, sun, metered, light, notes, {
        "projection": "rectilinear", "bits": bits, "ground": order.ground,
        "passes": order.passes,
        "colour_space": "linear Rec. 709" if bits in form.linear else "sRGB"})


def dome(task: Task) -> list[Path]:
    """The whole sky with its lights, sidecar and proof of lighting."""
    order, wish = task.order, task.wish()
    frame, client = _pictured(task, wish)
    numbers: DomeNumbers = result_of(
        client.submit(dome_numbers_of, task.document, wish, pure=False), task.progress.beat)
    task.progress.beat()
    _, bits = printed()[order.format]
    written = DomeOrder(task.name, order.width, order.quality, order.sun == "in", order.centre,
                        bits)
    own = Workers(1)
    try:
        said = write_dome_set(task.prints, task.sky, written, frame, numbers, own, Cancel(),
                              task.progress.seconds)
    finally:
        own.close()
    return [task.prints / name for name in said["files"]]


def film(task: Task) -> list[Path]:
    """The motion as a film; its frames are kept till it is whole."""
    order, wish = task.order, task.wish()
    seconds, size = seconds_of(task.sky), (order.width, order.height)
    places = [task.parts / f"frame-{k:05d}.npy" for k in range(len(seconds))]
    missing = [k for k, place in enumerate(places) if stored_frame(place, size) is None]
    task.progress.total, task.progress.done = len(seconds), len(seconds) - len(missing)
    task.progress.beat()
    client = task.client()
    _computed(client, task, missing,
              lambda k: client.submit(compute_frame, task.document,
                                      replace(wish, clip_s=seconds[k]), pure=False),
              lambda k, codes: store_part(places[k], codes))
    sun, metered, light = result_of(
        client.submit(numbers_of, task.document, wish, pure=False), task.progress.beat)

    def frames() -> Iterator[NDArray[np.uint8]]:
        for place in places:
            task.progress.beat("putting the film together")
            yield np.load(place)

    path = task.prints / f"{task.name}.webm"
    rate = task.sky.motion.fps
    count = write_film(path, frames(), size, rate)
    return _with_sidecar(task, path, sun, metered, light, [], {
        "projection": "rectilinear", "bits": "8", "colour_space": "BT.709 video",
        "frames": count, "frames_a_second": rate, "length_s": task.sky.motion.length_s})


MAKERS: dict[str, Callable[[Task], list[Path]]] = {BACKPLATE: backplate, DOME: dome, FILM: film}


def _with_sidecar(task: Task, path: Path, sun: Place, metered: Metered, light: dict[str, Any],
                  notes: list[str], more: dict[str, Any]) -> list[Path]:
    order = task.order
    picture = {"file": path.name, "size": [order.width, order.height], "quality": order.quality,
               "seconds": round(task.progress.seconds, 1), **more}
    side = path.with_suffix(".json")
    try:
        write_sidecar(side, sidecar(task.sky, sun, light, metered, picture, notes))
    except OSError:
        path.unlink(missing_ok=True)  # a picture without its sidecar is half a print
        raise
    return [path, side]


def _pictured(task: Task, wish: Wish) -> tuple[NDArray[np.float32], Client]:
    """The whole frame of a wish, from tiles that are there and those that are computed."""
    depth, tiles = depth_of(wish), print_tiles(wish.width, wish.height)
    frame = np.zeros((wish.height, wish.width, depth), dtype=np.float32)
    missing = []
    for tile in tiles:
        kept = stored_tile(task.parts, tile, depth)
        if kept is None:
            missing.append(tile)
        else:
            frame[tile.y0 : tile.y1, tile.x0 : tile.x1] = kept
    task.progress.total, task.progress.done = len(tiles), len(tiles) - len(missing)
    task.progress.beat()
    client = task.client()

    def keep(tile: Any, light: NDArray[np.float32]) -> None:
        store_part(tile_path(task.parts, tile), light)
        frame[tile.y0 : tile.y1, tile.x0 : tile.x1] = light

    _computed(client, task, missing,
              lambda tile: client.submit(compute_tile, task.document, wish, tile, pure=False),
              keep)
    if wish.settings.calmed and not wish.passes:
        calm(frame)
    return frame, client


def _computed(client: Client, task: Task, missing: list[Any],
              submit: Callable[[Any], Future[Any]], keep: Callable[[Any, Any], None]) -> None:
    """Compute missing parts, a few given out at a time, each kept as it comes."""
    waiting: list[Any] = list(missing)
    given: dict[Future[Any], Any] = {}
    beat = task.progress.beat
    end = time.monotonic() + WAIT_LIMIT_S
    try:
        while waiting or given:
            while waiting and len(given) < AHEAD:
                part = waiting.pop(0)
                given[submit(part)] = part
            done = next_done(list(given), beat, end)
            for future in done:
                part = given.pop(future)
                keep(part, taken(future))
                task.progress.done += 1
                beat("")
            if done:
                end = time.monotonic() + WAIT_LIMIT_S
    finally:
        for future in given:
            future.cancel()
