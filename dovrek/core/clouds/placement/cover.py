"""Cover: at which level of growth the heaps that stand cover the sky as asked."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.measure import MEASURED_M
from dovrek.core.clouds.placement.deal import Run
from dovrek.core.clouds.shapes import Shapes
from dovrek.core.compile.kernels import inner, kernel

GROWTH_SPAN = 0.34
RASTER = 400
FULLEST = 0.9985  # the last pinholes of an overcast would take clouds twice as wide
LOWEST_LEVEL, HIGHEST_LEVEL, LEVELS_TRIED = -1.5, 5.5, 1 << 15


@kernel
def swell(level):
    """How far clouds widen, beyond their full size, to close a nearly overcast sky."""
    return 1.0 + 0.45 * max(level - 0.8, 0.0)


@inner
def grown_scale(full, rank, level):
    """Scale of a cloud at a level of growth; 0 when it is not there."""
    g = (level - rank) / GROWTH_SPAN
    if g <= 0.0:
        return 0.0
    g = min(g, 1.0)
    return full * (0.16 + 0.84 * g ** 0.75) * swell(level)


@kernel
def _raster_cover(dealt, level, period, half_width, footprints, grow, r0, r1, free):
    """How many pixels of rows r0 … r1 of the measured square clouds cover at a level of growth.

    `free` (RASTER, RASTER + 1) is scratch: where the next open pixel of a row may be, so that what
    is covered is passed over at a stride (union–find with halved paths, Tarjan & van Leeuwen 1984).
    """
    for i in range(r0, r1):
        for j in range(RASTER + 1):
            free[i, j] = j
    _, _, n = footprints.shape
    pixel = MEASURED_M / RASTER
    half = 0.5 * MEASURED_M
    total, most = 0, (r1 - r0) * RASTER
    for k in range(len(dealt)):
        cloud = dealt[k]
        scale = grown_scale(cloud.size, cloud.rank, level)
        if scale <= 0.0:
            continue
        if total == most:
            break
        x = cloud.x if cloud.x < 0.5 * period else cloud.x - period
        y = cloud.y if cloud.y < 0.5 * period else cloud.y - period
        reach = half_width * scale
        if abs(x) > half + reach or abs(y) > half + reach:
            continue
        shape = cloud.shape
        to_grid = 0.5 * n / (half_width * scale * grow)
        c, s = cloud.turn_cos * to_grid, cloud.turn_sin * to_grid
        i0 = max(int((x - reach * 1.42 + half) / pixel), r0)
        i1 = min(int((x + reach * 1.42 + half) / pixel) + 1, r1)
        j0 = max(int((y - reach * 1.42 + half) / pixel), 0)
        j1 = min(int((y + reach * 1.42 + half) / pixel) + 1, RASTER)
        for i in range(i0, i1):
            dx = (i + 0.5) * pixel - half - x
            j = j0 - 1
            while True:
                j += 1
                while free[i, j] != j:
                    free[i, j] = free[i, free[i, j]]
                    j = free[i, j]
                if j >= j1:
                    break
                dy = (j + 0.5) * pixel - half - y
                u = c * dx + s * dy + 0.5 * n
                v = c * dy - s * dx + 0.5 * n
                if 0.0 <= u < n and 0.0 <= v < n and footprints[shape, int(u), int(v)]:
                    free[i, j] = j + 1
                    total += 1
    return total


class Levels(NamedTuple):
    """What levels of growth cover of the measured square, as far as they were tried."""

    near: NDArray[np.void]  # possible clouds that can reach the square, however wide they swell
    shares: dict[int, float]


def levels_of(dealt: NDArray[np.void], period_m: float, shapes: Shapes) -> Levels:
    most = 0.5 * MEASURED_M + shapes.half_width_m * swell(HIGHEST_LEVEL)
    x, y = (np.abs((dealt[name] + 0.5 * period_m) % period_m - 0.5 * period_m) for name in "xy")
    near = dealt[(x <= most) & (y <= most)]
    return Levels(near[np.argsort(-near["size"])], {})  # the largest first: most is covered soon


def level_for_cover(levels: Levels, period_m: float, shapes: Shapes, cover: float,
                    outward_m: float, run: Run, close: float = 0.0) -> float:
    """Level of growth at which the measured square is covered as asked (0 … 1).

    `run` spreads a function over rows and may raise; `outward_m` is how far the skin carries a
    full-grown cloud's edge beyond its shape. What is tried is remembered in `levels`. The level
    is the same whatever is remembered, unless a cover as `close` as that will do.
    """
    near, known = levels
    cover = min(cover, FULLEST)
    if cover <= 0.0:
        return -9.0
    free = np.empty((RASTER, RASTER + 1), dtype=np.int16)
    grow = 1.0 + outward_m / (shapes.half_width_m / 1.34)
    low, high = 0, LEVELS_TRIED  # the last known to cover too little, the first enough
    short, over = _off(0.0, cover), _off(1.0, cover)
    for step, share in known.items():
        if close and abs(share - cover) <= close:
            return _level(step)
        if share < cover and step > low:
            low, short = step, _off(share, cover)
        elif share >= cover and step < high:
            high, over = step, _off(share, cover)
    side = 0
    while high - low > 1:
        # False position; an end that stays twice weighs half (Dowell & Jarratt 1971).
        place = low + int((high - low) * short / (short - over) + 0.5)
        middle = min(max(place, low + 1), high - 1)
        counts: list[int] = []

        def rows(r0: int, r1: int, level: float = _level(middle),
                 counts: list[int] = counts) -> None:
            counts.append(_raster_cover(near, level, period_m, shapes.half_width_m,
                                        shapes.footprints, grow, r0, r1, free))

        run(rows, RASTER)
        share = sum(counts) / RASTER**2
        known[middle] = share
        if close and abs(share - cover) <= close:
            return _level(middle)
        if share < cover:
            low, short = middle, _off(share, cover)
            over *= 0.5 if side < 0 else 1.0
            side = -1
        else:
            high, over = middle, _off(share, cover)
            short *= 0.5 if side > 0 else 1.0
            side = 1
    return _level(high)


def _off(share: float, cover: float) -> float:
    """How far a share of cover is off, so that it grows about evenly with the level."""
    return math.log((1.001 - cover) / (1.001 - share))


def _level(step: int) -> float:
    return LOWEST_LEVEL + (HIGHEST_LEVEL - LOWEST_LEVEL) * step / LEVELS_TRIED
