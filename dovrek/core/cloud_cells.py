"""The separate clouds of a heaped layer: where each stands, how big it is, which shape it has.

Clouds stand on a jittered lattice of hashed cells that repeats only after hundreds of
kilometres. Each has a rank that never changes; cover sets how many ranks are grown, so
changing it moves nothing.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.cloud_shapes import SHAPES, Shapes
from dovrek.core.kernels import clamp, inner, kernel, smoothstep, solver
from dovrek.core.noise import hash_unit

Array32 = NDArray[np.float32]
Run = Callable[[Callable[[int, int], None], int], None]

PER_CELL = 8  # clouds a lattice cell can hold; the first stand apart, the others fill
RANKS = 7.0  # of them that make a full but broken sky
LATTICE_LIMIT = 640
GROWTH_SPAN = 0.34
SMALLEST = 0.05  # scale of the least cloud that stands
MEASURED_M = 40_000.0  # cover is measured over this square (the contract's definition)
RASTER = 400
FULLEST = 0.9985  # the last pinholes of an overcast would take clouds twice as wide
LOWEST_LEVEL, HIGHEST_LEVEL, LEVELS_TRIED = -1.5, 5.5, 1 << 15

# Columns of an instance.
X, Y, SCALE, TURN_COS, TURN_SIN, SHAPE, REACH, TOP, TALL, AGE = range(10)
INSTANCE = 10
DEALT = 8  # columns of a possible cloud: the first seven of them as in `_deal`, its luck
DRAWN = 3.0  # cells that a cloud may be drawn from its own, with what it reaches beyond
PIECES = 4  # in which standing clouds are found and indexed: every piece of squares walks all
EVAPORATES, TEARS, SUBSIDES = 0, 1, 2
# Stages of life: grown by, falling apart from.
GROWN, FALLING = 0.38, 0.62


class Ahead(NamedTuple):
    """What a sketch of a picture needs of a layer: clouds near the camera, and those inside a wedge
    of the compass up to a distance."""

    x: float  # the wedge's middle, east and north
    y: float
    cosine: float  # of half its angle; below -1: all round
    far: float = math.inf  # metres


ALL_ROUND = Ahead(0.0, 1.0, -2.0)
NEAR_M = 30_000.0  # holds the measured square, and clouds whose shadows fall into the wedge


class CellParameters(NamedTuple):
    """What the cells of a layer depend on, cover aside."""

    size_m: float
    spread: float
    huddle: float
    clearing_share: float
    clearing_size_m: float
    clearing_edge: float
    seed: int
    clearing_seed: int
    range_m: float
    rows: float  # how far clouds are drawn onto rows
    row_x: float  # direction across the rows
    row_y: float
    row_spacing_m: float
    patchiness: float
    ahead: Ahead = ALL_ROUND


class Life(NamedTuple):
    """How far the clouds of a layer have lived."""

    stage: float
    spread: float
    early_decay: float
    ending: int  # EVAPORATES, TEARS or SUBSIDES
    anvil: bool  # clouds point along the wind
    wind_x: float
    wind_y: float


class Cells(NamedTuple):
    """Instances and where to look for them (grid squares of half a cell), flat as a field holds
    them."""

    reals: Array32  # M*M metres to the nearest instance's circle, 0 where members are; instances
    links: NDArray[np.int32]  # M*M + 1 starts of the squares' members; members
    squares: int  # M
    period_m: float


@inner
def smooth_field(x, y, size, seed, period):
    """Value noise of two octaves in 0 … 1 about uniform, repeating after `period` metres."""
    total, weight = 0.0, 0.0
    for octave in range(2):
        count = max(int(period / size * (octave + 1) + 0.5), 2)
        u, v = x / period * count, y / period * count
        i, j = math.floor(u), math.floor(v)
        fu, fv = u - i, v - j
        fu = fu * fu * (3 - 2 * fu)
        fv = fv * fv * (3 - 2 * fv)
        a = hash_unit(i % count, j % count, seed + octave)
        b = hash_unit((i + 1) % count, j % count, seed + octave)
        c = hash_unit(i % count, (j + 1) % count, seed + octave)
        d = hash_unit((i + 1) % count, (j + 1) % count, seed + octave)
        w = 1.0 if octave == 0 else 0.5
        total += w * ((a * (1 - fu) + b * fu) * (1 - fv) + (c * (1 - fu) + d * fu) * fv)
        weight += w
    # Spread the bell of the sum back to about uniform.
    centred = (total / weight - 0.5) * 2.1
    return clamp(0.5 + 0.5 * math.tanh(1.25 * centred) / math.tanh(1.25), 0.0, 1.0)


@inner
def _wrapped(i, count):
    """A place around the border of `count`, by sums: a remainder costs ten times as much."""
    while i < 0:
        i += count
    while i >= count:
        i -= count
    return i


@inner
def _is_ahead(ahead, period, x, y, margin):
    """Whether a place lies near the camera or inside the wedge, or within a margin (m) of it."""
    if ahead.cosine < -1.0:
        return True
    x -= period * math.floor(x / period + 0.5)
    y -= period * math.floor(y / period + 0.5)
    far = math.sqrt(x * x + y * y)
    return far < NEAR_M + margin or (
        far < ahead.far + margin and x * ahead.x + y * ahead.y + margin > ahead.cosine * far)


@kernel
def _gather(seed, blocks, out):
    """Gathering points of clouds, (blocks², 2) places 0 … 1 within blocks of three cells."""
    for k in range(blocks * blocks):
        out[k, 0], out[k, 1] = hash_unit(k, 0, seed + 2), hash_unit(k, 1, seed + 2)


@kernel
def _deal(cells, lattice, points, i0, i1, out):
    """Deal every possible cloud: x, y, full scale, turn, shape, rank."""
    period = lattice * cells.size_m
    k = i0 * lattice * PER_CELL
    drawn = DRAWN * cells.size_m + cells.rows * cells.row_spacing_m
    for i in range(i0, i1):
        for j in range(lattice):
            if not _is_ahead(cells.ahead, period, (i + 0.5) * cells.size_m,
                             (j + 0.5) * cells.size_m, 2.0 * drawn):
                out[k : k + PER_CELL] = 0.0  # of no size: they never stand
                out[k : k + PER_CELL, :2] = 0.5 * period
                k += PER_CELL
                continue
            for m in range(PER_CELL):
                key = i * lattice + j
                x = (i + hash_unit(key, m, cells.seed)) * cells.size_m
                y = (j + hash_unit(key, m, cells.seed + 1)) * cells.size_m
                # Huddle: toward the nearest gathering point, one in each block of three cells.
                # The nearest, not the own block's: else no cloud would stand on blocks' borders.
                block = 3.0 * cells.size_m
                blocks = lattice // 3
                bi, bj = math.floor(x / block), math.floor(y / block)
                nearest, gx, gy = 1e30, x, y
                for a in range(bi - 1, bi + 2):
                    for b in range(bj - 1, bj + 2):
                        point = _wrapped(a, blocks) * blocks + _wrapped(b, blocks)
                        px = (a + points[point, 0]) * block
                        py = (b + points[point, 1]) * block
                        d = (px - x) ** 2 + (py - y) ** 2
                        if d < nearest:
                            nearest, gx, gy = d, px, py
                pull = 0.55 * cells.huddle
                x += pull * (gx - x)
                y += pull * (gy - y)
                if cells.rows > 0.0:
                    across = x * cells.row_x + y * cells.row_y
                    pull = 0.9 * cells.rows
                    if cells.patchiness > 0.0:
                        pull *= 1.0 - cells.patchiness * smoothstep(0.35, 0.65, smooth_field(
                            x, y, 9.0 * cells.row_spacing_m, cells.seed + 9, period))
                    line = (math.floor(across / cells.row_spacing_m) + 0.5) * cells.row_spacing_m
                    bend = 0.25 * cells.row_spacing_m * math.sin(
                        (x * cells.row_y - y * cells.row_x) / (5.0 * cells.row_spacing_m))
                    shift = pull * (line - across) + pull * bend
                    x += shift * cells.row_x
                    y += shift * cells.row_y
                u = hash_unit(key, m, cells.seed + 4)
                size = math.exp(cells.spread * 1.7 * (u - 0.62))
                size = clamp(size, 0.16, 1.0)
                mask = smooth_field(x, y, 5.3 * cells.size_m, cells.seed + 5, period)
                own = (m + 0.9 * hash_unit(key, m, cells.seed + 6)) / RANKS
                rank = own + (0.25 + 0.45 * cells.huddle) * (mask - 0.5)
                if cells.clearing_share > 0.0:
                    field = smooth_field(x, y, cells.clearing_size_m, cells.clearing_seed + 40,
                                         period)
                    width = 0.02 + 0.35 * cells.clearing_edge
                    rank += 3.0 * (1.0 - smoothstep(cells.clearing_share - width,
                                                    cells.clearing_share + width, field))
                turn = 2.0 * math.pi * hash_unit(key, m, cells.seed + 7)
                out[k, 0], out[k, 1], out[k, 2] = x % period, y % period, size
                out[k, 3], out[k, 4] = math.cos(turn), math.sin(turn)
                out[k, 5] = min(int(hash_unit(key, m, cells.seed + 8) * SHAPES), SHAPES - 1)
                out[k, 6] = rank
                out[k, 7] = hash_unit(key, m, cells.seed + 10)
                k += 1


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
        scale = grown_scale(dealt[k, 2], dealt[k, 6], level)
        if scale <= 0.0:
            continue
        if total == most:
            break
        x = dealt[k, 0] if dealt[k, 0] < 0.5 * period else dealt[k, 0] - period
        y = dealt[k, 1] if dealt[k, 1] < 0.5 * period else dealt[k, 1] - period
        reach = half_width * scale
        if abs(x) > half + reach or abs(y) > half + reach:
            continue
        shape = int(dealt[k, 5])
        to_grid = 0.5 * n / (half_width * scale * grow)
        c, s = dealt[k, 3] * to_grid, dealt[k, 4] * to_grid
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


@inner
def lived(luck, life, out):
    """Width, height and age (0 … 1) of a cloud with its own luck at a stage of life; (3,).

    Nothing is there before 0 and after 1; between GROWN and FALLING a cloud is full grown.
    """
    a = life.stage + life.spread * (luck - 0.5) * 4.0 * min(life.stage, 1.0 - life.stage) * 0.6
    out[0], out[1], out[2] = 0.0, 1.0, 0.0
    if life.stage <= 0.0 or life.stage >= 1.0 or a <= 0.0 or a >= 1.0:
        return
    grown, old = smoothstep(0.0, GROWN, a), smoothstep(FALLING, 1.0, a)
    out[0], out[1] = 0.22 + 0.78 * grown, 0.3 + 0.7 * smoothstep(0.02, GROWN, a)
    lost = (luck * 7.31) % 1.0 < life.early_decay
    if lost:  # never grows up: low, small and torn from the start
        old = max(old, 0.45)
        out[0], out[1] = 0.6 * out[0], 0.45 * out[1]
    out[2] = old
    if life.ending == SUBSIDES:
        out[0] *= 1.0 + 0.3 * old
        out[1] *= 1.0 - 0.78 * old
        out[2] *= 0.75
    else:
        out[1] *= 1.0 - 0.35 * old


@solver
def _stand(dealt, k0, k1, level, life, radii, tops, half_width, skin, ahead, period, margin, out):
    """The instances of the possible clouds k0 … k1 that are there, in the rows of `out` from k0
    on; their number."""
    n = k0
    own = np.empty(3)
    for k in range(k0, k1):
        scale = grown_scale(dealt[k, 2], dealt[k, 6], level)
        if scale <= SMALLEST or not _is_ahead(ahead, period, dealt[k, 0], dealt[k, 1], margin):
            continue
        lived(dealt[k, 7], life, own)
        if own[0] <= 0.0:
            continue
        scale *= own[0]
        shape = int(dealt[k, 5])
        out[n, X], out[n, Y], out[n, SCALE] = dealt[k, 0], dealt[k, 1], scale
        out[n, TURN_COS], out[n, TURN_SIN], out[n, SHAPE] = dealt[k, 3], dealt[k, 4], shape
        if life.anvil:
            turn = 0.5 * (dealt[k, 7] - 0.5)
            c, s = math.cos(turn), math.sin(turn)
            out[n, TURN_COS] = c * life.wind_x - s * life.wind_y
            out[n, TURN_SIN] = s * life.wind_x + c * life.wind_y
        out[n, REACH] = scale * min(radii[shape] + skin, half_width)
        tall = own[1] / own[0]  # the scale makes it lower already
        out[n, TALL], out[n, AGE] = tall, own[2]
        out[n, TOP] = min(scale, 1.0) * tops[shape] * tall
        n += 1
    return n - k0


@kernel
def _index(instances, period, squares, r0, r1, cursor, members, fill):
    """Count (fill False) or list the instances whose circle touches each grid square of rows
    r0 … r1; `cursor` holds where each square's next member goes."""
    size = period / squares
    per_metre = squares / period
    for k in range(len(instances)):
        x, y, reach = instances[k, X], instances[k, Y], instances[k, REACH]
        i0, i1 = math.floor((x - reach) * per_metre), math.floor((x + reach) * per_metre)
        j0, j1 = math.floor((y - reach) * per_metre), math.floor((y + reach) * per_metre)
        for i in range(i0, i1 + 1):
            row = _wrapped(i, squares)
            if row < r0 or row >= r1:
                continue
            nx = clamp(x, i * size, (i + 1) * size) - x
            left = reach * reach - nx * nx
            for j in range(j0, j1 + 1):
                ny = clamp(y, j * size, (j + 1) * size) - y
                if ny * ny > left:
                    continue
                square = row * squares + _wrapped(j, squares)
                if fill:
                    members[cursor[square]] = k
                cursor[square] += 1


@kernel
def _clear(clearance, size):
    """Lower bound of the distance to occupied squares: rings counted by two-pass chamfer."""
    n = len(clearance)
    for sweep in range(2):
        d = -1 if sweep == 0 else 1
        i = n - 1 if sweep == 0 else 0  # the row before, around the border
        for _ in range(2 * n):
            before = i
            i -= d
            i = 0 if i == n else (n - 1 if i < 0 else i)
            j = n - 1 if sweep == 0 else 0
            for _ in range(n + 2):
                last = j
                j -= d
                j = 0 if j == n else (n - 1 if j < 0 else j)
                after = j - d
                after = 0 if after == n else (n - 1 if after < 0 else after)
                best = min(min(clearance[before, j], clearance[i, last]),
                           min(clearance[before, last], clearance[before, after]))
                clearance[i, j] = min(clearance[i, j], best + size)


def deal_cells(
    cells: CellParameters, run: Run
) -> tuple[NDArray[np.float64], float]:
    """Every possible cloud of the layer (columns as in `_deal`) and the period in metres."""
    wanted = int(math.ceil(2.2 * max(cells.range_m, MEASURED_M) / cells.size_m))
    lattice = 3 * int(math.ceil(min(max(wanted, 9), LATTICE_LIMIT) / 3))
    dealt = np.empty((lattice * lattice * PER_CELL, DEALT))
    points = np.empty(((lattice // 3) ** 2, 2))
    _gather(cells.seed, lattice // 3, points)
    run(lambda i0, i1: _deal(cells, lattice, points, i0, i1, dealt), lattice)
    return dealt, lattice * cells.size_m


@kernel
def _find_ahead(dealt, ahead, period, margin, found):
    """Places of the possible clouds ahead, into `found`; their number."""
    n = 0
    for k in range(len(dealt)):
        if dealt[k, 2] > 0.0 and _is_ahead(ahead, period, dealt[k, 0], dealt[k, 1], margin):
            found[n] = k
            n += 1
    return n


def only_ahead(dealt: NDArray[np.float64], period_m: float, size_m: float,
               ahead: Ahead) -> NDArray[np.float64]:
    """Those of the possible clouds that `stand_cells` looks at for a part of the compass."""
    found = np.empty(len(dealt), dtype=np.int64)
    return dealt[found[: _find_ahead(dealt, ahead, period_m, DRAWN * size_m, found)]]


class Levels(NamedTuple):
    """What levels of growth cover of the measured square, as far as they were tried."""

    near: NDArray[np.float64]  # possible clouds that can reach the square, however wide they swell
    shares: dict[int, float]


def levels_of(dealt: NDArray[np.float64], period_m: float, shapes: Shapes) -> Levels:
    most = 0.5 * MEASURED_M + shapes.half_width_m * swell(HIGHEST_LEVEL)
    x, y = (np.abs((dealt[:, k] + 0.5 * period_m) % period_m - 0.5 * period_m) for k in (0, 1))
    near = dealt[(x <= most) & (y <= most)]
    return Levels(near[np.argsort(-near[:, 2])], {})  # the largest first: most is covered soon


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


def in_pieces(run: Run, f: Callable[[int, int], None], n: int) -> None:
    """Spread f(first, last) over 0 … n in PIECES."""
    def some(first: int, last: int) -> None:
        for k in range(first, last):
            f(n * k // PIECES, n * (k + 1) // PIECES)

    run(some, PIECES)


def stand_cells(dealt: NDArray[np.float64], period_m: float, size_m: float, shapes: Shapes,
                level: float, life: Life, skin_m: float, run: Run,
                ahead: Ahead = ALL_ROUND) -> Cells:
    """The clouds present at a level of growth and a stage of life, indexed for the march.

    `skin_m` is how far the skin may carry a full-grown cloud beyond its shape; `run` spreads a
    function over pieces and may raise.
    """
    squares = max(int(round(period_m / (0.5 * size_m))), 6)
    size, count = period_m / squares, squares * squares
    reals = np.empty(count + len(dealt) * INSTANCE, dtype=np.float32)
    every = reals[count:].reshape(-1, INSTANCE)
    found: dict[int, int] = {}

    def stand(first: int, last: int) -> None:
        found[first] = _stand(dealt, first, last, level, life, shapes.radii,
                              shapes.tops * shapes.squash, shapes.half_width_m, skin_m, ahead,
                              period_m, DRAWN * size_m, every)

    in_pieces(run, stand, len(dealt))
    standing = 0
    for first, number in sorted(found.items()):  # moved together
        if first != standing:
            every[standing : standing + number] = every[first : first + number]
        standing += number
    instances, none = every[:standing], np.empty(0, dtype=np.int32)
    counts = np.zeros(count, dtype=np.int32)
    in_pieces(run, lambda r0, r1: _index(instances, period_m, squares, r0, r1, counts, none,
                                         False), squares)
    total = int(counts.sum())
    links = np.empty(count + 1 + max(total, 1), dtype=np.int32)
    starts, members = links[: count + 1], links[count + 1 :]
    starts[0] = 0
    np.cumsum(counts, out=starts[1:])
    cursor = starts[:-1].copy()
    in_pieces(run, lambda r0, r1: _index(instances, period_m, squares, r0, r1, cursor, members,
                                         True), squares)
    clearance = np.where(counts > 0, np.float32(0.0), np.float32(period_m)).reshape(squares, -1)
    _clear(clearance, size)
    clearance = np.maximum(clearance - size, 0.0).astype(np.float32)
    clearance[(counts == 0).reshape(squares, squares) & (clearance <= 0)] = 0.02 * size
    reals[:count] = clearance.ravel()
    return Cells(reals[: count + standing * INSTANCE], links, squares, period_m)
