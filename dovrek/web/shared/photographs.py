"""Photographs that stand beside a sky: their pixels, framing, and how much cloud they show."""

from __future__ import annotations

import io
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from PIL import Image

from dovrek.core.photo.foreground import standing
from dovrek.core.photo.likeness import Pixels, likeness_of
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_to_data
from dovrek.store import versions as kept


def skyline_of(row: Any) -> tuple[float, ...]:
    """The traced skyline of a photograph, as `standing` has it."""
    return tuple(float(part) for part in str(row.skyline).split(",") if part)


@lru_cache(maxsize=24)
def opened(png: bytes) -> Pixels:
    return np.asarray(Image.open(io.BytesIO(png)).convert("RGB"))


def framed_as(sky: Sky, row: Any) -> Sky:
    """The sky through the photograph's lens: its angle of view, its shape, its horizon."""
    aspect = min(max(row.width / row.height, 0.25), 4.0)
    camera = sky_to_data(sky)
    camera["camera"] |= {"lens_mm": row.lens_mm, "sensor_width_mm": 36.0,
                         "aspect": aspect, "roll_deg": 0.0}
    framed = sky_from_data(camera)
    tangent = (2.0 * row.horizon - 1.0) * np.tan(0.5 * framed.camera.fov_v_rad)
    if row.horizon < 1.0:
        camera["camera"]["pitch_deg"] = float(np.degrees(np.arctan(tangent)))
    return sky_from_data(camera)


@lru_cache(maxsize=24)
def _cover(slug: str, number: int, horizon: float, ratio: float, skyline: tuple[float, ...],
           created: str) -> float | None:
    pixels = opened(bytes(kept.reference(slug, number).picture))
    return likeness_of(pixels, horizon, ratio, standing(pixels, horizon, skyline)).cover_oktas


class Told(NamedTuple):
    """How much cloud a photograph shows, by the ratio of red to blue that it is judged by."""

    oktas: float | None
    ratio: float


def reference_cover(slug: str) -> Told | None:
    """Of the photograph added last, if there is one; measured once a framing."""
    row = kept.newest_framing(slug)
    if row is None:
        return None
    ratio = float(row.ratio)
    return Told(_cover(slug, row.id, float(row.horizon), ratio, skyline_of(row),
                       str(row.created)), ratio)
