"""Density of a layer on blocks of 8³ voxels, about the camera's foot."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.density import density
from dovrek.core.clouds.rain import falls_from
from dovrek.core.clouds.squares import known_around
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.run.workers import Cancel, Workers

BLOCK = 8  # voxels a side
TRUST = 0.8  # part of a distance to the next cloud that is taken
TOWER = 4  # blocks a side of what is first looked at as a whole
BLOCK_BYTES = BLOCK**3 * 4


class Box(NamedTuple):
    """A grid of cubes: voxel (0, 0, 0) begins at its low corner, metres east and north of the
    camera's foot and above the ground there; whole blocks a side."""

    voxel_m: float
    x: float
    y: float
    z: float
    blocks: tuple[int, int, int]

    @property
    def voxels(self) -> int:
        """Cubes in all, empty ones counted."""
        return BLOCK**3 * math.prod(self.blocks)


class Blocks(NamedTuple):
    """The blocks that hold cloud: places (N, 3) in voxels from the box's corner, and extinction
    (N, 512) in 1/m, x slowest, z fastest."""

    places: NDArray[np.int32]
    values: NDArray[np.float32]


def box_of(body: LayerBody, voxel_m: float, extent_m: float, centre: tuple[float, float] = (0, 0),
           rain: bool = False) -> Box:
    """The box of a layer: a square of the extent about a place, as high as its cloud (and what
    falls from it)."""
    record = body.record
    low = float(record["lowest"]) if rain else max(float(record["lowest"]),
                                                   float(falls_from(record)))
    high = float(record["highest"])
    side = max(math.ceil(extent_m / voxel_m / BLOCK), 1)
    floor = math.floor((body.base + low) / voxel_m)  # layers of one voxel size share one lattice
    tall = max(math.ceil(((body.base + high) / voxel_m - floor) / BLOCK), 1)
    corner = [voxel_m * round((c - 0.5 * side * BLOCK * voxel_m) / voxel_m) for c in centre]
    return Box(voxel_m, corner[0], corner[1], floor * voxel_m, (side, side, tall))


@inner
def _holds_none(field, x, y, z, voxel, half, near):
    """Whether a box about a place, `half` wide to each side, holds no cloud; `near` is how far its
    corners are, with what distances are not to be trusted."""
    f, _ = density(field, 0, x, y, z, voxel, 0.0)
    if f >= -near:
        return False
    if known_around(field, 0, x, y) >= half:
        return True
    p = field.layers[0]
    if 2.0 * half * p.squares > p.period:
        return False
    for k in range(4):  # squares of the lattice meet in it: each knows its own clouds
        f, _ = density(field, 0, x + (2 * (k & 1) - 1) * half, y + ((k & 2) - 1) * half, z, voxel,
                       0.0)
        if f >= -2.0 * near:
            return False
    return True


@kernel
def _fill(field, base, voxel, x0, y0, z0, nx, ny, nz, i0, i1, rain, places, values):
    """Blocks with cloud of the rows i0 … i1 of towers (TOWER blocks a side); their number."""
    p = field.layers[0]
    floor = -1e9 if rain else max(p.lowest, falls_from(p))
    block = BLOCK * voxel
    near = 0.5 * math.sqrt(3.0) * block / TRUST  # from a block's middle to its corners
    n = 0
    for ti in range(i0, i1):
        for tj in range((ny + TOWER - 1) // TOWER):
            for tk in range((nz + TOWER - 1) // TOWER):
                half = 0.5 * TOWER * block
                if _holds_none(field, x0 + 2 * ti * half + half, y0 + 2 * tj * half + half,
                               z0 + 2 * tk * half + half - base, voxel, half, TOWER * near):
                    continue
                for i in range(ti * TOWER, min(ti * TOWER + TOWER, nx)):
                    for j in range(tj * TOWER, min(tj * TOWER + TOWER, ny)):
                        for k in range(tk * TOWER, min(tk * TOWER + TOWER, nz)):
                            x, y, z = x0 + i * block, y0 + j * block, z0 + k * block - base
                            if _holds_none(field, x + 0.5 * block, y + 0.5 * block,
                                           z + 0.5 * block, voxel, 0.5 * block, near):
                                continue
                            some = False
                            for a in range(BLOCK):
                                for b in range(BLOCK):
                                    at = (a * BLOCK + b) * BLOCK
                                    c = 0
                                    while c < BLOCK:
                                        up = z + (c + 0.5) * voxel
                                        f, sigma = -1.0, 0.0
                                        if up >= floor:
                                            f, sigma = density(
                                                field, 0, x + (a + 0.5) * voxel,
                                                y + (b + 0.5) * voxel, up, voxel, 2.0)
                                        values[n, at + c] = sigma
                                        some = some or sigma > 0.0
                                        c += 1
                                        # As far as the nearest cloud there is none.
                                        skip = int(-TRUST * f / voxel) if f < -voxel else 0
                                        while skip > 0 and c < BLOCK:
                                            values[n, at + c] = 0.0
                                            c += 1
                                            skip -= 1
                            if some:
                                places[n, 0], places[n, 1], places[n, 2] = (
                                    i * BLOCK, j * BLOCK, k * BLOCK)
                                n += 1
    return n


def filled(body: LayerBody, box: Box, workers: Workers, cancel: Cancel,
           progress: Callable[[int, int], Any] = lambda done, total: None,
           rain: bool = False) -> Blocks:
    """The blocks of a box that hold cloud of a layer. Raises Cancelled, MemoryError."""
    rows = rows_of(box)
    found: dict[int, Blocks] = {}

    def some(first: int, last: int) -> None:
        for row in range(first, last):
            found[row] = filled_rows(body, box, (row, row + 1), cancel, rain)
            progress(len(found), rows)

    workers.over(cancel, 1)(some, rows)
    return joined_blocks([found[row] for row in sorted(found)])


def rows_of(box: Box) -> int:
    """Rows of towers of a box."""
    return math.ceil(box.blocks[0] / TOWER)


def joined_blocks(parts: list[Blocks]) -> Blocks:
    """The blocks of several parts of one box."""
    return Blocks(np.concatenate([p.places for p in parts]),
                  np.concatenate([p.values for p in parts]))


def filled_rows(body: LayerBody, box: Box, rows: tuple[int, int], cancel: Cancel,
                rain: bool = False) -> Blocks:
    """The blocks with cloud of some rows of towers, on this thread. Raises Cancelled, MemoryError.
    """
    nx, ny, nz = box.blocks
    room = TOWER * ny * nz
    places = np.empty((room, 3), np.int32)
    values = np.empty((room, BLOCK**3), np.float32)
    found = []
    for row in range(*rows):
        cancel.check()
        n = _fill(body.field, body.base, box.voxel_m, box.x, box.y, box.z, nx, ny, nz, row,
                  row + 1, rain, places, values)
        found.append(Blocks(places[:n].copy(), values[:n].copy()))
    return joined_blocks(found)
