"""A sheet of rounded cells."""

from __future__ import annotations

import math

from dovrek.core.clouds.builds.build import Build, LightCells, beyond
from dovrek.core.clouds.masks import within
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import cell_at, flat_noise, waves
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, part
from dovrek.core.compile.noise import BILLOW, WISP, noise_level, turned_noise
from dovrek.sky.layer import Layer

CELL_GAP = 1.15  # how deep gaps between the cells of a sheet cut
# Rolls of a sheet of cells: how deep gaps between them cut, how far their crests wander and over
# how many spacings, how far they are broken; how the second family differs.
ROLL_SCORE, ROLL_WANDER, ROLL_RUN, ROLL_BREAK = 1.1, 1.5, 36.0, 0.38
SECOND_TURN, SECOND_WIDER = 0.27, -0.17
CELL_NECK = 0.35  # height of a sheet between merged cells, over that in their middle
CELL_RIM = 0.25  # extinction at a cell's rim over that in its middle


@inner
def _rolls(field, p, x, y, u, v, bend, uneven, footprint):
    """Rolls at a place: −1 … 1 across them, and how far they take the place of cells there.

    Two families, a little apart in bearing and spacing, share the sky in patches: where they meet,
    rolls fork and break off.
    """
    spacing, coarse = p.row_spacing, max(footprint, 2.5 * p.row_spacing)  # no bends shorter
    wander = ROLL_WANDER * spacing * flat_noise(field.bytes, v, u, ROLL_RUN * spacing, 0.43, coarse)
    if uneven <= 0.0:  # hardly rolls: they wander by half a spacing over some ten of them
        return waves(field, p, x, y, wander + 0.06 * bend, footprint), p.rows
    wander += 0.45 * uneven * spacing * flat_noise(field.bytes, u, v, 13.0 * spacing, 0.71,
                                                   footprint)
    one = waves(field, p, x, y, wander + 0.06 * bend, footprint)
    aside = SECOND_TURN * (y * p.row_x - x * p.row_y)
    along = SECOND_WIDER * (x * p.row_x + y * p.row_y)
    other = waves(field, p, x, y, aside + along + 1.3 * wander, footprint)
    mix = uneven * smoothstep(-0.16, 0.16, flat_noise(field.bytes, u, v, 17.0 * spacing, 0.87,
                                                      footprint))
    there = smoothstep(-0.42, 0.22, flat_noise(field.bytes, v, u, 24.0 * spacing, 0.53, footprint))
    return one * (1.0 - mix) + other * mix, p.rows * (1.0 - 0.4 * uneven * (1.0 - there))


@inner
def _score(field, p, x, y, u, v, footprint):
    """Score of a sheet of cells, and how swollen it is at a place: 1 in the middle of a cell or on
    the crest of a roll, 0 between them. (u, v): the place along and across the wind."""
    size, rows, slow = p.cell_size, p.rows, p.churn_slow
    warp = 0.9 * size * flat_noise(field.bytes, u, v, 8.0 * size, 0.23 + slow, footprint)
    bend = 0.9 * size * flat_noise(field.bytes, v, u, 9.4 * size, 0.67 + slow, footprint)
    stretch = 1.0 + 1.4 * p.comb
    s = (0.19 + 3.8 * p.huddle) * flat_noise(field.bytes, u, v + warp, 17.0 * size, 0.31 + slow,
                                               footprint)
    s += 0.35 * flat_noise(field.bytes, v, u, 5.3 * size, 0.77 + slow, footprint)
    wave = 0.0
    if rows > 0.0:
        uneven = smoothstep(0.3, 0.7, rows)  # rolls that stand for cells are no ruled lines
        wave, rows = _rolls(field, p, x, y, u, v, bend, uneven, footprint)
        s += ROLL_SCORE * rows * wave
        if uneven > 0.0:  # crests are broken along their length, and wider here than there
            s += ROLL_BREAK * uneven * rows * flat_noise(field.bytes, u, v, 3.1 * p.row_spacing,
                                                         0.15 + slow, footprint)
    swollen = 0.0
    far = footprint / size
    if far < 1.0:  # cells thinner than what is averaged over are their mean
        cell = cell_at((u + warp) / size, (v + bend) / (stretch * size), p.cell_seed,
                        0.68 * p.spread + p.stages_apart)
        # Where there are rolls they take the place of cells.
        swollen = (1.0 - 0.65 * rows) * (cell - 0.5) * (1.0 - far)
        s += CELL_GAP * swollen
    return s, clamp(0.5 + swollen + 0.5 * rows * wave, 0.0, 1.0)


@inner
def score(field, p, x, y, footprint):
    """Where the sheet has cloud: its cover takes the highest scores first."""
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    s, _ = _score(field, p, x, y, u, v, footprint)
    return s


@inner
def plan(field, p, x, y, footprint):
    """Of a column: its score over the level, and how swollen the sheet is there."""
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    score, swollen = _score(field, p, x, y, u, v, footprint)
    return within(field, p, x, y, score, footprint) - p.level, swollen, 0.0, 0.0


@part
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in a sheet of rounded cells."""
    out = beyond(p, z)
    if out > 0.0:
        return -out - 1.0, 0.0
    return on_plan(field, p, x, y, z, plan(field, p, x, y, footprint), footprint, detail)


@inner
def on_plan(field, p, x, y, z, plan, footprint, detail):
    """The same in a column whose plan is known."""
    thick, size = p.thickness, p.cell_size
    out = beyond(p, z)
    if out > 0.0:
        return -out - 1.0, 0.0
    score, swollen = plan[0], plan[1]
    if score < -0.5:
        return -min((-score - 0.3) * 0.35 * size, 400.0), 0.0
    # A lens on each cell: high where the score is, closing toward its outline. Where cells have
    # merged they still swell above and hang below.
    q = clamp(score / 1.1, 0.0, 1.0)
    lens = math.sqrt(q * (2.0 - q)) * (CELL_NECK + (1.0 - CELL_NECK) * swollen)
    hang = p.round_base  # 1: about as round below as above
    sag = 0.12 * max(hang - 1.0, 0.0)
    middle = (0.40 + sag) * thick
    f = min((0.56 - sag) * thick * lens - (z - middle),
            (0.38 * min(hang, 1.0) + sag) * thick * lens + (z - middle))
    if score < 0.0:
        f = min(f, 0.55 * score * size)
    lump = (0.07 + 0.22 * p.lobes) * thick
    tile = 1.25 * size
    if f < -1.4 * lump:
        return max(0.6 * (f + 1.2 * lump), -0.3 * thick) - 1.0, 0.0
    if p.curl > 0.0:
        level = noise_level(footprint, 2.4 * tile)
        x += 0.45 * p.curl * tile * turned_noise(field.bytes, WISP, y, z, x, 2.4 * tile, level, 0.0)
        y += 0.45 * p.curl * tile * turned_noise(field.bytes, WISP, z, x, y, 2.4 * tile, level, 0.0)
    n = turned_noise(field.bytes, BILLOW, x + p.shift_x, y, 1.3 * z, tile,
                     noise_level(footprint, tile), p.churn)
    g = turned_noise(field.bytes, WISP, y, x + p.shift_y, 1.3 * z, 0.6 * tile,
                     noise_level(footprint, 0.6 * tile), p.churn)
    f += lump * (n * (1.0 - p.fray) + 1.3 * g * p.fray)
    if detail > 0:
        tile2 = 0.27 * tile
        level = noise_level(footprint, tile2)
        n = turned_noise(field.bytes, BILLOW, y, z, x, tile2, level, p.churn_fine)
        g = turned_noise(field.bytes, WISP, z, x, y, tile2, level, p.churn_fine)
        f += 0.45 * lump * (n * (1.0 - p.fray) + 1.3 * g * p.fray)
    soft = 0.5 * min(footprint, 0.5 * thick)
    f += 0.25 * soft
    if f <= 0.0:
        return max(0.5 * f, -0.2 * thick) - 1.0, 0.0
    edge = min(p.edge, 0.7 * thick) + soft
    # Rims are thin in substance as well as in height.
    rim = CELL_RIM + (1.0 - CELL_RIM) * smoothstep(-0.1, 0.7, score)
    return f, p.extinction * rim * min(f / edge, 1.0)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres."""
    return min(max(layer.thickness_m / 11.5, 4.0), 40.0)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid."""
    return LightCells(min(max(size_m / 9.0, 30.0), 250.0),
                      int(min(max(0.9 * sigma_per_m * thick_m, 12), 24)))


BUILD = Build("cells", SHEET, sample, score, step_m, cells_of, coarsest=0.35,
              plan=plan, on_plan=on_plan)
