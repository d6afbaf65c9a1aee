"""How much of the sky each place of a land sees, and the stage that makes a land ready.

Horizon angles in sixteen directions (Max 1988, horizon mapping); from them the share of an even
sky's light that falls on the slope (Dozier & Frew 1990, rapid calculation of terrain parameters).
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import kernel
from dovrek.core.land.forms import heights_of
from dovrek.core.land.meeting import peaks_of
from dovrek.core.run.stage import Tools, stage
from dovrek.core.run.workers import Cancel, Workers
from dovrek.sky.relief import Relief

DIRECTIONS = 16
SIDE = 256  # places a side that are looked at
GROWTH = 1.12  # of a step over the one before


@kernel
def _shares(heights, square_m, i0, i1, out):
    """Shares of the sky of rows i0 … i1 of (m, m) places, spread evenly over the land."""
    n = len(heights) - 1
    m = len(out)
    every = n / m
    for a in range(i0, i1):
        for b in range(m):
            x, y = (a + 0.5) * every, (b + 0.5) * every
            i, j = int(x), int(y)
            base = heights[i, j]
            rise_x = (heights[min(i + 1, n), j] - heights[max(i - 1, 0), j]) / (2.0 * square_m)
            rise_y = (heights[i, min(j + 1, n)] - heights[i, max(j - 1, 0)]) / (2.0 * square_m)
            tilt = math.atan(math.sqrt(rise_x * rise_x + rise_y * rise_y))
            facing = math.atan2(-rise_x, -rise_y)
            total = 0.0
            for k in range(DIRECTIONS):
                turn = 2.0 * math.pi * k / DIRECTIONS
                dx, dy = math.sin(turn), math.cos(turn)
                tangent, step, far = 0.0, 1.0, 1.0
                while True:
                    p, q = int(x + far * dx), int(y + far * dy)
                    if p < 0 or q < 0 or p > n or q > n:
                        break
                    tangent = max(tangent, (heights[p, q] - base) / (far * square_m))
                    step = max(step * GROWTH, 1.0)
                    far += step
                own = math.atan(-math.tan(tilt) * math.cos(turn - facing))
                zenith = 0.5 * math.pi - max(math.atan(tangent), own)
                s = math.sin(zenith)
                total += (math.cos(tilt) * s * s + math.sin(tilt) * math.cos(turn - facing)
                          * (zenith - s * math.cos(zenith)))
            out[a, b] = min(max(total / DIRECTIONS, 0.0), 1.0)


def sky_shares(heights: NDArray[np.float32], square_m: float, workers: Workers, cancel: Cancel
               ) -> NDArray[np.float32]:
    """(m, m) share of an even sky's light that falls on the land, of what falls on level ground
    in the open. Raises Cancelled."""
    out = np.ones((SIDE, SIDE), dtype=np.float32)

    def rows(first: int, last: int) -> None:
        _shares(heights, square_m, first, last, out)

    workers.over(cancel, 8)(rows, SIDE)
    return out


class Ready(NamedTuple):
    """A land as a scene takes it."""

    heights: NDArray[np.float32]
    peaks: NDArray[np.float32]
    places: list[int]  # of the pyramid's levels
    sky: NDArray[np.float32]


@stage("land", wide=True)
def ready_land(tools: Tools, relief: Relief) -> Ready:
    """Heights, pyramid and share of sky of a relief; its place and tone do not matter."""
    heights = heights_of(relief)
    if len(heights) == 1:
        nothing = np.zeros((1, 1), np.float32)
        return Ready(heights, nothing.ravel(), [0], nothing)
    peaks, places = peaks_of(heights)
    square = relief.extent_km * 1e3 / (len(heights) - 1)
    return Ready(heights, peaks, places, sky_shares(heights, square, tools.workers, tools.cancel))
