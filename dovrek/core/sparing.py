"""Which pixels are worth a ray: even parts of a picture are bridged, uneven ones sampled again.

Every other pixel is marched first. A pixel between neighbours that agree takes their mean; all
others are marched too. Further samples go only where a picture is uneven, and to the sharpest
line of all, the horizon.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from dovrek.core.kernels import kernel
from dovrek.core.lens import ray_of
from dovrek.core.scene import ALPHA, DISTANCE, GREEN, OUT

Mask = NDArray[np.uint8]
ALPHA_SPREAD = 0.03


def every_other(height: int, width: int, y0: int, x0: int, sample: int) -> Mask:
    """A chequer over a tile whose corner is (x0, y0) of the picture, turned by each sample."""
    y, x = np.ogrid[y0 : y0 + height, x0 : x0 + width]
    return ((x + y + sample) % 2 == 0).astype(np.uint8)


@kernel
def find_horizon(lens, dip, width, height, tile_y, tile_x, place, ray, crossed):
    """Mark the pixels that the horizon crosses; `dip` is the sine of its elevation."""
    for row in range(crossed.shape[0]):
        for column in range(crossed.shape[1]):
            above = 0
            for corner in range(4):
                u = (tile_x + column + (corner & 1)) / width
                v = (tile_y + row + (corner >> 1)) / height
                ray_of(lens, u, v, place, ray)
                if ray[2] > dip:
                    above += 1
            crossed[row, column] = 1 if 0 < above < 4 else 0


@kernel
def bridge(light, there, spread, uneven):
    """Fill each pixel that `there` lacks with the mean of its neighbours, where they agree.

    `light` (h, w, 5) is changed; `uneven` (h, w) is set to 1 where luminances differ by more
    than `spread` of their mean, or cloud meets sky: those pixels are left as they are.
    """
    height, width = there.shape
    for y in range(height):
        for x in range(width):
            uneven[y, x] = 0
            if there[y, x] != 0:
                continue
            count, clouds = 0, 0
            least, most, total = 1e30, -1e30, 0.0
            alpha_least, alpha_most = 2.0, -1.0
            for m in range(4):
                v = y + (1 if m == 0 else (-1 if m == 1 else 0))
                u = x + (1 if m == 2 else (-1 if m == 3 else 0))
                if v < 0 or u < 0 or v >= height or u >= width or there[v, u] == 0:
                    continue
                value = light[v, u, GREEN]
                least, most, total = min(least, value), max(most, value), total + value
                alpha_least = min(alpha_least, light[v, u, ALPHA])
                alpha_most = max(alpha_most, light[v, u, ALPHA])
                count += 1
                if light[v, u, DISTANCE] > 0.0:
                    clouds += 1
            if (count < 2 or (most - least) * count > spread * abs(total)
                    or (clouds != 0 and clouds != count)
                    or alpha_most - alpha_least > ALPHA_SPREAD):
                uneven[y, x] = 1
                continue
            for c in range(OUT):
                mean = 0.0
                for m in range(4):
                    v = y + (1 if m == 0 else (-1 if m == 1 else 0))
                    u = x + (1 if m == 2 else (-1 if m == 3 else 0))
                    if 0 <= v < height and 0 <= u < width and there[v, u] != 0:
                        mean += light[v, u, c]
                light[y, x, c] = mean / count


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
