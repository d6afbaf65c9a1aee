"""What a build of cloud is: one way in which density comes about, and all that hangs on it."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

from dovrek.core.compile.kernels import inner, part
from dovrek.sky.layer import Layer


class LightCells(NamedTuple):
    """Cells of a layer's light grid."""

    dx: float  # metres, innermost level
    nz: int  # up the layer
    fewer: bool = False  # three quarters of the cells across: light changes slowly
    flush: bool = False  # its faces are faces of cells


@inner
def no_score(field, p, x, y, footprint):
    """The score of what no score decides."""
    return 0.0


@part
def beyond(p, z):
    """How far a height lies beyond a sheet's faces, metres; below nought within them."""
    return max(z - 1.02 * p.thickness, -z - 0.02 * p.thickness)


def _most(p: Any) -> float:
    return max(float(p["extinction"]), float(p["fall"]))


class Build(NamedTuple):
    """One way in which density comes about. `builds.BUILDS` lists them."""

    name: str
    form: int  # HEAPED, SHEET or VEIL
    sample: Any  # kernel: (field, p, x, y, z, footprint, detail) → signed distance, extinction
    score: Any  # kernel: (field, p, x, y, footprint) → where a sheet has cloud; masks come on top
    step_m: Callable[[Layer], float]  # basic step of the march
    cells_of: Callable[[float, float, float], LightCells]  # of cell size, thickness, extinction
    most: Callable[[Any], float] = _most  # extinction that a filled record nowhere exceeds
    lowest: float = -0.03  # where it begins and ends, of the thickness
    highest: float = 1.03
    level_step_m: Callable[[Layer], float] = lambda layer: 0.0  # longest step of a level ray
    coarsest: float = math.inf  # footprint up to which its pattern may be averaged, in cells
    grounded: bool = False  # its base is the ground, wherever the layer's says
    even: bool = False  # its extinction is the record's times what no extinction changes
    # Kernels of what hangs on the place on the map alone, looked up once for a column:
    # (field, p, x, y, footprint) → four numbers, and `sample` with these behind z.
    plan: Any = None
    on_plan: Any = None
