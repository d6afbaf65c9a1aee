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


def per_ray(prepared: Any, lens: Any, size: tuple[int, int], step: float,
            rays: int = RAYS) -> dict[str, float]:
    """Mean look-ups a ray: in noise volumes, in clouds' shapes, in light grids; densities too."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scene.pickle"
        path.write_bytes(pickle.dumps((prepared.scene, lens, size, step, rays)))
        said = subprocess.check_output(
            [sys.executable, "-W", "ignore", "-m", "tools.lookups", str(path)],
            env={**os.environ, "NUMBA_DISABLE_JIT": "1"})
    counts: dict[str, float] = pickle.loads(said)
    return counts


def _count(counts: dict[str, int], name: str, function: Any, weight: int = 1) -> None:
    """Put a counting function in the place of `function` in all of the core."""
    def call(*given: Any) -> Any:
        counts[name] += weight
        return function(*given)

    for module in [m for called, m in sys.modules.items() if called.startswith("dovrek.core")]:
        for held, value in list(vars(module).items()):
            if value is function:
                setattr(module, held, call)


class _Record:
    """A record whose fields are read and set by name, as kernels do. (numpy's own reads what an
    array is by the same names: `base` is another thing there.)"""

    def __init__(self, held: Any) -> None:
        object.__setattr__(self, "_held", held)

    def __getattr__(self, name: str) -> Any:
        return self._held[name]

    def __setattr__(self, name: str, value: Any) -> None:
        self._held[name] = value


def _by_name(value: Any) -> Any:
    """The same with records whose fields are read by name."""
    if isinstance(value, np.void):
        return _Record(value)
    if isinstance(value, np.ndarray) and value.dtype.names:
        return [_Record(one) for one in value]
    if isinstance(value, tuple):
        parts = [_by_name(one) for one in value]
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    return value


def main(path: str) -> None:
    """Trace rays spread over a picture and write their mean counts to standard output."""
    from dovrek.core.clouds import density
    from dovrek.core.clouds.builds import heaps
    from dovrek.core.compile import noise
    from dovrek.core.geometry.views import pixel_size, ray_of
    from dovrek.core.transport import look_ups, march
    from dovrek.core.transport.sample import OUT
    from dovrek.core.transport.scene import Marching
    from dovrek.core.transport.scratch import SHADOWS, SPANS, WALK

    scene, lens, (width, height), step, rays = pickle.loads(Path(path).read_bytes())
    scene = _by_name(scene)
    counts = {"densities": 0, "noise": 0, "shapes": 0, "light": 0}
    _count(counts, "noise", noise.noise_at)
    _count(counts, "shapes", heaps._shape_distance)
    _count(counts, "densities", density.density)
    _count(counts, "light", look_ups.grid_light, GRID_CHANNELS)
    _count(counts, "light", look_ups.grid_depth)
    marching = Marching(step, 2.0, False, True)
    place, ray, out = np.empty(2), np.empty(3), np.empty(OUT)
    spans, shadows = _Record(np.zeros(1, SPANS)[0]), _Record(np.zeros(1, SHADOWS)[0])
    rng = np.random.default_rng(5)
    for u, v in rng.uniform(size=(rays, 2)):
        ray_of(lens, u, v, place, ray)
        walk = _Record(np.zeros(1, WALK)[0])
        walk.x0, walk.y0, walk.height = 0.0, 0.0, scene.height
        walk.dx, walk.dy, walk.dz = ray
        walk.pixel_m, walk.pixel_rad = 0.0, pixel_size(lens, width, height)
        walk.random, walk.stream, walk.mirror = rng.uniform(), int(rng.integers(1e6)), 0
        march.trace(scene, marching, walk, spans, shadows, out, np.empty(0))
    sys.stdout.buffer.write(pickle.dumps({k: v / rays for k, v in counts.items()}))


if __name__ == "__main__":
    main(sys.argv[1])
