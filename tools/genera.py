"""Sheets of every genus and its main species: `python -m tools.genera` writes them anew.

Same camera and air for all; once with the sun 35° high at the side, once low and nearly ahead. And
a strip of six stages of life for four genera.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from dovrek.core.colour.film import develop
from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
CELL = (384, 216)
COLUMNS = 5
GAP, TITLE = 8, 20
BOARD, INK = (176, 176, 176), (20, 20, 20)
SUNS = {"genera": (35.0, 75.0), "genera-low-sun": (6.0, 12.0)}
STAGES = (0.12, 0.26, 0.5, 0.72, 0.84, 0.94)

# Genus, species, varieties, features, further values.
Case = tuple[str, str, list[str], list[str], dict[str, Any]]
CASES: list[Case] = [
    ("cumulus", "humilis", [], [], {}),
    ("cumulus", "mediocris", [], [], {}),
    ("cumulus", "congestus", [], [], {}),
    ("cumulus", "fractus", [], [], {}),
    ("cumulus", "", ["radiatus"], [], {}),
    ("cumulonimbus", "calvus", [], ["praecipitatio"], {}),
    ("cumulonimbus", "capillatus", [], ["incus", "praecipitatio"], {}),
    ("stratocumulus", "stratiformis", [], [], {}),
    ("stratocumulus", "", ["undulatus"], [], {}),
    ("stratocumulus", "", ["perlucidus"], [], {}),
    ("stratus", "nebulosus", [], [], {}),
    ("stratus", "fractus", [], [], {}),
    ("nimbostratus", "", [], ["praecipitatio"], {}),
    ("altostratus", "", ["translucidus"], [], {}),
    ("altostratus", "", ["opacus"], [], {}),
    ("altocumulus", "stratiformis", [], [], {}),
    ("altocumulus", "", ["undulatus"], [], {}),
    ("altocumulus", "floccus", [], ["virga"], {}),
    ("altocumulus", "castellanus", [], [], {}),
    ("altocumulus", "lenticularis", [], [], {}),
    ("cirrus", "fibratus", [], [], {}),
    ("cirrus", "uncinus", [], [], {}),
    ("cirrus", "spissatus", [], [], {}),
    ("cirrocumulus", "", ["undulatus"], [], {}),
    ("cirrostratus", "nebulosus", [], [], {}),
]


def sky_of(case: Case, sun: tuple[float, float], **more: Any) -> Sky:
    """One layer under the sheet's sun and camera."""
    genus, species, varieties, features, values = case
    layer = {"genus": genus, "species": species, "varieties": varieties, "features": features,
             "id": "one", "seed": 3, **values, **more}
    return sky_from_data({
        "dovrek": 1, "sun": {"mode": "free", "elevation_deg": sun[0], "azimuth_deg": sun[1]},
        "camera": {"heading_deg": 0.0, "pitch_deg": 17.0, "lens_mm": 24.0}, "layers": [layer]})


def title_of(case: Case) -> str:
    genus, species, varieties, features, _ = case
    return " ".join([genus, species, *varieties, *features]).replace("  ", " ")


def picture_of(studio: Studio, sky: Sky, size: tuple[int, int] = CELL,
               quality: str = "proof") -> Image.Image:
    """A developed picture, marched at twice the size and averaged."""
    made = studio.render(sky, Wish(2 * size[0], 2 * size[1], quality))
    h, w, c = made.light.shape
    light = made.light.reshape(h // 2, 2, w // 2, 2, c).mean((1, 3)).astype(np.float32)
    return Image.fromarray(develop(light, *made.metered))


def sheet_of(pictures: list[tuple[str, Image.Image]], columns: int = COLUMNS) -> Image.Image:
    """Pictures with their titles below, on the grey board."""
    w, h = pictures[0][1].size
    rows = -(-len(pictures) // columns)
    sheet = Image.new("RGB", (GAP + columns * (w + GAP), GAP + rows * (h + TITLE + GAP)), BOARD)
    pen, font = ImageDraw.Draw(sheet), ImageFont.load_default(13)
    for k, (title, picture) in enumerate(pictures):
        x, y = GAP + k % columns * (w + GAP), GAP + k // columns * (h + TITLE + GAP)
        sheet.paste(picture, (x, y))
        pen.text((x, y + h + 2), title, fill=INK, font=font)
    return sheet


def life_strip(studio: Studio) -> Image.Image:
    """Six stages of life of four genera."""
    pictures = []
    for genus in ("cumulus", "altocumulus", "cirrus", "stratus"):
        values: dict[str, Any] = {"cover_oktas": 6.0} if genus == "stratus" else {}
        for stage in STAGES:
            sky = sky_of((genus, "", [], [], values), SUNS["genera"], life={"stage": stage})
            pictures.append((f"{genus}, stage {stage}", picture_of(studio, sky, (288, 162))))
    return sheet_of(pictures, len(STAGES))


def main(wanted: list[str]) -> None:
    studio = Studio(2)
    for name, sun in SUNS.items():
        if not wanted or name in wanted:
            sheet_of([(title_of(c), picture_of(studio, sky_of(c, sun))) for c in CASES]).save(
                FOLDER / f"{name}.png", optimize=True)
    if not wanted or "life" in wanted:
        life_strip(studio).save(FOLDER / "life.png", optimize=True)
    studio.close()


if __name__ == "__main__":
    main(sys.argv[1:])
