"""The print engine: a process of its own that works through the ordered prints.

The rows in the store are the queue. Tiles are computed on dask workers (an embedded local
cluster, or a remote scheduler), stored as they come, and put together at the end; after a crash
or a kill the next engine goes on with what is stored.
"""

from __future__ import annotations

import logging
import os
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np
from distributed import Client, LocalCluster, as_completed

from dovrek.core.picture.calming import calm
from dovrek.core.picture.studio import Wish
from dovrek.core.prepare.preparer import seen_layers
from dovrek.core.transport.passes import passes_of
from dovrek.core.transport.sample import OUT
from dovrek.formats.kinds import printed
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from dovrek.formats.sidecar import sidecar, write_sidecar
from dovrek.prints.tiles import (
    compute_tile,
    depth_of,
    numbers_of,
    print_tiles,
    store_tile,
    stored_tile,
)
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store.tables import PrintJob, open_database

IDLE_SECONDS = 0.5
AHEAD = 4  # tiles given out at once, so that a cancel stops soon
NICENESS = 10
log = logging.getLogger("dovrek.prints")


class Cancelled(Exception):
    """The print was cancelled by its owner."""


def run(settings: Settings, parent: int) -> None:
    """Work until the parent process is gone."""
    os.nice(NICENESS)
    open_database(settings.database)
    client: Client | None = None
    while parent == 0 or _alive(parent):
        row = jobs.take()
        if row is None:
            time.sleep(IDLE_SECONDS)
            continue
        if client is None:
            client = connect(settings)
        attempt(row, settings, client)
    if client is not None:
        client.close()


def attempt(row: PrintJob, settings: Settings, client: Client) -> None:
    """Work on a print and write down how it ended; only a lost database gets through."""
    try:
        work(row, settings, client)
    except Cancelled:
        return
    except OSError as error:
        jobs.finish(row.id, jobs.FAILED, message=disk_message(error))
    except Exception as error:
        log.exception("print %s failed", row.id)
        jobs.finish(row.id, jobs.FAILED, message=f"The print failed: {error}. Its finished "
                    "tiles are kept; retry goes on with them.")


def disk_message(error: OSError) -> str:
    """Words for a file that could not be written."""
    return (f"The disk took no more: {error.strerror or error}. Nothing half-written was left and "
            "the finished tiles are kept; free some space, then retry.")


def connect(settings: Settings) -> Client:
    """A client of the remote scheduler if one is set, else of an embedded local cluster."""
    if settings.scheduler:
        return Client(settings.scheduler)
    cluster = LocalCluster(n_workers=1, threads_per_worker=2, processes=True,
                           dashboard_address=None, host="127.0.0.1", memory_limit=0)
    return Client(cluster)


def _alive(process: int) -> bool:
    return os.getppid() == process


def tile_folder(settings: Settings, number: int) -> Path:
    return settings.prints / f"{number}-tiles"


def work(row: PrintJob, settings: Settings, client: Client) -> None:
    """One print from its rows to its files. Raises OSError, Cancelled."""
    order = jobs.order_of(row)
    sky = jobs.sky_of(row)
    wish = Wish(order.width, order.height, order.quality, "picture", True, order.ground == "on",
                passes=order.passes == "all")
    folder = tile_folder(settings, row.id)
    folder.mkdir(parents=True, exist_ok=True)
    tiles = print_tiles(order.width, order.height)
    frame = np.zeros((order.height, order.width, depth_of(wish)), dtype=np.float32)
    missing = []
    for tile in tiles:
        kept = stored_tile(folder, tile, depth_of(wish))
        if kept is None:
            missing.append(tile)
        else:
            frame[tile.y0 : tile.y1, tile.x0 : tile.x1] = kept
    before, start = float(row.seconds), time.monotonic()

    def progress(done: int) -> None:
        state = jobs.report(row.id, done=done, total=len(tiles),
                            seconds=before + time.monotonic() - start)
        if state != jobs.WORKING:
            raise Cancelled

    progress(len(tiles) - len(missing))
    _march(client, row.document, wish, missing, folder, frame, lambda n: progress(
        len(tiles) - len(missing) + n))
    if wish.settings.calmed and not wish.passes:
        calm(frame)
    # The film and the sidecar's numbers come from where the scene is: the workers.
    sun, metered, light = client.submit(numbers_of, row.document, wish, pure=False).result()
    name = f"{row.sky_slug}-{order.width}x{order.height}-{row.id}"
    form, bits = printed()[order.format]
    path = settings.prints / f"{name}{form.extensions[0]}"
    developing = Developing(*metered, bits, "exposed", order.ground == "off")
    shown = [x.id for x in seen_layers(sky)]
    parts = passes_of(frame[..., OUT:], wish.settings.samples, len(shown)) if wish.passes else None
    notes = write_picture(path, frame[..., :OUT], developing, parts, shown)
    picture: dict[str, Any] = {
        "file": path.name, "size": [order.width, order.height], "projection": "rectilinear",
        "bits": bits, "quality": order.quality, "ground": order.ground,
        "passes": order.passes,
        "colour_space": "linear Rec. 709" if bits in form.linear else "sRGB",
        "seconds": round(before + time.monotonic() - start, 1),
    }
    try:
        write_sidecar(path.with_suffix(".json"),
                      sidecar(sky, sun, light, metered, picture, notes))
    except OSError:
        path.unlink(missing_ok=True)  # a picture without its sidecar is half a print
        raise
    jobs.finish(row.id, jobs.DONE, file=path.name, done=len(tiles), total=len(tiles),
                seconds=before + time.monotonic() - start)
    shutil.rmtree(folder, ignore_errors=True)


def _march(client: Client, document: str, wish: Wish, missing: list[Any], folder: Path,
           frame: Any, progress: Any) -> None:
    """Compute the missing tiles, a few given out at a time, each stored as it comes."""
    waiting = list(missing)
    given: dict[Any, Any] = {}

    def give() -> Any:
        tile = waiting.pop(0)
        future = client.submit(compute_tile, document, wish, tile, pure=False)
        given[future] = tile
        return future

    done = 0
    queue = as_completed([give() for _ in range(min(AHEAD, len(waiting)))])
    try:
        for future in queue:
            tile = given.pop(future)
            light = future.result()
            store_tile(folder, tile, light)
            frame[tile.y0 : tile.y1, tile.x0 : tile.x1] = light
            done += 1
            progress(done)
            if waiting:
                queue.add(give())
    finally:
        for future in given:
            future.cancel()
