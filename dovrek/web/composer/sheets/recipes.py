"""A layer as it is, and as the recipes of its genus would have it."""

from __future__ import annotations

from collections.abc import Callable

from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.store import recipes as library
from dovrek.web.composer.sheets.frames import SHEET_COUNT, Sheet, frame_of
from dovrek.web.live.boards import Frame


def _frames(sky: Sky, layer: Layer | None) -> list[Frame | None]:
    assert layer is not None  # there is no such sheet of a whole sky

    def taking(row: library.Entry) -> Callable[[Sky], Sky]:
        return lambda now: library.layer_replaced(now, layer.id, row)

    found = library.suiting(layer.genus)[: SHEET_COUNT - 1]
    return [frame_of(sky, "as it is", "", lambda now: now),
            *[frame_of(sky, row.name, f"Recipe {row.name}", taking(row)) for row in found]]


RECIPES = Sheet(_frames, "Recipes for {}", of_layer="Recipes for it")
