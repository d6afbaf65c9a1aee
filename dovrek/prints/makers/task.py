"""A print to make, and how its parts are given to workers."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from distributed import Client, Future

from dovrek.core.air.sun_place import Place
from dovrek.core.picture.behind import laid_under
from dovrek.core.picture.calming import CALMED, EDGE
from dovrek.core.picture.render import Metered
from dovrek.core.picture.studio import Wish, holed
from dovrek.formats.sidecar import sidecar, write_sidecar
from dovrek.prints.cluster import (
    POLL_S,
    WAIT_LIMIT_S,
    next_done,
    result_of,
    submitted,
    taken,
    workers_of,
)
from dovrek.prints.foretold import wish_of
from dovrek.prints.makers.runs import Runs
from dovrek.prints.parts import compute_calm, compute_tile, depth_of, numbers_of
from dovrek.prints.stored import BAND_H, StoredPicture, band_path, store_part, tile_path
from dovrek.sky.document import Sky
from dovrek.store.orders import VOLUME, Order

AHEAD = 4  # parts given out at once for a worker, so that a cancel stops soon
ANY = ""  # the lane of parts that any worker may do


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
        return wish_of(self.order)

    def numbers(self, wish: Wish) -> tuple[Place, Metered, dict[str, Any]]:
        """What film and sidecar need, from where the scene is: the workers."""
        found: tuple[Place, Metered, dict[str, Any]] = self.counted(numbers_of, wish)()
        return found

    def counted(self, numbers: Callable[[str, Wish], Any], wish: Wish) -> Callable[[], Any]:
        """Let workers find numbers of the sky meanwhile; what is returned waits for them."""
        future = submitted(self.client(), numbers, self.document, wish)

        def found() -> Any:
            value = result_of(future, self.progress.beat)
            self.progress.beat()
            return value

        return found


def computed(task: Task, missing: Iterable[Any],
             submit: Callable[[Callable[..., Future[Any]], Any], Future[Any]],
             keep: Callable[[Any, Any], None], *, runs: bool = False) -> None:
    """Compute missing parts, a few given out at a time, each kept as it comes. `submit` gets what
    gives a function and its arguments to a worker; with `runs`, neighbours stay with one."""
    left, given, beat = Runs(missing), dict[Future[Any], tuple[str, Any]](), task.progress.beat
    end = time.monotonic() + WAIT_LIMIT_S
    try:
        while left or given:
            client = task.client()  # workers may have come or gone
            there = workers_of(client)
            lanes = ({lane: threads + 1 for lane, threads in there.items()} if runs
                     else {ANY: AHEAD * max(len(there), 1)})
            left.keep(lanes)
            for future in [x for x, (lane, _) in given.items() if lane not in lanes]:
                future.cancel()  # it waits for that worker
                left.back(given.pop(future)[1])
            for lane, ahead in lanes.items():
                while (sum(at == lane for at, _ in given.values()) < ahead
                       and (part := left.next(lane)) is not None):
                    given[submit(partial(submitted, client, at=lane), part)] = lane, part
            if not given:  # the workers went in this moment
                beat("waiting for a worker")
                time.sleep(POLL_S)
                continue
            done = next_done(list(given), beat, end)
            for future in done:
                _, part = given.pop(future)
                keep(part, taken(future))
                task.progress.done += 1
                beat("")
            if done:
                end = time.monotonic() + WAIT_LIMIT_S
    finally:
        for future in given:
            future.cancel()


def pictured(task: Task, wish: Wish, document: str = "", folder: Path | None = None,
             between: Callable[[], None] = lambda: None) -> StoredPicture:
    """The whole picture of a wish on disk: tiles marched, then bands calmed, by workers; what is
    there already stays. `between` them other work may be begun that needs the scene too."""
    document, folder = document or task.document, folder or task.parts
    folder.mkdir(parents=True, exist_ok=True)
    picture = StoredPicture(folder, wish.width, wish.height, depth_of(wish))
    calmed = wish.settings.calmed and not wish.passes
    tiles, bands = picture.missing_tiles(), picture.missing_bands() if calmed else []
    every = len(picture.tiles) + (len(picture.tops) if calmed else 0)
    task.progress.total += every
    task.progress.done += every - len(tiles) - len(bands)
    task.progress.beat()
    computed(task, tiles,
             lambda give, tile: give(compute_tile, document, wish, tile),
             lambda tile, light: store_part(tile_path(folder, tile), light))

    between()

    def calming(give: Callable[..., Future[Any]], top: int) -> Future[Any]:
        end = min(top + BAND_H, wish.height)
        first, last = max(top - EDGE, 0), min(end + EDGE, wish.height)
        rows = picture.rows(first, last)[..., :CALMED]
        return give(compute_calm, rows, top - first, last - end, wish.seen.joined)

    computed(task, bands, calming, lambda top, light: store_part(band_path(folder, top), light))
    return picture


def laid_over(task: Task, picture: StoredPicture, wish: Wish, metered: Metered) -> StoredPicture:
    """The picture with what stands behind its sky under it, as the film is set."""
    sky = task.sky
    if holed(wish, sky).sky == wish.sky:
        return picture
    lens, size = wish.lens(sky), (wish.width, wish.height)
    picture.under = lambda light, top: laid_under(light, sky, lens, size, metered, top)
    return picture


def with_sidecar(task: Task, paths: list[Path], numbers: tuple[Place, Metered, dict[str, Any]],
                 notes: list[str], more: dict[str, Any]) -> list[Path]:
    """The files of a print and its sidecar beside the first. Raises OSError with none left."""
    order, (sun, metered, light) = task.order, numbers
    size = {} if order.kind == VOLUME else {"size": [order.width, order.height],
                                            "quality": order.quality}
    picture = {"file": paths[0].name, **size, "seconds": round(task.progress.seconds, 1), **more}
    side = task.prints / f"{task.name}.json"
    try:
        write_sidecar(side, sidecar(task.sky, sun, light, metered, picture, notes))
    except OSError:
        for path in paths:  # a picture without its sidecar is half a print
            path.unlink(missing_ok=True)
        raise
    return [*paths, side]

