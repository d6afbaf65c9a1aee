"""What is measured on a picture, against skies whose clouds are known."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.colour.film import develop
from dovrek.core.photo.cloud_look import differ
from dovrek.core.photo.likeness import RATIO, difference_of, horizon_of, likeness_of, mask_overlay
from dovrek.core.picture.studio import Studio, Wish
from dovrek.store.tables import Reference
from tests.conftest import long, sky_of

CAMERA = {"heading_deg": 0, "pitch_deg": 14.0, "lens_mm": 26.0}
HORIZON = horizon_of(14.0, sky_of(camera=CAMERA).camera.fov_v_rad) - 0.02


@pytest.mark.parametrize(("height", "bearing", "haze", "layer"), [
    (50, 120, 0.1, None), (25, 200, 0.2, {"genus": "cumulus", "cover_oktas": 2.5, "seed": 3}),
    long(35, 90, 0.07, {"genus": "altocumulus", "cover_oktas": 4, "seed": 5}),
    (60, 180, 0.15, {"genus": "cirrus", "cover_oktas": 3, "seed": 2}),
    long(40, 150, 0.3, {"genus": "stratocumulus", "cover_oktas": 5, "seed": 4}),
    long(63, 290, 0.06, {"genus": "cumulus", "cover_oktas": 2, "seed": 47}),
    (30, 100, 0.1, {"genus": "stratus", "cover_oktas": 8, "seed": 1})])
def test_the_cover_of_a_frame_is_measured(studio: Studio, height: float, bearing: float,
                                          haze: float, layer: Any) -> None:
    """Within one okta of the pixels that differ from the same sky without cloud."""
    shown, metered = [], None
    for layers in ([layer] if layer else [], []):
        done = studio.render(
            sky_of(camera=CAMERA, air={"haze": haze}, layers=layers, sun={
                "mode": "free", "elevation_deg": height, "azimuth_deg": bearing}),
            Wish(240, 135, "draft"))
        metered = metered or done.metered
        shown.append(np.asarray(develop(done.light, *metered[:4]), dtype=np.uint8))
    rows = int(HORIZON * 135)
    true = 8.0 * float(differ(*shown)[:rows].mean())
    assert likeness_of(shown[0], HORIZON).cover_oktas == pytest.approx(true, abs=1.0)


def test_a_photograph_begins_with_the_usual_ratio() -> None:
    assert Reference.ratio.default == RATIO


def test_dim_pixels_say_nothing_of_cloud() -> None:
    """A black picture has no cover that can be told; half of one has the other's."""
    dark = np.zeros((40, 60, 3), dtype=np.uint8)
    found = likeness_of(dark)
    assert found.cover_oktas is None and found.contrast is None and found.brightness == 0.0
    dark[:, 30:] = (200, 200, 205)
    assert likeness_of(dark).cover_oktas == 8.0


def test_one_row_of_sky_is_measured() -> None:
    """A horizon line at the very top leaves a row; the thirds are then that row."""
    picture = np.full((50, 20, 3), (70, 110, 190), dtype=np.uint8)
    picture[1:] = (10, 200, 10)
    found = likeness_of(picture, 0.0)
    assert found.zenith == found.middle == found.horizon == "#466ebe"
    assert found.cover_oktas == 0.0 and found.hidden == 0.0


def test_overlays_leave_the_picture_itself_alone() -> None:
    picture = np.full((60, 60, 3), 180, dtype=np.uint8)
    kept = picture.copy()
    assert (mask_overlay(picture, 0.5, 0.6)[:29] != kept[:29]).any()
    assert np.array_equal(mask_overlay(picture, 0.5, 0.6)[32:], kept[32:])
    assert np.array_equal(picture, kept)
    assert (difference_of(picture, picture) == 128).all()
