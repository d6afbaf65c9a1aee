"""Twelve deals of a layer, or of the whole sky."""

from __future__ import annotations

from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.trials import value_at
from dovrek.web.composer.sheets.frames import SHEET_COUNT, Sheet, frame_of, setting
from dovrek.web.live.boards import Frame


def _frames(sky: Sky, layer: Layer | None) -> list[Frame | None]:
    path = f"layers[{layer.id}].seed" if layer else "seed"
    now = int(value_at(sky, path))
    seeds = [(now + k) % 999_999 for k in range(SHEET_COUNT)]
    return [frame_of(sky, f"seed {s}", "Seed", setting({path: s})) for s in seeds]


SEEDS = Sheet(_frames, "Seeds of {}", of_sky="Seeds", of_layer="Twelve deals",
              tip="The same sky dealt twelve times")
