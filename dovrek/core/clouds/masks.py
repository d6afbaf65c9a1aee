"""Where a layer may stand: clearings, regions, cover maps."""

from __future__ import annotations

from dovrek.core.clouds.bank import bank_share, bank_way
from dovrek.core.clouds.gather import gather_pull
from dovrek.core.clouds.texture import flat_noise
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, kernel


@inner
def _clearing(field, p, x, y, footprint):
    """How far a point lies in a clearing: 0 outside, 1 in the middle."""
    if p.clearing_share <= 0.0:
        return 0.0
    tile = 3.6 * p.clearing_size
    n = flat_noise(field.bytes, x + p.clearing_x, y + p.clearing_y, tile, 0.13, footprint)
    width = 0.02 + 0.35 * p.clearing_edge
    return smoothstep(p.clearing_centre - width, p.clearing_centre + width, n)


@inner
def _mapped(field, p, x, y):
    """What the cover map says at a point: bilinear, its border going on outside."""
    rows, columns = p.map_rows, p.map_columns
    scale = columns / p.map_extent
    a = (x * p.map_cos - y * p.map_sin) * scale + 0.5 * columns - 0.5
    b = 0.5 * rows - 0.5 - (x * p.map_sin + y * p.map_cos) * scale
    a, b = clamp(a, 0.0, columns - 1.001), clamp(b, 0.0, rows - 1.001)
    i, j = int(b), int(a)
    fb, fa = b - i, a - j
    at = p.map_at + i * columns + j
    m = field.bytes
    value = ((m[at] * (1 - fa) + m[at + 1] * fa) * (1 - fb)
             + (m[at + columns] * (1 - fa) + m[at + columns + 1] * fa) * fb) * (1.0 / 255.0)
    return 1.0 - p.map_strength * (1.0 - value)


@inner
def region_at(field, p, x, y, footprint):
    """How far a layer may stand at a point, by its region and its map: 1 wholly, 0 not."""
    share = _mapped(field, p, x, y) if p.map_strength > 0.0 else 1.0
    if p.bank != 0:
        share *= bank_share(p, bank_way(p, x, y))
    if p.region_side == 0.0:
        return share
    n = flat_noise(field.bytes, x + p.region_x, y + p.region_y, 3.6 * p.region_size, 0.13,
                    footprint)
    width = 0.02 + 0.35 * p.region_edge
    inside = 1.0 - smoothstep(p.region_centre - width, p.region_centre + width, n)
    return share * (inside if p.region_side > 0.0 else 1.0 - inside)


@kernel
def within(field, p, x, y, score, footprint):
    """A score lowered where the layer's region, its map or a clearing leaves the sky open."""
    if p.gather > 0.0:
        score += gather_pull(field, p, x, y)
    if p.masked > 0.0:
        score -= 3.0 * (1.0 - region_at(field, p, x, y, footprint))
    return score - 3.0 * _clearing(field, p, x, y, footprint)
