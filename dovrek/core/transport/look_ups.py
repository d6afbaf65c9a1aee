"""Light kept in a scene's tables, looked up at a point: light grids, sunlight, cloud shadows."""

from __future__ import annotations

import math

from dovrek.core.air.sunlight import ABOVE, SKY, SUN, UNDER, day_place
from dovrek.core.clouds.drape import lifted
from dovrek.core.clouds.light.grid import CHANNELS, COARSER
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.geometry.planet import sun_height
from dovrek.core.transport.far_shade import clear_from_far
from dovrek.core.transport.ground_tone import ground_tone
from dovrek.core.transport.land_shade import sun_clears_land
from dovrek.core.transport.scene import BELOW_M

SHORT_M, STRIP = 3.0, 4  # half strip up to which one look does, and looks at a longer one
PASSES_OVER = 0.2  # of a level's half, over which the next coarser one takes over
LOWEST_SUN = 0.01  # sine of the sun's height below which clouds cast no shadow downward


@inner
def _grid_level(p, x, y):
    """Which level of a layer's grid holds a place, its cells' width, and the share of the next
    coarser one that shows there: levels pass over into each other, so that no ring shows."""
    dx = p.grid_dx
    reach = max(abs(x - p.grid_x), abs(y - p.grid_y))
    half = (0.5 * p.grid_n - 2.0) * dx
    level = 0
    while level < p.grid_levels - 1 and reach > half:
        half *= COARSER
        dx *= COARSER
        level += 1
    share = 0.0
    if level < p.grid_levels - 1:
        share = max(1.0 - (1.0 - reach / half) / PASSES_OVER, 0.0)
    return level, dx, share


@inner
def _grid_place(p, level, dx, x, y, z):
    """Where a point lies in a level of a layer's grid: the index of its lower corner's first
    channel, and three fractions."""
    n, nz = p.grid_n, p.grid_nz
    a = clamp((x - p.grid_x) / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    b = clamp((y - p.grid_y) / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    c = clamp((z - p.grid_z0) / p.grid_dz - 0.5, 0.0, nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    return p.grid_at + (((level * n + i) * n + j) * nz + k) * CHANNELS, a - i, b - j, c - k


@inner
def _level_depth(light, p, level, dx, x, y, z):
    """Optical depth toward the sun at a point of one level, by trilinear look-up."""
    at, fa, fb, fc = _grid_place(p, level, dx, x, y, z)
    dj = p.grid_nz * CHANNELS
    di = p.grid_n * dj
    low = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
           + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    at += CHANNELS
    high = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
            + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    return max(low * (1 - fc) + high * fc, 0.0)


@kernel
def grid_depth(light, p, x, y, z):
    """Optical depth toward the sun at a point."""
    level, dx, share = _grid_level(p, x, y)
    depth = _level_depth(light, p, level, dx, x, y, z)
    if share > 0.0:
        depth += share * (_level_depth(light, p, level + 1, COARSER * dx, x, y, z) - depth)
    return depth


@inner
def _add_level(light, p, level, dx, x, y, z, weight, out):
    """Six light channels at a point of one level, by trilinear look-up, times a weight, added to
    `out`."""
    at, fa, fb, fc = _grid_place(p, level, dx, x, y, z)
    dj = p.grid_nz * CHANNELS
    di = p.grid_n * dj
    w00, w01 = (1 - fa) * (1 - fb) * weight, (1 - fa) * fb * weight
    w10, w11 = fa * (1 - fb) * weight, fa * fb * weight
    for q in range(CHANNELS):
        low = (w00 * light[at + q] + w01 * light[at + dj + q]
               + w10 * light[at + di + q] + w11 * light[at + di + dj + q])
        m = at + CHANNELS
        high = (w00 * light[m + q] + w01 * light[m + dj + q]
                + w10 * light[m + di + q] + w11 * light[m + di + dj + q])
        out[q] += low * (1 - fc) + high * fc


@inner
def grid_light(light, p, x, y, z, out):
    """Six light channels at a point into `out` (6,)."""
    level, dx, share = _grid_level(p, x, y)
    for q in range(CHANNELS):
        out[q] = 0.0
    _add_level(light, p, level, dx, x, y, z, 1.0 - share, out)
    if share > 0.0:
        _add_level(light, p, level + 1, COARSER * dx, x, y, z, share, out)


@inner
def depth_above(scene, x, y, h):
    """Scaled optical depth of the clouds toward the sun from a place at height h above the ground,
    and the layer that it is of (−1: none).

    Every grid counts the layers above its own, so the deepest of the layers above tells all.
    """
    depth, layer, sun = 0.0, -1, scene.sun.direction
    if scene.clear.high:
        sz = sun_height(scene.radius, sun, x, y)
    else:
        sz = sun[2] + (x * sun[0] + y * sun[1]) / scene.radius
    if sz <= LOWEST_SUN:
        return depth, layer
    for l in range(len(scene.field.layers)):
        p = scene.field.layers[l]
        if h > p.base + p.highest:
            continue
        lowest = p.grid_z0 + 0.7 * p.grid_dz
        over = h - p.base - lifted(scene.field, p, x, y)
        rise = max(lowest - over, 0.0)
        t = scene.radius * (math.sqrt(sz * sz + 2.0 * rise / scene.radius) - sz)
        z = max(over, lowest)
        found = p.k_scaled * grid_depth(
            scene.light, p, x + t * sun[0], y + t * sun[1], z)
        if found > depth:
            depth, layer = found, l
    return depth, layer


@kernel
def sun_passed(scene, x, y, h):
    """Share of sunlight that clouds let through to a place at height h above the ground, small
    turns included."""
    depth, _ = depth_above(scene, x, y, h)
    return math.exp(-depth)


@inner
def light_on_ground(scene, x, y, along_x, along_y, across, random, out):
    """Radiance of the ground at a place, with the shadow of clouds and land on it; returns the
    share of sunlight that reaches it. `along` is half the strip that a pixel covers, away from the
    eye, and `across` its width: shadow and tone are means over it. `random` 0 … 1 shifts looks."""
    ground = scene.ground
    half = math.sqrt(along_x * along_x + along_y * along_y)
    steps = 1 if half < SHORT_M else STRIP
    lit, tone = 0.0, 0.0
    for k in range(steps):
        place = 2.0 * (k + 0.5) / steps - 1.0
        sx, sy = x + place * along_x, y + place * along_y
        if scene.land.squares == 0 or sun_clears_land(scene, sx, sy, 0.0, 0.5) > 0.0:
            if scene.clear.high:
                lit += clear_from_far(scene, sx, sy, across, random) / steps
            else:
                lit += sun_passed(scene, sx, sy, 0.0) / steps
        tone += ground_tone(scene, sx, sy, max(across, 2.0 * half / steps)) / steps
    if scene.clear.high:
        suns, _, _ = scene.day.shape
        at = day_place(suns, scene.sun.direction, scene.radius, x, y)
        j = min(int(at), suns - 2)
        f = at - j
        for c in range(3):
            by_sun = scene.day[j, SUN, c] * (1.0 - f) + scene.day[j + 1, SUN, c] * f
            by_sky = scene.day[j, SKY, c] * (1.0 - f) + scene.day[j + 1, SKY, c] * f
            out[c] = tone * (by_sun * lit + by_sky)
        return lit
    for c in range(3):
        out[c] = tone * ((ground.by_sun[c] + ground.by_aureole[c]) * lit + ground.by_sky[c])
    return lit


@inner
def day_there(scene, x, y, out):
    """Light from above and from below at a place over that at the camera's foot, into `out` (6,):
    XYZ each."""
    suns, _, _ = scene.day.shape
    at = day_place(suns, scene.sun.direction, scene.radius, x, y)
    j = min(int(at), suns - 2)
    f = at - j
    for c in range(3):
        out[c] = scene.day[j, ABOVE, c] * (1.0 - f) + scene.day[j + 1, ABOVE, c] * f
        out[3 + c] = scene.day[j, UNDER, c] * (1.0 - f) + scene.day[j + 1, UNDER, c] * f


@kernel
def from_below(scene, layer, x, y):
    """Light from the ground beneath a place in a layer over the light from ground on the whole."""
    _, _, side = scene.below.shape
    a, b = (x / BELOW_M + 0.5) * side - 0.5, (y / BELOW_M + 0.5) * side - 0.5
    if a < 0.0 or b < 0.0 or a >= side - 1.0 or b >= side - 1.0:
        return 1.0
    i, j = int(a), int(b)
    fa, fb = a - i, b - j
    g = scene.below
    return ((g[layer, i, j] * (1.0 - fb) + g[layer, i, j + 1] * fb) * (1.0 - fa)
            + (g[layer, i + 1, j] * (1.0 - fb) + g[layer, i + 1, j + 1] * fb) * fa)
