"""Weather over a whole face of the planet: bands by latitude, fronts wound up about lows, open
cells behind them, clear highs between."""

from __future__ import annotations

import math

from dovrek.core.clouds.builds.build import Build, LightCells
from dovrek.core.clouds.builds.bulge import bulged, lump_of
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import cell_at, flat_noise
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, part
from dovrek.core.compile.noise import hash_unit
from dovrek.sky.layer import Layer

# Of the distance between systems: reach of one, width of its front, its head, open cells.
REACH, FRONT, HEAD, OPEN_CELL = 0.5, 0.045, 0.09, 0.018
PITCH = math.tan(math.radians(32.0))  # of a front to circles about its low
WOUND = 1.5  # radians by which a low's middle has turned what is about it
LOWS = 0.75  # share of places where a low may be that have one
CALM_RAD = 0.14  # latitude within which nothing turns
# Textures: tiles of the noise over the distance between systems, and strengths in the score.
TILES, STRENGTHS = (3.6, 1.12, 0.34, 0.075, 0.02), (0.75, 0.42, 0.26, 0.24, 0.18)
LOW_TOP = 0.22  # height of cells and fringes over that of fronts
FLAT = 0.004  # of the distance between systems that a unit of score stands for, at least


@inner
def _low(p, i, j, x, y):
    """Of the place (i, j): where its low lies (east and north of (x, y)), which way it turns, its
    strength 0 … 1 and the bearing of its front."""
    size = p.face_size
    lx = (i + 0.5 + 0.7 * (hash_unit(i, j, p.cell_seed) - 0.5)) * size
    ly = (j + 0.5 + 0.7 * (hash_unit(i, j, p.cell_seed + 1) - 0.5)) * size
    there = hash_unit(i, j, p.cell_seed + 2)
    latitude = p.face_latitude + ly * p.face_per_m
    strength = 0.0 if there > LOWS else 0.55 + 0.45 * there / LOWS
    strength *= smoothstep(0.5 * CALM_RAD, 1.5 * CALM_RAD, abs(latitude))
    sign = 1.0 if latitude >= 0.0 else -1.0
    return x - lx, y - ly, sign, strength, 6.283185307 * hash_unit(i, j, p.cell_seed + 3)


@inner
def _systems(p, x, y):
    """At a place: the strength of a front, how much of the cold air behind one, and the place's own
    noise coordinates, turned with the lows about it."""
    size = p.face_size
    i0, j0 = math.floor(x / size), math.floor(y / size)
    front, cold, u, v = 0.0, 0.0, x, y
    for a in range(-1, 2):
        for b in range(-1, 2):
            dx, dy, sign, strength, bearing = _low(p, i0 + a, j0 + b, x, y)
            if strength <= 0.0:
                continue
            r = math.sqrt(dx * dx + dy * dy) / size
            if r > 1.2 * REACH:
                continue
            fade = 1.0 - smoothstep(0.55 * REACH, 1.2 * REACH, r)
            turn = sign * strength * fade * WOUND * (r / 0.12 + 0.5) ** -0.9
            c, s = math.cos(turn), math.sin(turn)
            u += c * dx + s * dy - dx
            v += c * dy - s * dx - dy
            off = sign * math.atan2(dy, dx) - bearing + math.log(max(r, 0.02) / HEAD) / PITCH
            off -= 2.0 * math.pi * math.floor(off / (2.0 * math.pi) + 0.5)  # −π … π
            way = off * r / (FRONT * (0.7 + 1.2 * r / REACH))
            near = math.exp(-way * way) * smoothstep(0.3 * HEAD, HEAD, r)
            head = r / HEAD
            front = max(front, strength * fade * max(near, math.exp(-head * head)))
            if off < 0.0:
                behind = smoothstep(0.0, 0.5, -off) * (1.0 - smoothstep(1.6, 2.6, -off))
                cold = max(cold, strength * fade * behind * smoothstep(HEAD, 2.5 * HEAD, r))
    return front, cold, u, v


@inner
def _score(field, p, x, y, footprint):
    """Score and how high its clouds are, 0 … 1."""
    size = p.face_size
    front, cold, u, v = _systems(p, x, y)
    wide = flat_noise(field.bytes, u, v, TILES[0] * size, 0.13, footprint)
    middle = flat_noise(field.bytes, v, u, TILES[1] * size, 0.41, footprint)
    fine = flat_noise(field.bytes, u, v, TILES[2] * size, 0.77, footprint)
    clumps = flat_noise(field.bytes, v, u, TILES[3] * size, 0.29, footprint)
    lumps = flat_noise(field.bytes, u, v, TILES[4] * size, 0.59, footprint)
    latitude = p.face_latitude + y * p.face_per_m
    band = math.cos(6.0 * clamp(latitude, -1.4, 1.4))
    s = (STRENGTHS[0] * wide + STRENGTHS[1] * middle + STRENGTHS[2] * fine
         + STRENGTHS[3] * clumps + STRENGTHS[4] * lumps)
    s += 0.4 * p.face_bands * band
    s += 1.35 * p.face_fronts * front * (1.0 + 0.7 * middle + 0.5 * fine)
    open_size = OPEN_CELL * size
    if p.face_cells > 0.0 and cold > 0.0:
        cell = 0.4
        if footprint < open_size:
            cell = cell_at(u / open_size, v / open_size, p.cell_seed + 7, 0.5)
        # Open cells: cloud along their rims.
        s += p.face_cells * cold * (0.95 - 1.5 * cell + 0.6 * fine)
    s -= 0.55 * p.face_fronts * cold * (1.0 - p.face_cells)
    high = clamp(1.2 * front * p.face_fronts + 0.35 * (middle + wide) + 0.3 * (fine + clumps)
                 - 0.5 * cold, 0.0, 1.0)
    return s, high


@inner
def score(field, p, x, y, footprint):
    """Where it has cloud."""
    s, _ = _score(field, p, x, y, footprint)
    return s


@inner
def plan(field, p, x, y, footprint):
    """Of a column: its score over the level, and how high its clouds are, 0 … 1."""
    s, high = _score(field, p, x, y, footprint)
    return s - p.level, high, 0.0, 0.0


@part
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction; between the base and the highest fronts' tops."""
    thick = p.thickness
    if z < -0.02 * thick or z > 1.02 * thick:
        return -max(z - 1.02 * thick, -0.02 * thick - z) - 1.0, 0.0
    return on_plan(field, p, x, y, z, plan(field, p, x, y, footprint), footprint, detail)


@inner
def on_plan(field, p, x, y, z, plan, footprint, detail):
    """The same in a column whose plan is known."""
    thick = p.thickness
    if z < -0.02 * thick or z > 1.02 * thick:
        return -max(z - 1.02 * thick, -0.02 * thick - z) - 1.0, 0.0
    s, high = plan[0], plan[1]
    top = thick * (LOW_TOP + (0.98 - LOW_TOP) * high) * (0.3 + 0.7 * smoothstep(-0.05, 0.7, s))
    f = min(top - z, z + 0.01 * thick)
    if s < 0.0:
        f = min(f, FLAT * p.face_size * s)
    lump = lump_of(p)
    if f < -lump:
        return 0.7 * (f + lump) - 1.0, 0.0
    f, edge = bulged(field, p, x, y, z, f, footprint, detail)
    if f <= 0.0:
        return max(0.7 * f, -0.1 * thick) - 1.0, 0.0
    return f, p.extinction * min(f / edge, 1.0)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres."""
    return min(max(layer.thickness_m / 24.0, 15.0), 400.0)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: of a front, not of a cell of cloud."""
    return LightCells(1200.0, int(min(max(0.3 * sigma_per_m * thick_m, 16), 24)))


BUILD = Build("face", SHEET, sample, score, step_m, cells_of, lowest=-0.02, highest=1.02,
              plan=plan, on_plan=on_plan)
