"""Tints that layers take from a picture behind them. The pictures are renders, some of them tinted
by a known amount."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.core.colour.tint import tint_factors
from dovrek.core.picture.matched import colour_of_ratio, tints_of_behind
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.formats.behind import behind_of
from dovrek.sky.document import Sky
from tests.conftest import free_sun

CAMERA = {"pitch_deg": 10, "lens_mm": 24}
FILM = {"curve": "plain"}


def over(studio: Studio, gains: tuple[float, float, float]) -> Sky:
    """A sky before its own render, whose light was multiplied by gains of red, green and blue."""
    site = free_sun(35, camera=CAMERA, film=FILM)
    done = studio.render(site, Wish(192, 108, "draft", sun_disc=False))
    light = done.light.copy()
    to = np.linalg.inv(RGB_TO_XYZ)
    light[..., :3] = (light[..., :3] @ to.T * np.array(gains)) @ RGB_TO_XYZ.T
    file = io.BytesIO()
    Image.fromarray(np.asarray(develop(light, *done.metered[:4]), dtype=np.uint8)).save(file, "PNG")
    return free_sun(35, camera=CAMERA, film=FILM, layers=[{"genus": "cumulus", "id": "a"}],
                    behind={"asset": behind_of(file.getvalue(), False).asset})


def test_a_picture_of_our_own_sky_asks_for_no_tint(studio: Studio) -> None:
    found = tints_of_behind(over(studio, (1.0, 1.0, 1.0)), studio.preparer, Cancel())
    assert found is not None
    for colour in (found.body, found.base):
        assert tint_factors(colour, 1.0) == pytest.approx(np.ones(3), abs=0.06)


@pytest.mark.parametrize("gains", [(1.25, 1.0, 0.8), (0.85, 1.0, 1.15)])
def test_a_tinted_picture_asks_for_its_tint(studio: Studio, gains: tuple[float, ...]) -> None:
    """Red over blue of what the tints do, against that of the gains."""
    found = tints_of_behind(over(studio, gains), studio.preparer, Cancel())
    plain = tints_of_behind(over(studio, (1.0, 1.0, 1.0)), studio.preparer, Cancel())
    assert found is not None and plain is not None
    for one, other in zip(found, plain, strict=True):
        x, _, z = tint_factors(one, 1.0) / tint_factors(other, 1.0)
        assert (x / z > 1.0) == (gains[0] > gains[2])
        assert x / z == pytest.approx((gains[0] / gains[2]) ** 0.85, rel=0.2)


def test_without_a_picture_or_its_sky_there_is_none(studio: Studio) -> None:
    sky = over(studio, (1.0, 1.0, 1.0))
    assert tints_of_behind(free_sun(35), studio.preparer, Cancel()) is None
    down = sky.model_copy(update={"camera": sky.camera.model_copy(update={"pitch_deg": -80.0})})
    assert tints_of_behind(down, studio.preparer, Cancel()) is None


def test_colours_outside_are_brought_in() -> None:
    """A ratio that no tint gives comes out as the most vivid one of its hue."""
    colour = colour_of_ratio(np.array([0.5, 1.0, 0.1]))
    assert colour.startswith("#") and min(int(colour[k : k + 2], 16) for k in (1, 3, 5)) == 0
    assert tint_factors(colour_of_ratio(np.ones(3)), 1.0) == pytest.approx(np.ones(3), abs=0.01)
