"""Shadow rays: clouds and land take the sun from the haze behind them.

Land does so on every line of sight that ends on land or ground while the sun is low: a mountain
before the sun would shine through its own haze. Clouds do where it is asked for, on every line.
The air's tables then hold the haze's single scattering without cloud (`sky_view.Observer`), and
its part up to any distance is weighed by the sunlight that really reaches it. What air molecules
scatter once, and all that is scattered again, stays shaded by the clouds' mean.
"""

from __future__ import annotations

import math

from dovrek.core.air.sky_looks import HAZE, air_parts
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.transport.land_shade import sun_clears_land
from dovrek.core.transport.look_ups import sun_passed
from dovrek.core.transport.scratch import NODES

FARTHEST_M = 40_000.0  # beyond it the lit part stays as it is there
LAND_NODES = 8  # where land alone throws shadows
HALVINGS = 4  # that find where a ray comes into the land's shade
HIGH_SUN = 0.7  # sine of the sun's height from which land alone is not asked
LUMINANCE = HAZE + 1  # row of the haze's luminance among the parts of the air


@kernel
def _height(scene, height, dz, t):
    """Height over the ground at a distance along a ray."""
    r0 = scene.radius + height
    return max(math.sqrt(r0 * r0 + 2.0 * r0 * t * dz + t * t) - scene.radius, 0.0)


@inner
def _clears(scene, x0, y0, height, dx, dy, dz, t, random):
    """Whether the land lets the sun shine to a distance along a ray: 1 or 0."""
    return sun_clears_land(scene, x0 + t * dx, y0 + t * dy, _height(scene, height, dz, t), random)


@kernel
def _clear_share(scene, x0, y0, height, dx, dy, dz, t0, t1, before, after, random):
    """Share of a stretch of a ray that the land leaves in the sun, by its two ends."""
    if before == after:
        return before
    a, b = 0.0, 1.0
    for _ in range(HALVINGS):
        middle = 0.5 * (a + b)
        if _clears(scene, x0, y0, height, dx, dy, dz, t0 + (t1 - t0) * middle, random) == before:
            a = middle
        else:
            b = middle
    change = a + (b - a) * random
    return change if before > 0.0 else 1.0 - change


@kernel
def find_shadows(scene, x0, y0, height, dx, dy, dz, elevation, azimuth, limit, random, shadows,
                 parts):
    """Fill `shadows`: the lit part of the haze's light up to each node of a ray.

    The nodes lie at the squares of even shares of the way to where the ray leaves the highest cloud
    and the land's height, the ground or `limit`. `parts` (9,) is scratch.
    """
    land = scene.land.squares > 0
    top = scene.land.highest if land else 0.0
    nodes = LAND_NODES
    if scene.shadow_rays:
        nodes = NODES
        for l in range(len(scene.field.layers)):
            top = max(top, scene.field.layers[l].base + scene.field.layers[l].highest)
    shadows.nodes = nodes
    r0 = scene.radius + height
    far = min(limit, scene.clear.air_far_m)
    gap = (top - height) * (2.0 * scene.radius + top + height)
    b = r0 * dz
    far = min(far, max(math.sqrt(max(b * b + gap, 0.0)) - b, 0.0))
    shadows.cut = 1 if far > FARTHEST_M else 0
    far = min(far, FARTHEST_M)
    shadows.far = far
    for c in range(3):
        shadows.haze[c] = 0.0
    before, lit, total = 0.0, 0.0, 0.0
    clear = _clears(scene, x0, y0, height, dx, dy, dz, 0.0, random) if land else 1.0
    for k in range(nodes):
        t0, t1 = far * (k / nodes) ** 2, far * ((k + 1) / nodes) ** 2
        air_parts(scene.clear, elevation, azimuth, t1, parts)
        gain = max(parts[LUMINANCE] - before, 0.0)
        before = parts[LUMINANCE]
        total += gain
        share = 1.0
        if land:
            after = _clears(scene, x0, y0, height, dx, dy, dz, t1, random)
            share = _clear_share(scene, x0, y0, height, dx, dy, dz, t0, t1, clear, after, random)
            clear = after
        if scene.shadow_rays and share > 0.0:
            t = t0 + (t1 - t0) * random
            share *= sun_passed(scene, x0 + t * dx, y0 + t * dy, _height(scene, height, dz, t))
        lit += gain * share
        shadows.lit[k] = lit / total if total > 0.0 else 1.0
    for c in range(3):
        shadows.haze[c] = parts[HAZE + c]


@kernel
def lit_share(shadows, distance):
    """Lit part of the haze's light up to a distance of cloud or ground."""
    if shadows.far <= 0.0:
        return 1.0
    u = math.sqrt(clamp(distance / shadows.far, 0.0, 1.0)) * shadows.nodes - 1.0
    lit = shadows.lit
    if u <= 0.0:
        return lit[0]
    k = min(int(u), shadows.nodes - 2)
    return lit[k] + (lit[k + 1] - lit[k]) * min(u - k, 1.0)


@kernel
def taken(shadows, channel, haze):
    """Light (of channel 0 … 2) that shadows take from `haze` seen beyond the last node."""
    shaded = haze if shadows.cut == 1 else min(shadows.haze[channel], haze)
    return (1.0 - shadows.lit[shadows.nodes - 1]) * shaded
