"""An even layer without end: what plane-parallel theory is about."""

from __future__ import annotations

from dovrek.core.clouds.builds import sheet
from dovrek.core.clouds.builds.build import Build, LightCells, no_score
from dovrek.core.clouds.record import SHEET
from dovrek.core.compile.kernels import inner


@inner
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction between two level faces."""
    f = min(z, p.thickness - z)
    return f, p.extinction if f > 0.0 else 0.0


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of a sheet's light grid, the slab's faces on their faces."""
    return sheet.cells_of(size_m, thick_m, sigma_per_m)._replace(flush=True)


BUILD = Build("slab", SHEET, sample, no_score, sheet.step_m, cells_of)
