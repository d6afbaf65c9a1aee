"""What automatic exposure and the standard film make of skies, as a photographer prints them."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.colour.film import develop
from dovrek.core.geometry.lens import direction_at
from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data
from tests.conftest import long
from tools.genera import CASES, SUNS, sky_of

SIZE = (240, 135)


def demo(name: str) -> Sky:
    text = files("dovrek.store.demo_skies").joinpath(f"{name}.json").read_text("utf-8")
    return sky_from_data(json.loads(text))


def printed(studio: Studio, sky: Sky) -> tuple[NDArray[np.float64], NDArray[np.bool_], Any]:
    """Codes of a picture's sky (n, 3), which of them lie within 3° of the sun, and its light."""
    made = studio.render(sky, Wish(*SIZE, "draft", sun_disc=False))
    picture = np.asarray(develop(made.light, *made.metered), dtype=float)
    lens, (width, height) = Wish(*SIZE).lens(sky), SIZE
    rays = np.array([[direction_at(lens, (x + 0.5) / width, (y + 0.5) / height)
                      for x in range(width)] for y in range(height)])
    sky_part = rays[..., 2] > 0.01
    sun = made.prepared.sun
    toward = np.array([np.sin(sun.azimuth) * np.cos(sun.elevation),
                       np.cos(sun.azimuth) * np.cos(sun.elevation), np.sin(sun.elevation)])
    near = (rays @ toward) > np.cos(np.radians(3.0))
    return picture[sky_part], near[sky_part], made


def burnt(codes: NDArray[np.float64]) -> float:
    return float((codes.min(axis=1) > 253.0).mean())


def grey(codes: NDArray[np.float64]) -> NDArray[np.float64]:
    return codes @ np.array([0.2126, 0.7152, 0.0722])


def test_a_fair_noon_has_white_tops_and_deep_blue(studio: Studio) -> None:
    codes, _, _ = printed(studio, demo("fair-weather-noon"))
    low, high = np.percentile(grey(codes), (1.0, 99.0))
    assert low <= 84.0 and 236.0 <= high <= 250.0 and burnt(codes) <= 0.003


@pytest.mark.parametrize("case", [
    c if k < 1 else long(c) for k, c in enumerate(
        [c for c in CASES if c[0] in ("cumulus", "cumulonimbus")][:6])],
                         ids=lambda c: " ".join((c[0], c[1])))
def test_sunlit_heaps_and_towers_are_near_white(studio: Studio, case: Any) -> None:
    codes, _, _ = printed(studio, sky_of(case, SUNS["genera"]))
    assert 234.0 <= np.percentile(grey(codes), 99.0) <= 252.0 and burnt(codes) < 0.005


def test_last_light_burns_little_beside_the_glare(studio: Studio) -> None:
    codes, near, _ = printed(studio, demo("last-light"))
    assert burnt(codes[~near]) <= 0.02


@pytest.mark.parametrize("genus", ["cumulus", long("altocumulus"), long("stratocumulus")])
def test_a_low_sun_ahead_keeps_a_glow(studio: Studio, genus: str) -> None:
    """Little burns, and from 3° on the glow keeps its gradation."""
    case = next(c for c in CASES if c[0] == genus)
    codes, near, _ = printed(studio, sky_of(case, SUNS["genera-low-sun"]))
    assert burnt(codes) <= 0.015
    assert burnt(codes[~near]) <= 0.01


def test_an_overcast_is_grey(studio: Studio) -> None:
    codes, _, _ = printed(studio, sky_from_data({
        "dovrek": 1, "sun": {"mode": "free", "elevation_deg": 40.0, "azimuth_deg": 75.0},
        "camera": {"pitch_deg": 17.0}, "layers": [{"genus": "stratus", "cover_oktas": 8}]}))
    assert 120.0 <= grey(codes).mean() <= 165.0
