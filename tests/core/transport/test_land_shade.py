"""Land before a low sun: fog and haze behind it lie in its shade."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.scene import Scene
from dovrek.core.transport.scratch import SHADOWS
from dovrek.core.transport.shadow_rays import find_shadows, lit_share
from dovrek.sky.relief import Relief
from tests.conftest import free_sun

RELIEF = {"form": "mountain", "highest_m": 1200, "extent_km": 8, "north_km": 0, "ruggedness": 0.2}

PEAK = {"form": "mountain", "highest_m": 1800, "extent_km": 14, "north_km": -9, "ruggedness": 0.3}


def haze_scene(studio: Studio, elevation: float) -> Scene:
    sky = free_sun(elevation, relief=PEAK, air={"haze": 0.3})
    return studio.prepare(sky, Wish(64, 36, "draft"), Cancel())[0].scene


def shadows_toward(scene: Scene, height: float, bearing: float) -> np.void:
    """The haze's shadows on a level ray up to 9 km."""
    shadows = np.zeros(1, SHADOWS)[0]
    find_shadows(scene, 0.0, 0.0, height, math.sin(bearing), math.cos(bearing), 0.0, 0.0,
                 bearing, 9000.0, 0.5, shadows, np.empty(9))
    return shadows


def fog_light(studio: Studio, relief: bool, elevation: float) -> NDArray[np.float32]:
    """Luminance of deep fog from above: 40 km to a side, the mountain in its middle."""
    sky = free_sun(elevation, relief=RELIEF, fog={
        "present": True, "lies": "level", "level_m": 160, "sight_m": 150, "patchiness": 0.0})
    if not relief:
        sky = sky.model_copy(update={"relief": Relief()})
    return studio.render(sky, Wish(80, 80, "draft", "plan", extent_km=40.0)).light[..., 1]


def test_fog_behind_a_mountain_lies_in_its_shade(studio: Studio) -> None:
    """The sun stands in the south: what is dark lies to the north, for 1200/tan of its height at
    most, and fog before the mountain is as bright as without it."""
    ratio = fog_light(studio, True, 12.0) / fog_light(studio, False, 12.0)
    middle = ratio[:, 38:42].mean(axis=1)
    north = 20.0 - 0.5 * (np.arange(80) + 0.5)
    before, beyond = middle[north < -5.0], middle[north > 7.0]
    assert np.ptp(np.concatenate([before, beyond])) < 0.03  # sky's light and the air's are as were
    assert middle[(north > 3.5) & (north < 4.1)].mean() < 0.88 * before.mean()


def test_haze_before_a_mountain_lies_in_its_shade(studio: Studio) -> None:
    """The sun stands 20° high behind the mountain: the haze is lit up to where the crest's shadow
    comes down to the ray, height over tangent before it, and dark from there on."""
    scene, height = haze_scene(studio, 20.0), 400.0
    lit = shadows_toward(scene, height, math.pi)
    crest = np.array(scene.land_heights).max()
    starts = 9000.0 - (crest - height) / math.tan(math.radians(20.0))
    assert lit_share(lit, starts - 900.0) == 1.0
    beyond = [lit_share(lit, starts + d) for d in (800.0, 1600.0, 2400.0)]
    assert 1.0 > beyond[0] > beyond[1] > beyond[2]
    # Toward the other side the sun shines on all of it.
    assert lit_share(shadows_toward(scene, height, 0.0), 8000.0) == 1.0


def test_a_mountain_before_the_sun_is_darker_than_the_sky_beside_it(studio: Studio) -> None:
    """The glow of haze about the sun ends at the mountain's outline: what haze stands before it
    lies in its shade."""
    sky = free_sun(6.0, relief=PEAK, air={"haze": 0.5}, camera={
        "heading_deg": 180, "pitch_deg": 8, "lens_mm": 24, "altitude_m": 60})
    light = studio.render(sky, Wish(96, 54, "draft")).light[..., 1]
    above, on = light[16:20, 44:52].mean(), light[30:34, 44:52].mean()
    assert on < 0.1 * above
