"""How finely scenes are made: for sketches, and for all that is kept."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from dovrek.core.clouds.light.grid import CELLS_FULL, CELLS_HAND, CELLS_SKETCH
from dovrek.core.clouds.placement.deal import ALL_ROUND, Ahead
from dovrek.core.clouds.shapes import FULL_GRID, SKETCH_GRID
from dovrek.core.geometry.lens import bearings_of
from dovrek.core.geometry.views import pixel_size
from dovrek.core.geometry.views.view import Lens

WEDGE_STEP, WEDGE_WIDEST = math.radians(15.0), math.radians(80.0)
SKETCH_WIDTH, LEAST_PIXELS = 240, 4.0



@dataclass(frozen=True)
class Fineness:
    """How finely maps and light grids are made."""

    name: str
    shape_grid: int
    cells: int
    sweeps: tuple[int, int]
    samples: tuple[int, int]  # looks at the density in a cell, of heaps and of sheets
    ahead: Ahead = ALL_ROUND  # heaps that stand
    least: float = 0.0  # angle over the level below which no far heap ahead stands

    @property
    def rough(self) -> bool:
        """Whether it is for sketches."""
        return self.name in ("sketch", "hand")

    @property
    def in_hand(self) -> bool:
        """Whether it is for pictures under a moving hand: light and sky may be those of a sun
        near by, kept from the picture before."""
        return self.name == "hand"

    def toward(self, lens: Lens) -> Fineness:
        """The same for one picture alone, if it is rough: heaps stand near the camera and within
        what the lens sees, up to where a few pixels over the level hold all of them; in steps
        wide enough that a small turn needs no others."""
        seen = bearings_of(lens) if self.rough else None
        if seen is None:
            return self
        middle = WEDGE_STEP * round(seen[0] / WEDGE_STEP)
        half = WEDGE_STEP * math.ceil((seen[1] + abs(seen[0] - middle)) / WEDGE_STEP)
        if half > WEDGE_WIDEST:
            return self
        pixels = LEAST_PIXELS * pixel_size(lens, SKETCH_WIDTH, 1)
        return replace(self, least=2.0 ** math.floor(math.log2(pixels)), ahead=Ahead(
            round(math.sin(middle), 6), round(math.cos(middle), 6), round(math.cos(half), 6)))


SKETCH = Fineness("sketch", SKETCH_GRID, CELLS_SKETCH, (7, 4), (3, 2))
HAND = replace(SKETCH, name="hand", cells=CELLS_HAND, sweeps=(4, 3), samples=(2, 2))
FINE = Fineness("fine", FULL_GRID, CELLS_FULL, (16, 8), (4, 3))
