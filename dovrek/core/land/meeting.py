"""Where a ray meets the land: down and up a pyramid of highest places, then a bilinear patch.

Source: Tevs, Ihrke & Seidel 2008 (maximum mipmaps for fast, accurate and scalable dynamic height
field rendering); the earth's curvature bends the ray's height by t²/2R beside it.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.land.forms import heights_of
from dovrek.sky.document import Sky

LEVELS_MOST = 16
LAND_FAR_M = 400_000.0  # up to which land is looked for along a ray
CLEAR_M = 0.05  # above the land that a ray toward the sun starts
SHADOW_FAR_M = 200_000.0  # from where land throws no shadow

# A relief as rays see it. Squares of its grid are counted from its own south-west corner.
LAND = np.dtype([
    ("squares", "i8"), ("levels", "i8"),  # a side (a power of two; 0: no land); of the pyramid
    ("east", "f8"), ("north", "f8"),  # its middle from the camera's foot, metres
    ("cos", "f8"), ("sin", "f8"),  # of its turn, clockwise
    ("square_m", "f8"), ("highest", "f8"),
    ("albedo", "f8"), ("sky_squares", "i8"),  # a side, of the share of sky
    ("peaks_at", "i8", (LEVELS_MOST,)),  # of each level of the pyramid, from the first on
], align=True)


def peaks_of(heights: NDArray[np.float32]) -> tuple[NDArray[np.float32], list[int]]:
    """The pyramid end to end, from squares of 2 × 2 up to one, and where each level begins. The
    finest is left out: it would be as large as the heights, and its four corners tell."""
    level = np.maximum.reduce([heights[:-1, :-1], heights[1:, :-1], heights[:-1, 1:],
                               heights[1:, 1:]])
    parts, places, at = [], [0], 0
    while level.shape[0] > 1:
        level = level.reshape(level.shape[0] // 2, 2, level.shape[1] // 2, 2).max(axis=(1, 3))
        parts.append(level.ravel())
        places.append(at)
        at += level.size
    return np.concatenate(parts or [np.zeros(1, np.float32)]), places


def land_record(sky: Sky, squares: int, places: list[int], sky_squares: int) -> np.void:
    """The record of a sky's relief, from where its camera stands."""
    relief, camera = sky.relief, sky.camera
    record = np.zeros(1, LAND)[0]
    turn = math.radians(relief.turn_deg)
    record["squares"], record["levels"] = squares, len(places) - 1
    record["east"] = relief.east_km * 1e3 - camera.east_m
    record["north"] = relief.north_km * 1e3 - camera.north_m
    record["cos"], record["sin"] = math.cos(turn), math.sin(turn)
    record["square_m"] = relief.extent_km * 1e3 / max(squares, 1)
    record["highest"], record["albedo"] = relief.highest_m, relief.albedo
    record["sky_squares"] = sky_squares
    record["peaks_at"][: len(places)] = places
    return record


def no_land() -> np.void:
    """The record of level ground."""
    return np.zeros(1, LAND)[0]


@inner
def grid_x(land, x, y):
    """Squares from the land's western border of a place, metres from the camera's foot."""
    return ((x - land.east) * land.cos - (y - land.north) * land.sin) / land.square_m + (
        0.5 * land.squares)


@inner
def grid_y(land, x, y):
    """The same from its southern border."""
    return ((x - land.east) * land.sin + (y - land.north) * land.cos) / land.square_m + (
        0.5 * land.squares)


@kernel
def height_at(land, heights, x, y):
    """Height of the land at a place, metres; 0 beside it."""
    n = land.squares
    a, b = grid_x(land, x, y), grid_y(land, x, y)
    if n == 0 or a < 0.0 or b < 0.0 or a >= n or b >= n:
        return 0.0
    i, j = int(a), int(b)
    u, v = a - i, b - j
    return max((heights[i, j] * (1 - v) + heights[i, j + 1] * v) * (1 - u)
               + (heights[i + 1, j] * (1 - v) + heights[i + 1, j + 1] * v) * u, 0.0)


@inner
def _peak(land, heights, peaks, level, i, j):
    """Highest place of a square of a level."""
    if level == 0:
        return max(max(heights[i, j], heights[i + 1, j]),
                   max(heights[i, j + 1], heights[i + 1, j + 1]))
    return peaks[land.peaks_at[level] + i * (land.squares >> level) + j]


@inner
def _patch(heights, i, j, u, v, du, dv, over, rise, bend, most):
    """Distance from here on at which a ray meets the patch of a square, up to `most`; −1: it does
    not. (u, v) is its place in the square, `over` its height, `rise` and `bend` how that goes."""
    a = heights[i, j]
    b, c = heights[i + 1, j] - a, heights[i, j + 1] - a
    d = heights[i + 1, j + 1] - a - b - c
    f0 = over - (a + b * u + c * v + d * u * v)
    if f0 <= 0.0:
        return 0.0
    f1 = rise - (b * du + c * dv + d * (u * dv + v * du))
    f2 = bend - d * du * dv
    disc = f1 * f1 - 4.0 * f2 * f0
    if disc < 0.0:
        return -1.0
    q = -0.5 * (f1 + math.copysign(math.sqrt(disc), f1))  # the root that loses no digits
    first = q / f2 if f2 != 0.0 else 1e300
    second = f0 / q if q != 0.0 else 1e300
    if first > second:
        first, second = second, first
    if 0.0 <= first <= most:
        return first
    return second if 0.0 <= second <= most else -1.0


@inner
def land_distance(land, heights, peaks, radius, x, y, height, dx, dy, dz, limit):
    """Distance at which a ray from a place at a height meets the land, up to `limit` metres; −1
    when it does not."""
    n = land.squares
    if n == 0:
        return -1.0
    gx, gy = grid_x(land, x, y), grid_y(land, x, y)
    sx = (dx * land.cos - dy * land.sin) / land.square_m
    sy = (dx * land.sin + dy * land.cos) / land.square_m
    t, t_end = 0.0, limit
    for axis in range(2):
        g, s = (gx, sx) if axis == 0 else (gy, sy)
        if abs(s) < 1e-12:
            if g < 0.0 or g > n:
                return -1.0
            continue
        one, other = -g / s, (n - g) / s
        t, t_end = max(t, min(one, other)), min(t_end, max(one, other))
    bend = (1.0 - dz * dz) / (2.0 * radius)
    top = land.levels
    level = top
    speed = max(abs(sx), abs(sy), 1e-9)
    hair = 1e-7 / speed  # metres that carry a ray over the line between squares
    for _ in range(100_000):
        if t >= t_end:
            return -1.0
        size = 1 << level
        most = (n >> level) - 1
        here = t + hair
        i = min(max(int((gx + here * sx) / size), 0), most)
        j = min(max(int((gy + here * sy) / size), 0), most)
        leave = t_end
        if sx != 0.0:
            leave = min(leave, (((i + 1) if sx > 0.0 else i) * size - gx) / sx)
        if sy != 0.0:
            leave = min(leave, (((j + 1) if sy > 0.0 else j) * size - gy) / sy)
        leave = max(leave, t + hair)
        low = min(height + t * (dz + bend * t), height + leave * (dz + bend * leave))
        turn = -dz / (2.0 * bend) if bend > 0.0 else -1.0
        if t < turn < leave:
            low = height + turn * (dz + bend * turn)
        if low > _peak(land, heights, peaks, level, i, j):
            t = leave
            level = min(level + 1, top)
        elif level > 0:
            level -= 1
        else:
            met = _patch(heights, i, j, gx + t * sx - i, gy + t * sy - j, sx, sy,
                         height + t * (dz + bend * t), dz + 2.0 * bend * t, bend, leave - t)
            if met >= 0.0:
                return t + met
            t = leave
    return -1.0


@inner
def _slope_at(heights, n, i, j, out):
    """Rise of a corner to the east and north of the grid, metres a square, into `out`."""
    w, e, s, o = max(i - 1, 0), min(i + 1, n), max(j - 1, 0), min(j + 1, n)
    out[0] = (heights[e, j] - heights[w, j]) / (e - w)
    out[1] = (heights[i, o] - heights[i, s]) / (o - s)


@kernel
def land_normal(land, heights, x, y, out):
    """Unit normal of the land at a place into `out` (3,): between those of the corners."""
    n = land.squares
    a = min(max(grid_x(land, x, y), 0.0), n - 1e-9)
    b = min(max(grid_y(land, x, y), 0.0), n - 1e-9)
    i, j = int(a), int(b)
    u, v = a - i, b - j
    gx, gy = 0.0, 0.0
    for k in range(4):
        p, q = k & 1, k >> 1
        weight = (u if p else 1.0 - u) * (v if q else 1.0 - v)
        _slope_at(heights, n, i + p, j + q, out)
        gx += weight * out[0]
        gy += weight * out[1]
    gx, gy = gx / land.square_m, gy / land.square_m
    east, north = gx * land.cos + gy * land.sin, gy * land.cos - gx * land.sin
    length = math.sqrt(1.0 + east * east + north * north)
    out[0], out[1], out[2] = -east / length, -north / length, 1.0 / length


def standing_height(sky: Sky) -> float:
    """Height of the land below a sky's camera, metres above the level ground."""
    if not sky.relief.stands:
        return 0.0
    heights = heights_of(sky.relief)
    if len(heights) == 1:
        return 0.0
    record = land_record(sky, len(heights) - 1, [0], 0)
    return float(height_at(record, heights, 0.0, 0.0))


def raised(sky: Sky) -> Sky:
    """The sky with its camera's height counted from the level ground instead of the land."""
    stands = standing_height(sky)
    if stands <= 0.0:
        return sky
    camera = sky.camera.model_copy(update={"altitude_m": sky.camera.altitude_m + stands})
    return sky.model_copy(update={"camera": camera})


def profile(sky: Sky, count: int, far_m: float) -> list[tuple[float, float]]:
    """Distances and heights of the land along the camera's bearing, metres."""
    heights = heights_of(sky.relief)
    record = land_record(sky, len(heights) - 1, [0], 0)
    bearing = math.radians(sky.camera.heading_deg)
    at = [far_m * k / (count - 1) for k in range(count)]
    return [(d, float(height_at(record, heights, d * math.sin(bearing), d * math.cos(bearing))))
            for d in at]


