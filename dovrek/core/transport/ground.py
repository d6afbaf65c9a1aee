"""Light that falls on the ground from between the clouds and from the clouds themselves, and
what clouds see of it."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sky_looks import sky_radiance
from dovrek.core.clouds.phase import PHASES
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import kernel
from dovrek.core.geometry.lens import falling_lens
from dovrek.core.geometry.views import ray_of
from dovrek.core.geometry.views.falling import AUREOLE_RAD
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.look_ups import depth_above, sun_passed
from dovrek.core.transport.march import march_pixels
from dovrek.core.transport.sample import OUT
from dovrek.core.transport.scene import BELOW_M, Marching, Scene

EXTENT_M = 16_000.0  # of ground about the camera whose light is averaged
ROWS = 4  # that one task takes
RINGS, SPOKES = 8, 16  # looks at the aureole
TAPER = 0.15  # of the side, over which what is known passes into the mean
HIGHEST_M = 4000.0  # above this a cloud sees so much ground that sun and shade are one
MARCHING = Marching(2.2, 0.0, False, False, 1.0)


@kernel
def _twice(scene, lens, side, narrow, place, ray):
    """Mean share of sunlight that `sun_passed` counts although it falls from beyond the aureole.

    Of light turned by small angles alone, e^(−(1−f)τ) of the beam, e^(−(1−n)τ) stays within the
    aureole, where `narrow` holds n, the share that one turn leaves there, by phase function."""
    total = 0.0
    for row in range(side):
        for column in range(side):
            ray_of(lens, (column + 0.5) / side, (row + 0.5) / side, place, ray)
            x, y = place[0], place[1]
            depth, layer = depth_above(scene, x, y, 0.0)
            if layer >= 0:
                p = scene.field.layers[layer]
                total += math.exp(-depth) - math.exp(
                    -depth * (1.0 - narrow[p.phase]) / p.k_scaled)
    return total / (side * side)


@kernel
def _aureole(scene, scratch, light, rim, out):
    """What the clear sky's aureole adds to its rim's light on level ground: XYZ radiance (3,), 1/π
    of the illuminance, into `out`; none from a sun below the horizon."""
    sun = scene.sun.direction
    sx, sy, sz = sun[0], sun[1], sun[2]
    out[:] = 0.0
    level = math.sqrt(sx * sx + sy * sy)
    if sz <= 0.0 or level < 1e-6:
        return
    ax, ay = sy / level, -sx / level  # across the sun's bearing, level; the other way lies up
    ux, uy, uz = -sz * sx / level, -sz * sy / level, level
    for spoke in range(SPOKES):
        turn = 2.0 * math.pi * (spoke + 0.5) / SPOKES
        c, s = math.cos(turn), math.sin(turn)
        for ring in range(RINGS, -1, -1):
            off = AUREOLE_RAD if ring == RINGS else AUREOLE_RAD * (ring + 0.5) / RINGS
            near, far = math.cos(off), math.sin(off)
            x = near * sx + far * (c * ax + s * ux)
            y = near * sy + far * (c * ay + s * uy)
            z = near * sz + far * s * uz
            sky_radiance(scene.clear, math.asin(clamp(z, 0.0, 1.0)), math.atan2(x, y), near,
                         scratch, light)
            if ring == RINGS:
                for k in range(3):
                    rim[k] = light[k]
            elif z > 0.0:
                weight = z * far * AUREOLE_RAD / RINGS * 2.0 / SPOKES  # cos · solid angle / π
                for k in range(3):
                    out[k] += weight * (light[k] - rim[k])


class Fallen(NamedTuple):
    """Light on level ground about a camera, as radiance: 1/π of illuminance."""

    around: NDArray[np.float64]  # (3,) XYZ cd/m², mean, from sky and clouds off the sun
    aureole: NDArray[np.float64]  # (3,) what a clear sky adds close about the sun
    twice: float  # share of the sun's light that `around` counts although `sun_passed` does


def fallen_light(scene: Scene, side: int, workers: Workers, cancel: Cancel) -> Fallen:
    """What falls on the ground, by the march itself, on side² rays (whole fours a side). `scene`
    must be seen from near the ground. Raises Cancelled."""
    lens = falling_lens(EXTENT_M, np.array(scene.sun["direction"]))
    light = np.zeros((side, side, OUT), dtype=np.float32)
    todo, nothing = np.ones((ROWS, side), dtype=np.uint8), np.empty((0, 0, 0), np.float32)

    def rows(start: int) -> None:
        march_pixels(scene, lens, MARCHING, side, side, start, 0, todo, 0, cancel.flag,
                     light[start:start + ROWS], nothing)

    list(workers.pool.map(rows, range(0, side, ROWS)))
    cancel.check()
    narrow = np.array([phase.kept_within(AUREOLE_RAD) for phase in PHASES])
    aureole = np.empty(3)
    _aureole(scene, np.empty(14), np.empty(3), np.empty(3), aureole)
    return Fallen(light[..., :3].astype(np.float64).mean(axis=(0, 1)), aureole,
                  _twice(scene, lens, 2 * side, narrow, np.empty(2), np.empty(3)))


@kernel
def _lit(scene, i0, i1, out):
    """Share of sunlight on the ground at the middles of squares, rows i0 … i1 of (n, n)."""
    n = len(out)
    for i in range(i0, i1):
        for j in range(n):
            out[i, j] = sun_passed(scene, ((i + 0.5) / n - 0.5) * BELOW_M,
                                   ((j + 0.5) / n - 0.5) * BELOW_M, 0.0)


def lit_from_below(scene: Scene, bases: list[float], side: int, workers: Workers,
                   cancel: Cancel) -> tuple[NDArray[np.float64], float]:
    """Of the ground that each layer's base sees from a place, the share that the sun lights:
    (L, n, n), n whole eights a `side`, and its mean over all. Raises Cancelled.

    Seen from a height h, ground at a distance r counts by h²/(r² + h²)² (the form factor of a
    level element).
    """
    lit = np.empty((side, side))
    list(workers.pool.map(lambda i: _lit(scene, i, i + 8, lit), range(0, side, 8)))
    cancel.check()
    mean = float(lit.mean())
    step = BELOW_M / side
    off = np.minimum(np.arange(2 * side), 2 * side - np.arange(2 * side)) * step
    edge = np.minimum((np.arange(side) + 0.5) / side, 1.0 - (np.arange(side) + 0.5) / side)
    fade = np.minimum(edge / TAPER, 1.0)
    spectrum = np.fft.rfft2((lit - mean) * np.outer(fade, fade), (2 * side, 2 * side))
    found = np.full((max(len(bases), 1), side, side), mean)
    for k, base in enumerate(bases):
        if base < HIGHEST_M:
            high = max(base, 0.5 * step)
            weight = high**2 / (off[:, None] ** 2 + off[None, :] ** 2 + high**2) ** 2
            spread = np.fft.irfft2(spectrum * np.fft.rfft2(weight / weight.sum()),
                                   (2 * side, 2 * side))
            found[k] += spread[:side, :side]
    return found, mean


def over_mean(lit: NDArray[np.float64], mean: float,
              ground: np.void) -> NDArray[np.float32]:
    """Light from ground of which `lit` lies in the sun over ground of which `mean` does."""
    sun, sky = float(ground["by_sun"][1]), float(ground["by_sky"][1])
    found: NDArray[np.float32] = ((sun * np.clip(lit, 0.0, 1.0) + sky)
                                  / max(sun * mean + sky, 1e-30)).astype(np.float32)
    return found
