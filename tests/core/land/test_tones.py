"""A picture laid over the land: where its colours lie, their ratios, and its mean from afar."""

from __future__ import annotations

import base64
import io
from typing import Any

import numpy as np
import pytest
from PIL import Image

from dovrek.core.land.tones import SIDE, land_tones
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.stage import Tools
from dovrek.core.run.workers import Cancel, Workers
from dovrek.sky.advisories import advisories
from dovrek.sky.document import Sky
from tests.conftest import free_sun


def asset_of(pixels: np.ndarray) -> str:
    buffer = io.BytesIO()
    Image.fromarray(pixels.astype(np.uint8)).save(buffer, "PNG")
    return "data:image/png;base64," + base64.b64encode(buffer.getvalue()).decode()


def quarters() -> np.ndarray:
    """North-west red, north-east green, the south grey."""
    found = np.full((64, 64, 3), 128)
    found[:32, :32], found[:32, 32:] = (180, 60, 50), (70, 150, 60)
    return found


def tones_of(asset: str) -> Any:
    return land_tones.build(Tools(Workers(1), Cancel()), picture=asset)


def test_the_coarsest_tone_is_one() -> None:
    """The mean of the luminance is 1, at every level; red is red on the west side of the north."""
    tones = tones_of(asset_of(quarters()))
    finest = tones[: SIDE * SIDE].reshape(SIDE, SIDE, 3)
    assert tones[-1, 1] == pytest.approx(1.0, rel=1e-3)
    west, east = finest[100, 900], finest[900, 900]  # east, then north
    assert west[0] > 1.3 * west[1] and east[1] > 1.2 * east[0]
    grey = finest[500, 100]
    assert grey == pytest.approx(np.full(3, grey[1]), rel=1e-3)  # grey has no hue


@pytest.mark.parametrize("asset", ["", "colours.jpg", "data:image/png;base64,AAAA"])
def test_no_picture_is_no_tone(asset: str) -> None:
    assert np.array_equal(tones_of(asset), np.ones((1, 3), np.float32))


def land(picture: str, **camera: Any) -> Sky:
    return free_sun(50, camera={"pitch_deg": -90.0, "altitude_m": 2900.0, **camera},
                    relief={"form": "hills", "highest_m": 10, "extent_km": 3, "north_km": 0,
                            "ruggedness": 0, "picture": picture}, air={"ground_variety": 0})


def test_the_land_shows_it(studio: Studio) -> None:
    """Seen straight down: red to the north-west of the foot, grey to the south; the albedo on the
    whole stays what it is."""
    plain = studio.render(land(""), Wish(160, 90, "draft")).light[..., :3]
    shown = studio.render(land(asset_of(quarters())), Wish(160, 90, "draft")).light[..., :3]
    ratio = shown / plain
    inside = np.s_[20:70, 50:110]
    assert ratio[inside][..., 1].mean() == pytest.approx(1.0, abs=0.12)
    red, green = ratio[25:40, 55:72].mean(axis=(0, 1)), ratio[25:40, 88:105].mean(axis=(0, 1))
    assert red[0] > 1.1 * red[1] > 0.0 and green[1] > 1.08 * green[0]
    south = ratio[55:68, 60:100].mean(axis=(0, 1))
    assert south == pytest.approx(np.full(3, south[1]), rel=0.06)


def test_what_is_not_there_says_so() -> None:
    told = [a.where for a in advisories(land("colours.jpg"), 50.0)]
    assert "relief.picture" in told
