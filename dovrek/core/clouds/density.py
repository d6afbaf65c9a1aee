"""How dense the cloud is at a point: an approximate signed distance, then extinction.

Every build gives f (metres, positive inside, never more than the true distance outside, so that a
ray may advance by it) and an extinction that rises from the edge. Coordinates are x east, y north,
z above the layer's base, all in metres.
"""

from __future__ import annotations

from dovrek.core.clouds.bank import LOWEST as LOWEST_BANK
from dovrek.core.clouds.bank import SINKS, bank_clear, bank_share, bank_way
from dovrek.core.clouds.builds import PLANNED, plan_of, sample_of, sample_on
from dovrek.core.clouds.drape import lifted
from dovrek.core.clouds.rain import RAIN_DRIFT, falls_from, outline_height, shaft
from dovrek.core.clouds.record import PROFILE_NODES
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, part


@inner
def _copy(field, p, x, y, z, up, footprint, detail, falling):
    """Distance and extinction of a copy of the field at a place of its own."""
    left, sunk = 1.0, 1.0
    if p.bank != 0:
        way = bank_way(p, x, y)
        left = bank_share(p, way)
        if left <= 0.0:
            return -max(bank_clear(p, way), 1.0), 0.0
        sunk = max(left**SINKS, LOWEST_BANK)
        if up > 0.0:
            up /= sunk
    f, sigma = sample_of(p.build, field, p, x, y, up, footprint, 0.0 if falling else detail)
    if p.bank != 0:  # the last of it fades
        f = f * sunk * p.bank_lean if f < 0.0 else f * sunk
        sigma *= min(8.0 * left, 1.0)
    if f < 0.0:
        f *= p.lean
    if falling:
        if sigma <= 0.0:
            return min(0.8 * f, -10.0), 0.0
        return shaft(field, p, x, y, z, f, footprint)
    return f, _profiled(p, up, sigma)


@part
def _profiled(p, up, sigma):
    """Extinction by the layer's own profile over its height."""
    if sigma > 0.0 and p.profiled > 0.0:
        c = clamp(up / p.thickness, 0.0, 1.0) * (PROFILE_NODES - 1)
        k = min(int(c), PROFILE_NODES - 2)
        sigma *= p.profile[k] * (1.0 - c + k) + p.profile[k + 1] * (c - k)
    return sigma


@kernel
def density(field, layer, x, y, z, footprint, detail):
    """Distance (m) and extinction (1/m) of a layer at a point above its base.

    `footprint` (m) is the width that is averaged over; `detail` 0.0 … 2.0 is how much fine skin
    is worth the time (a float: each whole number written out would be compiled by itself).
    """
    p = field.layers[layer]
    if p.drape != 0.0:
        f, sigma = _standing(field, p, x, y, z - lifted(field, p, x, y), footprint, detail)
        return (f * p.drape_lean if f < 0.0 else f), sigma
    return _standing(field, p, x, y, z, footprint, detail)


@part
def upright(p):
    """Whether a column of the layer is a column of its build, with a plan."""
    return (p.build < PLANNED and p.slant == 0.0 and p.fade <= 0.0 and p.bank == 0
            and p.drape == 0.0)


@part
def planned(field, layer, x, y, footprint):
    """What `density_on` may know of a column beforehand."""
    p = field.layers[layer]
    if upright(p):
        return plan_of(p.build, field, p, x - p.drift_x, y - p.drift_y, footprint)
    return 0.0, 0.0, 0.0, 0.0


@part
def density_on(field, layer, x, y, z, plan, footprint, detail):
    """`density` in a column that `planned` has looked at, which is sooner up and down one."""
    p = field.layers[layer]
    if not upright(p) or (p.fall > 0.0 and z < falls_from(p)):
        return density(field, layer, x, y, z, footprint, detail)
    f, sigma = sample_on(p.build, field, p, x - p.drift_x, y - p.drift_y, z, plan, footprint,
                         detail)
    return (f * p.lean if f < 0.0 else f), _profiled(p, z, sigma)


@inner
def _standing(field, p, x, y, z, footprint, detail):
    """The same above a base that is level."""
    falling = p.fall > 0.0 and z < falls_from(p)
    if falling and z < -p.fall_reach:
        return z + p.fall_reach - 5.0, 0.0
    up = outline_height(p) if falling else z
    along = p.slant * up
    if falling:
        along += RAIN_DRIFT * z
    if along != 0.0:
        x -= along * p.wind_x
        y -= along * p.wind_y
    if p.fade <= 0.0:
        return _copy(field, p, x - p.drift_x, y - p.drift_y, z, up, footprint, detail, falling)
    # A loop: two copies that pass over into each other.
    f, sigma = _copy(field, p, x - p.drift_x, y - p.drift_y, z, up, footprint, detail, falling)
    g, other = _copy(field, p, x - p.fade_x, y - p.fade_y, z, up, footprint, detail, falling)
    return max(f, g), sigma + p.fade * (other - sigma)
