"""The shade of the land: on its own slopes, on the level ground about it."""

from __future__ import annotations

import math

from dovrek.core.compile.kernels import inner
from dovrek.core.land.meeting import CLEAR_M, SHADOW_FAR_M, land_distance


@inner
def sun_clears_land(scene, x, y, h, random):
    """Whether the land lets a place of the sun's disc, by a number 0 … 1, shine to a point: 1 or
    0."""
    sun = scene.sun.direction
    lift = (2.0 * random - 1.0) * scene.sun.radius
    level = math.sqrt(sun[0] * sun[0] + sun[1] * sun[1])
    if level < 1e-9:
        return 1.0
    c, s = math.cos(lift), math.sin(lift)
    dz = sun[2] * c + level * s
    flat = (level * c - sun[2] * s) / level
    met = land_distance(scene.land, scene.land_heights, scene.land_peaks, scene.radius, x, y,
                        h + CLEAR_M, sun[0] * flat, sun[1] * flat, dz, SHADOW_FAR_M)
    return 1.0 if met < 0.0 else 0.0
