"""A layer's field on rasters, for tests: quick loops over the density."""

from __future__ import annotations

from typing import Any

import numpy as np

from dovrek.core.clouds.density import density
from dovrek.core.compile.kernels import kernel


@kernel
def _fill(field, half, z, footprint, detail, out):  # type: ignore[no-untyped-def]
    count = out.shape[0]
    pixel = 2.0 * half / count
    for i in range(count):
        for j in range(count):
            _, sigma = density(field, 0, (i + 0.5) * pixel - half, (j + 0.5) * pixel - half, z,
                               footprint, detail)
            out[i, j] = sigma


def plan_of(field: Any, half: float, count: int, z: float, footprint: float = 0.0,
            detail: float = 0.0) -> Any:
    """(count, count) extinction, 1/m, z metres above the base, over ± half metres; the first index
    goes east, the second north."""
    out = np.empty((count, count))
    _fill(field, float(half), float(z), float(footprint), float(detail), out)
    return out
