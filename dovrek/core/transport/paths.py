"""Steps of a traced path: chance, places over the round planet, directions that are drawn."""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.compile.arithmetic import clamp, henyey_greenstein
from dovrek.core.compile.kernels import inner, kernel, part
from dovrek.core.geometry.planet import arc_share
from dovrek.core.land.meeting import LAND_FAR_M, land_distance


@kernel
def random(state):
    """Next number in 0 … 1 of a 64-bit counter, mixed. Source: Steele, Lea & Flood 2014."""
    state[0] += np.uint64(0x9E3779B97F4A7C15)
    z = state[0]
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    return (float(z >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)


@part
def foot_of(scene, x, y, z):
    """Arcs over the ground, east and north, to below a place of the tangent plane's axes."""
    share = arc_share(scene.radius, scene.radius + z, math.sqrt(x * x + y * y), 0.0, 1.0)
    return share * x, share * y


@inner
def height_there(scene, at):
    rz = scene.radius + at[2]
    r = math.sqrt(at[0] * at[0] + at[1] * at[1] + rz * rz)
    return (at[0] * at[0] + at[1] * at[1] + at[2] * (2.0 * scene.radius + at[2])) / (
        r + scene.radius)


@inner
def about(axis, a, b, along, out):
    """Into `out` the vector that goes so far along a unit axis and, a and b, across it; `out` may
    be the axis. A frame without branches at its poles (Duff et al. 2017)."""
    x, y, z = axis[0], axis[1], axis[2]
    sign = 1.0 if z >= 0.0 else -1.0
    c = -1.0 / (sign + z)
    d = x * y * c
    out[0] = a * (1.0 + sign * x * x * c) + b * d + along * x
    out[1] = a * sign * d + b * (sign + y * y * c) + along * y
    out[2] = -a * sign * x - b * y + along * z


@kernel
def turn_by(lobes, ray, state):
    """Draw a new direction from a phase function, weights and asymmetries of three lobes."""
    u = random(state)
    g = lobes[1] if u < lobes[0] else (lobes[3] if u < lobes[0] + lobes[2] else lobes[5])
    s = (1.0 - g * g) / (1.0 - g + 2.0 * g * random(state))
    cosine = clamp((1.0 + g * g - s * s) / (2.0 * g), -1.0, 1.0)
    sine = math.sqrt(max(1.0 - cosine * cosine, 0.0))
    phi = 2.0 * math.pi * random(state)
    a, b = sine * math.cos(phi), sine * math.sin(phi)
    about(ray, a, b, cosine, ray)
    norm = 1.0 / math.sqrt(ray[0] ** 2 + ray[1] ** 2 + ray[2] ** 2)
    for k in range(3):
        ray[k] *= norm


@inner
def phase_at(lobes, cosine):
    return (lobes[0] * henyey_greenstein(cosine, lobes[1])
            + lobes[2] * henyey_greenstein(cosine, lobes[3])
            + lobes[4] * henyey_greenstein(cosine, lobes[5]))


@inner
def off_surface(normal, ray, state):
    """Draw a direction off a surface, cosine-weighted about its unit normal."""
    # A point of the unit sphere added to the normal (Shirley & Morley 2003).
    z = 2.0 * random(state) - 1.0
    phi = 2.0 * math.pi * random(state)
    s = math.sqrt(max(1.0 - z * z, 0.0))
    ray[0], ray[1] = normal[0] + s * math.cos(phi), normal[1] + s * math.sin(phi)
    ray[2] = normal[2] + z
    norm = 1.0 / math.sqrt(max(ray[0] ** 2 + ray[1] ** 2 + ray[2] ** 2, 1e-12))
    for k in range(3):
        ray[k] *= norm


@inner
def upright(at, radius, normal):
    """Unit vertical of a place into `normal`."""
    nz = radius + at[2]
    norm = 1.0 / math.sqrt(at[0] * at[0] + at[1] * at[1] + nz * nz)
    normal[0], normal[1], normal[2] = at[0] * norm, at[1] * norm, nz * norm


@inner
def land_ahead(scene, at, ray, h, mu, ground_t):
    """Distance at which a ray from a place (its height `h`, `mu` the sine of its rise there) meets
    the land, before the level ground at `ground_t` (−1: none); −1 when it does not."""
    if scene.land.squares == 0:
        return -1.0
    x, y = foot_of(scene, at[0], at[1], at[2])
    flat = math.sqrt(max(ray[0] * ray[0] + ray[1] * ray[1], 1e-24))
    share = math.sqrt(max(1.0 - mu * mu, 0.0)) / flat
    return land_distance(scene.land, scene.land_heights, scene.land_peaks, scene.radius, x, y, h,
                         ray[0] * share, ray[1] * share, mu,
                         ground_t if ground_t > 0.0 else LAND_FAR_M)
