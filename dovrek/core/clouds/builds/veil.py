"""Veils of ice: falling, combed streaks."""

from __future__ import annotations

from typing import Any

from dovrek.core.clouds.builds.build import Build, LightCells
from dovrek.core.clouds.masks import within
from dovrek.core.clouds.record import VEIL
from dovrek.core.clouds.texture import TILT_U, TILT_V, apart, cell_at, flat_noise, waves
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner
from dovrek.core.compile.noise import WISP, noise_at, noise_level, wisp_lost
from dovrek.sky.layer import Layer

# Shares of a veil's strands in its texture, from wide to thin.
FIBRE, FINE_FIBRE, THREAD = 1.7, 1.1, 0.6
LARGE_TUFT, TAIL_THINS = 0.74, 0.3
TUFTED = 0.3  # lobes of a veil above which it gathers into tufts


@inner
def score(field, p, x, y, footprint):
    """Where the veil has cloud: its cover takes the highest scores first."""
    u = x * p.wind_x + y * p.wind_y + p.shift_x
    v = -x * p.wind_y + y * p.wind_x + p.shift_y
    size, slow = p.cell_size, p.churn_slow
    stretch = 1.0 + 3.2 * p.comb
    warp = 0.34 * size * flat_noise(field.bytes, u, v, 13.0 * size, 0.53 + slow, footprint)
    s = flat_noise(field.bytes, u / stretch, v + warp, 6.1 * size, 0.11 + slow, footprint)
    s += 0.55 * flat_noise(field.bytes, v + warp, u / stretch, 17.0 * size, 0.83 + slow, footprint)
    s += 0.35 * flat_noise(field.bytes, u / (1.0 + 11.0 * p.comb), v + warp, 2.1 * size,
                           0.43 + p.churn, footprint)
    s += 0.6 * p.rows * waves(field, p, x, y, 3.0 * warp, footprint)
    s += apart(field, p, u, v, footprint)
    if p.lobes > TUFTED:  # gathered into tufts
        share = (p.lobes - TUFTED) / (1.0 - TUFTED)
        tuft = cell_at((u + warp) / (size * (0.4 + 0.3 * p.comb)), (v - warp) / (0.42 * size),
                       p.cell_seed, 0.9)
        # Here and there a large one among many small.
        large = cell_at((u - warp) / (size * (1.0 + 0.7 * p.comb)), (v + warp) / (0.9 * size),
                        p.cell_seed + 5, 0.9)
        s += share * (2.4 * max(tuft - 0.66, 1.2 * (large - LARGE_TUFT)) - 0.45 * s)
    return s


@inner
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction in falling, combed streaks of ice."""
    thick = p.thickness
    r = z / thick
    if r < 0.0 or r > 1.0:
        return -max(-z, z - thick) - 5.0, 0.0
    # Ice falls through slower wind: lower parts lag upwind and hook sideways.
    lag = (1.0 - r) * (1.0 - r)
    fall = 3.4 * thick * lag * (0.3 + p.comb)
    hook = 0.35 * p.cell_size * lag * (1.0 - r) * p.comb
    tufted = 0.0
    if p.lobes > TUFTED:  # tufts trail longer tails
        fall *= 1.0 + 1.2 * (p.lobes - TUFTED)
        hook *= 1.0 + 1.6 * (p.lobes - TUFTED)
        # Some fall far, others hardly: by the patch.
        fall *= 1.0 + 0.6 * flat_noise(field.bytes, y, x, 7.0 * p.cell_size, 0.67, footprint)
        tufted = (p.lobes - TUFTED) / (1.0 - TUFTED)
    xs = x + fall * p.wind_x - hook * p.wind_y
    ys = y + fall * p.wind_y + hook * p.wind_x
    found = within(field, p, xs, ys, score(field, p, xs, ys, footprint), footprint) - p.level
    found -= TAIL_THINS * tufted * (1.0 - r)  # tails are thinner than their heads
    shred = 0.34 * p.fray
    if found < -0.45 - shred:
        slope = 0.45 - 0.36 * tufted  # tufts are steeper
        return -clamp((-found - 0.4 - shred) * slope * p.cell_size, 40.0, 1500.0), 0.0
    u = xs * p.wind_x + ys * p.wind_y + p.shift_x
    v = -xs * p.wind_y + ys * p.wind_x + p.shift_y
    size, slow = p.cell_size, p.churn_slow
    bend = (0.10 + 0.25 * p.curl) * size * flat_noise(field.bytes, u, v, 5.2 * size, 0.91 + slow,
                                                       footprint)
    if p.curl > 0.0:
        v += 0.16 * p.curl * size * flat_noise(field.bytes, v, u, 0.9 * size, 0.27 + p.churn,
                                               footprint)
    run = 1.0 + 14.0 * p.comb
    if tufted > 0.0:  # a step down a slanting trail crosses strands: finer ones are averaged too
        footprint += (0.7 * p.step / thick) * (2.0 * fall / run + 3.0 * hook) / max(1.0 - r, 0.05)
    tile = 0.62 * size
    a, b = u / (run * tile), (v + bend) / tile
    level = noise_level(footprint, tile)
    fibre = noise_at(field.bytes, WISP, a, b, 0.5 * r + p.churn + TILT_U * b + TILT_V * a,
                     level)
    lost = FIBRE * FIBRE * wisp_lost(level)
    # Strands shred the edge of the patch as well as its inside, so no patch has an outline.
    found += shred * fibre * 1.6
    if found <= -0.45:
        return 30.0, 0.0
    tile = 0.19 * size
    a, b = u / (run * 1.1 * tile) + 0.3, (v + 1.6 * bend) / tile
    level = noise_level(footprint, tile)
    fine = noise_at(field.bytes, WISP, a, b, 1.1 * r + p.churn_fine + TILT_U * b + TILT_V * a,
                    level)
    lost += FINE_FIBRE * FINE_FIBRE * wisp_lost(level)
    body = smoothstep(-0.45, 0.30 + 0.5 * p.edge / 500.0, found)
    texture = max(1.0 + p.fray * (FIBRE * fibre + FINE_FIBRE * fine), 0.0)
    if detail > 0:
        tile = 0.061 * size
        level = noise_level(footprint, tile)
        thread = noise_at(field.bytes, WISP, u / (run * 1.2 * tile), (v + 2.0 * bend) / tile,
                          1.7 * r + p.churn_fine, level)
        texture = max(texture + p.fray * THREAD * thread, 0.0)
        lost += THREAD * THREAD * wisp_lost(level)
    else:
        lost += THREAD * THREAD * wisp_lost(-1)
    profile = 4.0 * r * (1.0 - r)
    # Strands too fine to be drawn still add what their unevenness adds to the mean.
    strands = texture * (0.4 + 0.6 * texture) + 0.6 * p.fray * p.fray * lost
    sigma = p.extinction * body * body * strands * profile
    if tufted > 0.0:
        sigma *= 1.0 + tufted * (2.6 * smoothstep(0.62, 0.85, r) - 0.35)
    return 30.0, sigma * (0.4 + 0.6 * profile)


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres: tufts are small."""
    step = min(max(layer.thickness_m / 12.0, 6.0), 150.0)
    return 0.4 * step if layer.body.lobes > TUFTED else step


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: light changes slowly through thin ice."""
    return LightCells(min(max(size_m / 13.0, 120.0), 900.0), 10, fewer=True)


def most(p: Any) -> float:
    """Extinction that strands nowhere exceed, 1/m."""
    texture = 1.0 + 3.6 * float(p["fray"])
    return float(p["extinction"]) * texture * (0.4 + 0.6 * texture)


BUILD = Build("veil", VEIL, sample, score, step_m, cells_of, most, 0.0, 1.0, coarsest=1.0)
