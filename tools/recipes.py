"""Paint the pictures of the shipped recipes: python -m tools.recipes [SLUG …]."""

from __future__ import annotations

import io
import sys
from pathlib import Path

from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.reading import sky_from_data
from dovrek.sky.recipe import shipped, with_recipe
from dovrek.web.recipes.library import STAGE

TARGET = Path(__file__).parent.parent / "dovrek/store/recipe_pictures"
SIZE, SHOWN = (800, 450), (400, 225)
# Layers that want another eye than the stage's: the camera's values.
EYES = {"anvil-storm": {"pitch_deg": 10, "lens_mm": 20}, "bald-giants": {"pitch_deg": 10},
        "turning-storm": {"altitude_m": 700_000, "pitch_deg": -90, "lens_mm": 24},
        "weather-systems": {"altitude_m": 12_000_000, "pitch_deg": -90, "lens_mm": 24},
        "halo-veil": {"heading_deg": 95, "pitch_deg": 32, "lens_mm": 16},
        "ground-glass": {"heading_deg": 95, "pitch_deg": 28, "lens_mm": 24}}


def main(wanted: list[str]) -> None:
    studio = Studio(2)
    TARGET.mkdir(exist_ok=True)
    for slug, recipe in shipped().items():
        if wanted and slug not in wanted:
            continue
        if recipe.sky is not None:
            sky = recipe.sky
        else:
            stage = {**STAGE, "camera": {**STAGE["camera"], **EYES.get(slug, {})}}
            sky, _ = with_recipe(sky_from_data(stage), recipe)
        done = studio.render(sky, Wish(*SIZE, quality="proof"))
        picture = Image.fromarray(develop(done.light, *done.metered))
        buffer = io.BytesIO()
        picture.resize(SHOWN, Image.Resampling.LANCZOS).save(buffer, "JPEG", quality=84)
        (TARGET / f"{slug}.jpg").write_bytes(buffer.getvalue())
        print(slug, f"{len(buffer.getvalue()) / 1e3:.0f} kB", flush=True)
    studio.close()


if __name__ == "__main__":
    main(sys.argv[1:])
