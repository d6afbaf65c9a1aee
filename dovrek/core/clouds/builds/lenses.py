"""Smooth lenses, stacked in plates."""

from __future__ import annotations

import math

from dovrek.core.clouds.builds.build import Build, LightCells
from dovrek.core.clouds.masks import within
from dovrek.core.clouds.record import SHEET
from dovrek.core.clouds.texture import flat_noise, lens_at
from dovrek.core.compile.kernels import inner
from dovrek.core.compile.noise import WISP, noise_level, turned_noise
from dovrek.sky.layer import Layer

PLATES = 3  # of a lens, one above the other
LAMINA, TERRACED = 0.1, 0.045  # of the height: from one lamina to the next, how far they stand out
WHOLE_FRAY = 0.45  # of the height: where a lens is thinner it is smoother


@inner
def score(field, p, x, y, footprint):
    """Where lenses are: 1 in the middle of one, 0 at its rim."""
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    size = p.cell_size
    warp = 0.08 * size * flat_noise(field.bytes, u, v, 7.0 * size, 0.23 + p.churn_slow, footprint)
    s = lens_at((u + warp) / size, (v - warp) / size, p.cell_seed, p.spread + p.stages_apart)
    return s + 0.06 * flat_noise(field.bytes, v, u, 2.2 * size, 0.77 + p.churn_slow, footprint)


@inner
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in smooth lenses, stacked in plates toward their rims."""
    thick, size = p.thickness, p.cell_size
    out = max(z - 1.02 * thick, -z - 0.02 * thick)
    if out > 0.0:
        return -out - 1.0, 0.0
    found = within(field, p, x, y, score(field, p, x, y, footprint), footprint) - p.level
    if found < -0.5:
        return -min((-found - 0.35) * 0.05 * size, 500.0), 0.0
    # Plates, each thin at its rim, that overlap in the core: the widest in the middle, those above
    # and below narrower by more the more lobes there are.
    hang = min(p.round_base, 1.6)
    bend = 0.08 * thick * flat_noise(field.bytes, x, y, 2.6 * size, 0.37 + p.churn, footprint)
    step = 0.9 * p.lobes * thick / PLATES
    whole = max(1.0 - p.level, 0.3)  # score in the middle of most lenses
    f, stout = -1e9, 0.0
    for k in range(PLATES):
        aside = k - 1.0
        q = found - p.lobes * (0.30 if k == 0 else (0.42 if k == 2 else 0.0))
        rim = 1.0 - math.exp(-1.6 * max(q, 0.0) / whole)  # no flat top, however wide
        lens = math.sqrt(rim) * (0.3 + 0.7 * rim)  # the two arcs meet at an angle
        high = (1.0 - 0.62 * p.lobes) * thick * lens
        stout = max(stout, lens)
        middle = 0.40 * thick + aside * step + bend
        one = min(0.60 * high - (z - middle), 0.40 * high * hang + (z - middle))
        if q < 0.0:
            one = min(one, 0.10 * q * size)
        f = max(f, one)
    lamina = LAMINA * thick
    if p.lobes > 0.0 and footprint < lamina and f > -2.0 * lamina:
        # Moist air was laid on in laminae: they end one after another, as terraces seen from below.
        wave = math.sin(2.0 * math.pi * (z + 1.7 * bend) / lamina)
        f += TERRACED * thick * p.lobes * stout * (1.0 - footprint / lamina) * wave
    if p.fray > 0.0:
        tile = 0.16 * size
        # A thin rim is smooth: there the same noise would move it far.
        rough = p.fray * min(stout / WHOLE_FRAY, 1.0) ** 2
        f += 0.16 * thick * rough * turned_noise(
            field.bytes, WISP, x + p.shift_x, y, 3.0 * z, tile, noise_level(footprint, tile),
            p.churn)
        if detail > 0:
            tile *= 0.3
            f += 0.07 * thick * rough * turned_noise(
                field.bytes, WISP, y, x + p.shift_y, 2.0 * z, tile, noise_level(footprint, tile),
                p.churn_fine)
    soft = 0.5 * min(footprint, 0.5 * thick)
    f += 0.25 * soft
    if f <= 0.0:
        return max(0.4 * f, -0.15 * thick) - 1.0, 0.0
    edge = min(p.edge, 0.5 * thick) + soft
    return f, p.extinction * min(f / edge, 1.0)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres: the rims of plates are thin."""
    return min(max(layer.thickness_m / 20.0, 4.0), 14.0)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid."""
    return LightCells(min(max(size_m / 34.0, 40.0), 300.0), 20)


BUILD = Build("lenses", SHEET, sample, score, step_m, cells_of)
