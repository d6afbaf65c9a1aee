"""The shade of the land in the cells of a layer's grid: fog in a valley that the sun has not
reached yet."""

from __future__ import annotations

from dovrek.core.clouds.drape import lifted
from dovrek.core.clouds.light.grid import COARSER
from dovrek.core.compile.kernels import kernel
from dovrek.core.land.meeting import CLEAR_M, SHADOW_FAR_M, height_at, land_distance


@kernel
def shade_from_land(field, shape, level, east, north, base, land, heights, peaks, radius, sun_x,
                    sun_y, sun_z, depth, i0, i1, out):
    """Add `depth` to the depth toward the sun (levels, n, n, nz) of the cells, rows i0 … i1 of a
    level, that the land hides from the middle of the sun's disc. `east` and `north` are the
    grid's middle as the land has it; the field's own is the shape's."""
    p = field.layers[0]
    dx = shape.dx * COARSER**level
    for i in range(i0, i1):
        off_x = (i + 0.5 - 0.5 * shape.n) * dx
        for j in range(shape.n):
            off_y = (j + 0.5 - 0.5 * shape.n) * dx
            x, y = off_x + east, off_y + north
            low = base + lifted(field, p, off_x + shape.cx, off_y + shape.cy) + shape.z0
            # A cell within the rock is as dark as the place over it: what lies beside it is seen.
            ground = height_at(land, heights, x, y) + CLEAR_M
            for k in range(shape.nz):
                h = max(low + (k + 0.5) * shape.dz, ground)
                if h > land.highest:
                    break
                if land_distance(land, heights, peaks, radius, x, y, h, sun_x, sun_y, sun_z,
                                 SHADOW_FAR_M) >= 0.0:
                    out[level, i, j, k] += depth
