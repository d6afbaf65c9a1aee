"""Nested grids about the camera that a layer's light is kept in, and their cells' extinction."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.builds.build import Build
from dovrek.core.clouds.density import density_on, planned
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.compile.noise import hash_unit

Array32 = NDArray[np.float32]
Run = Callable[[Callable[[int, int], None], int], None]

DEPTH, SUN_J, SKY_J, FLUX_X, FLUX_Y, FLUX_Z = range(6)  # channels of a cell
CHANNELS = 6
COARSER = 3.0
FAR_LOOKS = 2  # at a cell that only shades what is seen
FOOTPRINT = 0.1  # of an innermost cell that detail is averaged over; several looks do the rest
CLIMB, CLIMB_TRUST = 5, 0.8  # cells that a look climbs at one place; part of a distance it takes
CELLS_FULL, CELLS_SKETCH, CELLS_HAND = 128, 36, 24
SKETCH_HEIGHT = 0.65  # a sketch's cells up the layer, of the full number
LEVELS_MOST = 8



class GridShape(NamedTuple):
    """Size of a layer's grid."""

    n: int
    nz: int
    levels: int
    dx: float  # metres, innermost level
    dz: float
    z0: float  # bottom of the lowest cell above the layer's base
    range_m: float  # where the layer sinks below the horizon: beyond, a few looks will do
    cx: float = 0.0  # middle, in the frame of the layer's field
    cy: float = 0.0


def grid_shape(build: Build, size_m: float, thick_m: float, sigma_per_m: float, range_m: float,
               cells: int) -> GridShape:
    """Cells fine enough for one cloud inside, as the build has them; levels out to the horizon of
    the layer."""
    own = build.cells_of(size_m, thick_m, sigma_per_m)
    dx, nz = own.dx, own.nz
    if cells < CELLS_FULL:
        nz = max(int(SKETCH_HEIGHT * nz), 10)
    if own.fewer:
        cells = 3 * cells // 4
    levels = 1
    while levels < LEVELS_MOST and 0.5 * cells * dx * COARSER ** (levels - 1) < range_m:
        levels += 1
    if own.flush:
        dz = thick_m / (nz - 2)
        return GridShape(cells, nz, levels, dx, dz, -dz, range_m)
    dz = thick_m * 1.06 / (nz - 2)
    return GridShape(cells, nz, levels, dx, dz, -0.03 * thick_m - dz, range_m)


@kernel
def finer_part(n):
    """Of a level's n cells across, the first and the one behind the last of those that lie whole
    within the level next finer."""
    first = (n + 2) // 3
    return first, n - first


@kernel
def fill_from_finer(finer, out):
    """Mean extinction of a level's cells where the level next finer knows it: of nine cells."""
    n, nz = out.shape[0], out.shape[2]
    first, last = finer_part(n)
    for i in range(first, last):
        for j in range(first, last):
            for k in range(nz):
                total = 0.0
                for a in range(3):
                    for b in range(3):
                        total += finer[3 * i - n + a, 3 * j - n + b, k]
                out[i, j, k] = total / 9.0


@kernel
def fill_extinction(field, layer, shape, level, samples, cancel, i0, i1, out):
    """Mean extinction of cells for rows i0 … i1 of a level, by `samples` looks at each (fewer
    beyond the layer's range), but for what the level next finer knows.

    The first look climbs the middle of a column and marks the cells that are clear throughout.
    A later one climbs a few cells at one place before it takes another, so that the distance to
    the next cloud spares the clear ones on its way. Where it moves on does not depend on what
    it saw: the mean stays true.
    """
    dx = shape.dx * COARSER**level
    footprint = FOOTPRINT * shape.dx  # on every level: wider ones would lose of the mean
    n, nz, dz = shape.n, shape.nz, shape.dz
    first, last = finer_part(n) if level > 0 else (n, n)
    for i in range(i0, i1):
        if cancel[0] != 0:
            return
        for j in range(n):
            if first <= i < last and first <= j < last:
                continue
            x, y, marked, clear_to = (i + 0.5 - 0.5 * n) * dx, (j + 0.5 - 0.5 * n) * dx, 0, -1e9
            looks = samples if x * x + y * y < shape.range_m**2 else min(samples, FAR_LOOKS)
            share = 1.0 / looks
            plan = planned(field, layer, x + shape.cx, y + shape.cy, footprint)
            for k in range(nz):
                z = shape.z0 + (k + 0.5) * dz
                f, sigma = 0.0, 0.0
                if k >= marked:
                    out[i, j, k] = 0.0
                if z >= clear_to:
                    f, sigma = density_on(field, layer, x + shape.cx, y + shape.cy, z,
                                          plan, footprint, 0.0)
                    clear_to = z - CLIMB_TRUST * min(f, 0.0)
                    sure = z - f - math.sqrt(0.5) * dx - 0.5 * dz
                    while marked < nz and shape.z0 + (marked + 0.5) * dz < sure:
                        if marked >= k:
                            out[i, j, marked] = -1.0
                        marked += 1
                    marked = max(marked, k)
                if k >= marked:
                    out[i, j, k] = share * sigma
            for s in range(1, looks):
                clear_to = -1e9
                for k in range(nz):
                    if k % CLIMB == 0:
                        u = (s * 0.7548776662 + hash_unit(i, j, k)) % 1.0
                        v = (s * 0.5698402910 + hash_unit(j, k, i)) % 1.0
                        x, y, clear_to = (i + u - 0.5 * n) * dx, (j + v - 0.5 * n) * dx, -1e9
                        plan = planned(field, layer, x + shape.cx, y + shape.cy, footprint)
                    w = (s * 0.4301597090 + hash_unit(k, i, j)) % 1.0
                    z = shape.z0 + (k + w) * dz
                    if z < clear_to or out[i, j, k] < 0.0:
                        continue
                    f, sigma = density_on(field, layer, x + shape.cx, y + shape.cy, z,
                                          plan, footprint, 0.0)
                    out[i, j, k] += share * sigma
                    if f < 0.0:
                        clear_to = z - CLIMB_TRUST * f
            for k in range(nz):
                out[i, j, k] = max(out[i, j, k], 0.0)


@inner
def level_of(shape_n, dx, levels, x, y, inset):
    """Finest level that holds a point, `inset` cells from its edge."""
    reach = max(abs(x), abs(y))
    half = (0.5 * shape_n - inset) * dx
    level = 0
    while level < levels - 1 and reach > half:
        half *= COARSER
        level += 1
    return level
