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
FAR_GROWS = 1.3  # in hand: as a ratio, steps of how far tables reach
DENSER = 1.08  # as a ratio, steps of density
BASES_M = 250.0  # and steps of the heights from which layers shade each other


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
    ground: tuple[int, int] = (16, 64)  # a side: rays that fall on it, looks at its sun and shade

    @property
    def rough(self) -> bool:
        """Whether it is for sketches."""
        return self.name in ("sketch", "hand")

    @property
    def in_hand(self) -> bool:
        """Whether it is for pictures under a moving hand: light and sky may be those of a sun
        near by, kept from the picture before."""
        return self.name == "hand"

    def far(self, metres: float) -> float:
        """As far as tables and grids reach that are to hold `metres`: in hand one of a few
        distances, so that a layer that rises keeps them."""
        if not self.in_hand:
            return metres
        return FAR_GROWS ** math.ceil(math.log(metres) / math.log(FAR_GROWS))

    def dense(self, extinction: float) -> float:
        """A layer's extinction as far as light in it is solved: in hand one of a few."""
        if not self.in_hand or extinction <= 0.0:
            return extinction
        return DENSER ** round(math.log(extinction) / math.log(DENSER))

    def level(self, metres: float) -> float:
        """A layer's height as far as others shade it: in hand one of a few."""
        return BASES_M * round(metres / BASES_M) if self.in_hand else metres

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
HAND = replace(SKETCH, name="hand", cells=CELLS_HAND, sweeps=(4, 3), samples=(2, 2),
               ground=(12, 32))
FINE = Fineness("fine", FULL_GRID, CELLS_FULL, (16, 8), (4, 3))
