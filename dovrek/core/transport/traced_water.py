"""Water as the path tracer meets it: facets of waves dealt by chance, and the light of its depth.

A path leaves by a facet drawn from the slopes of Cox & Munk 1954, weighted by how much of it the
eye sees, or comes back out of the depth as off a dull surface.
"""

from __future__ import annotations

import math

from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import part
from dovrek.core.transport.paths import about, off_surface, random
from dovrek.core.transport.water import DEEP, GRAZING, fresnel, glint

GOES_ON = 0.35  # chance of a path in the depth to come out again
LEVEL = 1e-4  # sine of a rise that is none


@part
def sun_on_water(scene, ray, through, path):
    """Add what water sends back along a ray of the sunlight `path.light`, square to the beam, of
    which the share `through` reaches it: glint and depth. `path.normal` is its upright."""
    up, back, sun = path.normal, path.back, scene.sun.direction
    for c in range(3):
        back[c] = -ray[c]
    seen = back[0] * up[0] + back[1] * up[1] + back[2] * up[2]
    high = sun[0] * up[0] + sun[1] * up[1] + sun[2] * up[2]
    if high > 0.0 and seen > 0.0:
        shine = glint(sun, back, up, scene.ground.slopes)
        for c in range(3):
            deep = (1.0 - fresnel(seen)) * DEEP[c] * high / math.pi
            path.total[c] += path.tint[c] * through * path.light[c] * (shine + deep)


@part
def off_the_water(scene, ray, state, path):
    """Turn a ray, (3,) toward water at the path's place, off it; its tint takes what is lost.
    False: the path ends there."""
    up, facet, tint = path.normal, path.back, path.tint
    variance = scene.ground.slopes
    tangent = math.sqrt(-variance * math.log(random(state)))
    turn = 2.0 * math.pi * random(state)
    upward = 1.0 / math.sqrt(1.0 + tangent * tangent)  # of the facet's normal
    about(up, tangent * upward * math.cos(turn), tangent * upward * math.sin(turn), upward, facet)
    seen = -(ray[0] * up[0] + ray[1] * up[1] + ray[2] * up[2])
    facing = -(ray[0] * facet[0] + ray[1] * facet[1] + ray[2] * facet[2])
    if facing <= 0.0:
        return False
    # As in the glint: an eye that looks along the waves sees them shadow each other.
    weight = facing / (max(seen, GRAZING * math.sqrt(variance)) * upward)
    mirrored = fresnel(facing)
    whole = weight * mirrored + 1.0 - mirrored
    if random(state) * whole > weight * mirrored:
        if random(state) > GOES_ON:
            return False
        for k in range(3):
            tint[k] *= whole * DEEP[k] / GOES_ON
        off_surface(up, ray, state)
        return True
    for k in range(3):
        tint[k] *= whole
        ray[k] += 2.0 * facing * facet[k]
    rise = ray[0] * up[0] + ray[1] * up[1] + ray[2] * up[2]
    if rise < LEVEL:  # on to the next wave, as off level water
        lost = fresnel(clamp(-rise, 0.0, 1.0))
        for k in range(3):
            tint[k] *= lost
            ray[k] += (2.0 * LEVEL - 2.0 * min(rise, 0.0)) * up[k]
    return True
