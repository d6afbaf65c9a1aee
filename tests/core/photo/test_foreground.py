"""Things before the sky of a photograph: left out of what is measured and searched, and never
seen where there is nothing but sky and land. Trees and houses are painted onto renders."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image, ImageDraw
from scipy.ndimage import binary_dilation

from dovrek.core.colour.film import develop
from dovrek.core.photo.clear_fit import Framing, Match
from dovrek.core.photo.cloud_look import Stage
from dovrek.core.photo.foreground import SKYLINE_PARTS, standing
from dovrek.core.photo.likeness import horizon_of, likeness_of, mask_overlay, sky_rows
from dovrek.core.photo.suggest import TooLittleSky, suggest
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from tests.conftest import sky_of
from tools.judging import styled, vivid

PITCH = 14.0
CAMERA = {"heading_deg": 0.0, "pitch_deg": PITCH, "lens_mm": 26.0}
SITE = sky_of(camera=CAMERA)
HORIZON = horizon_of(PITCH, SITE.camera.fov_v_rad)
KNOWN = StageCache()  # clear skies of the site, rendered once
FRAMING = Framing(SITE.camera.fov_h_rad, PITCH, HORIZON)


def photograph(studio: Studio, height: float, bearing: float, *layers: Any,
               quality: str = "draft") -> Any:
    sky = sky_of(camera=CAMERA, layers=list(layers), air={"haze": 0.12},
                 sun={"mode": "free", "elevation_deg": height, "azimuth_deg": bearing})
    done = studio.render(sky, Wish(480, 270, quality))
    return np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8)


def built(picture: Any) -> tuple[Any, NDArray[np.bool_]]:
    """The picture with a brick house, a tree and a dark tower before its sky; where they are."""
    image, where = Image.fromarray(picture), Image.new("L", picture.shape[1::-1])
    rng = np.random.default_rng(4)
    for draw, plain in ((ImageDraw.Draw(image), False), (ImageDraw.Draw(where), True)):
        draw.rectangle((40, 70, 130, 269), fill=255 if plain else (112, 62, 48))
        for x in range(48, 126, 14):  # windows
            for y in range(80, 260, 20):
                draw.rectangle((x, y, x + 7, y + 10), fill=255 if plain else (28, 26, 30))
        draw.rectangle((420, 40, 450, 269), fill=255 if plain else (14, 14, 16))
        for _ in range(900):  # leaves
            x, y = rng.normal(270, 26), rng.normal(170, 30)
            green = int(rng.integers(50, 150))
            draw.ellipse((x, y, x + 6, y + 4),
                         fill=255 if plain else (int(0.7 * green), green, int(0.4 * green)))
    there = np.asarray(where) > 0
    there[int(HORIZON * len(picture)):] = False
    return np.asarray(image), there


def test_house_tree_and_tower_are_found(studio: Studio) -> None:
    """Nearly all of each, and of the sky hardly more than a seam about them."""
    picture, there = built(photograph(studio, 40, 130, {"genus": "cumulus", "cover_oktas": 2}))
    found = standing(picture, HORIZON)
    columns = np.indices(there.shape)[1]
    for left, right in ((40, 130), (415, 455)):
        assert found[there & (columns >= left) & (columns <= right)].mean() > 0.95
    assert found[there].mean() > 0.85
    below = np.logical_or.accumulate(there, axis=0)  # what is under a crown counts with it
    rows = int(HORIZON * len(picture))
    about = binary_dilation(below, iterations=14)
    assert found[:rows][~about[:rows]].mean() < 0.01
    assert not found[rows + 1:].any()


@pytest.mark.parametrize("bend", [lambda p: p, vivid, styled])
@pytest.mark.parametrize(("height", "bearing", "layer"), [
    (50, 120, {"genus": "cumulus", "cover_oktas": 4}), (2, 20, {"genus": "altocumulus"}),
    (1, 0, {"genus": "cirrus", "cover_oktas": 5}), (-3, 20, {"genus": "cirrus", "cover_oktas": 4}),
    (5, 180, {"genus": "altocumulus", "cover_oktas": 4}), (8, 0, {"genus": "cumulonimbus"}),
    (30, 90, {"genus": "nimbostratus", "cover_oktas": 8}), (5, 20, None)])
def test_nothing_is_found_in_sky_and_cloud(studio: Studio, height: float, bearing: float,
                                           layer: Any, bend: Any) -> None:
    """Not in red evenings, dark blue heights or the greenish band of a low sun, however graded."""
    picture = photograph(studio, height, bearing, *([layer] if layer else []), quality="sketch")
    assert not standing(bend(picture), HORIZON - 0.02).any()


@pytest.mark.parametrize("layer", [None, {"genus": "cumulus", "cover_oktas": 3}])
def test_night_is_no_wall(studio: Studio, layer: Any) -> None:
    """Most of the frame nearly black, its glow by the horizon: it ends softly."""
    sky = sky_of(camera=CAMERA, layers=[layer] if layer else [], film={"exposure_ev": 2.0},
                 sun={"mode": "free", "elevation_deg": -12, "azimuth_deg": 20})
    done = studio.render(sky, Wish(240, 135, "sketch"))
    shown = np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8)
    assert np.median(shown[:70]) < 8
    assert not standing(shown, HORIZON - 0.02).any()


def test_little_things_and_odd_sizes() -> None:
    """A bird is left; a picture of a few pixels, a black one and one all green do not fail."""
    sky = np.full((120, 200, 3), (120, 160, 220), dtype=np.uint8)
    sky[40:43, 60:64] = (10, 10, 10)
    assert not standing(sky, 1.0).any()
    assert standing(np.zeros((3, 5, 3), dtype=np.uint8), 0.5).shape == (3, 5)
    assert standing(np.zeros((90, 160, 3), dtype=np.uint8), 1.0).shape == (90, 160)
    green = np.zeros((90, 160, 3), dtype=np.uint8)
    green[..., 1] = np.random.default_rng(1).integers(60, 255, (90, 160))
    assert standing(green, 1.0).all()


def test_what_is_hidden_is_not_measured(studio: Studio) -> None:
    """A clear sky behind house and tree has no cloud and its own colours."""
    plain = photograph(studio, 40, 130)
    picture, _ = built(plain)
    hidden = standing(picture, HORIZON)
    without, clear = (likeness_of(p, HORIZON, 0.9) for p in (picture, plain))  # haze is no cloud
    ours = likeness_of(picture, HORIZON, 0.9, hidden)
    assert without.cover_oktas is not None and clear.cover_oktas is not None
    assert ours.cover_oktas is not None
    assert without.cover_oktas > clear.cover_oktas + 1.0
    assert ours.cover_oktas == pytest.approx(clear.cover_oktas, abs=0.25)
    assert ours.hidden == pytest.approx(hidden[: int(round(HORIZON * 270))].mean())
    behind = likeness_of(plain, HORIZON, 0.9, hidden)
    assert ours.brightness == pytest.approx(behind.brightness, abs=0.01)
    for code, other in zip((ours.zenith, ours.middle, ours.horizon),
                           (behind.zenith, behind.middle, behind.horizon), strict=True):
        assert np.abs(np.subtract(*(list(bytes.fromhex(c[1:])) for c in (code, other)))).max() <= 3
    assert clear.hidden == 0.0
    shown = mask_overlay(picture, HORIZON, 0.9, hidden)
    changed = (shown != picture).any(axis=2) & hidden
    assert 0.3 < changed.sum() / hidden.sum() < 0.5
    assert likeness_of(picture, HORIZON, hidden=np.ones_like(hidden)).hidden == 0.0  # all or none


@pytest.mark.long
def test_a_sky_is_suggested_behind_a_house(studio: Studio) -> None:
    """What stands before a clear sky is neither cloud nor a reason for another sun, and said."""
    picture, _ = built(photograph(studio, 40, 130))
    got = suggest(SITE, picture, FRAMING, Preparer(studio.workers, StageCache()), Cancel(),
                  known_skies=KNOWN)
    assert got.sun_elevation_deg == pytest.approx(40.0, abs=4.0)
    assert got.cover_oktas < 0.5
    assert got.error < 0.02
    assert any("stands before it" in text for text in got.cannot_know)


@pytest.mark.long
def test_cloud_behind_a_house_is_suggested_as_it_is(studio: Studio) -> None:
    # A deal of which the frame shows about what the layer has on the whole.
    picture, _ = built(photograph(studio, 25, 200, {"genus": "cumulus", "cover_oktas": 2.5,
                                                    "seed": 8}))
    got = suggest(SITE, picture, FRAMING, Preparer(studio.workers, StageCache()), Cancel(),
                  known_skies=KNOWN, patience=math.inf)
    assert got.genus == "cumulus"
    assert got.cover_oktas == pytest.approx(2.5, abs=1.0)
    assert got.sun_elevation_deg == pytest.approx(25.0, abs=5.0)


@pytest.mark.long
def test_a_grey_wall_is_left_out_below_a_traced_skyline(studio: Studio) -> None:
    """As grey and as light as cloud, it is not told by itself and passes for one; traced, no cloud
    is found beside it, and the sun of the clear sky."""
    picture = photograph(studio, 35, 120).copy()
    picture[30:, 300:] = np.random.default_rng(3).integers(150, 162, (240, 180, 1))
    tops = np.where(np.arange(SKYLINE_PARTS) < 300 / 480 * SKYLINE_PARTS, 1.0, 30 / 270)
    wall = np.zeros(picture.shape[:2], dtype=bool)
    wall[30:sky_rows(270, HORIZON), 300:] = True
    assert standing(picture, HORIZON)[wall].mean() < 0.1
    assert (standing(picture, HORIZON, tops) >= wall).all()
    assert standing(picture, HORIZON, tops).sum() <= 1.05 * wall.sum()
    preparer = Preparer(studio.workers, StageCache())
    seen, traced = (suggest(SITE, picture, framing, preparer, Cancel(), known_skies=KNOWN)
                    for framing in (FRAMING, replace(FRAMING, skyline=tuple(tops))))
    assert (seen.genus != "", traced.genus) == (True, "")
    assert seen.error > 5.0 * traced.error and traced.error < 0.02
    assert traced.sun_elevation_deg == pytest.approx(35.0, abs=1.5)


@pytest.mark.parametrize("height", [97, 163, 164, 165, 166, 333])
def test_frames_of_other_heights_take_a_photograph_s_mask(height: int) -> None:
    """A frame may be a row higher or lower than the photograph: its mask is brought to it."""
    rng = np.random.default_rng(height)
    frame = rng.integers(60, 200, (height, 240, 3)).astype(np.uint8)
    for rows in (height - 1, height, height + 1):
        hidden = np.zeros((rows, 240), dtype=bool)
        hidden[:, 120:] = True
        framing = Framing(FRAMING.fov_h_rad, 30.0, 1.0)
        some, every = Match(frame, framing, hidden), Match(frame, framing)
        assert len(some.up) == pytest.approx(0.5 * len(every.up), rel=0.05)
        assert (some.around < 0.02).all()
        assert Stage(framing, frame.shape, hidden).hidden[:, 48:].all()


def test_a_wall_before_all_of_the_sky_is_refused_in_words() -> None:
    rng = np.random.default_rng(2)
    leaves = np.zeros((90, 160, 3), dtype=np.uint8)
    leaves[..., 1] = rng.integers(60, 255, (90, 160))
    studio = Studio(1)
    try:
        with pytest.raises(TooLittleSky, match="more sky"):
            suggest(SITE, leaves, Framing(math.radians(70.0), 10.0, 1.0),
                    Preparer(studio.workers, StageCache()), Cancel())
    finally:
        studio.close()
