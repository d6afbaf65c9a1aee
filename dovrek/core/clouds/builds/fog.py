"""Fog: even near the ground, thinning toward an uneven top, in patches."""

from __future__ import annotations

from dovrek.core.clouds.builds.build import Build, LightCells, no_score
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import flat_noise
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner
from dovrek.core.compile.noise import WISP, noise_level, turned_noise
from dovrek.sky.layer import Layer

ROUGH, ROUGHER = 0.06, 0.5  # of its depth that the top is uneven by: even fog, patchy fog
CLEAR = (-0.30, 0.35)  # values of the noise between which a patch thins out


@inner
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction; nothing above the layer's top."""
    thick = p.thickness
    if z < 0.0 or z > thick:
        return -(z - thick if z > thick else -z) - 0.5, 0.0
    size = p.cell_size
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    n = flat_noise(field.bytes, 0.7 * u, v, 3.6 * size, 0.29 + p.churn_slow, footprint)
    m = flat_noise(field.bytes, v, 0.7 * u, 1.3 * size, 0.61 + p.churn, footprint)
    here = 1.0 - p.patchiness * smoothstep(CLEAR[0], CLEAR[1], n + 0.35 * m)
    rough = ROUGH + (ROUGHER - ROUGH) * p.patchiness
    top = thick * (1.0 - rough * (0.5 + clamp(0.8 * m + 0.4 * n, -0.5, 0.5)))
    tile = min(1.5 * thick, 0.5 * size)
    lump = turned_noise(field.bytes, WISP, x + p.shift_x, y, 1.5 * z, tile,
                        noise_level(footprint, tile), p.churn_fine)
    f = top - z + 0.35 * rough * thick * (lump - 1.0) * z / thick
    if f <= 0.0:
        return f - 0.5, 0.0
    s = min(f / p.edge, 1.0)
    return f, p.extinction * here * s * s * (3.0 - 2.0 * s)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres."""
    return min(max(layer.thickness_m / 16.0, 1.0), 30.0)


def level_step_m(layer: Layer) -> float:
    """Longest step of a level ray, metres: fog is even along it, as far as one sees and as its
    patches go."""
    return min(0.15 / (layer.body.density_per_km * 1e-3), 0.15 * layer.cells.size_m)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: the lowest face on the ground."""
    return LightCells(min(max(size_m / 10.0, 40.0), 400.0),
                      int(min(max(0.9 * sigma_per_m * thick_m, 14), 34)), flush=True)


BUILD = Build("fog", SHEET, sample, no_score, step_m, cells_of, level_step_m=level_step_m,
              lowest=0.0, highest=1.0, grounded=True)
