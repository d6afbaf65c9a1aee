"""Cover gathered by the land below: more on ridges or in valleys, as much in all."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.drape import Lift
from dovrek.core.clouds.record import copied
from dovrek.core.compile.kernels import inner
from dovrek.core.run.stage import Tools, stage
from dovrek.sky.keeping import Drape
from dovrek.sky.relief import Relief

SCORE = 3.2  # of a sheet's score, from the lowest land to the highest at full strength
RANK = 2.8  # the same of the rank of a heap
LEVELS = 127.0  # steps of a byte either way; 128 is the mean
TAPER = 0.12  # of the side, over which the land's border passes into the mean
LOW_SHARE, HIGH_SHARE = 2.0, 98.0  # percentiles of the land that count as lowest and highest


class Gathering(NamedTuple):
    """Where a layer gathers: bytes about 128 [east, north] over a square of land."""

    pull: NDArray[np.uint8]  # (n, n)
    side_m: float
    east_m: float  # its middle from the site
    north_m: float
    turn_rad: float
    strength: float

    def at(self, x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
        """−1 … 1 at places in metres from the site; 0 beside the land."""
        n = len(self.pull)
        dx, dy = x - self.east_m, y - self.north_m
        c, s = math.cos(self.turn_rad), math.sin(self.turn_rad)
        i = np.floor((dx * c - dy * s) / self.side_m * n + 0.5 * n).astype(int)
        j = np.floor((dx * s + dy * c) / self.side_m * n + 0.5 * n).astype(int)
        inside = (i >= 0) & (i < n) & (j >= 0) & (j < n)
        found = self.pull[np.clip(i, 0, n - 1), np.clip(j, 0, n - 1)]
        return np.where(inside, (found.astype(float) - 128.0) / LEVELS, 0.0)


def gathering_of(land: Lift, relief: Relief, drape: Drape) -> Gathering | None:
    """Where a layer gathers by a smoothed land; None over level land."""
    heights = land.heights[:-1, :-1].astype(np.float64)
    within = 0.5 * (len(heights) - relief.extent_km * 1e3 / land.square_m)
    margin = max(round(within), 0)
    heights = heights[margin: len(heights) - margin, margin: len(heights) - margin]
    low, high = np.percentile(heights, (LOW_SHARE, HIGH_SHARE))
    if high - low < 1.0:
        return None
    share = np.clip((heights - low) / (high - low), 0.0, 1.0)
    if drape.gather < 0.0:
        share = 1.0 - share
    if drape.contrast > 0.0:
        middle = float(np.median(share))
        reach = max(1.0 - drape.contrast, 0.02)
        u = np.clip((share - middle) / reach + 0.5, 0.0, 1.0)
        share = u * u * (3.0 - 2.0 * u)
    edge = (np.arange(len(share)) + 0.5) / len(share)
    fade = np.clip(np.minimum(edge, 1.0 - edge) / TAPER, 0.0, 1.0)
    pull = (share - share.mean()) * np.outer(fade, fade)
    return Gathering(np.round(128.0 + LEVELS * pull).astype(np.uint8), len(pull) * land.square_m,
                     relief.east_km * 1e3, relief.north_km * 1e3, math.radians(relief.turn_deg),
                     abs(drape.gather))


def gathered_record(record: NDArray[np.void], gathering: Gathering, at: int
                    ) -> NDArray[np.void]:
    """The record of a layer that gathers; its bytes begin `at` among the field's."""
    record = copied(record)
    p: Any = record[0]
    p["gather"], p["gather_at"], p["gather_n"] = SCORE * gathering.strength, at, len(gathering.pull)
    p["gather_cell"] = gathering.side_m / len(gathering.pull)
    p["gather_east"], p["gather_north"] = gathering.east_m, gathering.north_m
    p["gather_cos"], p["gather_sin"] = math.cos(gathering.turn_rad), math.sin(gathering.turn_rad)
    return record


@stage("gathered")
def gathered(tools: Tools, clouds: NDArray[np.void], gathering: Gathering,
             period_m: float) -> NDArray[np.void]:
    """Possible heaps, those sooner to stand where the layer gathers; none is moved."""
    x, y = (np.where(clouds[name] < 0.5 * period_m, clouds[name], clouds[name] - period_m)
            for name in "xy")
    found = clouds.copy()
    found["rank"] -= RANK * gathering.strength * gathering.at(x, y)
    return found


@inner
def gather_pull(field, p, x, y):
    """What the land below adds to a sheet's score at a place."""
    n = p.gather_n
    dx, dy = x - p.gather_east, y - p.gather_north
    a = (dx * p.gather_cos - dy * p.gather_sin) / p.gather_cell + 0.5 * n - 0.5
    b = (dx * p.gather_sin + dy * p.gather_cos) / p.gather_cell + 0.5 * n - 0.5
    if a < 0.0 or b < 0.0 or a >= n - 1.0 or b >= n - 1.0:
        return 0.0
    i, j = int(a), int(b)
    u, v = a - i, b - j
    k = p.gather_at + i * n + j
    m = field.bytes
    value = ((m[k] * (1.0 - v) + m[k + 1] * v) * (1.0 - u)
             + (m[k + n] * (1.0 - v) + m[k + n + 1] * v) * u)
    return p.gather * (value - 128.0) / LEVELS
