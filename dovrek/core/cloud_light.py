"""Light kept in a scene's tables, looked up at a point: light grids, sunlight, cloud shadows."""

from __future__ import annotations

import math

from dovrek.core.density import (
    BASE,
    GRID_AT,
    GRID_DX,
    GRID_DZ,
    GRID_LEVELS,
    GRID_N,
    GRID_NZ,
    GRID_Z0,
    K_SCALED,
    Z_HIGH,
)
from dovrek.core.kernels import clamp, inner, kernel
from dovrek.core.light_grid import CHANNELS, COARSER
from dovrek.core.scene import BELOW_M, LIGHT_HEIGHTS, LIGHT_SPAN_RAD, LIGHT_SUNS, LIGHT_TOP_M

LOWEST_SUN = 0.01  # sine of the sun's height below which clouds cast no shadow downward


@inner
def _grid_place(p, x, y, z, dither, place):
    """Where a point lies in a layer's grid: three fractions into `place`, returns the index of
    its lower corner's first channel. Levels change dithered, so that no ring shows."""
    n, nz, levels = int(p[GRID_N]), int(p[GRID_NZ]), int(p[GRID_LEVELS])
    dx = p[GRID_DX]
    reach = max(abs(x), abs(y)) * (1.0 + 0.25 * dither)
    half = (0.5 * n - 2.0) * dx
    level = 0
    while level < levels - 1 and reach > half:
        half *= COARSER
        dx *= COARSER
        level += 1
    a = clamp(x / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    b = clamp(y / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    c = clamp((z - p[GRID_Z0]) / p[GRID_DZ] - 0.5, 0.0, nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    place[0], place[1], place[2] = a - i, b - j, c - k
    return int(p[GRID_AT]) + (((level * n + i) * n + j) * nz + k) * CHANNELS


@kernel
def grid_depth(light, p, x, y, z, dither, place):
    """Optical depth toward the sun at a point by trilinear look-up; `place` (3,) is scratch."""
    at = _grid_place(p, x, y, z, dither, place)
    dj = int(p[GRID_NZ]) * CHANNELS
    di = int(p[GRID_N]) * dj
    fa, fb, fc = place[0], place[1], place[2]
    low = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
           + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    at += CHANNELS
    high = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
            + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    return max(low * (1 - fc) + high * fc, 0.0)


@kernel
def grid_light(light, p, x, y, z, dither, out):
    """Six light channels at a point by trilinear look-up into `out` (9,)."""
    at = _grid_place(p, x, y, z, dither, out[CHANNELS:])
    dj = int(p[GRID_NZ]) * CHANNELS
    di = int(p[GRID_N]) * dj
    fa, fb, fc = out[CHANNELS], out[CHANNELS + 1], out[CHANNELS + 2]
    w00, w01 = (1 - fa) * (1 - fb), (1 - fa) * fb
    w10, w11 = fa * (1 - fb), fa * fb
    for q in range(CHANNELS):
        low = (w00 * light[at + q] + w01 * light[at + dj + q]
               + w10 * light[at + di + q] + w11 * light[at + di + dj + q])
        m = at + CHANNELS
        high = (w00 * light[m + q] + w01 * light[m + dj + q]
                + w10 * light[m + di + q] + w11 * light[m + di + dj + q])
        out[q] = low * (1 - fc) + high * fc


@kernel
def sunlight_at(t, sun, radius, x, y, h, out):
    """Irradiance (XYZ) of the sun above a place: its height and its own sun elevation count."""
    u = clamp(h / LIGHT_TOP_M, 0.0, 1.0) * (LIGHT_HEIGHTS - 1)
    offset = (x * sun[0] + y * sun[1]) / radius
    v = (clamp(offset / LIGHT_SPAN_RAD, -1.0, 1.0) + 1.0) * 0.5 * (LIGHT_SUNS - 1)
    i, j = min(int(u), LIGHT_HEIGHTS - 2), min(int(v), LIGHT_SUNS - 2)
    fi, fj = u - i, v - j
    for c in range(3):
        out[c] = ((t[i, j, c] * (1 - fj) + t[i, j + 1, c] * fj) * (1 - fi)
                  + (t[i + 1, j, c] * (1 - fj) + t[i + 1, j + 1, c] * fj) * fi)


@inner
def depth_above(scene, x, y, h, place):
    """Scaled optical depth of the clouds toward the sun from a place at height h above the ground,
    and the layer that it is of (−1: none). `place` (3,) is scratch.

    Every grid counts the layers above its own, so the deepest of the layers above tells all.
    """
    depth, layer = 0.0, -1
    sz = scene.sun[2] + (x * scene.sun[0] + y * scene.sun[1]) / scene.radius
    if sz <= LOWEST_SUN:
        return depth, layer
    for l in range(len(scene.field.layers)):
        p = scene.field.layers[l]
        if h > p[BASE] + p[Z_HIGH]:
            continue
        lowest = p[GRID_Z0] + 0.7 * p[GRID_DZ]
        rise = max(p[BASE] + lowest - h, 0.0)
        t = scene.radius * (math.sqrt(sz * sz + 2.0 * rise / scene.radius) - sz)
        z = max(h - p[BASE], lowest)
        found = p[K_SCALED] * grid_depth(
            scene.light, p, x + t * scene.sun[0], y + t * scene.sun[1], z, 0.0, place)
        if found > depth:
            depth, layer = found, l
    return depth, layer


@kernel
def sun_passed(scene, x, y, h, place):
    """Share of sunlight that clouds let through to a place at height h above the ground, small
    turns included. `place` (3,) is scratch."""
    depth, _ = depth_above(scene, x, y, h, place)
    return math.exp(-depth)


@kernel
def ground_light(scene, x, y, out, place):
    """Radiance of the ground at a place, with the shadow clouds cast on it; returns the share of
    sunlight that reaches it."""
    lit = sun_passed(scene, x, y, 0.0, place)
    for c in range(3):
        out[c] = (scene.ground[0, c] + scene.ground[2, c]) * lit + scene.ground[1, c]
    return lit


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
