"""Light that cloud scatters many times: a diffusion solve on nested grids per layer.

Each layer has camera-centred levels of N × N × NZ cells, each level three times as coarse as
the one inside it. Per cell: optical depth toward the sun, mean radiance of scattered sunlight
and its flux, and the share of its surroundings' light that comes from the sky above.

Source: P1 (diffusion) approximation of the delta-scaled medium with Marshak boundaries
(Joseph, Wiscombe & Weinman 1976; Case & Zweifel 1967).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.density import CELLED, CUMULUS, LENS, SLAB, STRATUS, density
from dovrek.core.kernels import clamp, inner, kernel
from dovrek.core.noise import hash_unit
from dovrek.core.phase import DROPLETS, K_SCALED, Phase
from dovrek.core.stages import Cancelled

Array32 = NDArray[np.float32]
Run = Callable[[Callable[[int, int], None], int], None]

DEPTH, SUN_J, SKY_J, FLUX_X, FLUX_Y, FLUX_Z = range(6)
CHANNELS = 6
COARSER = 3.0
FAR_LOOKS = 2  # at a cell that only shades what is seen
FOOTPRINT = 0.1  # of a cell that detail is averaged over; several samples do the rest
CLIMB, CLIMB_TRUST = 5, 0.8  # cells that a look climbs at one place; part of a distance it takes
RELAX = 1.5
CELLS_FULL, CELLS_SKETCH = 128, 36
SKETCH_HEIGHT = 0.65  # a sketch's cells up the layer, of the full number
LEVELS_MOST = 6
SLANT_PARTS = 6
# Hollows and gaps that light crosses from side to side: its free way there in cells, and how steep
# a line from lump to lump may be that closes them.
HOLLOWS_SHEET, HOLLOWS_HEAP = (3.0, 0.6), (6.0, 2.5)
SHEET_LOWEST = 0.035  # sine of the sun's height below which sheets too are swept sideways
GHOST_LEAST = 0.3  # keeps interpolated light beyond a dense face above zero


class GridShape(NamedTuple):
    """Size of a layer's grid."""

    n: int
    nz: int
    levels: int
    dx: float  # metres, innermost level
    dz: float
    z0: float  # bottom of the lowest cell above the layer's base
    range_m: float  # where the layer sinks below the horizon: beyond, a few looks will do


def grid_shape(kind: int, size_m: float, thick_m: float, sigma_per_m: float, range_m: float,
               cells: int) -> GridShape:
    """Cells fine enough for one cloud inside, levels out to the horizon of the layer.

    A sheet's cells are about half a scaled optical depth high, so that light falls off toward
    its faces as it should.
    """
    coarse = cells < CELLS_FULL
    if kind == CUMULUS:
        dx, nz = min(max(size_m / 24.0, 25.0), 250.0), int(min(max(thick_m / 45.0, 12), 34))
    elif kind == CELLED:
        dx = min(max(size_m / 9.0, 30.0), 250.0)
        nz = int(min(max(0.9 * sigma_per_m * thick_m, 12), 24))
    elif kind == LENS:
        dx, nz = min(max(size_m / 34.0, 40.0), 300.0), 20
    elif kind in (STRATUS, SLAB):
        dx = min(max(size_m / 12.0, 60.0), 500.0)
        nz = int(min(max(0.9 * sigma_per_m * thick_m, 14), 34))
    else:
        dx, nz = min(max(size_m / 13.0, 120.0), 900.0), 10
        cells = 3 * cells // 4  # light changes slowly through thin ice
    if coarse:
        nz = max(int(SKETCH_HEIGHT * nz), 10)
    levels = 1
    while levels < LEVELS_MOST and 0.5 * cells * dx * COARSER ** (levels - 1) < range_m:
        levels += 1
    if kind == SLAB:  # its faces are faces of cells
        dz = thick_m / (nz - 2)
        return GridShape(cells, nz, levels, dx, dz, -dz, range_m)
    dz = thick_m * 1.06 / (nz - 2)
    return GridShape(cells, nz, levels, dx, dz, -0.03 * thick_m - dz, range_m)


@kernel
def fill_extinction(field, layer, shape, level, samples, cancel, i0, i1, out):
    """Mean extinction of cells for rows i0 … i1 of a level, by `samples` looks at each (fewer
    beyond the layer's range).

    The first look climbs the middle of a column and marks the cells that are clear throughout.
    A later one climbs a few cells at one place before it takes another, so that the distance to
    the next cloud spares the clear ones on its way. Where it moves on does not depend on what
    it saw: the mean stays true.
    """
    dx = shape.dx * COARSER**level
    n, nz, dz = shape.n, shape.nz, shape.dz
    for i in range(i0, i1):
        if cancel[0] != 0:
            return
        for j in range(n):
            x, y, marked, clear_to = (i + 0.5 - 0.5 * n) * dx, (j + 0.5 - 0.5 * n) * dx, 0, -1e9
            looks = samples if x * x + y * y < shape.range_m**2 else min(samples, FAR_LOOKS)
            share = 1.0 / looks
            for k in range(nz):
                z = shape.z0 + (k + 0.5) * dz
                f, sigma = 0.0, 0.0
                if k >= marked:
                    out[i, j, k] = 0.0
                if z >= clear_to:
                    f, sigma = density(field, layer, x, y, z, FOOTPRINT * dx, 0.0)
                    clear_to = z - CLIMB_TRUST * min(f, 0.0)
                    sure = z - f - math.sqrt(0.5) * dx - 0.5 * dz
                    while marked < nz and shape.z0 + (marked + 0.5) * dz < sure:
                        if marked >= k:
                            out[i, j, marked] = -1.0
                        marked += 1
                    marked = max(marked, k)
                if k >= marked:
                    out[i, j, k] = share * sigma
            for s in range(1, looks):
                clear_to = -1e9
                for k in range(nz):
                    if k % CLIMB == 0:
                        u = (s * 0.7548776662 + hash_unit(i, j, k)) % 1.0
                        v = (s * 0.5698402910 + hash_unit(j, k, i)) % 1.0
                        x, y, clear_to = (i + u - 0.5 * n) * dx, (j + v - 0.5 * n) * dx, -1e9
                    w = (s * 0.4301597090 + hash_unit(k, i, j)) % 1.0
                    z = shape.z0 + (k + w) * dz
                    if z < clear_to or out[i, j, k] < 0.0:
                        continue
                    f, sigma = density(field, layer, x, y, z, FOOTPRINT * dx, 0.0)
                    out[i, j, k] += share * sigma
                    if f < 0.0:
                        clear_to = z - CLIMB_TRUST * f
            for k in range(nz):
                out[i, j, k] = max(out[i, j, k], 0.0)


@inner
def _level_of(shape_n, dx, levels, x, y, inset):
    """Finest level that holds a point, `inset` cells from its edge."""
    reach = max(abs(x), abs(y))
    half = (0.5 * shape_n - inset) * dx
    level = 0
    while level < levels - 1 and reach > half:
        half *= COARSER
        level += 1
    return level


@kernel
def passed(depth):
    """Light that a depth lets pass, small turns included."""
    return math.exp(-K_SCALED * depth)


@kernel
def depth_of(light):
    """Inverse of `passed`, up to a depth of about 120."""
    return -math.log(max(light, 1e-12)) / K_SCALED


@inner
def _depth_at(depth, shape, level, x, y, z, thin):
    """Optical depth at a point of one level (clamped at its edges), trilinear in light; of a
    `thin` veil in depth itself, which is the same there and quicker."""
    dx = shape.dx * COARSER**level
    n, nz = shape.n, shape.nz
    a = clamp(x / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    b = clamp(y / dx + 0.5 * n - 0.5, 0.0, n - 1.001)
    c = clamp((z - shape.z0) / shape.dz - 0.5, 0.0, nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    fa, fb, fc = a - i, b - j, c - k
    g = depth[level]
    if thin:
        near = ((g[i, j, k] * (1 - fb) + g[i, j + 1, k] * fb) * (1 - fa)
                + (g[i + 1, j, k] * (1 - fb) + g[i + 1, j + 1, k] * fb) * fa)
        k += 1
        far = ((g[i, j, k] * (1 - fb) + g[i, j + 1, k] * fb) * (1 - fa)
               + (g[i + 1, j, k] * (1 - fb) + g[i + 1, j + 1, k] * fb) * fa)
        return near * (1.0 - fc) + far * fc
    light = 0.0
    for e in range(2):
        we = fa if e else 1.0 - fa
        for f in range(2):
            wf = we * (fb if f else 1.0 - fb)
            light += wf * ((1.0 - fc) * passed(g[i + e, j + f, k])
                           + fc * passed(g[i + e, j + f, k + 1]))
    return depth_of(light)


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
                                                 shape.z0 + (k + 1.5) * dz, False)
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
                            upstream = _depth_at(depth, shape, level + 1, x, y, z, False)
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
def shade_from_above(upper_depth, weight, thin, upper, upper_base, own_shape, own_base, level, sx,
                     sy, sz, radius, i0, i1, depth):
    """Add `weight` times an upper layer's optical depth to cells of a lower layer along curved
    sun paths. The weight turns ice's depth into as many droplets' as scatter as widely."""
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
                        lv = _level_of(upper.n, upper.dx, upper.levels, x, y, 2)
                        depth[level, i, j, k] += weight * _depth_at(upper_depth, upper, lv, x, y,
                                                                    at, thin)
                    continue
                bend = slope * slope + 2.0 * rise / radius
                t = radius * (math.sqrt(bend) - slope) if slope < 0.2 else rise / slope
                px, py = x + t * sx, y + t * sy
                reach = 0.5 * upper.n * upper.dx * COARSER ** (upper.levels - 1)
                if abs(px) > reach or abs(py) > reach:
                    continue
                lv = _level_of(upper.n, upper.dx, upper.levels, px, py, 2)
                depth[level, i, j, k] += weight * _depth_at(upper_depth, upper, lv, px, py,
                                                            target - upper_base, thin)


@kernel
def _fill_hollows(sigma, floor, clear, climb, low, high, out):
    """Give hollows and narrow gaps the extinction `clear`, which light crosses from side to side
    at random, as a rarefied gas goes through a tube (Knudsen 1909).

    Both faces are drawn tight from lump to lump, rising no more than `climb` cells from a column
    to the next; what lies between them is filled. `low` and `high` (n, n) are scratch.
    """
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            low[i, j], high[i, j] = 1e9, -1e9
            for k in range(nz):
                out[i, j, k] = sigma[i, j, k]
                if sigma[i, j, k] > floor:
                    low[i, j] = min(low[i, j], k)
                    high[i, j] = k
    for way in range(2):  # there and back again over the columns
        for p in range(n):
            for q in range(n):
                i, j = (n - 1 - p, n - 1 - q) if way else (p, q)
                a, b = (i + 1, j + 1) if way else (i - 1, j - 1)
                if 0 <= a < n:
                    low[i, j] = min(low[i, j], low[a, j] + climb)
                    high[i, j] = max(high[i, j], high[a, j] - climb)
                if 0 <= b < n:
                    low[i, j] = min(low[i, j], low[i, b] + climb)
                    high[i, j] = max(high[i, j], high[i, b] - climb)
    for i in range(n):
        for j in range(n):
            for k in range(max(int(math.ceil(low[i, j])), 0), min(int(high[i, j]), nz - 1) + 1):
                if sigma[i, j, k] <= floor:
                    out[i, j, k] = clear


@kernel
def _couple(sigma, k_t, dx, dz, floor, cx, cy, cz, free):
    """Coupling (1/m) of each cell to its +x, +y, +z neighbour, and its loss through free faces.

    `free` holds six losses a cell: −x, +x, −y, +y, −z, +z. All are given as noughts.
    """
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                xm = sigma[i - 1, j, k] if i > 0 else own
                xp = sigma[i + 1, j, k] if i < n - 1 else own
                ym = sigma[i, j - 1, k] if j > 0 else own
                yp = sigma[i, j + 1, k] if j < n - 1 else own
                zm = sigma[i, j, k - 1] if k > 0 else 0.0
                zp = sigma[i, j, k + 1] if k < nz - 1 else 0.0
                gx, gy, gz = (xp - xm) / dx, (yp - ym) / dx, (zp - zm) / dz
                norm = math.sqrt(gx * gx + gy * gy + gz * gz) + 1e-12
                nx, ny, nz_ = abs(gx) / norm, abs(gy) / norm, abs(gz) / norm
                gxy = 1.0 / (1.5 * dx * k_t * own + 2.0) / dx
                gzz = 1.0 / (1.5 * dz * k_t * own + 2.0) / dz
                if i < n - 1:
                    if xp > floor:
                        cx[i, j, k] = 1.0 / (1.5 * dx * k_t * (own + xp)) / dx
                    else:
                        free[i, j, k, 1] = gxy * nx
                if i > 0 and xm <= floor:
                    free[i, j, k, 0] = gxy * nx
                if j < n - 1:
                    if yp > floor:
                        cy[i, j, k] = 1.0 / (1.5 * dx * k_t * (own + yp)) / dx
                    else:
                        free[i, j, k, 3] = gxy * ny
                if j > 0 and ym <= floor:
                    free[i, j, k, 2] = gxy * ny
                if zp > floor:
                    cz[i, j, k] = 1.0 / (1.5 * dz * k_t * (own + zp)) / dz
                else:
                    free[i, j, k, 5] = gzz * max(nz_, 0.05)
                if zm <= floor:
                    free[i, j, k, 4] = gzz * max(nz_, 0.05)


@kernel
def _factorise(sigma, floor, cx, cy, cz, free, pivot, ratio):
    """Factors of the tridiagonal solve up each column (Thomas), good for every sweep: inverse
    pivots, and what a cell takes over from the one below. Both are given as noughts, which
    stay in clear air."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            below = 0.0
            for k in range(nz):
                if sigma[i, j, k] <= floor:
                    below = 0.0
                    continue
                total = cx[i, j, k] + cy[i, j, k] + cz[i, j, k] + below + 1e-9
                for m in range(6):
                    total += free[i, j, k, m]
                if i > 0:
                    total += cx[i - 1, j, k]
                if j > 0:
                    total += cy[i, j - 1, k]
                if below > 0.0:
                    ratio[i, j, k] = below * pivot[i, j, k - 1]
                    total -= below * ratio[i, j, k]
                pivot[i, j, k] = 1.0 / total
                below = cz[i, j, k]


@kernel
def _relax(cx, cy, cz, pivot, ratio, lowest, highest, right, source, j_field, sweeps, cancel):
    """Red–black over columns with a tridiagonal solve up each column, over-relaxed.

    A column's cloud lies in cells `lowest` up to `highest` (n, n); `right` (nz,) is scratch.
    """
    n = len(pivot)
    for sweep in range(2 * sweeps):
        for i in range(n):
            if cancel[0] != 0:
                return
            before, after = max(i - 1, 0), min(i + 1, n - 1)
            for j in range((i + sweep) % 2, n, 2):
                low, high = lowest[i, j], highest[i, j]
                if low >= high:
                    continue
                left, beyond = max(j - 1, 0), min(j + 1, n - 1)
                # Couplings out of the grid and into clear air are nought.
                for k in range(low, high):
                    right[k] = (source[i, j, k] + cx[i, j, k] * j_field[after, j, k]
                                + cy[i, j, k] * j_field[i, beyond, k])
                if i > 0:
                    for k in range(low, high):
                        right[k] += cx[before, j, k] * j_field[before, j, k]
                if j > 0:
                    for k in range(low, high):
                        right[k] += cy[i, left, k] * j_field[i, left, k]
                for k in range(low + 1, high):
                    right[k] += ratio[i, j, k] * right[k - 1]
                above = np.float32(0.0)
                for k in range(high - 1, low - 1, -1):
                    above = (right[k] + cz[i, j, k] * above) * pivot[i, j, k]
                    if pivot[i, j, k] > 0.0:
                        j_field[i, j, k] += RELAX * (above - j_field[i, j, k])


@inner
def _sinh_over(x):
    """sinh(x)/x."""
    if x < 1e-2:
        return 1.0 + x * x / 6.0
    return (math.exp(x) - math.exp(-x)) / (2.0 * x)


@kernel
def _sun_source(sigma, depth, turning, floor, dx, dz, sx, sy, sz, beam, source):
    """First-scattered light and the divergence of the beam's forward drift.

    `turning` is (K_s, K_t, D) of the phase function.
    """
    n, _, nz = sigma.shape
    k_s, k_t, drift = turning
    per4pi = 1.0 / (4.0 * math.pi)
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                if sigma[i, j, k] <= floor:
                    continue
                # Mean of e^(−Kd) over the cell: d varies about evenly along each axis, by no more
                # than leaves it positive everywhere.
                d = depth[i, j, k]
                after, before = depth[min(i + 1, n - 1), j, k], depth[max(i - 1, 0), j, k]
                vx = max(abs(after - d), abs(d - before))
                after, before = depth[i, min(j + 1, n - 1), k], depth[i, max(j - 1, 0), k]
                vy = max(abs(after - d), abs(d - before))
                after, before = depth[i, j, min(k + 1, nz - 1)], depth[i, j, max(k - 1, 0)]
                vz = max(abs(after - d), abs(d - before))
                most = 0.5 * (vx + vy + vz)
                fit = k_s * 0.5 * (min(d / most, 1.0) if most > 0.0 else 1.0)
                beam[i, j, k] = per4pi * math.exp(-k_s * d) * (
                    _sinh_over(fit * vx) * _sinh_over(fit * vy) * _sinh_over(fit * vz))
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                e = beam[i, j, k]
                s = k_s * own * e
                # Drift flux is −D E' s: outflow through a face with normal n is −D E' (s·n).
                rx = 1.5 * dx * k_t * own
                rz = 1.5 * dz * k_t * own
                fx, fz = rx / (rx + 2.0), rz / (rz + 2.0)
                ep, em = e * fx, e * fx
                if i < n - 1 and sigma[i + 1, j, k] > floor:
                    ep = 0.5 * (e + beam[i + 1, j, k])
                if i > 0 and sigma[i - 1, j, k] > floor:
                    em = 0.5 * (e + beam[i - 1, j, k])
                s += drift * sx * (ep - em) / dx
                ep, em = e * fx, e * fx
                if j < n - 1 and sigma[i, j + 1, k] > floor:
                    ep = 0.5 * (e + beam[i, j + 1, k])
                if j > 0 and sigma[i, j - 1, k] > floor:
                    em = 0.5 * (e + beam[i, j - 1, k])
                s += drift * sy * (ep - em) / dx
                ep, em = e * fz, e * fz
                if k < nz - 1 and sigma[i, j, k + 1] > floor:
                    ep = 0.5 * (e + beam[i, j, k + 1])
                if k > 0 and sigma[i, j, k - 1] > floor:
                    em = 0.5 * (e + beam[i, j, k - 1])
                s += drift * sz * (ep - em) / dz
                source[i, j, k] = s


@kernel
def _sky_source(sigma, floor, free, source):
    """Light of a unit sky through free faces: 1 from above, ½ from the sides, 0 from below."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                if sigma[i, j, k] > floor:
                    fr = free[i, j, k]
                    source[i, j, k] = fr[5] + 0.5 * (fr[0] + fr[1] + fr[2] + fr[3])


@kernel
def _flux(sigma, drift, floor, dx, dz, sx, sy, sz, cx, cy, cz, free, beam, j_field, flux):
    """Flux of scattered sunlight at cell centres: the mean of what crosses opposite faces."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                jc = j_field[i, j, k]
                fr = free[i, j, k]
                out = fr[1] * jc if cx[i, j, k] == 0.0 else (
                    cx[i, j, k] * (jc - j_field[i + 1, j, k]))
                into = -fr[0] * jc if i == 0 or cx[i - 1, j, k] == 0.0 else (
                    cx[i - 1, j, k] * (j_field[i - 1, j, k] - jc))
                fx = 0.5 * (out + into) * dx - drift * beam[i, j, k] * sx
                out = fr[3] * jc if cy[i, j, k] == 0.0 else (
                    cy[i, j, k] * (jc - j_field[i, j + 1, k]))
                into = -fr[2] * jc if j == 0 or cy[i, j - 1, k] == 0.0 else (
                    cy[i, j - 1, k] * (j_field[i, j - 1, k] - jc))
                fy = 0.5 * (out + into) * dx - drift * beam[i, j, k] * sy
                out = fr[5] * jc if cz[i, j, k] == 0.0 else (
                    cz[i, j, k] * (jc - j_field[i, j, k + 1]))
                into = -fr[4] * jc if k == 0 or cz[i, j, k - 1] == 0.0 else (
                    cz[i, j, k - 1] * (j_field[i, j, k - 1] - jc))
                fz = 0.5 * (out + into) * dz - drift * beam[i, j, k] * sz
                size = math.sqrt(fx * fx + fy * fy + fz * fz)
                if size > jc > 0.0:
                    shrink = jc / size
                    fx, fy, fz = fx * shrink, fy * shrink, fz * shrink
                flux[i, j, k, 0] = fx
                flux[i, j, k, 1] = fy
                flux[i, j, k, 2] = fz


@kernel
def _start_from(coarse, fine, ratio):
    """First guess of a level from the coarser one around it."""
    n, _, nz = fine.shape
    for i in range(n):
        a = int((i + 0.5 - 0.5 * n) / ratio + 0.5 * n)
        for j in range(n):
            b = int((j + 0.5 - 0.5 * n) / ratio + 0.5 * n)
            for k in range(nz):
                fine[i, j, k] = coarse[a, b, k]


@kernel
def _carry_aside(values, known, some, sigma, k_t, dx, dz, falls, new):
    """Give unknown cells the mean of their known neighbours; `new` marks what is known then.

    `some` (n, n) marks columns with any known cell. With `falls` the first channel goes on falling
    beyond the face as the Marshak condition has it: 2/(R+2) of the cell's value at the face,
    R = 1.5 h K_t σ.
    """
    n, _, nz, channels = values.shape
    for i in range(n):
        for j in range(n):
            if not (some[i, j] or (i > 0 and some[i - 1, j]) or (i < n - 1 and some[i + 1, j])
                    or (j > 0 and some[i, j - 1]) or (j < n - 1 and some[i, j + 1])):
                continue
            for k in range(nz):
                if known[i, j, k]:
                    continue
                count = 0
                for m in range(6):
                    a = i + (1 if m == 0 else (-1 if m == 1 else 0))
                    b = j + (1 if m == 2 else (-1 if m == 3 else 0))
                    c = k + (1 if m == 4 else (-1 if m == 5 else 0))
                    if (0 <= a < n and 0 <= b < n and 0 <= c < nz and known[a, b, c]):
                        if count == 0:
                            for q in range(channels):
                                values[i, j, k, q] = 0.0
                        keep = 1.0
                        if falls:
                            r = 1.5 * (dx if m < 4 else dz) * k_t * sigma[a, b, c]
                            keep = max(4.0 / (r + 2.0) - 1.0, GHOST_LEAST)
                        values[i, j, k, 0] += keep * values[a, b, c, 0]
                        for q in range(1, channels):
                            values[i, j, k, q] += values[a, b, c, q]
                        count += 1
                if count:
                    for q in range(channels):
                        values[i, j, k, q] /= count
                    new[i, j, k] = True


def _extend(values: Array32, known: NDArray[np.bool_], sigma: Array32, k_t: float, dx: float,
            dz: float, falls: bool) -> None:
    """Carry values two cells into clear air, so that interpolation at edges stays right."""
    for turn in range(2):
        new = known.copy()
        _carry_aside(values, known, known.any(axis=2), sigma, k_t, dx, dz, falls and turn == 0, new)
        known = new


def solve_sky(sigma: Array32, shape: GridShape, sweeps: tuple[int, int], sheet: bool,
              cancel: NDArray[np.uint8], phase: Phase = DROPLETS) -> Array32:
    """Share of unit sky light in every cell, (levels, n, n, nz); depends on density alone.

    `sheet`: the layer is level rather than heaped.
    """
    out = np.zeros(sigma.shape, dtype=np.float32)
    floor = clear_below(sigma)
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        work = _Couplings(sigma[level], phase.k_transport, dx, shape.dz, floor, sheet)
        _check(cancel)
        source = np.zeros(sigma[level].shape, dtype=np.float32)
        _sky_source(work.medium, floor, work.free, source)
        first = level == shape.levels - 1
        if not first:
            _start_from(out[level + 1], out[level], COARSER)
        else:
            out[level] = 0.5
        work.relax(source, out[level], sweeps[0] if first else sweeps[1], cancel)
        _check(cancel)
        values = out[level][..., None].copy()
        _extend(values, work.medium > floor, work.medium, phase.k_transport, dx, shape.dz, False)
        out[level] = values[..., 0]
        _carry_down(out[level], work.medium, floor)
    return out


@kernel
def _carry_down(share, sigma, floor):
    """Below the cells under a cloud's base its share of sky light stays: fine lumps that hang
    lower than the grid knows are in the same shade."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            k = 0
            while k < nz and sigma[i, j, k] <= floor:
                k += 1
            if 2 < k < nz:
                for low in range(k - 2):
                    share[i, j, low] = share[i, j, k - 2]


def sheet_shares(sine: float) -> tuple[float, float]:
    """Of the light a level sheet scatters many times, and once widely: what is really there.

    At a grazing sun many small turns lead out of the upper face again, which neither diffusion
    nor the straight beam knows. Fitted together with the march's `LIMB` to the light of
    discrete ordinates (Stamnes et al. 1988) for depths 1 … 32; see docs/light.md.
    """
    mu = max(sine, 0.0)
    return 1.156 - 0.367 * math.exp(-4.57 * mu), 1.0 - 0.95 * math.exp(-5.52 * mu)


def solve_sun(sigma: Array32, depth: Array32, shape: GridShape, sun: tuple[float, float, float],
              sweeps: tuple[int, int], sheet: bool, cancel: NDArray[np.uint8],
              phase: Phase = DROPLETS) -> Array32:
    """Mean radiance and flux of scattered sunlight, (levels, n, n, nz, 4), unit irradiance.

    `sheet`: the layer is level rather than heaped.
    """
    out = np.zeros((*sigma.shape, 4), dtype=np.float32)
    floor = clear_below(sigma)
    before = np.zeros(sigma.shape[1:], dtype=np.float32)
    sx, sy, sz = sun
    turning = (phase.k_scaled, phase.k_transport, phase.drift)
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        work = _Couplings(sigma[level], phase.k_transport, dx, shape.dz, floor, sheet)
        _check(cancel)
        beam = np.zeros(sigma[level].shape, dtype=np.float32)
        source = np.zeros(sigma[level].shape, dtype=np.float32)
        _sun_source(sigma[level], depth[level], turning, floor, dx, shape.dz, sx, sy, sz, beam,
                    source)
        _check(cancel)
        field = np.zeros_like(beam)
        first = level == shape.levels - 1
        if first:
            field[:] = beam
        else:
            _start_from(before, field, COARSER)
        work.relax(source, field, sweeps[0] if first else sweeps[1], cancel)
        _check(cancel)
        np.maximum(field, 0.0, out=field)
        flux = np.zeros((*field.shape, 3), dtype=np.float32)
        _flux(work.medium, phase.drift, floor, dx, shape.dz, sx, sy, sz, *work.faces, work.free,
              beam, field, flux)
        _check(cancel)
        before = field.copy()
        out[level, ..., 0] = field
        out[level, ..., 1:] = flux
        if sheet:
            out[level] *= sheet_shares(sz)[0]
        _extend(out[level], work.medium > floor, work.medium, phase.k_transport, dx, shape.dz, True)
    return out


def _check(cancel: NDArray[np.uint8]) -> None:
    if cancel[0]:
        raise Cancelled


def clear_below(sigma: Array32) -> float:
    """Extinction below which a cell counts as clear air."""
    return 2e-3 * float(sigma.max()) + 1e-9


class _Couplings:
    """Face couplings of one level, shared by the sun's and the sky's solve."""

    def __init__(self, sigma: Array32, k_t: float, dx: float, dz: float, floor: float,
                 sheet: bool) -> None:
        self.faces = tuple(np.zeros(sigma.shape, dtype=np.float32) for _ in range(3))
        self.free = np.zeros((*sigma.shape, 6), dtype=np.float32)
        free_way, slope = HOLLOWS_SHEET if sheet else HOLLOWS_HEAP
        clear = max(1.0 / (free_way * dx * k_t), 1.01 * floor)
        low, high = (np.empty(sigma.shape[:2], dtype=np.float32) for _ in range(2))
        self.medium = np.empty_like(sigma)
        _fill_hollows(sigma, floor, clear, slope * dx / dz, low, high, self.medium)
        _couple(self.medium, k_t, dx, dz, floor, *self.faces, self.free)
        self.pivot = np.zeros(sigma.shape, dtype=np.float32)
        self.ratio = np.zeros(sigma.shape, dtype=np.float32)
        _factorise(self.medium, floor, *self.faces, self.free, self.pivot, self.ratio)
        cloudy, nz = self.pivot > 0.0, sigma.shape[2]
        self.lowest = np.argmax(cloudy, axis=2)
        self.highest = np.where(cloudy.any(axis=2), nz - np.argmax(cloudy[..., ::-1], axis=2), 0)

    def relax(self, source: Array32, field: Array32, sweeps: int,
              cancel: NDArray[np.uint8]) -> None:
        _relax(*self.faces, self.pivot, self.ratio, self.lowest, self.highest,
               np.empty(source.shape[2], np.float32), source, field, sweeps, cancel)
