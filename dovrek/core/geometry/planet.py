"""The round planet: its radius, spheres about it, and where a ray meets them."""

from __future__ import annotations

import math

from dovrek.core.compile.kernels import inner, kernel

PLANET_RADIUS_KM = 6371.0
EARTH_M = 1e3 * PLANET_RADIUS_KM


@inner
def shell_crossings(radius, height, dz, shell, out):
    """Distances at which a ray meets a sphere of height `shell`; False when it misses."""
    r0, r1 = radius + height, radius + shell
    b = r0 * dz
    disc = b * b - (r0 - r1) * (r0 + r1)
    if disc <= 0.0:
        return False
    root = math.sqrt(disc)
    out[0], out[1] = -b - root, -b + root
    return True


@kernel
def ground_distance(radius, height, dz):
    """Distance to the ground along a ray; −1 when it never meets it."""
    if dz >= 0.0:
        return -1.0
    r0 = radius + height
    disc = r0 * r0 * dz * dz - height * (2.0 * radius + height)
    if disc <= 0.0:
        return -1.0
    return -r0 * dz - math.sqrt(disc)


FARTHEST_M = 600_000.0
# Heights of the eye that clouds are dealt and grids are laid out for, by powers of two above 100 m:
# a camera that rises a little sees the same clouds.
EYE_USUAL_M, EYE_STEPS_M = 1.6, {8: 100.0, 9: 300.0}


def reach_m(top_m: float, eye_m: float) -> float:
    """Distance at which a top sinks below the horizon of an eye, metres: √(2Rh) from both sides."""
    reach = math.sqrt(2.0 * EARTH_M * max(top_m, 50.0)) + math.sqrt(2.0 * EARTH_M * max(eye_m, 0.0))
    return min(reach * 1.02, FARTHEST_M)


def told_m(top_m: float, eye_m: float, angle: float) -> float:
    """Distance, in steps of a tenth, up to which a top is seen at least so high (radians) above the
    level; it has no end for a top below the eye."""
    over = top_m - eye_m
    if over <= 0.0 or angle <= 0.0:
        return math.inf
    far = EARTH_M * (math.sqrt(angle * angle + 2.0 * over / EARTH_M) - angle)
    return float(1.1 ** math.ceil(math.log(far, 1.1)))


def eye_step_m(eye_m: float) -> float:
    """The height that stands for all eyes about as high."""
    step = round(math.log2(eye_m + 100.0))
    return EYE_STEPS_M.get(step, 2.0**step - 100.0) if step > 7 else EYE_USUAL_M
