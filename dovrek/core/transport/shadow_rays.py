"""Shadow rays: clouds take the sun from the haze below them, along every line of sight.

The air's tables then hold the haze's single scattering without cloud (`sky_view.Observer`), and
its part up to any distance is weighed by the sunlight that really reaches it. What air molecules
scatter once, and all that is scattered again, stays shaded by the clouds' mean.
"""

from __future__ import annotations

import math

from dovrek.core.air.sky_looks import HAZE, air_parts
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import kernel
from dovrek.core.transport.look_ups import sun_passed
from dovrek.core.transport.scratch import NODES

FARTHEST_M = 40_000.0  # beyond it the lit part stays as it is there
LUMINANCE = HAZE + 1  # row of the haze's luminance among the parts of the air


@kernel
def find_shadows(scene, x0, y0, height, dx, dy, dz, elevation, azimuth, limit, random, shadows,
                 parts):
    """Fill `shadows`: the lit part of the haze's light up to each node of a ray.

    Nodes lie at (k/NODES)² of the way to where the ray leaves the highest cloud, the ground
    or `limit`. `parts` (9,) is scratch.
    """
    top = 0.0
    for l in range(len(scene.field.layers)):
        top = max(top, scene.field.layers[l].base + scene.field.layers[l].highest)
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
    for k in range(NODES):
        t0, t1 = far * (k / NODES) ** 2, far * ((k + 1) / NODES) ** 2
        t = t0 + (t1 - t0) * random
        h = math.sqrt(r0 * r0 + 2.0 * r0 * t * dz + t * t) - scene.radius
        air_parts(scene.clear, elevation, azimuth, t1, parts)
        gain = max(parts[LUMINANCE] - before, 0.0)
        before = parts[LUMINANCE]
        total += gain
        lit += gain * sun_passed(scene, x0 + t * dx, y0 + t * dy, max(h, 0.0))
        shadows.lit[k] = lit / total if total > 0.0 else 1.0
    for c in range(3):
        shadows.haze[c] = parts[HAZE + c]


@kernel
def lit_share(shadows, distance):
    """Lit part of the haze's light up to a distance of cloud or ground."""
    if shadows.far <= 0.0:
        return 1.0
    u = math.sqrt(clamp(distance / shadows.far, 0.0, 1.0)) * NODES - 1.0
    lit = shadows.lit
    if u <= 0.0:
        return lit[0]
    k = min(int(u), NODES - 2)
    return lit[k] + (lit[k + 1] - lit[k]) * min(u - k, 1.0)


@kernel
def taken(shadows, channel, haze):
    """Light (of channel 0 … 2) that shadows take from `haze` seen beyond the last node."""
    shaded = haze if shadows.cut == 1 else min(shadows.haze[channel], haze)
    return (1.0 - shadows.lit[NODES - 1]) * shaded
