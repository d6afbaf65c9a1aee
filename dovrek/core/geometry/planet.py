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


@inner
def arc_share(radius, from_centre, t, dz, level):
    """Length of the arc over the ground to below a place on a ray, over the way it has gone along
    the level: t metres from where the ray starts, `from_centre` metres from the planet's centre.

    `level` is the sine of the ray's angle from the zenith.
    """
    up = from_centre + t * dz
    across = t * level
    if across <= 0.03 * up:
        u = across / up
        return radius / up * (1.0 - u * u / 3.0)
    return radius * math.atan2(across, up) / across


@inner
def sun_height(radius, sun, x, y):
    """Sine of the sun's height over a place (x, y) metres along the ground from the camera's foot,
    where the vector `sun` points to it."""
    far = math.sqrt(x * x + y * y)
    if far <= 0.0:
        return sun[2]
    arc = far / radius
    return sun[2] * math.cos(arc) + (x * sun[0] + y * sun[1]) / far * math.sin(arc)


@inner
def air_stretch(radius, height, mu, top, out):
    """Where a ray lies within the air: its start, end and lowest place, distances from the eye
    into `out` (3,); returns whether it ends on the ground. All in one unit of length.

    A ray that misses the air ends where it starts.
    """
    r = radius + height
    tangent = -r * mu
    lowest = r * r * (1.0 - mu * mu)
    inside = (radius + top) ** 2 - lowest
    out[2] = tangent
    if inside <= 0.0 or (height > top and tangent <= 0.0):
        out[0], out[1] = 0.0, 0.0
        return False
    root = math.sqrt(inside)
    out[0] = tangent - root if height > top else 0.0
    out[1] = tangent + root
    below = radius * radius - lowest
    if tangent > 0.0 and below > 0.0:
        out[1] = max(tangent - math.sqrt(below), out[0])
        return True
    return False


@inner
def stretch_place(u, stretch, hits):
    """Distance at a share u of a stretch of air: shares lie close where the air is dense."""
    start, end, tangent = stretch[0], stretch[1], stretch[2]
    if hits:
        return start + (end - start) * (1.0 - (1.0 - u) * (1.0 - u))
    if tangent > start:
        low, high = -math.sqrt(tangent - start), math.sqrt(max(end - tangent, 0.0))
        p = low + (high - low) * u
        return tangent + p * abs(p)
    return start + (end - start) * u * u


@inner
def stretch_share(t, stretch, hits):
    """The inverse of `stretch_place`, 0 … 1."""
    start, end, tangent = stretch[0], stretch[1], stretch[2]
    long = end - start
    if t <= start or long <= 0.0:
        return 0.0
    if t >= end:
        return 1.0
    if hits:
        return 1.0 - math.sqrt(1.0 - (t - start) / long)
    if tangent > start:
        low, high = -math.sqrt(tangent - start), math.sqrt(max(end - tangent, 0.0))
        p = math.sqrt(abs(t - tangent))
        return ((p if t > tangent else -p) - low) / (high - low)
    return math.sqrt((t - start) / long)


FARTHEST_M = 600_000.0
# From here on an eye sees the round planet: the sun's height over what it sees, and air far away.
HIGH_EYE_M = 3_000.0
SMALL_PLANET = 0.5  # of the earth's radius, below which that is so from everywhere
# Heights of the eye that clouds are dealt and grids are laid out for, by powers of two above 100 m:
# a camera that rises a little sees the same clouds.
EYE_USUAL_M, EYE_STEPS_M = 1.6, {8: 100.0, 9: 300.0}


def high_eye(eye_m: float, radius_m: float = EARTH_M) -> bool:
    """Whether an eye sees that the planet is round."""
    return eye_m > HIGH_EYE_M or radius_m < SMALL_PLANET * EARTH_M


def reach_m(top_m: float, eye_m: float, radius_m: float = EARTH_M) -> float:
    """Distance at which a top sinks below the horizon of an eye, metres: √(2Rh) from both sides."""
    reach = (math.sqrt(2.0 * radius_m * max(top_m, 50.0))
             + math.sqrt(2.0 * radius_m * max(eye_m, 0.0)))
    return min(reach * 1.02, FARTHEST_M)


def sight_m(top_m: float, eye_m: float, radius_m: float = EARTH_M) -> float:
    """The same without an end, for an eye at any height: metres along the ray."""
    return 1.02 * sum(math.sqrt(h * (2.0 * radius_m + h))
                      for h in (max(top_m, 50.0), max(eye_m, 0.0)))


def lit_m(top_m: float, eye_m: float, radius_m: float = EARTH_M) -> float:
    """Distance along the ground up to which clouds of a height are lit cell by cell."""
    eye = eye_step_m(eye_m)
    if not high_eye(eye, radius_m):
        return reach_m(top_m, eye, radius_m)
    return radius_m * sum(math.acos(radius_m / (radius_m + max(h, 0.0)))
                          for h in (eye, max(top_m, 50.0)))


def told_m(top_m: float, eye_m: float, angle: float, radius_m: float = EARTH_M) -> float:
    """Distance, in steps of a tenth, up to which a top is seen at least so high (radians) above the
    level; it has no end for a top below the eye."""
    over = top_m - eye_m
    if over <= 0.0 or angle <= 0.0:
        return math.inf
    far = radius_m * (math.sqrt(angle * angle + 2.0 * over / radius_m) - angle)
    return float(1.1 ** math.ceil(math.log(far, 1.1)))


def eye_step_m(eye_m: float) -> float:
    """The height that stands for all eyes about as high."""
    step = round(math.log2(eye_m + 100.0))
    return EYE_STEPS_M.get(step, 2.0**step - 100.0) if step > 7 else EYE_USUAL_M
