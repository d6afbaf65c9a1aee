"""Rain and snow that fall from a layer, down to the ground or not so far."""

from __future__ import annotations

from dovrek.core.clouds.texture import flat_noise
from dovrek.core.compile.arithmetic import smoothstep
from dovrek.core.compile.kernels import kernel, part

RAIN_PER_M = 1.6e-3  # extinction of the heaviest rain haze (about 1.9 km of sight)
# Place in the cloud, of its thickness, whose outline the falling rain has; round bases are narrow.
RAIN_UP, RAIN_UP_ROUND, RAIN_UP_MOST = 0.2, 0.1, 0.42
# Snow hides several times as much as the rain it melts to (sight of about 1 km in snow and of 10 km
# in rain of 1 mm/h: common practice); metres above the ground where it melts, temperate latitudes.
SNOW, MELTED_M, FROZEN_M = 5.0, 2000.0, 3000.0
RAIN_DRIFT = 0.35  # metres that falling rain or snow lags behind for every metre down
RAIN_PATCH_M = 700.0
RAIN_SHADE = 0.3  # light on ground under thick cloud, over that on open ground


@kernel
def falls_from(p):
    """Height above the base below which there is nothing but falling rain or snow."""
    return -0.03 * p.thickness


@part
def outline_height(p):
    """Height in the cloud, metres, whose outline what falls has."""
    return p.thickness * min(RAIN_UP + RAIN_UP_ROUND * max(p.round_base - 1.0, 0.0), RAIN_UP_MOST)


@part
def shaft(field, p, x, y, z, f, footprint):
    """Distance and extinction of what falls at a place z (below the base), `f` metres inside the
    outline: heavier here than there, thinning on the way down unless it reaches the ground."""
    n = flat_noise(field.bytes, x, y, RAIN_PATCH_M, 0.41, footprint)
    left = 1.0 + z / p.fall_reach
    fade = min(left / 0.25, 1.0) if p.fall_reach >= p.base - 1.0 else left**1.4
    rim = min(max(f, 0.0) / (0.12 * min(p.cell_size, 2.0 * p.thickness)), 1.0)
    snow = 1.0 + (SNOW - 1.0) * smoothstep(MELTED_M, FROZEN_M, p.base + z)
    return max(f, 30.0), p.fall * snow * rim * max(0.45 + 1.1 * n, 0.04) * fade
