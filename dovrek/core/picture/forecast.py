"""What a render will take, from a few pieces of the very picture, marched and timed."""

from __future__ import annotations

import math
import time
from dataclasses import dataclass
from statistics import mean, stdev

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.render import Metered, Tile, march_tile
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.passes import PASSES
from dovrek.core.transport.sample import OUT
from dovrek.sky.document import Sky

PIECE, PIECES = 48, (5, 4)  # pixels a side of a piece; pieces across and down
SPREAD = 2.0  # of the mean's error that a range holds, to either side
UNSURE = 0.15  # of what is not known of the machine's next minutes
SCENE_BYTES = 900e6  # of a scene of several layers with its kernels (measured)
FRAME_COPIES = 3.0  # of a frame while it is calmed, developed and written (measured)


@dataclass(frozen=True)
class Forecast:
    """Seconds of a render and their range, its peak memory, and samples of the picture."""

    build_s: float
    march_s: float
    low_s: float
    high_s: float
    peak_bytes: float
    pieces: list[NDArray[np.float32]]  # light of the pieces, for how large the file gets
    metered: Metered

    @property
    def seconds(self) -> float:
        return self.build_s + self.march_s


def pieces_of(width: int, height: int) -> list[Tile]:
    """Pieces spread evenly over a picture; all of a small one."""
    across, down = PIECES
    side_x, side_y = min(PIECE, max(width // across, 1)), min(PIECE, max(height // down, 1))
    found = []
    for i in range(across):
        for j in range(down):
            x = min(int((i + 0.5) * width / across - side_x / 2), width - side_x)
            y = min(int((j + 0.5) * height / down - side_y / 2), height - side_y)
            found.append(Tile(max(x, 0), max(y, 0), x + side_x, y + side_y))
    return found


def forecast(sky: Sky, wish: Wish, studio: Studio, cancel: Cancel) -> Forecast:
    """What a wish will take on this machine now. Raises Cancelled."""
    start = time.perf_counter()
    prepared, metered = studio.prepare(sky, wish, cancel)
    build = time.perf_counter() - start
    lens, size, settings = wish.lens(sky), (wish.width, wish.height), wish.settings
    tiles = pieces_of(*size)
    pace: dict[int, float] = {}
    light: dict[int, NDArray[np.float32]] = {}

    def some(first: int, last: int) -> None:
        for k in range(first, last):
            began = time.perf_counter()
            tile = tiles[k]
            light[k], _ = march_tile(prepared, lens, wish.marching(), size, tile, settings, cancel)
            pixels = (tile.x1 - tile.x0) * (tile.y1 - tile.y0)
            pace[k] = (time.perf_counter() - began) / pixels

    run = studio.workers.over(cancel, 1)
    run(some, 2)  # what is done once, before the clock counts
    run(some, len(tiles))
    threads = studio.workers.threads
    paces = list(pace.values())
    whole = wish.width * wish.height / threads
    march = mean(paces) * whole
    error = SPREAD * stdev(paces) / math.sqrt(len(paces)) * whole
    error = math.hypot(error, UNSURE * (build + march))
    depth = OUT + (PASSES if wish.passes else 0)
    peak = SCENE_BYTES + FRAME_COPIES * wish.width * wish.height * depth * 4
    return Forecast(build, march, max(build + march - error, 0.5 * (build + march)),
                    build + march + error, peak, [light[k] for k in sorted(light)], metered)
