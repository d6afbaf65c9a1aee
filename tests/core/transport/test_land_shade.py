"""Land before a low sun: fog behind it lies in its shade."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.relief import Relief
from tests.conftest import free_sun

RELIEF = {"form": "mountain", "highest_m": 1200, "extent_km": 8, "north_km": 0, "ruggedness": 0.2}


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
