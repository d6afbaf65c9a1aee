"""Light of the land where a ray meets it: sun on its slope past its own and the clouds' shadows,
the sky it sees, what slopes around return."""

from __future__ import annotations

import math

from dovrek.core.air.sunlight import sunlight_at
from dovrek.core.compile.kernels import inner
from dovrek.core.land.meeting import grid_x, grid_y, land_normal
from dovrek.core.land.tones import picture_tone
from dovrek.core.transport.ground_tone import ground_tone
from dovrek.core.transport.land_shade import sun_clears_land
from dovrek.core.transport.look_ups import sun_passed

STEEPEST_GAIN = 3.0  # of a low sun's aureole on a slope that faces it, over level ground


@inner
def _sky_share(scene, x, y):
    """Share of the sky's light that falls on the land at a place."""
    m = scene.land.sky_squares
    every = scene.land.squares / m
    a = min(max(grid_x(scene.land, x, y) / every - 0.5, 0.0), m - 1.001)
    b = min(max(grid_y(scene.land, x, y) / every - 0.5, 0.0), m - 1.001)
    i, j = int(a), int(b)
    u, v = a - i, b - j
    t = scene.land_sky
    return ((t[i, j] * (1 - v) + t[i, j + 1] * v) * (1 - u)
            + (t[i + 1, j] * (1 - v) + t[i + 1, j + 1] * v) * u)


@inner
def land_tone(scene, x, y, across, out):
    """Albedo of the land at a place over that of the ground's dry part, as `across` metres of it
    have it; the tone of its picture there into `out` (3,)."""
    if len(scene.land_tones) > 1:
        picture_tone(scene.land, scene.land_tones, x, y, across, out)
    else:
        for c in range(3):
            out[c] = 1.0
    dry = max(scene.ground.albedo[1] * scene.ground.land[1], 1e-3)
    return scene.land.albedo / dry * ground_tone(scene, x, y, across)


@inner
def land_light(scene, x, y, h, random, normal, sunlight, out):
    """Radiance of the land at a place and height into `out` (3,); returns the share of sunlight
    that reaches it. `normal` (3,) and `sunlight` (3,) are scratch."""
    land_normal(scene.land, scene.land_heights, x, y, normal)
    sun, ground = scene.sun.direction, scene.ground
    slope = normal[0] * sun[0] + normal[1] * sun[1] + normal[2] * sun[2]
    lit = 1.0
    if slope > 0.0:
        lit = sun_clears_land(scene, x, y, h, random) * sun_passed(scene, x, y, h)
    sunlight_at(scene.sunlight, sun, scene.radius, x, y, h, sunlight)
    share = _sky_share(scene, x, y)
    # The tint of dry ground, its own share.
    tone = scene.land.albedo / max(ground.albedo[1] * ground.land[1], 1e-3)
    gain = min(max(slope, 0.0) / max(sun[2], 0.02), STEEPEST_GAIN)
    for c in range(3):
        own = tone * ground.land[c]
        albedo = ground.albedo[c] * own
        around = (1.0 - share) * albedo * own * (ground.by_sky[c] + 0.5 * ground.by_sun[c])
        out[c] = (albedo / math.pi * sunlight[c] * max(slope, 0.0) * lit
                  + own * (ground.by_sky[c] * share + ground.by_aureole[c] * lit * gain) + around)
    return lit
