"""Water seen from anywhere: glint of the sun on waves, the mirrored sky, the light of its depth.

Slopes of waves by Cox & Munk 1954 (variance 0.003 + 0.00512 U, wind U in m/s); reflection by
Fresnel's equations for a refractive index of 1.34.
"""

from __future__ import annotations

import math

from dovrek.core.clouds.texture import flat_noise
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, kernel, part
from dovrek.core.land.world import land_grey

INDEX = 1.34  # of sea water
# Light that comes back up out of deep clear water, over what falls on it, by X, Y and Z: from
# memory, of reflectances of about 5 % at 440 nm, 1.5 % at 550 nm and none at 650 nm.
DEEP = (0.014, 0.016, 0.045)
COASTS, COAST_SHARE = (0.11, 0.013), (0.30, 0.10)  # finer scales of a coast, and their strength
SHORE = 0.012  # half width of a shore in the noise
TONES, TONE = (2_600_000.0, 420_000.0), 1.1  # how land differs from far away
# Waves as a pattern: tile over the strip that a pixel covers, the least one (metres), strength of
# the pattern and of what is finer, over the slopes' deviation.
STRIPS, LEAST_WAVE_M, WAVY, UNEVEN = 24.0, 8.0, 1.4, 0.25
MAP_SLOPE = 1.0  # of a map's greys over the noise of its coasts
GRAZING = 0.5  # of the slopes' deviation, by which waves turn to an eye that looks along them


@kernel
def slope_variance(wind_m_s):
    """Mean square slope of the sea's surface. Source: Cox & Munk 1954."""
    return 0.003 + 0.00512 * wind_m_s


@kernel
def fresnel(cosine):
    """Share of unpolarised light that water reflects at an angle of this cosine."""
    c = clamp(cosine, 0.0, 1.0)
    g = math.sqrt(INDEX * INDEX - 1.0 + c * c)
    a = (c - g) / (c + g)
    b = (INDEX * INDEX * c - g) / (INDEX * INDEX * c + g)
    return 0.5 * (a * a + b * b)


@kernel
def glint(sun, view, up, variance):
    """Radiance of the sun's glint over its irradiance square to the beam, 1/sr.

    `sun` and `view` are unit vectors (3,) from the water toward the sun and the eye, `up` its
    upright. Source: Cox & Munk 1954, with the slopes' shadowing left to a least cosine of the view.
    """
    high = sun[0] * up[0] + sun[1] * up[1] + sun[2] * up[2]
    seen = view[0] * up[0] + view[1] * up[1] + view[2] * up[2]
    if high <= 0.0 or seen <= 0.0:
        return 0.0
    x, y, z = sun[0] + view[0], sun[1] + view[1], sun[2] + view[2]
    long = math.sqrt(x * x + y * y + z * z)
    tilt = (x * up[0] + y * up[1] + z * up[2]) / long
    if tilt <= 0.05:
        return 0.0
    steep = (1.0 - tilt * tilt) / (tilt * tilt)
    chance = math.exp(-steep / variance) / (math.pi * variance)
    met = (sun[0] * x + sun[1] * y + sun[2] * z) / long
    return fresnel(met) * chance / (4.0 * max(seen, GRAZING * math.sqrt(variance)) * tilt**4)


@inner
def water_share(scene, x, y, footprint):
    """How far a place (metres from the camera's foot) is water, 0 … 1, and the tone of land."""
    ground = scene.ground
    if ground.water <= 0.0:
        return 0.0, 1.0
    if ground.water >= 1.0:
        return 1.0, 1.0
    east, north = x + ground.east + ground.world_x, y + ground.north + ground.world_y
    size, bytes_, level = ground.world_size, scene.field.bytes, ground.world_level
    mapped = scene.world.size > 1
    if mapped:  # its coasts are as fine as a pixel of it; noise goes on below
        n, level = MAP_SLOPE * (land_grey(scene, x, y) - 0.5), 0.0
        size = 3.0 * math.pi * scene.radius / len(scene.world) / COASTS[0]
    else:
        n = flat_noise(bytes_, east, north, size, 0.21, footprint)
    for k in range(2):
        n += COAST_SHARE[k] * flat_noise(bytes_, north, east, COASTS[k] * size, 0.47 + 0.2 * k,
                                         footprint)
    soft = SHORE + min(0.15 * footprint / size * 16.0, 0.3)
    water = 1.0 - smoothstep(level - soft, level + soft, n)
    tone = 1.0
    far = smoothstep(200.0, 2000.0, footprint)
    if far > 0.0 and water < 1.0:
        for k in range(2):
            tone += TONE * far * ground.variety * flat_noise(
                bytes_, east, north, TONES[k], 0.33 + 0.31 * k, footprint)
    return water, max(tone, 0.3)


@inner
def wave_tilt(scene, x, y, strip, random):
    """Slope of the waves at a place along the line of sight, as they are seen in a strip (metres)
    that a pixel covers: patterns of about its size, so that none is finer than what is seen."""
    ground, size = scene.ground, math.log2(max(STRIPS * strip, LEAST_WAVE_M))
    fine = math.floor(size)
    f, tile = size - fine, 2.0**fine
    east, north = x + ground.east, y + ground.north
    a = flat_noise(scene.field.bytes, east, north, tile, 0.37, 0.0)
    b = flat_noise(scene.field.bytes, east, north, 2.0 * tile, 0.37, 0.0)
    n = a + f * (b - a)
    return math.sqrt(ground.slopes) * (WAVY * n + UNEVEN * (2.0 * random - 1.0))


@part
def water_light(scene, walk, x, y, lit, out):
    """Light of the water that needs no second ray: glint and depth, into `out` (3,); returns the
    share of the mirrored sky that is seen, and the cosine at which.

    (x, y): place, metres; `lit`: share of sunlight that reaches it. `walk.sunlight` (3,) holds the
    sun's irradiance square to the beam there.
    """
    ground, sun = scene.ground, scene.sun.direction
    far = math.sqrt(x * x + y * y)
    arc = far / scene.radius
    up, view = walk.place, walk.normal
    up[0], up[1], up[2] = 0.0, 0.0, 1.0
    if far > 1.0:
        up[0], up[1], up[2] = math.sin(arc) * x / far, math.sin(arc) * y / far, math.cos(arc)
    view[0], view[1], view[2] = -walk.dx, -walk.dy, -walk.dz
    shine = glint(sun, view, up, ground.slopes)
    seen = max(view[0] * up[0] + view[1] * up[1] + view[2] * up[2], 0.0)
    # An eye that looks along the sea sees the sides of waves that face it.
    seen += GRAZING * math.sqrt(ground.slopes) * (1.0 - seen) ** 2
    mirrored = fresnel(seen)
    for c in range(3):
        falling = ((ground.by_sun[c] + ground.by_aureole[c]) * lit * walk.day[3 + c]
                   + ground.by_sky[c] * walk.day[c]) / max(ground.albedo[c], 1e-4)
        out[c] = shine * lit * walk.sunlight[c] + (1.0 - mirrored) * DEEP[c] * falling
    return mirrored, seen
