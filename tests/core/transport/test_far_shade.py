"""Clouds' shadows on the ground as an eye high up sees them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.compile.kernels import kernel
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.far_shade import clear_from_far
from dovrek.core.transport.scene import Scene
from tests.conftest import free_sun, long


def scene_of(studio: Studio, sun: float, *layers: dict[str, object]) -> Scene:
    sky = free_sun(sun, layers=list(layers), camera={"altitude_m": 400_000, "pitch_deg": -60})
    return studio.prepare(sky, Wish(64, 36, "draft"), Cancel())[0].scene


@kernel
def _lit(scene: Any, places: Any, random: Any, lit: Any) -> None:
    for k in range(len(places)):
        lit[k] = clear_from_far(scene, places[k, 0], places[k, 1], 100.0, random)


def lit_at(scene: Scene, places: NDArray[np.float64], random: float = 0.5) -> NDArray[np.float64]:
    """How much of the sun's light comes to (n, 2) places on the ground, m."""
    lit = np.empty(len(places))
    _lit(scene, places, random, lit)
    return lit


@pytest.mark.parametrize("oktas", [long(2.0), 4.0, long(6.0)])
def test_shadows_cover_what_clouds_cover(studio: Studio, oktas: float) -> None:
    """Under a sun nearly overhead as much of the ground lies in shadow as cloud covers, within
    half an okta: 60 km about a place 200 km off."""
    scene = scene_of(studio, 85.0, {"genus": "cumulus", "cover_oktas": oktas})
    places = np.random.default_rng(4).uniform(-30e3, 30e3, (3000, 2)) + (200e3, 0.0)
    assert np.mean(1.0 - lit_at(scene, places)) == pytest.approx(oktas / 8.0, abs=0.5 / 8.0)


def test_a_shadow_lies_away_from_the_sun(studio: Studio) -> None:
    """Shadows of a bank under a sun 20° high in the south lie north of it by height over tangent:
    1600/tan 20° = 4.4 km."""
    bank = {"genus": "stratus", "cover_oktas": 8, "base_m": 1450, "thickness_m": 300,
            "bounds": {"shape": "ellipse", "north_km": 0, "length_km": 20, "width_km": 20,
                       "edge": 0.1}}
    scene = scene_of(studio, 20.0, bank)
    north = np.arange(-30e3, 30e3, 250.0)
    places = np.stack([np.zeros_like(north), north], axis=1)
    lit = np.mean([lit_at(scene, places, r) for r in (0.2, 0.5, 0.8)], axis=0)
    shade = 1.0 - lit
    assert lit[:40].min() > 0.99 and shade.max() > 0.5
    middle = (north * shade).sum() / shade.sum()
    assert middle == pytest.approx(1600.0 / np.tan(np.radians(20.0)), abs=600.0)


def test_by_night_no_ground_is_lit(studio: Studio) -> None:
    """Nearly a third of the planet's round away from the sun."""
    scene = scene_of(studio, 85.0, {"genus": "cumulus", "cover_oktas": 4.0})
    assert lit_at(scene, np.array([[0.0, 12e6]])) == 0.0
