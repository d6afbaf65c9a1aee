"""The ground's light: from the whole sky, and back to the clouds above it."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.ground import lit_from_below, over_mean
from dovrek.core.transport.look_ups import from_below, sun_passed
from dovrek.core.transport.scene import BELOW_M, GROUND, Scene
from tests.conftest import free_sun

HEAPS = {"genus": "cumulus", "id": "a", "seed": 2, "cover_oktas": 3.5, "base_m": 1000,
         "thickness_m": 1800, "cells": {"size_m": 2800}}


def scene_of(studio: Studio, height: float, *layers: dict[str, Any]) -> Scene:
    prepared, _ = studio.prepare(free_sun(height, layers=list(layers)), Wish(64, 36, "draft"),
                                 Cancel())
    return prepared.scene


def test_without_clouds_or_under_an_even_sheet_all_ground_is_alike(studio: Studio) -> None:
    for layers in ([], [{"genus": "altostratus", "id": "a", "cover_oktas": 8.0}]):
        scene = scene_of(studio, 40, *layers)
        assert scene.below == pytest.approx(1.0, abs=0.12)
        assert scene.below.mean() == pytest.approx(1.0, abs=0.01)


def test_ground_in_shade_lights_a_base_less(studio: Studio) -> None:
    """Under the midst of large heaps at noon the ground lies in shade, between them in the sun;
    on the whole as much is lost as gained. Looked up, it is what the map holds."""
    scene = scene_of(studio, 75, HEAPS)
    found = scene.below[0]
    _, looks = FINE.ground
    assert found.shape == (looks, looks)
    assert 0.3 < found.min() < 0.8 and 1.1 < found.max() < 2.0
    assert found.mean() == pytest.approx(1.0, abs=0.02)
    step = BELOW_M / looks
    places = [((i + 0.5) * step - BELOW_M / 2, (j + 0.5) * step - BELOW_M / 2)
              for i in range(8, 56, 4) for j in range(8, 56, 4)]
    lit = [sun_passed(scene, x, y, 0.0) for x, y in places]
    seen = [from_below(scene, 0, x, y) for x, y in places]
    assert seen == pytest.approx(
        [found[i, j] for i in range(8, 56, 4) for j in range(8, 56, 4)], rel=1e-5)
    assert np.corrcoef(lit, seen)[0, 1] > 0.6
    assert from_below(scene, 0, BELOW_M, 0.0) == 1.0  # beyond what is known: the mean


def test_high_layers_see_the_mean_and_low_ones_a_disc(studio: Studio) -> None:
    """From a height h half of the ground's light comes from within h (h²/(r² + h²) of it lies
    beyond r): sun and shade that change within it are evened out."""
    scene = scene_of(studio, 60, HEAPS)
    workers = studio.workers
    lit, mean = lit_from_below(scene, [300.0, 1500.0, 6000.0], 64, workers, Cancel())
    spread = lit.std(axis=(1, 2))
    assert spread[0] > 1.3 * spread[1] > 0.0 and spread[2] < 1e-12
    assert lit.mean(axis=(1, 2)) == pytest.approx(mean, abs=0.03)
    ground = np.zeros(1, GROUND)[0]
    ground["by_sky"] = 1.0
    assert over_mean(lit, mean, ground) == pytest.approx(1.0)


def test_no_shade_from_a_sun_below_the_horizon(studio: Studio) -> None:
    assert scene_of(studio, -3, HEAPS).below == pytest.approx(1.0)


def test_a_dark_base_over_shaded_ground_is_seen(studio: Studio) -> None:
    """The underside of a wide heap is darker in the midst than by mean ground alone, by no more
    than its ground is."""
    sky = free_sun(60, layers=[HEAPS], camera={"pitch_deg": 80, "lens_mm": 12})
    wish = Wish(48, 27, "proof", sun_disc=False)
    prepared, _ = studio.prepare(sky, wish, Cancel())
    with_map = studio.render(sky, wish).light[..., 1]
    scene = prepared.scene
    even = replace(prepared, scene=scene._replace(below=np.ones_like(scene.below)))
    without = render_frame(even, wish.lens(sky), (48, 27), QUALITIES["proof"], studio.workers,
                           Cancel(), False)[..., 1]
    ratio = with_map / without
    assert 0.6 < ratio.min() < 0.97 and ratio.max() < 1.3
    assert math.isclose(float(ratio.mean()), 1.0, abs_tol=0.12)
