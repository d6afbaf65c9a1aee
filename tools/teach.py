"""Teach what genera look like: skies of known genus rendered small, their features kept, and the
table of `core.photo.cloud_look` made from them. python -m tools.teach [skies, 240 by default]
(about three seconds a sky). Every value of these skies is drawn at random."""

from __future__ import annotations

import json
import math
import random
import sys
from pathlib import Path
from typing import Any

import numpy as np

import dovrek.core.data
from dovrek.core.colour.film import develop
from dovrek.core.photo.clear_fit import STRICT, Framing, Match, descend, point_of
from dovrek.core.photo.clear_skies import ClearSkies
from dovrek.core.photo.cloud_look import TABLE, Discriminant, Stage, taught
from dovrek.core.photo.likeness import horizon_of
from dovrek.core.photo.suggest import GENERA
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.reading import sky_from_data

SKIES, FRAMES, SEED = 240, 3, 7001
SIZE = (240, 136)
DRAWN = 0.05
FOLDS = 8


def frames(count: int) -> tuple[np.ndarray, list[str]]:
    """Features of `FRAMES` frames of each of `count` skies, and their genera."""
    studio, draw = Studio(2), random.Random(SEED)
    skies = ClearSkies(sky_from_data({"dovrek": 1}), Preparer(studio.workers, StageCache()),
                       Cancel())
    features, genera = [], []
    for number in range(count):
        genus = GENERA[number % len(GENERA)]
        height = draw.choice([draw.uniform(2, 15), draw.uniform(10, 35), draw.uniform(30, 68)])
        haze, bearing = round(10 ** draw.uniform(-1.4, -0.45), 3), draw.uniform(0, 360)
        layer: dict[str, Any] = {"genus": genus, "cover_oktas": round(draw.uniform(0.8, 6.5), 2),
                                 "seed": draw.randrange(10**6)}
        if draw.random() < 0.7:
            layer["clearings"] = {**GENUS_DEFAULTS[genus].get("clearings", {}), "share": 0.0}
        lens, pitch = math.exp(draw.uniform(math.log(18), math.log(40))), draw.uniform(7, 22)
        for _ in range(FRAMES):
            heading = draw.uniform(0, 360)
            sky = sky_from_data({
                "dovrek": 1, "air": {"haze": haze}, "layers": [layer],
                "camera": {"heading_deg": heading, "pitch_deg": pitch, "lens_mm": lens},
                "sun": {"mode": "free", "elevation_deg": height, "azimuth_deg": bearing}})
            done = studio.render(sky, Wish(*SIZE, "draft"))
            picture = np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8)
            framing = Framing(sky.camera.fov_h_rad, pitch,
                              horizon_of(pitch, sky.camera.fov_v_rad))
            true = point_of(height, haze, bearing - heading, *done.metered[:2], skies)
            fitted = descend(Match(picture, framing), skies, true, STRICT, 5)
            features.append(Stage(framing, picture.shape).look(picture, skies, fitted).features)
            genera.append(genus)
        print(f"{number + 1} of {count}", end="\r", flush=True)
    studio.close()
    return np.array(features), genera


def right(features: np.ndarray, genera: list[str]) -> tuple[float, float]:
    """Shares of frames named right, and right among the two likeliest, by tables that were taught
    on other skies."""
    fold = np.random.default_rng(0).integers(0, FOLDS, len(genera) // FRAMES).repeat(FRAMES)
    first = second = 0
    for k in range(FOLDS):
        table = taught(features[fold != k], [g for g, f in zip(genera, fold, strict=True)
                                             if f != k], DRAWN)
        for look, genus in ((x, g) for x, g, f in zip(features, genera, fold, strict=True)
                            if f == k):
            chances = table.chances(look)
            order = sorted(chances, key=lambda name: -chances[name])
            first += order[0] == genus
            second += genus in order[:2]
    return first / len(genera), second / len(genera)


def written(table: Discriminant) -> str:
    """The table as text: five figures are more than it knows."""
    def rounded(values: np.ndarray) -> Any:
        return json.loads(json.dumps(values.tolist()),
                          parse_float=lambda text: float(f"{float(text):.5g}"))

    return json.dumps({"genera": table.genera, **{
        name: rounded(getattr(table, name)) for name in ("mean", "scale", "weights", "offsets")}})


if __name__ == "__main__":
    seen, known = frames(int(sys.argv[1]) if len(sys.argv) > 1 else SKIES)
    first, second = right(seen, known)
    print(f"{len(known)} frames; on skies not taught {first:.0%} right, "
          f"{second:.0%} among the two likeliest")
    place = Path(str(dovrek.core.data.__path__[0])) / TABLE
    place.write_text(written(taught(seen, known, DRAWN)) + "\n")
