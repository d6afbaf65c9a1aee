"""How many trilinear look-ups a ray makes: the march run uncompiled, its look-ups counted.

`per_ray(prepared, lens, size)` starts this module as a process without compilation on a few
hundred rays of a scene.
"""

from __future__ import annotations

import os
import pickle
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

RAYS = 240
GRID_CHANNELS = 6  # one look-up in the light grid reads six numbers


def per_ray(prepared: Any, lens: Any, size: tuple[int, int], step: float) -> dict[str, float]:
    """Mean look-ups a ray: in noise volumes, in clouds' shapes, in light grids; densities too."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scene.pickle"
        path.write_bytes(pickle.dumps((prepared.scene, lens, size, step)))
        said = subprocess.check_output(
            [sys.executable, "-W", "ignore", "-m", "tools.lookups", str(path)],
            env={**os.environ, "NUMBA_DISABLE_JIT": "1"})
    counts: dict[str, float] = pickle.loads(said)
    return counts


def _counted(counts: dict[str, int], name: str, function: Any, weight: int = 1) -> Any:
    def call(*given: Any) -> Any:
        counts[name] += weight
        return function(*given)

    return call


def main(path: str) -> None:
    """Trace rays spread over a picture and write their mean counts to standard output."""
    from dovrek.core import density, march, noise
    from dovrek.core.geometry.views import pixel_size, ray_of
    from dovrek.core.transport.sample import OUT
    from dovrek.core.transport.scene import Marching

    scene, lens, (width, height), step = pickle.loads(Path(path).read_bytes())
    counts = {"densities": 0, "noise": 0, "shapes": 0, "light": 0}
    noise.noise_at = density.noise_at = _counted(counts, "noise", noise.noise_at)
    density._shape_distance = _counted(counts, "shapes", density._shape_distance)
    march.density = _counted(counts, "densities", march.density)
    march.grid_light = _counted(counts, "light", march.grid_light, GRID_CHANNELS)
    march.grid_depth = _counted(counts, "light", march.grid_depth)
    place, ray, out, work = np.empty(2), np.empty(3), np.empty(OUT), np.empty(march.WORK)
    rng = np.random.default_rng(5)
    for u, v in rng.uniform(size=(RAYS, 2)):
        ray_of(lens, u, v, place, ray)
        march.trace(scene, Marching(step, 2.0, False, True), 0.0, 0.0, scene.height, *ray, 0.0,
                    pixel_size(lens, width, height), float(rng.uniform()), int(rng.integers(1e6)),
                    out, np.empty(0), work)
    sys.stdout.buffer.write(pickle.dumps({k: v / RAYS for k, v in counts.items()}))


if __name__ == "__main__":
    main(sys.argv[1])
