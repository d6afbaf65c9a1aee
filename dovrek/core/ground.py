"""Light that falls on the ground from between the clouds and from the clouds themselves."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.cloud_light import depth_above
from dovrek.core.density import K_SCALED, PHASE
from dovrek.core.kernels import solver
from dovrek.core.lens import AUREOLE_RAD, falling_lens, ray_of
from dovrek.core.march import march_pixels
from dovrek.core.phase import PHASES
from dovrek.core.scene import OUT, Marching, Scene
from dovrek.core.stages import Cancel, Workers

EXTENT_M = 16_000.0  # of ground about the camera whose light is averaged
RAYS, ROWS = 16, 4  # rays a side; rows that one task takes
MARCHING = Marching(2.2, 0.0, False, False, 1.0)


@solver
def _twice(scene, lens, side, narrow, place, ray):
    """Mean share of sunlight that `sun_passed` counts although it falls from beyond the aureole.

    Of light turned by small angles alone, e^(−(1−f)τ) of the beam, e^(−(1−n)τ) stays within the
    aureole, where `narrow` holds n, the share that one turn leaves there, by phase function."""
    total = 0.0
    for row in range(side):
        for column in range(side):
            ray_of(lens, (column + 0.5) / side, (row + 0.5) / side, place, ray)
            x, y = place[0], place[1]
            depth, layer = depth_above(scene, x, y, 0.0, ray)
            if layer >= 0:
                p = scene.field.layers[layer]
                total += math.exp(-depth) - math.exp(
                    -depth * (1.0 - narrow[int(p[PHASE])]) / p[K_SCALED])
    return total / (side * side)


def fallen_light(scene: Scene, workers: Workers,
                 cancel: Cancel) -> tuple[NDArray[np.float64], float]:
    """(3,) mean XYZ radiance (cd/m²) that level ground about the camera receives from sky and
    clouds, 1/π of its illuminance, and how much of the sun's own light this counts once more
    (a share of what the sun gives under a clear sky).

    By the march itself, on 256 rays. `scene` must be seen from near the ground. Raises Cancelled.
    """
    lens = falling_lens(EXTENT_M, scene.sun)
    light = np.zeros((RAYS, RAYS, OUT), dtype=np.float32)
    todo, nothing = np.ones((ROWS, RAYS), dtype=np.uint8), np.empty((0, 0, 0), np.float32)

    def rows(start: int) -> None:
        march_pixels(scene, lens, MARCHING, RAYS, RAYS, start, 0, todo, 0, cancel.flag,
                     light[start:start + ROWS], nothing)

    list(workers.pool.map(rows, range(0, RAYS, ROWS)))
    cancel.check()
    narrow = np.array([phase.kept_within(AUREOLE_RAD) for phase in PHASES])
    mean: NDArray[np.float64] = light[..., :3].astype(np.float64).mean(axis=(0, 1))
    return mean, _twice(scene, lens, 2 * RAYS, narrow, np.empty(2), np.empty(3))
