"""How dense the cloud is at a point: an approximate signed distance, then extinction.

Every genus gives f (metres, positive inside, never more than the true distance outside, so
that a ray may advance by it) and an extinction that rises from the edge. Coordinates are x east,
y north, z above the layer's base, all in metres.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.cloud_cells import (
    AGE,
    EVAPORATES,
    INSTANCE,
    REACH,
    SCALE,
    SHAPE,
    TALL,
    TEARS,
    TOP,
    TURN_COS,
    TURN_SIN,
    X,
    Y,
)
from dovrek.core.kernels import clamp, inner, kernel, smoothstep
from dovrek.core.noise import (
    BILLOW,
    WISP,
    hash_unit,
    noise_at,
    noise_level,
    turned_noise,
    wisp_lost,
)

CUMULUS, STRATUS, CIRRUS, CELLED, SLAB, LENS = range(6)

# Rows of a layer's parameters.
(KIND, BASE, THICK, SIGMA, EDGE, FRAY, LOBES, COMB, SIZE, WIND_X, WIND_Y, LEVEL, SHIFT_X, SHIFT_Y,
 CLEAR_SHARE, CLEAR_SIZE, CLEAR_EDGE, CLEAR_X, CLEAR_Y, Z_LOW, Z_HIGH, STEP,
 SHAPE_AT, SHAPE_N, SHAPE_NZ, SHAPE_HALF, SHAPE_VOXEL, SHAPE_REACH, SHAPE_FLOOR, SHAPE_SQUASH,
 CELL_AT, START_AT, MEMBER_AT, CLEAR_AT, SQUARES, PERIOD,
 GRID_AT, GRID_N, GRID_NZ, GRID_DX, GRID_DZ, GRID_LEVELS, GRID_Z0, CELL_SEED,
 CLEAR_CENTRE, PHASE, K_SCALED, G_SCALED,
 SPREAD, HUDDLE, ROWS, ROW_X, ROW_Y, ROW_SPACING, PATCHY, ROUND_BASE, CURL, SLANT, LEAN, ANVIL,
 ENDING, STAGES_APART, FALL, FALL_REACH, HALO, RELIEF, REGION, REGION_SIZE, REGION_EDGE,
 REGION_CENTRE, REGION_X, REGION_Y, MAP_AT, MAP_ROWS, MAP_COLUMNS, MAP_EXTENT, MAP_COS, MAP_SIN,
 MAP_STRENGTH, MASKED, LIT, SHADED, UNDER, PROFILED, RAIN_GROUND,
 PROFILE) = (*range(81), 83, 86, 89, 90, 91)
PROFILE_NODES = 12
PARAMETERS = PROFILE + PROFILE_NODES
ERODED = 0.11  # of a cell's size that old age eats from all sides
UNBROKEN = -8.0  # level of score of a sheet without a gap
LID_STEPS = 8
LID_SIGMA = 0.1  # share of a layer's extinction that shows as a cut
CELL_GAP = 1.15  # how deep gaps between the cells of a sheet cut
# Rolls of a sheet of cells: how deep gaps between them cut, how far their crests wander and over
# how many spacings.
ROLL_SCORE, ROLL_WANDER, ROLL_RUN = 1.1, 1.5, 36.0
CELL_NECK = 0.35  # height of a sheet between merged cells, over that in their middle
CELL_RIM = 0.25  # extinction at a cell's rim over that in its middle
PLATES = 3  # of a lens, one above the other
# Place in the cloud, of its thickness, whose outline the falling rain has; round bases are narrow.
RAIN_UP, RAIN_UP_ROUND, RAIN_UP_MOST = 0.2, 0.1, 0.42
# Snow hides several times as much as the rain it melts to (sight of about 1 km in snow and of 10 km
# in rain of 1 mm/h: common practice); metres above the ground where it melts, temperate latitudes.
SNOW, MELTED_M, FROZEN_M = 5.0, 2000.0, 3000.0
RAIN_DRIFT = 0.35  # metres that falling rain or snow lags behind for every metre down
RAIN_PATCH_M = 700.0
RAIN_SHADE = 0.3  # light on ground under thick cloud, over that on open ground
# Shares of a veil's strands in its texture, from wide to thin.
FIBRE, FINE_FIBRE, THREAD = 1.7, 1.1, 0.6
TUFTED = 0.3  # lobes of a veil above which it gathers into tufts
# Strands of an anvil: width over its lumps, length over width, and how deep they cut.
STRAND_SPAN, STRAND_RUN, STRAND_DEPTH = 0.5, 8.0, 1.6
TILT_U, TILT_V = 0.288, 0.090  # no combination of a few tiles comes near a whole number


class Field(NamedTuple):
    """Everything density needs, flat, for all layers of a scene.

    Few arrays, since every call of a kernel copies the description of each.
    """

    layers: NDArray[np.float64]  # (L, PARAMETERS)
    bytes: NDArray[np.uint8]  # noise volumes, then the shapes of heaped layers
    reals: NDArray[np.float32]  # of each heaped layer: its instances (8 numbers each), clearances
    links: NDArray[np.int32]  # of each: where its squares' members start, the members


@kernel
def _shape_distance(s, p, shape, u, v, w):
    """Signed distance (metres at full size) in a shape's grid by trilinear look-up."""
    n, nz = int(p[SHAPE_N]), int(p[SHAPE_NZ])
    voxel = p[SHAPE_VOXEL]
    a = (u + p[SHAPE_HALF]) / voxel - 0.5
    b = (v + p[SHAPE_HALF]) / voxel - 0.5
    c = (w - p[SHAPE_FLOOR]) / voxel
    a = clamp(a, 0.0, n - 1.001)
    b = clamp(b, 0.0, n - 1.001)
    c = clamp(c, 0.0, nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    fa, fb, fc = a - i, b - j, c - k
    at = int(p[SHAPE_AT]) + ((shape * n + i) * n + j) * nz + k
    e00 = s[at] * (1 - fc) + s[at + 1] * fc
    e01 = s[at + nz] * (1 - fc) + s[at + nz + 1] * fc
    at += n * nz
    e10 = s[at] * (1 - fc) + s[at + 1] * fc
    e11 = s[at + nz] * (1 - fc) + s[at + nz + 1] * fc
    value = (e00 * (1 - fb) + e01 * fb) * (1 - fa) + (e10 * (1 - fb) + e11 * fb) * fa
    return (value * (1.0 / 127.5) - 1.0) * p[SHAPE_REACH]


@inner
def _cumulus(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction among heaped clouds."""
    period = p[PERIOD]
    px = x - math.floor(x / period) * period
    py = y - math.floor(y / period) * period
    squares = int(p[SQUARES])
    i = min(int(px / period * squares), squares - 1)
    j = min(int(py / period * squares), squares - 1)
    square = i * squares + j
    first = field.links[int(p[START_AT]) + square]
    last = field.links[int(p[START_AT]) + square + 1]
    if first == last:
        return -max(field.reals[int(p[CLEAR_AT]) + square], 20.0), 0.0
    squash = p[SHAPE_SQUASH]
    vertical = min(squash, 1.0)
    # The skin swells with the size of the cells; its amplitude bounds what it can change.
    lump = 0.052 * min(p[SIZE], 3600.0) * (0.35 + 1.1 * p[LOBES])
    best, own, down, age, top = -1e9, 1.0, 0.0, 0.0, p[THICK]
    outside = -1e9
    member_at = int(p[MEMBER_AT])
    cell_at = int(p[CELL_AT])
    s = field.reals
    for m in range(first, last):
        cell = cell_at + INSTANCE * field.links[member_at + m]
        dx, dy = px - s[cell + X], py - s[cell + Y]
        if dx > 0.5 * period:
            dx -= period
        elif dx < -0.5 * period:
            dx += period
        if dy > 0.5 * period:
            dy -= period
        elif dy < -0.5 * period:
            dy += period
        reach = s[cell + REACH]
        inward = reach - math.sqrt(dx * dx + dy * dy)
        high = z - s[cell + TOP] - 0.5 * lump
        if inward < 0.0:
            outside = max(outside, min(inward, -high))
            continue
        if high > 0.0:
            outside = max(outside, -high)
            continue
        scale = s[cell + SCALE]
        if inward < best - 0.05 * p[SIZE] * min(scale, 1.0):
            continue  # no deeper than its outline, it lies within a cloud already met
        u = (s[cell + TURN_COS] * dx + s[cell + TURN_SIN] * dy) / scale
        v = (s[cell + TURN_COS] * dy - s[cell + TURN_SIN] * dx) / scale
        scale = min(scale, 1.0)  # wider than full size never means higher
        tall = s[cell + TALL]
        f = _shape_distance(field.bytes, p, int(s[cell + SHAPE]), u, v,
                            z / (scale * squash * tall))
        f = f * scale * min(vertical, squash * tall) - ERODED * s[cell + AGE] * p[SIZE] * scale
        if f > best:
            own, age, top = scale, s[cell + AGE], s[cell + TOP]
            down = (dx * p[WIND_X] + dy * p[WIND_Y]) / reach
        h = max(0.05 * p[SIZE] * scale - abs(best - f), 0.0)
        best = max(best, f) + h * h / (0.2 * p[SIZE] * scale)
    if best < -1e8:
        return min(outside, -8.0), 0.0
    if p[MASKED] > 0.0:  # clouds shrink toward the border and are gone beyond it
        best -= 0.45 * p[SIZE] * own * (1.0 - region_at(field, p, x, y, footprint))
    amplitude = lump * min(0.35 + 0.65 * own, 1.0) * min(vertical * 1.6, 1.0) * p[RELIEF]
    if best < -0.55 * amplitude:
        # Outward swelling fades with distance (`keep` below) and ends here.
        return max(best + 0.45 * amplitude, outside), 0.0
    f = best
    if (f > 1.6 * amplitude + p[EDGE] and z > 0.35 * p[THICK] and age <= 0.0
            and p[ANVIL] <= 0.0):
        return f, p[SIGMA]  # deep inside: the skin cannot reach here
    # Fray: downwind, low and on small clouds the skin is torn instead of heaped.
    fray = p[FRAY] * clamp(0.30 + 0.45 * down + 0.55 * (1.0 - own)
                           + 0.35 * (1.0 - z / (0.35 * p[THICK] + 1.0)), 0.0, 1.4)
    if age > 0.0:
        fray += age * (1.0 if p[ENDING] == TEARS else 0.5)
    icy = 0.0
    if p[ANVIL] > 0.0:  # high up the towers turn to ice: soft, combed, thinner
        icy = math.sqrt(p[ANVIL]) * smoothstep(0.56, 0.8, z / top)
        fray += 0.8 * icy
    fray = min(fray, 1.0)
    tile = 7.0 * amplitude + 40.0
    level_z = z
    if p[CURL] > 0.0:
        reach = 0.55 * p[CURL] * amplitude
        level = noise_level(footprint, 2.6 * tile)
        a = turned_noise(field.bytes, WISP, x, y, z, 2.6 * tile, level)
        b = turned_noise(field.bytes, WISP, y, z, x, 2.1 * tile, level)
        x, y, z = x + 2.0 * reach * a, y + 2.0 * reach * b, z + reach * (a - b)
        f += 0.25 * p[CURL] * amplitude * a
    frozen = z if z > 0.9 * amplitude else 0.9 * amplitude - 0.3 * (0.9 * amplitude - z)
    n = turned_noise(field.bytes, BILLOW, x, y, frozen, tile, noise_level(footprint, tile))
    if fray > 0.22:
        g = turned_noise(field.bytes, WISP, x, y, frozen, 1.3 * tile,
                         noise_level(footprint, 1.3 * tile))
        n = n * (1.0 - fray) + (1.15 * g - 0.18) * fray
    fibre, a, b, span = 0.0, 0.0, 0.0, 1.0
    if icy > 0.0:  # combed out by the wind aloft
        span = STRAND_SPAN * tile
        u, v = x * p[WIND_X] + y * p[WIND_Y], y * p[WIND_X] - x * p[WIND_Y]
        a, b = u / (STRAND_RUN * span), v / span
        fibre = icy * noise_at(field.bytes, WISP, a, b, 0.4 * z / span + TILT_U * b + TILT_V * a,
                               noise_level(footprint, span))
        n = n * (1.0 - icy) + 1.6 * fibre
    keep = smoothstep(-0.9 * amplitude, 0.25 * amplitude, f)
    f += amplitude * (n if n < 0.0 else n * keep) - 0.06 * amplitude
    if detail > 0 and abs(f) < 0.8 * amplitude:
        tile2 = 0.27 * tile
        a2 = 0.36 * amplitude
        level = noise_level(footprint, tile2)
        n2 = turned_noise(field.bytes, BILLOW, y, z, x, tile2, level)
        if fray > 0.22:
            g = turned_noise(field.bytes, WISP, y, z, x, tile2, level)
            n2 = n2 * (1.0 - fray) + fray * 1.2 * g
        if icy > 0.0:
            g = noise_at(field.bytes, WISP, 3.1 * a, 3.4 * b, 1.3 * z / span + TILT_U * b,
                         noise_level(footprint, 0.3 * span))
            fibre += 0.6 * icy * g
            n2 = n2 * (1.0 - icy) + 1.6 * icy * g
        if level >= 0:
            keep = smoothstep(-0.9 * a2, 0.4 * a2, f)
            f += a2 * (1.0 + 1.2 * fray) * (n2 if n2 < 0.0 else n2 * keep)
            if detail > 1 and abs(f) < 0.9 * a2:
                tile3 = 0.23 * tile2
                a3 = 0.30 * a2
                level = noise_level(footprint, tile3)
                if level >= 0:
                    n3 = turned_noise(field.bytes, BILLOW, z, x, y, tile3, level)
                    keep = smoothstep(-0.9 * a3, 0.4 * a3, f)
                    f += a3 * (1.0 + 1.6 * fray) * (1.0 - icy) * (n3 if n3 < 0.0 else n3 * keep)
    z = level_z
    ragged = 0.0
    if z < 0.35 * p[THICK]:
        ragged = p[ROUND_BASE] * (14.0 + 26.0 * p[FRAY]) * turned_noise(
            field.bytes, WISP, x, y, 0.0, 1400.0, noise_level(footprint, 1400.0))
        if p[ROUND_BASE] > 1.0:  # the base rises toward the rim
            ragged += (0.45 * (p[ROUND_BASE] - 1.0)
                       * max(0.09 * p[SIZE] * own - max(best, 0.0), 0.0))
    soft = 0.5 * footprint  # an edge averaged over a pixel is wider and begins farther out
    f = min(f, z - ragged - 8.0) + 0.25 * soft
    if f <= 0.0:
        return f - 0.5, 0.0
    edge = p[EDGE] * (1.0 + 5.0 * fray * fray + 6.0 * icy) + soft
    body = min(f / edge, 1.0) * (1.0 - 0.6 * fray * fray) * (1.0 - 0.6 * icy)
    if icy > 0.0:
        body *= max(1.0 + STRAND_DEPTH * fibre, 0.12)
    if age > 0.0:
        body *= 1.0 - age * (0.85 if p[ENDING] == EVAPORATES else 0.45)
    return f, p[SIGMA] * body * (0.72 + 0.28 * min(z / (0.3 * p[THICK] + 1.0), 1.0))


@inner
def _flat_noise(volumes, x, y, tile, slice_, footprint):
    """Two-dimensional noise: a slice through a volume, turned by a generic angle.

    The slice is tilted, so that it meets other parts of the volume in every tile.
    """
    s = 1.0 / tile
    u, v = s * (0.7986 * x + 0.6018 * y), s * (-0.6018 * x + 0.7986 * y)
    return noise_at(volumes, WISP, u, v, slice_ + TILT_U * u + TILT_V * v,
                    noise_level(footprint, tile))


@inner
def _clearing(field, p, x, y, footprint):
    """How far a point lies in a clearing: 0 outside, 1 in the middle."""
    if p[CLEAR_SHARE] <= 0.0:
        return 0.0
    tile = 3.6 * p[CLEAR_SIZE]
    n = _flat_noise(field.bytes, x + p[CLEAR_X], y + p[CLEAR_Y], tile, 0.13, footprint)
    width = 0.02 + 0.35 * p[CLEAR_EDGE]
    return smoothstep(p[CLEAR_CENTRE] - width, p[CLEAR_CENTRE] + width, n)


@inner
def _mapped(field, p, x, y):
    """What the cover map says at a point: bilinear, its border going on outside."""
    rows, columns = int(p[MAP_ROWS]), int(p[MAP_COLUMNS])
    scale = columns / p[MAP_EXTENT]
    a = (x * p[MAP_COS] - y * p[MAP_SIN]) * scale + 0.5 * columns - 0.5
    b = 0.5 * rows - 0.5 - (x * p[MAP_SIN] + y * p[MAP_COS]) * scale
    a, b = clamp(a, 0.0, columns - 1.001), clamp(b, 0.0, rows - 1.001)
    i, j = int(b), int(a)
    fb, fa = b - i, a - j
    at = int(p[MAP_AT]) + i * columns + j
    m = field.bytes
    value = ((m[at] * (1 - fa) + m[at + 1] * fa) * (1 - fb)
             + (m[at + columns] * (1 - fa) + m[at + columns + 1] * fa) * fb) * (1.0 / 255.0)
    return 1.0 - p[MAP_STRENGTH] * (1.0 - value)


@inner
def region_at(field, p, x, y, footprint):
    """How far a layer may stand at a point, by its region and its map: 1 wholly, 0 not."""
    share = _mapped(field, p, x, y) if p[MAP_STRENGTH] > 0.0 else 1.0
    if p[REGION] == 0.0:
        return share
    n = _flat_noise(field.bytes, x + p[REGION_X], y + p[REGION_Y], 3.6 * p[REGION_SIZE], 0.13,
                    footprint)
    width = 0.02 + 0.35 * p[REGION_EDGE]
    inside = 1.0 - smoothstep(p[REGION_CENTRE] - width, p[REGION_CENTRE] + width, n)
    return share * (inside if p[REGION] > 0.0 else 1.0 - inside)


@inner
def _cell_at(u, v, seed, uneven):
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
def _lens_at(u, v, seed, uneven):
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
def _waves(field, p, x, y, bend, footprint):
    """Rows: a sine of −1 … 1 across them, where there are any."""
    spacing = p[ROW_SPACING]
    fine = 1.0 - 2.0 * footprint / spacing
    if p[ROWS] <= 0.0 or fine <= 0.0:
        return 0.0
    wave = math.sin(2.0 * math.pi * (x * p[ROW_X] + y * p[ROW_Y] + p[SHIFT_X] + bend) / spacing)
    if p[PATCHY] > 0.0:
        n = _flat_noise(field.bytes, x + p[SHIFT_Y], y, 16.0 * spacing, 0.59, footprint)
        wave *= 1.0 - p[PATCHY] * (1.0 - smoothstep(-0.15, 0.35, n))
    return wave * fine


@inner
def _celled_score(field, p, x, y, u, v, footprint):
    """Score of a sheet of cells, and how swollen it is at a place: 1 in the middle of a cell or on
    the crest of a roll, 0 between them. (u, v): the place along and across the wind."""
    size, rows = p[SIZE], p[ROWS]
    warp = 0.9 * size * _flat_noise(field.bytes, u, v, 8.0 * size, 0.23, footprint)
    bend = 0.9 * size * _flat_noise(field.bytes, v, u, 9.4 * size, 0.67, footprint)
    stretch = 1.0 + 1.4 * p[COMB]
    s = (0.19 + 3.8 * p[HUDDLE]) * _flat_noise(field.bytes, u, v + warp, 17.0 * size, 0.31,
                                               footprint)
    s += 0.35 * _flat_noise(field.bytes, v, u, 5.3 * size, 0.77, footprint)
    wave = 0.0
    if rows > 0.0:  # crests wander by half a spacing over some ten of them
        wander = ROLL_WANDER * p[ROW_SPACING] * _flat_noise(
            field.bytes, v, u, ROLL_RUN * p[ROW_SPACING], 0.43,
            max(footprint, 2.5 * p[ROW_SPACING]))  # no bends shorter than that
        wave = _waves(field, p, x, y, wander + 0.06 * bend, footprint)
        s += ROLL_SCORE * rows * wave
    swollen = 0.0
    far = footprint / size
    if far < 1.0:  # cells thinner than what is averaged over are their mean
        cell = _cell_at((u + warp) / size, (v + bend) / (stretch * size), int(p[CELL_SEED]),
                        0.68 * p[SPREAD] + p[STAGES_APART])
        # Where there are rolls they take the place of cells.
        swollen = (1.0 - 0.65 * rows) * (cell - 0.5) * (1.0 - far)
        s += CELL_GAP * swollen
    return s, clamp(0.5 + swollen + 0.5 * rows * wave, 0.0, 1.0)


@inner
def _apart(field, p, u, v, footprint):
    """What parts of a sheet without cells lack or have in score while they are at different stages
    of life."""
    if p[STAGES_APART] <= 0.0:
        return 0.0
    return p[STAGES_APART] * _flat_noise(field.bytes, v, u, 30.0 * p[SIZE], 0.03, footprint)


@inner
def sheet_score(field, p, x, y, footprint):
    """Where a sheet or a veil has cloud: its cover takes the highest scores first."""
    u = x * p[WIND_X] + y * p[WIND_Y] + p[SHIFT_X]
    v = -x * p[WIND_Y] + y * p[WIND_X] + p[SHIFT_Y]
    size = p[SIZE]
    if int(p[KIND]) == CELLED:
        s, _ = _celled_score(field, p, x, y, u, v, footprint)
    elif int(p[KIND]) == STRATUS:
        stretch = 1.0 + 2.5 * p[COMB]
        u += 5.0 * size * _flat_noise(field.bytes, v, u, 41.0 * size, 0.47, footprint)
        s = _flat_noise(field.bytes, u / stretch, v, 7.3 * size, 0.37, footprint)
        s += 0.45 * _flat_noise(field.bytes, v, u / stretch, 2.3 * size, 0.71, footprint)
        s += 0.30 * p[FRAY] * _flat_noise(field.bytes, u, v, 0.55 * size, 0.19, footprint)
        s += 0.5 * p[ROWS] * _waves(field, p, x, y, 0.0, footprint)
        s += _apart(field, p, u, v, footprint)
    elif int(p[KIND]) == LENS:
        warp = 0.08 * size * _flat_noise(field.bytes, u, v, 7.0 * size, 0.23, footprint)
        s = _lens_at((u + warp) / size, (v - warp) / size, int(p[CELL_SEED]),
                     p[SPREAD] + p[STAGES_APART])
        s += 0.06 * _flat_noise(field.bytes, v, u, 2.2 * size, 0.77, footprint)
    else:
        stretch = 1.0 + 3.2 * p[COMB]
        warp = 0.34 * size * _flat_noise(field.bytes, u, v, 13.0 * size, 0.53, footprint)
        s = _flat_noise(field.bytes, u / stretch, v + warp, 6.1 * size, 0.11, footprint)
        s += 0.55 * _flat_noise(field.bytes, v + warp, u / stretch, 17.0 * size, 0.83, footprint)
        s += 0.35 * _flat_noise(field.bytes, u / (1.0 + 11.0 * p[COMB]), v + warp, 2.1 * size, 0.43,
                                footprint)
        s += 0.6 * p[ROWS] * _waves(field, p, x, y, 3.0 * warp, footprint)
        s += _apart(field, p, u, v, footprint)
        if p[LOBES] > TUFTED:  # gathered into tufts
            share = (p[LOBES] - TUFTED) / (1.0 - TUFTED)
            tuft = _cell_at((u + warp) / (size * (0.4 + 0.3 * p[COMB])), (v - warp) / (0.42 * size),
                            int(p[CELL_SEED]), 0.9)
            s += share * (2.4 * (tuft - 0.62) - 0.55 * s)
    return _within(field, p, x, y, s, footprint)


@kernel
def _within(field, p, x, y, score, footprint):
    """A score lowered where the layer's region, its map or a clearing leaves the sky open."""
    if p[MASKED] > 0.0:
        score -= 3.0 * (1.0 - region_at(field, p, x, y, footprint))
    return score - 3.0 * _clearing(field, p, x, y, footprint)


@inner
def _stratus(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in a sheet with soft waves."""
    thick = p[THICK]
    out = max(z - 1.02 * thick, -z - 0.02 * thick)
    if out > 0.0:
        return -out - 1.0, 0.0
    size = p[SIZE]
    d = 6.0 * size  # an unbroken sheet has no edge near
    if p[LEVEL] > UNBROKEN or p[MASKED] > 0.0:
        d = (sheet_score(field, p, x, y, footprint) - p[LEVEL]) * 0.9 * size
    if d < -0.35 * size:
        return -min(-d * 0.25, 600.0), 0.0
    n = _flat_noise(field.bytes, x + p[SHIFT_X], y + p[SHIFT_Y], 4.1 * size, 0.29, footprint)
    m = _flat_noise(field.bytes, y - p[SHIFT_X], x + p[SHIFT_Y], 2.7 * size, 0.61, footprint)
    thin = smoothstep(-0.1 * size, 0.5 * size, d)
    top = thick * (0.80 + 0.20 * n) * (0.35 + 0.65 * thin)
    relief = 0.22 * p[LOBES] * m
    if p[ROWS] > 0.0:
        relief += 0.24 * p[ROWS] * _waves(field, p, x, y, 0.35 * p[ROW_SPACING] * m, footprint)
    bottom = thick * max(0.10 + p[ROUND_BASE] * relief, 0.0) * (2.0 - thin)
    f = min(top - z, z - bottom)
    f = min(f, d + 0.25 * thick)
    lump = (0.10 + 0.22 * p[LOBES]) * thick
    tile = 0.62 * size
    if p[CURL] > 0.0:
        x += 0.5 * p[CURL] * size * m
        y += 0.5 * p[CURL] * size * n
    f += lump * turned_noise(field.bytes, WISP, x + p[SHIFT_X], y, 1.6 * z, tile,
                             noise_level(footprint, tile))
    if detail > 0 and p[FRAY] > 0.0:
        tile2 = 0.16 * size
        f += 0.55 * lump * p[FRAY] * turned_noise(field.bytes, WISP, y, x, z, tile2,
                                                   noise_level(footprint, tile2))
    if f <= 0.0:
        return max(0.5 * f, -0.2 * thick) - 1.0, 0.0
    edge = min(p[EDGE], 0.8 * thick)
    return f, p[SIGMA] * min(f / edge, 1.0)


@inner
def _celled(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in a sheet of rounded cells."""
    thick = p[THICK]
    out = max(z - 1.02 * thick, -z - 0.02 * thick)
    if out > 0.0:
        return -out - 1.0, 0.0
    size = p[SIZE]
    u = x * p[WIND_X] + y * p[WIND_Y] + p[SHIFT_X]
    v = -x * p[WIND_Y] + y * p[WIND_X] + p[SHIFT_Y]
    score, swollen = _celled_score(field, p, x, y, u, v, footprint)
    score = _within(field, p, x, y, score, footprint) - p[LEVEL]
    if score < -0.5:
        return -min((-score - 0.3) * 0.35 * size, 400.0), 0.0
    # A lens on each cell: high where the score is, closing toward its outline. Where cells have
    # merged they still swell above and hang below.
    q = clamp(score / 1.1, 0.0, 1.0)
    lens = math.sqrt(q * (2.0 - q)) * (CELL_NECK + (1.0 - CELL_NECK) * swollen)
    hang = p[ROUND_BASE]  # 1: about as round below as above
    sag = 0.12 * max(hang - 1.0, 0.0)
    middle = (0.40 + sag) * thick
    f = min((0.56 - sag) * thick * lens - (z - middle),
            (0.38 * min(hang, 1.0) + sag) * thick * lens + (z - middle))
    if score < 0.0:
        f = min(f, 0.55 * score * size)
    lump = (0.07 + 0.22 * p[LOBES]) * thick
    tile = 1.25 * size
    if f < -1.4 * lump:
        return max(0.6 * (f + 1.2 * lump), -0.3 * thick) - 1.0, 0.0
    if p[CURL] > 0.0:
        level = noise_level(footprint, 2.4 * tile)
        x += 0.45 * p[CURL] * tile * turned_noise(field.bytes, WISP, y, z, x, 2.4 * tile, level)
        y += 0.45 * p[CURL] * tile * turned_noise(field.bytes, WISP, z, x, y, 2.4 * tile, level)
    n = turned_noise(field.bytes, BILLOW, x + p[SHIFT_X], y, 1.3 * z, tile,
                     noise_level(footprint, tile))
    g = turned_noise(field.bytes, WISP, y, x + p[SHIFT_Y], 1.3 * z, 0.6 * tile,
                     noise_level(footprint, 0.6 * tile))
    f += lump * (n * (1.0 - p[FRAY]) + 1.3 * g * p[FRAY])
    if detail > 0:
        tile2 = 0.27 * tile
        level = noise_level(footprint, tile2)
        n = turned_noise(field.bytes, BILLOW, y, z, x, tile2, level)
        g = turned_noise(field.bytes, WISP, z, x, y, tile2, level)
        f += 0.45 * lump * (n * (1.0 - p[FRAY]) + 1.3 * g * p[FRAY])
    soft = 0.5 * min(footprint, 0.5 * thick)
    f += 0.25 * soft
    if f <= 0.0:
        return max(0.5 * f, -0.2 * thick) - 1.0, 0.0
    edge = min(p[EDGE], 0.7 * thick) + soft
    # Rims are thin in substance as well as in height.
    rim = CELL_RIM + (1.0 - CELL_RIM) * smoothstep(-0.1, 0.7, score)
    return f, p[SIGMA] * rim * min(f / edge, 1.0)


@inner
def _lens(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in smooth lenses, stacked in plates toward their rims."""
    thick, size = p[THICK], p[SIZE]
    out = max(z - 1.02 * thick, -z - 0.02 * thick)
    if out > 0.0:
        return -out - 1.0, 0.0
    score = sheet_score(field, p, x, y, footprint) - p[LEVEL]
    if score < -0.5:
        return -min((-score - 0.35) * 0.05 * size, 500.0), 0.0
    # Plates, each thin at its rim, that overlap in the core: the widest in the middle, those above
    # and below narrower by more the more lobes there are.
    hang = min(p[ROUND_BASE], 1.6)
    bend = 0.08 * thick * _flat_noise(field.bytes, x, y, 2.6 * size, 0.37, footprint)
    step = 0.9 * p[LOBES] * thick / PLATES
    whole = max(1.0 - p[LEVEL], 0.3)  # score in the middle of most lenses
    f = -1e9
    for k in range(PLATES):
        aside = k - 1.0
        q = score - p[LOBES] * (0.30 if k == 0 else (0.42 if k == 2 else 0.0))
        rim = 1.0 - math.exp(-1.6 * max(q, 0.0) / whole)  # no flat top, however wide
        lens = math.sqrt(rim) * (0.3 + 0.7 * rim)  # the two arcs meet at an angle
        high = (1.0 - 0.62 * p[LOBES]) * thick * lens
        middle = 0.40 * thick + aside * step + bend
        one = min(0.60 * high - (z - middle), 0.40 * high * hang + (z - middle))
        if q < 0.0:
            one = min(one, 0.10 * q * size)
        f = max(f, one)
    if p[FRAY] > 0.0:
        tile = 0.16 * size
        f += 0.16 * thick * p[FRAY] * turned_noise(
            field.bytes, WISP, x + p[SHIFT_X], y, 3.0 * z, tile, noise_level(footprint, tile))
        if detail > 0:
            tile *= 0.3
            f += 0.07 * thick * p[FRAY] * turned_noise(
                field.bytes, WISP, y, x + p[SHIFT_Y], 2.0 * z, tile, noise_level(footprint, tile))
    soft = 0.5 * min(footprint, 0.5 * thick)
    f += 0.25 * soft
    if f <= 0.0:
        return max(0.4 * f, -0.15 * thick) - 1.0, 0.0
    edge = min(p[EDGE], 0.5 * thick) + soft
    return f, p[SIGMA] * min(f / edge, 1.0)


@inner
def _slab(p, z):
    """An even layer without end: what plane-parallel theory is about (tests)."""
    f = min(z, p[THICK] - z)
    return f, p[SIGMA] if f > 0.0 else 0.0


@inner
def _cirrus(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in falling, combed streaks of ice."""
    thick = p[THICK]
    r = z / thick
    if r < 0.0 or r > 1.0:
        return -max(-z, z - thick) - 5.0, 0.0
    # Ice falls through slower wind: lower parts lag upwind and hook sideways.
    lag = (1.0 - r) * (1.0 - r)
    fall = 3.4 * thick * lag * (0.3 + p[COMB])
    hook = 0.35 * p[SIZE] * lag * (1.0 - r) * p[COMB]
    tufted = 0.0
    if p[LOBES] > TUFTED:  # tufts trail longer tails
        fall *= 1.0 + 1.2 * (p[LOBES] - TUFTED)
        hook *= 1.0 + 1.6 * (p[LOBES] - TUFTED)
        tufted = (p[LOBES] - TUFTED) / (1.0 - TUFTED)
    xs = x + fall * p[WIND_X] - hook * p[WIND_Y]
    ys = y + fall * p[WIND_Y] + hook * p[WIND_X]
    score = sheet_score(field, p, xs, ys, footprint) - p[LEVEL]
    score -= 0.45 * tufted * (1.0 - r)  # tails are thinner than their heads
    shred = 0.34 * p[FRAY]
    if score < -0.45 - shred:
        slope = 0.45 - 0.36 * tufted  # tufts are steeper
        return -clamp((-score - 0.4 - shred) * slope * p[SIZE], 40.0, 1500.0), 0.0
    u = xs * p[WIND_X] + ys * p[WIND_Y] + p[SHIFT_X]
    v = -xs * p[WIND_Y] + ys * p[WIND_X] + p[SHIFT_Y]
    size = p[SIZE]
    bend = (0.10 + 0.25 * p[CURL]) * size * _flat_noise(field.bytes, u, v, 5.2 * size, 0.91,
                                                       footprint)
    if p[CURL] > 0.0:
        v += 0.16 * p[CURL] * size * _flat_noise(field.bytes, v, u, 0.9 * size, 0.27, footprint)
    run = 1.0 + 14.0 * p[COMB]
    if tufted > 0.0:  # a step down a slanting trail crosses strands: finer ones are averaged too
        footprint += (0.7 * p[STEP] / thick) * (2.0 * fall / run + 3.0 * hook) / max(1.0 - r, 0.05)
    tile = 0.62 * size
    a, b = u / (run * tile), (v + bend) / tile
    level = noise_level(footprint, tile)
    fibre = noise_at(field.bytes, WISP, a, b, 0.5 * r + TILT_U * b + TILT_V * a, level)
    lost = FIBRE * FIBRE * wisp_lost(level)
    # Strands shred the edge of the patch as well as its inside, so no patch has an outline.
    score += shred * fibre * 1.6
    if score <= -0.45:
        return 30.0, 0.0
    tile = 0.19 * size
    a, b = u / (run * 1.1 * tile) + 0.3, (v + 1.6 * bend) / tile
    level = noise_level(footprint, tile)
    fine = noise_at(field.bytes, WISP, a, b, 1.1 * r + TILT_U * b + TILT_V * a, level)
    lost += FINE_FIBRE * FINE_FIBRE * wisp_lost(level)
    body = smoothstep(-0.45, 0.30 + 0.5 * p[EDGE] / 500.0, score)
    texture = max(1.0 + p[FRAY] * (FIBRE * fibre + FINE_FIBRE * fine), 0.0)
    if detail > 0:
        tile = 0.061 * size
        level = noise_level(footprint, tile)
        thread = noise_at(field.bytes, WISP, u / (run * 1.2 * tile), (v + 2.0 * bend) / tile,
                          1.7 * r, level)
        texture = max(texture + p[FRAY] * THREAD * thread, 0.0)
        lost += THREAD * THREAD * wisp_lost(level)
    else:
        lost += THREAD * THREAD * wisp_lost(-1)
    profile = 4.0 * r * (1.0 - r)
    # Strands too fine to be drawn still add what their unevenness adds to the mean.
    strands = texture * (0.4 + 0.6 * texture) + 0.6 * p[FRAY] * p[FRAY] * lost
    sigma = p[SIGMA] * body * body * strands * profile
    if tufted > 0.0:
        sigma *= 1.0 + tufted * (2.6 * smoothstep(0.62, 0.85, r) - 0.35)
    return 30.0, sigma * (0.4 + 0.6 * profile)


@inner
def _of_kind(field, p, x, y, z, footprint, detail):
    """Distance and extinction by the layer's kind."""
    kind = int(p[KIND])
    if kind == CUMULUS:
        return _cumulus(field, p, x, y, z, footprint, detail)
    if kind == STRATUS:
        return _stratus(field, p, x, y, z, footprint, detail)
    if kind == CELLED:
        return _celled(field, p, x, y, z, footprint, detail)
    if kind == LENS:
        return _lens(field, p, x, y, z, footprint, detail)
    if kind == SLAB:
        return _slab(p, z)
    return _cirrus(field, p, x, y, z, footprint, detail)


@kernel
def falls_from(p):
    """Height above the base below which there is nothing but falling rain or snow."""
    return -0.03 * p[THICK]


@kernel
def density(field, layer, x, y, z, footprint, detail):
    """Distance (m) and extinction (1/m) of a layer at a point above its base.

    `footprint` (m) is the width that is averaged over; `detail` 0.0 … 2.0 is how much fine skin
    is worth the time (a float: each whole number written out would be compiled by itself).
    """
    p = field.layers[layer]
    rain = p[FALL] > 0.0 and z < falls_from(p)
    up = z
    if rain:
        up = p[THICK] * min(RAIN_UP + RAIN_UP_ROUND * max(p[ROUND_BASE] - 1.0, 0.0), RAIN_UP_MOST)
        if z < -p[FALL_REACH]:
            return z + p[FALL_REACH] - 5.0, 0.0
        x -= RAIN_DRIFT * z * p[WIND_X]
        y -= RAIN_DRIFT * z * p[WIND_Y]
    if p[SLANT] != 0.0:
        x -= p[SLANT] * up * p[WIND_X]
        y -= p[SLANT] * up * p[WIND_Y]
    f, sigma = _of_kind(field, p, x, y, up, footprint, 0.0 if rain else detail)
    if f < 0.0:
        f *= p[LEAN]
    if rain:
        if sigma <= 0.0:
            return min(0.8 * f, -10.0), 0.0
        # Shafts: heavier here than there, thinning on the way down unless they reach the ground.
        n = _flat_noise(field.bytes, x, y, RAIN_PATCH_M, 0.41, footprint)
        left = 1.0 + z / p[FALL_REACH]
        fade = min(left / 0.25, 1.0) if p[FALL_REACH] >= p[BASE] - 1.0 else left**1.4
        rim = min(max(f, 0.0) / (0.12 * min(p[SIZE], 2.0 * p[THICK])), 1.0)
        snow = 1.0 + (SNOW - 1.0) * smoothstep(MELTED_M, FROZEN_M, p[BASE] + z)
        return max(f, 30.0), p[FALL] * snow * rim * max(0.45 + 1.1 * n, 0.04) * fade
    if sigma > 0.0 and p[PROFILED] > 0.0:
        c = clamp(z / p[THICK], 0.0, 1.0) * (PROFILE_NODES - 1)
        k = min(int(c), PROFILE_NODES - 2)
        sigma *= p[PROFILE + k] * (1.0 - c + k) + p[PROFILE + k + 1] * (c - k)
    return f, sigma


@kernel
def column_depths(field, layer, half_m, count, steps, i0, i1, out, lengths):
    """Vertical optical depths on a count × count raster over ± half_m, rows i0 … i1.

    `lengths` receives the metres of each column that lie in cloud.
    """
    p = field.layers[layer]
    low, high = max(p[Z_LOW], falls_from(p)), p[Z_HIGH]  # falling rain is no cover
    dz = (high - low) / steps
    pixel = 2.0 * half_m / count
    for i in range(i0, i1):
        for j in range(count):
            x, y = -half_m + (i + 0.5) * pixel, -half_m + (j + 0.5) * pixel
            total, length = 0.0, 0.0
            for k in range(steps):
                _, sigma = density(field, layer, x, y, low + (k + 0.5) * dz, 0.0, 2.0)
                total += sigma * dz
                if sigma > 0.0:
                    length += dz
            out[i, j] = total
            lengths[i, j] = length


@kernel
def lid_touched(field, layer, half_m, count):
    """Share of covered columns, on a count × count raster over ± half_m, that reach the lid."""
    p = field.layers[layer]
    low, high = max(p[Z_LOW], falls_from(p)), p[Z_HIGH]  # falling rain is no cover
    pixel = 2.0 * half_m / count
    covered, touched = 0, 0
    cut = LID_SIGMA * p[SIGMA]
    for i in range(count):
        for j in range(count):
            x, y = -half_m + (i + 0.5) * pixel, -half_m + (j + 0.5) * pixel
            if density(field, layer, x, y, high - 0.002 * (high - low), 0.0, 2.0)[1] > cut:
                touched += 1
                covered += 1
                continue
            for k in range(LID_STEPS):
                z = low + (k + 0.5) / LID_STEPS * (high - low)
                if density(field, layer, x, y, z, 0.0, 2.0)[1] > 0.0:
                    covered += 1
                    break
    return touched / covered if covered > 0 else 0.0


@kernel
def sheet_scores(field, layer, half_m, count, out):
    """Scores of a sheet on a raster (for its cover curve)."""
    p = field.layers[layer]
    pixel = 2.0 * half_m / count
    for i in range(count):
        for j in range(count):
            out[i, j] = sheet_score(field, p, -half_m + (i + 0.5) * pixel,
                                    -half_m + (j + 0.5) * pixel, 0.0)
