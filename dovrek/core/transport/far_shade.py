"""Clouds' shadows on the ground for an eye high up: looked for along the beam.

The light grids there have cells of tens of kilometres, and a depth that runs evenly from cell to
cell draws stars and plates on the sea where the sun is mirrored. The clouds themselves are seen
place by place, so their shadows are looked for in the same way.
"""

from __future__ import annotations

import math

from dovrek.core.clouds.density import density
from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.planet import sun_height

LOOKS = 5  # through the height of a layer
LOWEST_SINE = 0.1  # of the sun's height, beyond which a beam slants no further
ENOUGH = 6.0  # depth beyond which no more is looked for


@inner
def clear_from_far(scene, x, y, across, random):
    """Share of sunlight, 0 … 1, that clouds let through to a place on the ground (metres of arc
    from the camera's foot), small turns included. `across` (m) is averaged over; `random` 0 … 1
    shifts the looks."""
    sun = scene.sun.direction
    rise = sun_height(scene.radius, sun, x, y)
    if rise <= 0.0:
        return 0.0
    rise = max(rise, LOWEST_SINE)
    far = math.sqrt(x * x + y * y)
    u, v = (x / far, y / far) if far > 1.0 else (0.0, 1.0)
    arc = far / scene.radius
    # The beam's way over the ground there: along the arc from the foot, and across it.
    ahead = (sun[0] * u + sun[1] * v) * math.cos(arc) - sun[2] * math.sin(arc)
    aside = sun[1] * u - sun[0] * v
    east, north = (ahead * u - aside * v) / rise, (ahead * v + aside * u) / rise
    depth = 0.0
    for l in range(len(scene.field.layers)):
        p = scene.field.layers[l]
        step = (p.highest - p.lowest) / LOOKS
        over = min(max(across, 0.3 * step), p.coarsest)
        for k in range(LOOKS):
            z = p.lowest + (k + random) * step
            up = p.base + z
            _, sigma = density(scene.field, l, x + east * up, y + north * up, z, over, 0.0)
            depth += p.k_scaled * sigma * step / rise
            if depth > ENOUGH:
                return 0.0
    return math.exp(-depth)
