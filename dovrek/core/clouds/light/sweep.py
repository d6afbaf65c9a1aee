"""Optical depth toward the sun, swept from cell to cell, and from layer to layer."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.light.grid import COARSER, level_of
from dovrek.core.clouds.phase import K_SCALED
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, part

SLANT_PARTS = 6
DEEPEST = 80.0  # of the negative logarithm of light: single precision holds it
SHEET_LOWEST = 0.035  # sine of the sun's height below which sheets too are swept sideways



@kernel
def passed(depth):
    """Light that a depth lets pass, small turns included."""
    return math.exp(-K_SCALED * depth)


@kernel
def depth_of(light):
    """Inverse of `passed`, up to a depth of about 120."""
    return -math.log(max(light, 1e-12)) / K_SCALED


def all_passed(depth: NDArray[np.float32]) -> NDArray[np.float32]:
    """Light that each of many depths lets pass, all at once."""
    return np.exp(np.float32(-K_SCALED) * np.minimum(depth, np.float32(DEEPEST / K_SCALED)))


@part
def _corner(shape, level, x, y, z):
    """The lowest of the eight cells of a level about a point (clamped at its edges), and the
    point's shares of the way from that one's centre to the next."""
    dx = shape.dx * COARSER**level
    n = shape.n
    a = clamp(x / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    b = clamp(y / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    c = clamp((z - shape.z0) / shape.dz - 0.5, 0.0, shape.nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    return i, j, k, a - i, b - j, c - k


@part
def _across(g, i, j, k, fa, fb):
    """A level's values at a point between four cells of one height."""
    return ((g[i, j, k] * (1 - fb) + g[i, j + 1, k] * fb) * (1 - fa)
            + (g[i + 1, j, k] * (1 - fb) + g[i + 1, j + 1, k] * fb) * fa)


@inner
def _depth_at(depth, shape, level, x, y, z):
    """Optical depth at a point of one level (clamped at its edges), trilinear in light."""
    i, j, k, fa, fb, fc = _corner(shape, level, x, y, z)
    g = depth[level]
    light = 0.0
    for e in range(2):
        we = fa if e else 1.0 - fa
        for f in range(2):
            wf = we * (fb if f else 1.0 - fb)
            light += wf * ((1.0 - fc) * passed(g[i + e, j + f, k])
                           + fc * passed(g[i + e, j + f, k + 1]))
    return depth_of(light)


@inner
def _told_at(told, shape, level, x, y, z):
    """What is told of the cells of one level at a point (clamped at its edges), trilinear."""
    i, j, k, fa, fb, fc = _corner(shape, level, x, y, z)
    g = told[level]
    return _across(g, i, j, k, fa, fb) * (1.0 - fc) + _across(g, i, j, k + 1, fa, fb) * fc


@inner
def _extinction_at(s, a, b, c):
    """Trilinear extinction at a place in cells from the first centre, 0 above and below."""
    n, _, nz = s.shape
    a, b = clamp(a, 0.0, n - 1.001), clamp(b, 0.0, n - 1.001)
    i, j, k = int(a), int(b), math.floor(c)
    fa, fb, fc = a - i, b - j, c - k
    total = 0.0
    for h in range(2):
        if 0 <= k + h < nz:
            total += (fc if h else 1.0 - fc) * (
                (s[i, j, k + h] * (1 - fb) + s[i, j + 1, k + h] * fb) * (1 - fa)
                + (s[i + 1, j, k + h] * (1 - fb) + s[i + 1, j + 1, k + h] * fb) * fa)
    return total


@kernel
def sweep_sheet(sigma, shape, sx, sy, sz, cancel, depth, light):
    """As `sweep_depth`, always from the top plane down: right for even sheets however low the
    sun, where a sweep across them would blur their upper face."""
    n, nz, dz = shape.n, shape.nz, shape.dz
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        path = dz / sz
        ox, oy = sx / sz * dz / dx, sy / sz * dz / dx
        parts = min(1 + int(max(abs(ox), abs(oy))), SLANT_PARTS)
        s, d = sigma[level], depth[level]
        for k in range(nz - 1, -1, -1):
            if cancel[0] != 0:
                return
            for i in range(n):
                for j in range(n):
                    if k == nz - 1:
                        d[i, j, k] = 0.5 * s[i, j, k] * path
                        light[i, j, k] = passed(d[i, j, k])
                        continue
                    a, b = i + ox, j + oy
                    if a < 0.0 or b < 0.0 or a > n - 1.0 or b > n - 1.0:
                        upstream = 0.0
                        if level < shape.levels - 1:
                            x, y = (a + 0.5 - 0.5 * n) * dx, (b + 0.5 - 0.5 * n) * dx
                            upstream = _depth_at(depth, shape, level + 1, x, y,
                                                 shape.z0 + (k + 1.5) * dz)
                        else:  # the layer goes on as it is here
                            upstream = d[i, j, k + 1]
                        d[i, j, k] = upstream + 0.5 * (s[i, j, k] + s[i, j, k + 1]) * path
                        light[i, j, k] = passed(d[i, j, k])
                        continue
                    i2, j2 = min(int(a), n - 2), min(int(b), n - 2)
                    fa, fb = a - i2, b - j2
                    upstream = depth_of(
                        (light[i2, j2, k + 1] * (1 - fb)
                         + light[i2, j2 + 1, k + 1] * fb) * (1 - fa)
                        + (light[i2 + 1, j2, k + 1] * (1 - fb)
                           + light[i2 + 1, j2 + 1, k + 1] * fb) * fa)
                    total = 0.0
                    for q in range(parts):
                        u = (q + 0.5) / parts
                        total += _extinction_at(s, i + u * ox, j + u * oy, k + u)
                    d[i, j, k] = upstream + total / parts * path
                    light[i, j, k] = passed(d[i, j, k])


@kernel
def sweep_depth(sigma, shape, sx, sy, sz, cancel, depth, light):
    """Optical depth from every cell centre to the sun, plane by plane, coarse level first.

    Between cells the light that passes is interpolated, not the depth: a shadow's edge then
    blurs without darkening what it falls on. `light` is room for what passes in one level.
    """
    n, nz = shape.n, shape.nz
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        dz = shape.dz
        ax, ay, az = abs(sx) / dx, abs(sy) / dx, abs(sz) / dz
        axis = 2
        if ax >= ay and ax >= az:
            axis = 0
        elif ay >= az:
            axis = 1
        planes = nz if axis == 2 else n
        rows = n
        columns = n if axis == 2 else nz
        toward = sz if axis == 2 else (sx if axis == 0 else sy)
        step = 1 if toward > 0 else -1
        scale = 1.0 / max(ax, max(ay, az))
        ox, oy, oz = sx * scale / dx, sy * scale / dx, sz * scale / dz  # cells to the next plane
        path = scale
        s, d = sigma[level], depth[level]
        for q in range(planes):
            if cancel[0] != 0:
                return
            plane = planes - 1 - q if step > 0 else q
            for row in range(rows):
                for column in range(columns):
                    if axis == 2:
                        i, j, k = row, column, plane
                    elif axis == 0:
                        i, j, k = plane, row, column
                    else:
                        i, j, k = row, plane, column
                    a, b, c = i + ox, j + oy, k + oz
                    own = s[i, j, k]
                    if c > nz - 0.5 or c < -0.5:
                        d[i, j, k] = 0.5 * own * path
                        light[i, j, k] = passed(d[i, j, k])
                        continue
                    if a < 0.0 or b < 0.0 or a > n - 1.0 or b > n - 1.0:
                        x, y = (a + 0.5 - 0.5 * n) * dx, (b + 0.5 - 0.5 * n) * dx
                        z = shape.z0 + (c + 0.5) * dz
                        upstream = 0.0
                        if level < shape.levels - 1:
                            upstream = _depth_at(depth, shape, level + 1, x, y, z)
                        d[i, j, k] = upstream + own * path
                        light[i, j, k] = passed(d[i, j, k])
                        continue
                    i2 = min(int(a), n - 2)
                    j2 = min(int(b), n - 2)
                    k2 = min(int(max(c, 0.0)), nz - 2)
                    fa, fb, fc = a - i2, b - j2, clamp(c - k2, 0.0, 1.0)
                    through, beyond = 0.0, 0.0
                    for e in range(2):
                        we = fa if e else 1.0 - fa
                        if we < 1e-6:
                            continue
                        for g in range(2):
                            wg = we * (fb if g else 1.0 - fb)
                            if wg < 1e-6:
                                continue
                            for h in range(2):
                                w = wg * (fc if h else 1.0 - fc)
                                if w < 1e-6:
                                    continue
                                through += w * light[i2 + e, j2 + g, k2 + h]
                                beyond += w * s[i2 + e, j2 + g, k2 + h]
                    upstream = depth_of(through)
                    d[i, j, k] = upstream + 0.5 * (own + beyond) * path
                    light[i, j, k] = passed(d[i, j, k])


@kernel
def carry_depth_up(sigma, depth, floor):
    """Let depth go on falling above the upper face of a sheet as it falls below it.

    Interpolation then meets the face with no cloud in the way, not with half a cell of it.
    """
    levels, n, _, nz = sigma.shape
    for level in range(levels):
        s, d = sigma[level], depth[level]
        for i in range(n):
            for j in range(n):
                for k in range(nz - 1, 1, -1):
                    if s[i, j, k] <= floor and s[i, j, k - 1] > floor:
                        fall = d[i, j, k - 1]
                        if s[i, j, k - 2] > floor:
                            fall = max(d[i, j, k - 2] - d[i, j, k - 1], 0.0)
                        d[i, j, k] = min(d[i, j, k], d[i, j, k - 1] - fall)


@kernel
def shade_from_above(told, weight, thin, upper, upper_base, east, north, own_shape, own_base,
                     level, sx, sy, sz, radius, i0, i1, depth):
    """Add `weight` times an upper layer's optical depth to cells of a lower layer along curved
    sun paths. Of the upper layer is `told` the light that its depth lets `passed`, or, of a `thin`
    veil, the depth itself. The weight turns ice's depth into as many droplets' as scatter as
    widely; (east, north) is the middle of the lower grid as the upper one has it."""
    dx = own_shape.dx * COARSER**level
    n = own_shape.n
    target = upper_base + 0.5 * upper.dz
    for i in range(i0, i1):
        for j in range(n):
            x, y = (i + 0.5 - 0.5 * n) * dx, (j + 0.5 - 0.5 * n) * dx
            # The sun stands lower (higher) for cells on the side away from (toward) it.
            slope = sz + (x * sx + y * sy) / radius
            for k in range(own_shape.nz):
                h = own_base + own_shape.z0 + (k + 0.5) * own_shape.dz
                rise = target - h
                if rise <= 0.0:
                    at = h - upper_base
                    if at < upper.nz * upper.dz + upper.z0:
                        lv = level_of(upper.n, upper.dx, upper.levels, x + east, y + north, 2)
                        found = _told_at(told, upper, lv, x + east, y + north, at)
                        depth[level, i, j, k] += weight * (found if thin else depth_of(found))
                    continue
                bend = slope * slope + 2.0 * rise / radius
                t = radius * (math.sqrt(bend) - slope) if slope < 0.2 else rise / slope
                px, py = x + east + t * sx, y + north + t * sy
                reach = 0.5 * upper.n * upper.dx * COARSER ** (upper.levels - 1)
                if abs(px) > reach or abs(py) > reach:
                    continue
                lv = level_of(upper.n, upper.dx, upper.levels, px, py, 2)
                found = _told_at(told, upper, lv, px, py, target - upper_base)
                depth[level, i, j, k] += weight * (found if thin else depth_of(found))
