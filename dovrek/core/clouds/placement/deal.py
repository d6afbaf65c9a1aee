"""Dealing: where every heaped cloud that a layer could hold would stand, how big, of which shape.

Clouds stand on a jittered lattice of hashed cells that repeats only after hundreds of
kilometres; cells are counted from its middle, so that how far it reaches changes nothing near
the camera. Each has a rank that never changes; cover sets how many ranks are grown, so
changing it moves nothing.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.measure import MEASURED_M
from dovrek.core.clouds.record import POSSIBLE
from dovrek.core.clouds.shapes import SHAPES
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, kernel, part
from dovrek.core.compile.noise import hash_unit

Run = Callable[[Callable[[int, int], None], int], None]

PER_CELL = 8  # clouds a lattice cell can hold; the first stand apart, the others fill
RANKS = 7.0  # of them that make a full but broken sky
LATTICE_LIMIT, LATTICE_GROWS = 642, 1.15
ASIDE = 1 << 14  # added to cells of either sign
ROWS_WANDER, ROWS_ASIDE = 1.6, 0.5  # of their spacing
SEAM = 0.42  # of the period from the middle: there fields begin to pass over to the other side
TURNS_APART = 7_368_787  # of seeds
DRAWN = 3.0  # cells that a cloud may be drawn from its own, with what it reaches beyond


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
    lattice: int  # cells a side, after which the clouds repeat
    rows: float  # how far clouds are drawn onto rows
    row_x: float  # direction across the rows
    row_y: float
    row_spacing_m: float
    patchiness: float
    turn: int = 0  # of lives: which clouds of a place these are
    ahead: Ahead = ALL_ROUND


@inner
def _value_noise(x, y, size, seed):
    """Value noise of two octaves, 0 … 1 in a bell; places of either sign."""
    total = 0.0
    for octave in range(2):
        # Aside by chance: at its nodes noise is at its most, and the camera stands at the middle.
        u = x / size * (octave + 1) + ASIDE + hash_unit(octave, 0, seed)
        v = y / size * (octave + 1) + ASIDE + hash_unit(octave, 1, seed)
        i, j = math.floor(u), math.floor(v)
        fu, fv = u - i, v - j
        fu = fu * fu * (3 - 2 * fu)
        fv = fv * fv * (3 - 2 * fv)
        a = hash_unit(i, j, seed + octave)
        b = hash_unit(i + 1, j, seed + octave)
        c = hash_unit(i, j + 1, seed + octave)
        d = hash_unit(i + 1, j + 1, seed + octave)
        w = 2.0 / 3.0 if octave == 0 else 1.0 / 3.0
        total += w * ((a * (1 - fu) + b * fu) * (1 - fv) + (c * (1 - fu) + d * fu) * fv)
    return total


@inner
def smooth_field(x, y, size, seed, period):
    """A smooth field in 0 … 1 about uniform at a place within half a period of the middle. Near
    the border it passes over to what lies beyond the opposite one, so that it meets itself."""
    over_x = smoothstep(SEAM, 0.5, abs(x) / period) * 0.5
    over_y = smoothstep(SEAM, 0.5, abs(y) / period) * 0.5
    other_x = x - math.copysign(period, x)
    other_y = y - math.copysign(period, y)
    found = _value_noise(x, y, size, seed)
    if over_x > 0.0:
        found += over_x * (_value_noise(other_x, y, size, seed) - found)
    if over_y > 0.0:
        beyond = _value_noise(x, other_y, size, seed)
        if over_x > 0.0:
            beyond += over_x * (_value_noise(other_x, other_y, size, seed) - beyond)
        found += over_y * (beyond - found)
    # Spread the bell of the sum back to about uniform.
    centred = (found - 0.5) * 2.1
    return clamp(0.5 + 0.5 * math.tanh(1.25 * centred) / math.tanh(1.25), 0.0, 1.0)


@inner
def signed(i, count):
    """A cell counted from the middle of `count`, where the camera's foot is: its number there
    stays whatever the count, and so does its cloud."""
    return i if 2 * i < count else i - count


@inner
def cell_key(i, j, count):
    """What a cell's chances hang on."""
    return (signed(i, count) + ASIDE) * 2 * ASIDE + signed(j, count) + ASIDE


@inner
def wrapped(i, count):
    """A place around the border of `count`, by sums: a remainder costs ten times as much."""
    while i < 0:
        i += count
    while i >= count:
        i -= count
    return i


@inner
def is_ahead(ahead, period, x, y, margin):
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
    for i in range(blocks):
        for j in range(blocks):
            key, k = cell_key(i, j, blocks), i * blocks + j
            out[k, 0], out[k, 1] = hash_unit(key, 0, seed + 2), hash_unit(key, 1, seed + 2)


@part
def _never(out, period):
    """A possible cloud of no size: it never stands."""
    out.x, out.y = 0.5 * period, 0.5 * period
    out.size, out.turn_cos, out.turn_sin, out.rank, out.luck = 0.0, 0.0, 0.0, 0.0, 0.0
    out.shape, out.due = 0, 0.0


@part
def _deal_one(cells, lattice, points, i, j, m, period, out):
    """Deal the m-th possible cloud of a lattice cell.

    Of a later turn of lives it is another one; where clouds gather and where none stand stays.
    """
    key = cell_key(i, j, lattice)
    seed = cells.seed + TURNS_APART * cells.turn
    x = (signed(i, lattice) + hash_unit(key, m, seed)) * cells.size_m
    y = (signed(j, lattice) + hash_unit(key, m, seed + 1)) * cells.size_m
    # Huddle: toward the nearest gathering point, one in each block of three cells.
    # The nearest, not the own block's: else no cloud would stand on blocks' borders.
    block = 3.0 * cells.size_m
    blocks = lattice // 3
    bi, bj = math.floor(x / block), math.floor(y / block)
    nearest, gx, gy = 1e30, x, y
    for a in range(bi - 1, bi + 2):
        for b in range(bj - 1, bj + 2):
            point = wrapped(a, blocks) * blocks + wrapped(b, blocks)
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
        # Rows wander, and stand unevenly apart: none is a ruled line.
        wander = _value_noise(x, y, 6.0 * cells.row_spacing_m, cells.seed + 12) - 0.5
        across += ROWS_WANDER * wander * cells.row_spacing_m
        row = math.floor(across / cells.row_spacing_m)
        aside = ROWS_ASIDE * (hash_unit(row + ASIDE, 3, cells.seed + 9) - 0.5)
        shift = pull * ((row + 0.5 + aside) * cells.row_spacing_m - across)
        x += shift * cells.row_x
        y += shift * cells.row_y
    u = hash_unit(key, m, seed + 4)
    size = math.exp(cells.spread * 1.7 * (u - 0.62))
    size = clamp(size, 0.16, 1.0)
    mask = smooth_field(x, y, 5.3 * cells.size_m, cells.seed + 5, period)
    own = (m + 0.9 * hash_unit(key, m, seed + 6)) / RANKS
    rank = own + (0.25 + 0.45 * cells.huddle) * (mask - 0.5)
    if cells.clearing_share > 0.0:
        field = smooth_field(x, y, cells.clearing_size_m, cells.clearing_seed + 40,
                             period)
        width = 0.02 + 0.35 * cells.clearing_edge
        rank += 3.0 * (1.0 - smoothstep(cells.clearing_share - width,
                                        cells.clearing_share + width, field))
    turn = 2.0 * math.pi * hash_unit(key, m, seed + 7)
    out.x, out.y, out.size = x % period, y % period, size
    out.turn_cos, out.turn_sin = math.cos(turn), math.sin(turn)
    out.shape = min(int(hash_unit(key, m, seed + 8) * SHAPES), SHAPES - 1)
    out.rank = rank
    out.luck = hash_unit(key, m, seed + 10)
    out.due = hash_unit(key, m, cells.seed + 11)


@kernel
def _deal(cells, lattice, points, i0, i1, out):
    """Deal every possible cloud of rows i0 … i1 of the lattice."""
    period = lattice * cells.size_m
    k = i0 * lattice * PER_CELL
    drawn = DRAWN * cells.size_m + cells.rows * cells.row_spacing_m
    for i in range(i0, i1):
        for j in range(lattice):
            if not is_ahead(cells.ahead, period, (i + 0.5) * cells.size_m,
                             (j + 0.5) * cells.size_m, 2.0 * drawn):
                for _ in range(PER_CELL):
                    _never(out[k], period)
                    k += 1
                continue
            for m in range(PER_CELL):
                _deal_one(cells, lattice, points, i, j, m, period, out[k])
                k += 1


def lattice_of(range_m: float, size_m: float) -> int:
    """Cells a side of the lattice for clouds that are seen as far as that: in steps, so that a
    layer that rises a little keeps it."""
    blocks = max(2.2 * max(range_m, MEASURED_M) / size_m / 3.0, 3.0)
    stepped = LATTICE_GROWS ** math.ceil(math.log(blocks) / math.log(LATTICE_GROWS) - 1e-9)
    return 3 * min(math.ceil(stepped), LATTICE_LIMIT // 3)


def deal_cells(cells: CellParameters, run: Run) -> NDArray[np.void]:
    """(N,) POSSIBLE: every cloud that the layer could hold, or those of them ahead."""
    lattice = cells.lattice
    dealt = np.empty(lattice * lattice * PER_CELL, POSSIBLE)
    points = np.empty(((lattice // 3) ** 2, 2))
    _gather(cells.seed, lattice // 3, points)
    run(lambda i0, i1: _deal(cells, lattice, points, i0, i1, dealt), lattice)
    if cells.ahead == ALL_ROUND:
        return dealt
    return only_ahead(dealt, lattice * cells.size_m, cells.size_m, cells.ahead)


@kernel
def _find_ahead(dealt, ahead, period, margin, found):
    """Places of the possible clouds ahead, into `found`; their number."""
    n = 0
    for k in range(len(dealt)):
        if dealt[k].size > 0.0 and is_ahead(ahead, period, dealt[k].x, dealt[k].y, margin):
            found[n] = k
            n += 1
    return n


def only_ahead(dealt: NDArray[np.void], period_m: float, size_m: float,
               ahead: Ahead) -> NDArray[np.void]:
    """Those of the possible clouds that `stand_cells` looks at for a part of the compass."""
    found = np.empty(len(dealt), dtype=np.int64)
    return dealt[found[: _find_ahead(dealt, ahead, period_m, DRAWN * size_m, found)]]
