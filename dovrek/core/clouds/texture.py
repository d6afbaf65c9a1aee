"""Patterns on the level that layers are drawn with: flat noise, cells, lenses, waves."""

from __future__ import annotations

import math

from dovrek.core.compile.arithmetic import smoothstep
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.compile.noise import WISP, hash_unit, noise_at, noise_level

TILT_U, TILT_V = 0.288, 0.090  # no combination of a few tiles comes near a whole number


@inner
def flat_noise(volumes, x, y, tile, slice_, footprint):
    """Two-dimensional noise: a slice through a volume, turned by a generic angle.

    The slice is tilted, so that it meets other parts of the volume in every tile.
    """
    s = 1.0 / tile
    u, v = s * (0.7986 * x + 0.6018 * y), s * (-0.6018 * x + 0.7986 * y)
    return noise_at(volumes, WISP, u, v, slice_ + TILT_U * u + TILT_V * v,
                    noise_level(footprint, tile))


@inner
def cell_at(u, v, seed, uneven):
    """How near a place (in cells) is to the middle of a cell: about 1 inside, 0 between cells.

    Source: Worley 1996, first and second distance to jittered points.
    """
    i, j = math.floor(u), math.floor(v)
    first, second, own = 9.0, 9.0, 0.0
    for a in range(-1, 2):
        for b in range(-1, 2):
            x = i + a + 0.5 + 0.8 * (hash_unit(i + a, j + b, seed) - 0.5) - u
            y = j + b + 0.5 + 0.8 * (hash_unit(i + a, j + b, seed + 1) - 0.5) - v
            d = x * x + y * y
            if d < first:
                second, first = first, d
                own = hash_unit(i + a, j + b, seed + 2)
            elif d < second:
                second = d
    first, second = math.sqrt(first), math.sqrt(second)
    return (0.6 * min(1.5 * (second - first), 1.0) + 0.55 * max(1.0 - 1.25 * first, 0.0)
            + uneven * (own - 0.5))


@inner
def lens_at(u, v, seed, uneven):
    """Score of lens-shaped clouds (in cells): 1 in the middle of one, 0 at its rim, below 0
    outside. They lie across the wind, bowed and drawn out toward its lee."""
    i, j = math.floor(u), math.floor(v)
    best = -9.0
    for a in range(-1, 2):
        for b in range(-1, 2):
            x = u - (i + a + 0.5 + 0.5 * (hash_unit(i + a, j + b, seed) - 0.5))
            y = v - (j + b + 0.5 + 0.6 * (hash_unit(i + a, j + b, seed + 1) - 0.5))
            own = hash_unit(i + a, j + b, seed + 2)
            long = 0.24 + 0.16 * hash_unit(i + a, j + b, seed + 3)
            x += 0.4 * y * y  # bowed
            x /= 0.09 if x < 0.0 else 0.15
            y /= long
            best = max(best, 1.0 - x * x - y * y + 2.0 * uneven * (own - 0.5))
    return best


@kernel
def waves(field, p, x, y, bend, footprint):
    """Rows: a sine of −1 … 1 across them, where there are any."""
    spacing = p.row_spacing
    fine = 1.0 - 2.0 * footprint / spacing
    if p.rows <= 0.0 or fine <= 0.0:
        return 0.0
    wave = math.sin(2.0 * math.pi * (x * p.row_x + y * p.row_y + p.shift_x + bend) / spacing)
    if p.patchiness > 0.0:
        n = flat_noise(field.bytes, x + p.shift_y, y, 16.0 * spacing, 0.59, footprint)
        wave *= 1.0 - p.patchiness * (1.0 - smoothstep(-0.15, 0.35, n))
    return wave * fine


@inner
def apart(field, p, u, v, footprint):
    """What parts of a sheet without cells lack or have in score while they are at different stages
    of life."""
    if p.stages_apart <= 0.0:
        return 0.0
    return p.stages_apart * flat_noise(field.bytes, v, u, 30.0 * p.cell_size, 0.03, footprint)
