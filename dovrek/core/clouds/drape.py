"""How far a layer is lifted by the land below it."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.land.forms import heights_of
from dovrek.core.land.meeting import land_record
from dovrek.core.run.stage import Tools, stage
from dovrek.sky.document import Sky
from dovrek.sky.relief import Relief

SMOOTHED_MOST = 256  # squares a side of a land smoothed wide


class Lift(NamedTuple):
    """A land as a layer follows it: metres, at corners of squares [east, north] of its own frame,
    with a margin over which what is smooth runs out."""

    heights: NDArray[np.float32]
    square_m: float
    steepest: float  # metres a metre
    most: float


@stage("lift")
def lift(tools: Tools, relief: Relief, smooth_m: float) -> Lift:
    """The land smoothed over a distance; as it is for none."""
    heights = np.maximum(heights_of(relief), 0.0)
    square = relief.extent_km * 1e3 / (len(heights) - 1)
    if smooth_m > 0.0:
        fewer = max((len(heights) - 1) // SMOOTHED_MOST, 1)
        while fewer > 1 and fewer * square > 0.25 * smooth_m:
            fewer //= 2
        heights, square = heights[::fewer, ::fewer], square * fewer
        margin = int(np.ceil(1.5 * smooth_m / square))
        heights = scipy.ndimage.gaussian_filter(np.pad(heights, margin), 0.5 * smooth_m / square,
                                  mode="constant", truncate=3.0)
    heights = np.ascontiguousarray(heights, dtype=np.float32)
    east, north = np.gradient(heights, square)
    return Lift(heights, square, float(np.hypot(east, north).max()),
                float(heights.max()))


def draped(p: Any, found: Lift, sky: Sky, amount: float, measured: bool, at: int) -> None:
    """Set in a layer's record how far it follows the land, whose heights begin `at` among the
    field's clearances. `measured`: from the land's height at the site."""
    squares = len(found.heights) - 1
    land = land_record(sky, squares, [0], 0)
    p["drape"], p["drape_at"], p["drape_squares"] = amount, at, squares
    p["drape_east"], p["drape_north"] = land["east"], land["north"]
    p["drape_cos"], p["drape_sin"] = land["cos"], land["sin"]
    p["drape_square"] = found.square_m
    p["drape_lean"] = 1.0 / np.sqrt(1.0 + (amount * found.steepest) ** 2)
    if measured:
        p["drape_from"] = lift_at(found.heights.ravel(), p, -sky.camera.east_m,
                                  -sky.camera.north_m, 0)
    # Heights count from the base: where it lies lowest and highest.
    level = float(p["drape_from"])
    p["lowest"] -= amount * max(level, 0.0)  # beside the land there is none to lift it
    p["highest"] += amount * max(found.most - level, 0.0)


@kernel
def lift_at(heights, p, x, y, at):
    """Height of a draped layer's land at a place, metres; 0 beside it."""
    n = p.drape_squares
    dx, dy = x - p.drape_east, y - p.drape_north
    a = (dx * p.drape_cos - dy * p.drape_sin) / p.drape_square + 0.5 * n
    b = (dx * p.drape_sin + dy * p.drape_cos) / p.drape_square + 0.5 * n
    if a < 0.0 or b < 0.0 or a >= n or b >= n:
        return 0.0
    i, j = int(a), int(b)
    u, v = a - i, b - j
    k = at + i * (n + 1) + j
    return ((heights[k] * (1 - v) + heights[k + 1] * v) * (1 - u)
            + (heights[k + n + 1] * (1 - v) + heights[k + n + 2] * v) * u)


@inner
def lifted(field, p, x, y):
    """Metres by which a layer stands higher at a place than its base says."""
    if p.drape == 0.0:
        return 0.0
    return p.drape * (lift_at(field.clearances, p, x, y, p.drape_at) - p.drape_from)
