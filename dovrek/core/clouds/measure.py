"""What a layer covers: columns, lids and scores on rasters about the camera's foot."""

from __future__ import annotations

from dovrek.core.clouds.builds import score_of
from dovrek.core.clouds.density import density
from dovrek.core.clouds.masks import within
from dovrek.core.clouds.rain import falls_from
from dovrek.core.compile.kernels import kernel

MEASURED_M = 40_000.0  # cover is measured over this square (the contract's definition)
EYE_DEPTH = 0.1  # a column this deep is cloud to the eye (common practice)
LID_STEPS = 8
LID_SIGMA = 0.1  # share of a layer's extinction that shows as a cut


@kernel
def column_depths(field, layer, half_m, count, steps, i0, i1, out, lengths):
    """Vertical optical depths on a count × count raster over ± half_m, rows i0 … i1.

    `lengths` receives the metres of each column that lie in cloud.
    """
    p = field.layers[layer]
    low, high = max(p.lowest, falls_from(p)), p.highest  # falling rain is no cover
    dz = (high - low) / steps
    pixel = 2.0 * half_m / count
    for i in range(i0, i1):
        for j in range(count):
            x, y = -half_m + (i + 0.5) * pixel, -half_m + (j + 0.5) * pixel
            total, length = 0.0, 0.0
            for k in range(steps):
                _, sigma = density(field, layer, x, y, low + (k + 0.5) * dz, 0.0, 2.0)
                total += sigma * dz
                if sigma > 0.0:
                    length += dz
            out[i, j] = total
            lengths[i, j] = length


@kernel
def lid_touched(field, layer, half_m, count):
    """Share of covered columns, on a count × count raster over ± half_m, that reach the lid."""
    p = field.layers[layer]
    low, high = max(p.lowest, falls_from(p)), p.highest  # falling rain is no cover
    pixel = 2.0 * half_m / count
    covered, touched = 0, 0
    cut = LID_SIGMA * p.extinction
    for i in range(count):
        for j in range(count):
            x, y = -half_m + (i + 0.5) * pixel, -half_m + (j + 0.5) * pixel
            if density(field, layer, x, y, high - 0.002 * (high - low), 0.0, 2.0)[1] > cut:
                touched += 1
                covered += 1
                continue
            for k in range(LID_STEPS):
                z = low + (k + 0.5) / LID_STEPS * (high - low)
                if density(field, layer, x, y, z, 0.0, 2.0)[1] > 0.0:
                    covered += 1
                    break
    return touched / covered if covered > 0 else 0.0


@kernel
def sheet_scores(field, layer, half_m, count, out):
    """Scores of a sheet on a raster (for its cover curve)."""
    p = field.layers[layer]
    pixel = 2.0 * half_m / count
    for i in range(count):
        for j in range(count):
            x, y = -half_m + (i + 0.5) * pixel, -half_m + (j + 0.5) * pixel
            out[i, j] = within(field, p, x, y, score_of(p.build, field, p, x, y, 0.0), 0.0)
