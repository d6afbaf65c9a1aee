"""A level sheet with soft waves, and without cells."""

from __future__ import annotations

from dovrek.core.clouds.builds.build import Build, LightCells, beyond
from dovrek.core.clouds.masks import within
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import apart, flat_noise, waves
from dovrek.core.compile.arithmetic import smoothstep
from dovrek.core.compile.kernels import inner, part
from dovrek.core.compile.noise import WISP, noise_level, turned_noise
from dovrek.sky.layer import Layer

OUTSIDE = -0.35  # of the cells' size, where no lump reaches
UNBROKEN = -8.0  # level of score of a sheet without a gap


@inner
def score(field, p, x, y, footprint):
    """Where the sheet has cloud: its cover takes the highest scores first."""
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    size = p.cell_size
    stretch = 1.0 + 2.5 * p.comb
    u += 5.0 * size * flat_noise(field.bytes, v, u, 41.0 * size, 0.47 + p.churn_slow, footprint)
    s = flat_noise(field.bytes, u / stretch, v, 7.3 * size, 0.37 + p.churn_slow, footprint)
    s += 0.45 * flat_noise(field.bytes, v, u / stretch, 2.3 * size, 0.71 + p.churn_slow, footprint)
    s += 0.30 * p.fray * flat_noise(field.bytes, u, v, 0.55 * size, 0.19 + p.churn, footprint)
    s += 0.5 * p.rows * waves(field, p, x, y, 0.0, footprint)
    return s + apart(field, p, u, v, footprint)


@inner
def plan(field, p, x, y, footprint):
    """Of a column: how far it lies within the sheet's outline on the map, metres; how its top and
    its base wave; how far the base does in all."""
    size = p.cell_size
    d = 6.0 * size  # an unbroken sheet has no edge near
    if p.level > UNBROKEN or p.masked > 0.0:
        found = within(field, p, x, y, score(field, p, x, y, footprint), footprint)
        d = (found - p.level) * 0.9 * size
    if d < OUTSIDE * size:
        return d, 0.0, 0.0, 0.0
    n = flat_noise(field.bytes, x + p.shift_x, y + p.shift_y, 4.1 * size, 0.29 + p.churn, footprint)
    m = flat_noise(field.bytes, y - p.shift_x, x + p.shift_y, 2.7 * size, 0.61 + p.churn, footprint)
    relief = 0.22 * p.lobes * m
    if p.rows > 0.0:
        relief += 0.24 * p.rows * waves(field, p, x, y, 0.35 * p.row_spacing * m, footprint)
    return d, n, m, relief


@part
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in a sheet with soft waves."""
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
    d, n, m, relief = plan
    if d < OUTSIDE * size:
        return -min(-d * 0.25, 600.0), 0.0
    thin = smoothstep(-0.1 * size, 0.5 * size, d)
    top = thick * (0.80 + 0.20 * n) * (0.35 + 0.65 * thin)
    bottom = thick * max(0.10 + p.round_base * relief, 0.0) * (2.0 - thin)
    f = min(top - z, z - bottom)
    f = min(f, d + 0.25 * thick)
    lump = (0.10 + 0.22 * p.lobes) * thick
    tile = 0.62 * size
    if p.curl > 0.0:
        x += 0.5 * p.curl * size * m
        y += 0.5 * p.curl * size * n
    f += lump * turned_noise(field.bytes, WISP, x + p.shift_x, y, 1.6 * z, tile,
                             noise_level(footprint, tile), p.churn)
    if detail > 0 and p.fray > 0.0:
        tile2 = 0.16 * size
        f += 0.55 * lump * p.fray * turned_noise(field.bytes, WISP, y, x, z, tile2,
                                                 noise_level(footprint, tile2), p.churn_fine)
    if f <= 0.0:
        return max(0.5 * f, -0.2 * thick) - 1.0, 0.0
    edge = min(p.edge, 0.8 * thick)
    return f, p.extinction * min(f / edge, 1.0)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres."""
    return min(max(layer.thickness_m / 14.0, 4.0), max(60.0, 0.25 * layer.body.edge_m))


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: about half a scaled optical depth high, so that light falls off
    toward the sheet's faces as it should."""
    return LightCells(min(max(size_m / 12.0, 60.0), 500.0),
                      int(min(max(0.9 * sigma_per_m * thick_m, 14), 34)))


BUILD = Build("sheet", SHEET, sample, score, step_m, cells_of, coarsest=0.5,
              plan=plan, on_plan=on_plan)
