"""Which pixels are worth a ray: even parts of a picture are bridged, uneven ones sampled again.

One pixel of four is marched first, then those between its diagonal neighbours, then the rest. A
pixel between neighbours that agree takes their mean; all others are marched. Further samples go
only where a picture is uneven, and to the sharpest line of all, the horizon.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.geometry.views import ray_of
from dovrek.core.land.meeting import LAND_FAR_M, land_distance
from dovrek.core.transport.sample import ALPHA, DISTANCE, GREEN, OUT

Mask = NDArray[np.uint8]
ALPHA_SPREAD = 0.03
ALWAYS = 9.0


def every_other(height: int, width: int, y0: int, x0: int, sample: int) -> Mask:
    """A chequer over a tile whose corner is (x0, y0) of the picture, turned by each sample."""
    y, x = np.ogrid[y0 : y0 + height, x0 : x0 + width]
    return ((x + y + sample) % 2 == 0).astype(np.uint8)


def every_fourth(height: int, width: int, y0: int, x0: int, sample: int) -> Mask:
    """One of two by two pixels, among those of `every_other`."""
    rows = (np.arange(y0, y0 + height) + sample // 2) % 2 == 0
    return every_other(height, width, y0, x0, sample) * rows[:, None].astype(np.uint8)


def widened(mask: Mask) -> Mask:
    """A mask and the eight neighbours of what it marks."""
    found = mask.copy()
    found[1:] |= mask[:-1]
    found[:-1] |= mask[1:]
    rows = found.copy()
    found[:, 1:] |= rows[:, :-1]
    found[:, :-1] |= rows[:, 1:]
    return found


@kernel
def find_horizon(scene, lens, dip, width, height, tile_y, tile_x, place, ray, above, crossed):
    """Mark the pixels that the horizon or the land's outline against the sky crosses; `dip` is the
    sine of the horizon's elevation.

    `above` is scratch, one larger each way than `crossed` (h, w): the pixels' corners.
    """
    rows, columns = crossed.shape
    for row in range(rows + 1):
        for column in range(columns + 1):
            ray_of(lens, (tile_x + column) / width, (tile_y + row) / height, place, ray)
            clear = ray[2] > dip
            if clear and scene.land.squares > 0:
                clear = land_distance(scene.land, scene.land_heights, scene.land_peaks,
                                      scene.radius, place[0], place[1], scene.height, ray[0],
                                      ray[1], ray[2], LAND_FAR_M) < 0.0
            above[row, column] = 1 if clear else 0
    for row in range(rows):
        for column in range(columns):
            count = (above[row, column] + above[row, column + 1] + above[row + 1, column]
                     + above[row + 1, column + 1])
            crossed[row, column] = 1 if 0 < count < 4 else 0


@kernel
def bridge(light, there, wanted, slanting, spread, uneven):
    """Fill each pixel that `wanted` marks with the mean of its neighbours, where they agree.

    Of its four neighbours, diagonal ones if `slanting` (0 or 1), those count that are `there` with
    the one across: at the border of a tile a mean of one side alone would be a step of a slope.
    `light` (h, w, 5) is changed; `uneven` (h, w) is set to 1 where luminances differ by more
    than `spread` of their mean, or cloud meets sky: those pixels are left as they are. With a
    spread of ALWAYS or more, edges are bridged as well.
    """
    height, width = there.shape
    for y in range(height):
        for x in range(width):
            uneven[y, x] = 0
            if wanted[y, x] == 0:
                continue
            count, clouds = 0, 0
            least, most, total = 1e30, -1e30, 0.0
            alpha_least, alpha_most = 2.0, -1.0
            for m in range(4):
                v, u = _neighbour(y, x, m, slanting)
                if not _paired(there, y, x, v, u):
                    continue
                value = light[v, u, GREEN]
                least, most, total = min(least, value), max(most, value), total + value
                alpha_least = min(alpha_least, light[v, u, ALPHA])
                alpha_most = max(alpha_most, light[v, u, ALPHA])
                count += 1
                if light[v, u, DISTANCE] > 0.0:
                    clouds += 1
            if count < 2 or spread < ALWAYS and (
                    (most - least) * count > spread * abs(total)
                    or (clouds != 0 and clouds != count)
                    or alpha_most - alpha_least > ALPHA_SPREAD):
                uneven[y, x] = 1
                continue
            for c in range(OUT):
                mean = 0.0
                for m in range(4):
                    v, u = _neighbour(y, x, m, slanting)
                    if _paired(there, y, x, v, u):
                        mean += light[v, u, c]
                light[y, x, c] = mean / count


@inner
def _paired(there, y, x, v, u):
    """Whether a neighbour (v, u) of (y, x) is there, and the one across from it."""
    height, width = there.shape
    across_v, across_u = 2 * y - v, 2 * x - u
    if min(v, across_v) < 0 or max(v, across_v) >= height:
        return False
    if min(u, across_u) < 0 or max(u, across_u) >= width:
        return False
    return there[v, u] != 0 and there[across_v, across_u] != 0


@inner
def _neighbour(y, x, m, slanting):
    """Place of the m-th of a pixel's four neighbours."""
    a, b = 1 - 2 * (m & 1), m >> 1
    if slanting == 1:
        return y + a, x + 1 - 2 * b
    return y + a * (1 - b), x + a * b


@kernel
def find_uneven(light, spread, uneven):
    """Mark pixels whose 3 × 3 surroundings differ by more than `spread` of their mean."""
    height, width = uneven.shape
    for y in range(height):
        for x in range(width):
            least, most, total, count = 1e30, -1e30, 0.0, 0
            for v in range(max(y - 1, 0), min(y + 2, height)):
                for u in range(max(x - 1, 0), min(x + 2, width)):
                    value = light[v, u, GREEN]
                    least, most, total = min(least, value), max(most, value), total + value
                    count += 1
            uneven[y, x] = 1 if (most - least) * count > spread * abs(total) else 0
