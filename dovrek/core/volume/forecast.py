"""What a volume will take, from a few rows of its very towers, filled and timed."""

from __future__ import annotations

import time
from typing import NamedTuple

from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.workers import Cancel
from dovrek.core.volume.voxels import TOWER, box_of, filled_rows, rows_of
from dovrek.sky.document import Sky

ROWS = 3  # of a layer's towers that are filled and timed
LEAF_HEAD_BYTES = 129  # of a leaf in the file beside its values
LEAF_BYTES = 2048.0
SCENE_BYTES, COPIES = 300e6, 2.2  # of the layers' fields, of the leaves while they are written
LOW, HIGH = 0.75, 1.35  # what is not known of the machine's next minutes


class VolumeForecast(NamedTuple):
    """Seconds, bytes and voxels of a volume; `grids` is how many layers it holds."""

    build_s: float
    fill_s: float
    voxels: int
    largest: int  # voxels of the largest grid
    grids: int
    file_bytes: float
    peak_bytes: float

    @property
    def seconds(self) -> float:
        return self.build_s + self.fill_s


def volume_forecast(sky: Sky, voxel_m: float, extent_m: float, preparer: Preparer, cancel: Cancel,
                    layer: str = "", rain: bool = False) -> VolumeForecast:
    """What the volume of a sky's layers, or of one, will take. Raises Cancelled."""
    start = time.perf_counter()
    bodies = [b for b in preparer.bodies(sky, FINE, cancel) if layer in ("", b.layer.id)]
    build = time.perf_counter() - start
    voxels, largest, seconds, active, leaves = 0, 0, 0.0, 0.0, 0.0
    for body in bodies:
        box = box_of(body, voxel_m, extent_m, rain=rain)
        voxels, largest = voxels + box.voxels, max(largest, box.voxels)
        nx, ny, nz = box.blocks
        rows = rows_of(box)
        some = min(ROWS, rows)
        filled_rows(body, box._replace(blocks=(TOWER, min(ny, TOWER), nz)), (0, 1), cancel, rain)
        began, seen, there = time.perf_counter(), 0.0, 0
        for k in range(some):  # rows of towers, spread over the box
            at = int((k + 0.5) * rows / some)
            blocks = filled_rows(body, box, (at, at + 1), cancel, rain)
            seen += float((blocks.values > 0.0).sum())
            there += len(blocks.places)
        # One row is one thread's work; a whole box keeps all of them busy.
        seconds += ((time.perf_counter() - began) / some * rows
                    / min(preparer.workers.threads, rows))
        active += seen / some * rows
        leaves += there / some * rows
    return VolumeForecast(build, seconds, voxels, largest, len(bodies),
                          4.0 * active + LEAF_HEAD_BYTES * leaves,
                          SCENE_BYTES + leaves * LEAF_BYTES * COPIES)
