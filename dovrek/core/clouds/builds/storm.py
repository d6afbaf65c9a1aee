"""A turning storm: arms about an eyewall, a shield of ice, a sea of low cells around.

Arms are logarithmic spirals (rainbands cross circles at 10 to 25°), textures are looked up at
places turned with the flow, whose shear draws them out into streaks.
"""

from __future__ import annotations

import math
from typing import Any

from dovrek.core.clouds.builds.build import Build, LightCells
from dovrek.core.clouds.builds.bulge import bulged, lump_of
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import cell_at, flat_noise
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, part
from dovrek.sky.layer import Layer

USUAL_M = 450_000.0  # radius that the lengths below belong to
TILES = (900_000.0, 330_000.0, 210_000.0, 70_000.0)  # of the textures turned with the flow
STRENGTHS = (0.45, 0.40, 0.26, 0.10)  # of them in the score, and of the wide one more within
SHIFT_M, SHIFT_TILE = 20_000.0, 800_000.0  # how far places are shifted, and over what
WOUND = 2.6  # radians by which the flow has turned the middle's textures
SEA_CELL_M, SEA_HIGH = 11_000.0, 0.17  # low cells: size, and height of the thickness
RELIEF = 0.22  # of a top's height, by which the finer textures raise and lower it
SHIELD_LOW, SHIELD_DEPTH = 0.86, 1.6  # where the ice begins; its optical depth in the middle
FLAT = 9000.0  # metres on the level that a unit of score stands for, at least


@inner
def _texture(field, p, x, y, r, phase, footprint):
    """Four scales of noise, looked up where the flow has brought it from."""
    turn = p.storm_sign * (WOUND + phase) * (2.0 * r / p.storm_radius + 0.25) ** -0.8
    c, s = math.cos(turn), math.sin(turn)
    u, v = c * x + s * y + p.shift_x, c * y - s * x + p.shift_y
    grown = p.storm_radius / USUAL_M
    wide = flat_noise(field.bytes, u, v, TILES[0] * grown, 0.13, footprint)
    middle = flat_noise(field.bytes, v, u, TILES[1] * grown, 0.37, footprint)
    fine = flat_noise(field.bytes, u, v, TILES[2] * grown, 0.71, footprint)
    finest = flat_noise(field.bytes, v, u, TILES[3] * grown, 0.19, footprint)
    return wide, middle, fine, finest


@inner
def _about(field, p, x, y, footprint):
    """East, north and distance from the storm's middle, shifted a little by noise."""
    grown = p.storm_radius / USUAL_M
    x, y = x - p.storm_x, y - p.storm_y
    away = math.sqrt(x * x + y * y) / p.storm_wall  # the eyewall itself stays round
    shift = 2.5 * p.storm_ragged * SHIFT_M * grown * smoothstep(0.3, 3.0, away)
    a = flat_noise(field.bytes, x + p.shift_x, y, SHIFT_TILE * grown, 0.53, footprint)
    b = flat_noise(field.bytes, y, x + p.shift_y, SHIFT_TILE * grown, 0.91, footprint)
    x, y = x + shift * a, y + shift * b
    return x, y, math.sqrt(x * x + y * y)


@inner
def _score(field, p, x, y, r, footprint):
    """Score of the storm at a place about its middle: above the level it has cloud."""
    wall, radius = p.storm_wall, p.storm_radius
    wide, middle, fine, finest = _texture(field, p, x, y, r, p.storm_phase, footprint)
    if p.storm_share > 0.0:  # a loop: two windings that pass over into each other
        one, two = math.sqrt(1.0 - p.storm_share), math.sqrt(p.storm_share)
        a, b, c, d = _texture(field, p, x, y, r, p.storm_other, footprint)
        wide, middle = one * wide + two * a, one * middle + two * b
        fine, finest = one * fine + two * c, one * finest + two * d
    angle = p.storm_sign * math.atan2(y, x) - p.storm_angle
    way = math.log(max(r, 0.1 * wall) / wall)
    arms = math.cos(p.storm_arms * (angle + way / p.storm_pitch) + 0.9 * middle)
    feeders = math.cos((2.0 * p.storm_arms + 1.0) * (angle + way / (1.42 * p.storm_pitch))
                       + 1.6 * middle)
    bands = 0.62 * arms + 0.38 * feeders + 1.1 * (p.storm_width - 0.5)
    core = 1.0 - smoothstep(1.2 * wall, 3.4 * wall, r)
    reach = r / (0.8 * radius)
    within = math.exp(-reach * reach * reach)
    torn = 0.3 + 1.9 * p.storm_ragged
    relief = STRENGTHS[1] * middle + STRENGTHS[2] * fine + STRENGTHS[3] * finest
    s = (1.5 * core + 0.9 * within * (0.1 + bands)
         + torn * (STRENGTHS[0] * (1.0 + 0.5 * within) * wide + relief)
         - 0.30 - 0.35 * (1.0 - within))
    off = (r - 4.2 * wall) / (1.3 * wall)
    s -= 0.55 * math.exp(-off * off) * max(-arms, 0.0)  # a dry slot between the arms
    eye = p.storm_eye
    if eye > 0.0:
        rim = r * (1.0 + 0.06 * math.cos(3.0 * angle + 2.0 * wide))
        s -= 4.0 * (1.0 - smoothstep(0.8 * eye, 1.25 * eye, rim))
    return s, 1.6 * fine + 1.2 * finest + 0.6 * middle


@inner
def score(field, p, x, y, footprint):
    """Where it has cloud."""
    x, y, r = _about(field, p, x, y, footprint)
    s, _ = _score(field, p, x, y, r, footprint)
    return s


@inner
def _low_cells(field, p, x, y, r, footprint):
    """Height of the low cells about the storm, metres; below nought there are none."""
    size = SEA_CELL_M * p.storm_radius / USUAL_M
    bend = flat_noise(field.bytes, x, y, 7.0 * size, 0.27, footprint)
    cell = cell_at(x / size + 0.5 * bend, y / size - 0.4 * bend, p.cell_seed, 0.4)
    if footprint > size:
        cell = 0.5
    n = flat_noise(field.bytes, y, x, 23.0 * size, 0.61, footprint)
    m = flat_noise(field.bytes, x, y, 2.1 * size, 0.43, footprint)
    spread = 0.8 * cell - 1.3 + 1.2 * p.storm_sea + 1.5 * n + 0.7 * m
    spread -= 4.0 * (1.0 - smoothstep(p.storm_eye, 2.0 * p.storm_wall, r))
    return SEA_HIGH * p.thickness * clamp(1.3 * spread, -1.0, 1.0)


@inner
def _shield(field, p, x, y, r, grown, footprint):
    """Extinction of the ice that flows out over all: fibres that bend and fan outward, thinner
    between them, fraying at its rim."""
    angle = p.storm_sign * math.atan2(y, x) - p.storm_angle
    u = angle - 0.45 * math.log(max(r, 0.1 * p.storm_wall) / p.storm_wall)
    circle = 4e5 * grown
    c, s = circle * math.cos(u), circle * math.sin(u)
    wide = flat_noise(field.bytes, c + 0.35 * r, s, 1.3e5 * grown, 0.83, footprint)
    fine = flat_noise(field.bytes, 2.3 * s - 0.8 * r, 2.3 * c, 1.1e5 * grown, 0.31, footprint)
    patch = flat_noise(field.bytes, y, x, 3.1e5 * grown, 0.57, footprint)
    fade = r / (8.0 * p.storm_wall * (1.0 + 0.45 * patch))
    there = smoothstep(-1.1, 0.9, wide + 0.55 * fine + 0.5 * patch)
    there *= p.storm_shield * math.exp(-fade * fade)
    if p.storm_eye > 0.0:
        there *= smoothstep(0.8 * p.storm_eye, 1.6 * p.storm_eye, r)
    return there * SHIELD_DEPTH / ((1.0 - SHIELD_LOW) * p.thickness)


@inner
def _plan(field, p, x, y, low, high, footprint):
    """Of a column: score over the level, height of its top and of the low cells (where `low` asks
    for them), extinction of the ice over it (where `high` does)."""
    thick = p.thickness
    x, y, r = _about(field, p, x, y, footprint)
    s, relief = _score(field, p, x, y, r, footprint)
    s -= p.level
    near = r / (3.0 * p.storm_wall)
    share = p.storm_high + (1.0 - p.storm_high) * math.exp(-near * near)
    top = thick * share * (0.35 + 0.65 * smoothstep(-0.1, 1.1, s)) * (1.0 + RELIEF * relief)
    cells, ice = 0.0, 0.0
    if low and p.storm_sea > 0.0:
        cells = _low_cells(field, p, x, y, r, footprint)
    if high and p.storm_shield > 0.0:
        ice = _shield(field, p, x, y, r, p.storm_radius / USUAL_M, footprint)
    return s, min(top, 0.98 * thick), cells, ice


@inner
def plan(field, p, x, y, footprint):
    """All of a column."""
    return _plan(field, p, x, y, True, True, footprint)


@part
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction; between the base and the eyewall's top."""
    thick = p.thickness
    if z < -0.02 * thick or z > 1.02 * thick:
        return -max(z - 1.02 * thick, -0.02 * thick - z) - 1.0, 0.0
    known = _plan(field, p, x, y, z < SEA_HIGH * thick, z > SHIELD_LOW * thick, footprint)
    return on_plan(field, p, x, y, z, known, footprint, detail)


@inner
def on_plan(field, p, x, y, z, plan, footprint, detail):
    """The same in a column whose plan is known."""
    thick = p.thickness
    if z < -0.02 * thick or z > 1.02 * thick:
        return -max(z - 1.02 * thick, -0.02 * thick - z) - 1.0, 0.0
    s, top, low, ice = plan
    f = min(top - z, z + 0.01 * thick)
    if s < 0.0:
        f = min(f, FLAT * p.storm_radius / USUAL_M * s)
    if p.storm_sea > 0.0 and z < SEA_HIGH * thick:
        f = max(f, min(low - z, z + 0.01 * thick))
    if z <= SHIELD_LOW * thick:
        ice = 0.0
    lump = lump_of(p)
    if f < -lump:
        if ice > 0.0:
            return 0.05 * thick, ice
        if z > SHIELD_LOW * thick or p.storm_shield <= 0.0:
            return 0.7 * (f + lump) - 1.0, 0.0
        return max(0.7 * (f + lump), z - SHIELD_LOW * thick) - 1.0, 0.0
    x, y, _ = _about(field, p, x, y, footprint)
    f, edge = bulged(field, p, x, y, z, f, footprint, detail)
    if f <= 0.0:
        return (0.05 * thick, ice) if ice > 0.0 else (max(0.7 * f, -0.1 * thick) - 1.0, 0.0)
    return f, p.extinction * min(f / edge, 1.0) + ice


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres."""
    return min(max(layer.thickness_m / 30.0, 20.0), 400.0)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: of an arm, not of a cell of cloud."""
    return LightCells(1200.0, int(min(max(0.3 * sigma_per_m * thick_m, 20), 30)))


def _most(p: Any) -> float:
    """Extinction that is nowhere exceeded: of cloud and the ice in it."""
    ice = SHIELD_DEPTH / ((1.0 - SHIELD_LOW) * float(p["thickness"]))
    return max(float(p["extinction"]) + ice, float(p["fall"]))


BUILD = Build("storm", SHEET, sample, score, step_m, cells_of, most=_most, lowest=-0.02,
              highest=1.02, plan=plan, on_plan=on_plan)
