"""A sketch of a picture stands only the heaps that it can show, and looks the same."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.placement.deal import NEAR_M
from dovrek.core.geometry.lens import bearings_of, direction_at, dome_lens, picture_lens, plan_lens
from dovrek.core.geometry.planet import told_m
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare import bodies, heaped, lighting
from dovrek.core.prepare.fineness import FINE, SKETCH, Fineness
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.changes import with_values
from dovrek.sky.document import Camera, Sky
from tests.conftest import free_sun, long

HEAPS = {"genus": "cumulus", "id": "heaps", "cover_oktas": 4.0}


def heaps(**parts: Any) -> Sky:
    return free_sun(30, layers=[HEAPS], **parts)


def standing(studio: Studio, sky: Sky, fineness: Fineness) -> Any:
    """(n, 2) places of the clouds that stand, metres east and north of the camera."""
    body = studio.preparer.body(sky, sky.layers[0], fineness, Cancel())
    at, period = body.field.instances, body.record["period"]
    places = np.stack([at["x"], at["y"]], axis=-1).astype(float)
    return (places + 0.5 * period) % period - 0.5 * period


@pytest.mark.parametrize("heading", [0.0, 95.0, 181.0, 300.0])
@pytest.mark.parametrize("pitch", [-10.0, 5.0, 35.0])
def test_bearings_hold_every_ray_of_the_picture(heading: float, pitch: float) -> None:
    lens = picture_lens(Camera(heading_deg=heading, pitch_deg=pitch, lens_mm=35.0))
    found = bearings_of(lens)
    assert found is not None
    rng = np.random.default_rng(3)
    for u, v in rng.uniform(size=(200, 2)):
        east, north, _ = direction_at(lens, u, v)
        turn = (math.atan2(east, north) - found[0] + math.pi) % (2 * math.pi) - math.pi
        assert abs(turn) < found[1] + 0.01
    assert found[1] < math.radians(90.0)


def test_views_that_look_all_round_have_no_bearings() -> None:
    up_high = picture_lens(Camera(pitch_deg=75.0))
    for lens in (dome_lens(), plan_lens(1e5), up_high, picture_lens(Camera(pitch_deg=60.0))):
        assert bearings_of(lens) is None
        assert SKETCH.toward(lens) is SKETCH
    assert FINE.toward(picture_lens(Camera())) is FINE


def test_a_small_turn_needs_no_other_clouds() -> None:
    ahead = [SKETCH.toward(picture_lens(Camera(heading_deg=h, lens_mm=35.0))) for h in (44, 46, 90)]
    assert ahead[0] == ahead[1] != ahead[2]


# Towers are seen over the horizon far away.
@pytest.mark.parametrize("high", [1000.0, long(6000.0)])
def test_clouds_stand_near_and_ahead_only(studio: Studio, high: float) -> None:
    sky = with_values(heaps(camera={"heading_deg": 60.0, "lens_mm": 35.0}),
                      {"layers[heaps].thickness_m": high})
    lens = picture_lens(sky.camera)
    all_round = standing(studio, sky, SKETCH)
    some = standing(studio, sky, SKETCH.toward(lens))
    assert len(some) < 0.45 * len(all_round)
    at = {(round(x), round(y)) for x, y in some}
    missing = np.array([p for p in all_round if (round(p[0]), round(p[1])) not in at])
    # A sketch's level is near enough within a thousandth: of the smallest a few may lack.
    near = np.hypot(*missing.T) <= NEAR_M
    assert near.sum() <= 3e-3 * (np.hypot(*all_round.T) <= NEAR_M).sum() + 2
    missing = missing[~near]
    off = np.degrees(np.arctan2(missing[:, 0], missing[:, 1])) - 60.0
    aside = np.abs((off + 180.0) % 360.0 - 180.0) > 27.2  # half the angle of 35 mm
    # Of 240 pixels one is .25° wide: far off there stand tops that are seen four of them high.
    far = np.hypot(*missing.T)
    top = sky.layers[0].base_m + sky.layers[0].thickness_m - sky.site.elevation_m
    low = np.degrees(np.arctan2(top - far * far / (2.0 * 6.371e6), far)) < 1.0
    assert (aside | low).mean() > 0.999 and (~aside & low).any()


def test_how_far_a_top_is_told() -> None:
    """Over a curved earth: what is so far is seen at the angle that was asked for, to a tenth of
    the way; a top below the camera and an angle of nought set no end."""
    for top, angle in ((2200.0, 0.0156), (11_000.0, 0.0156), (1150.0, 0.001)):
        far = told_m(top, 2.0, angle)
        seen = [(top - 2.0 - d * d / (2.0 * 6.371e6)) / d for d in (far, far / 1.1)]
        assert seen[0] <= angle <= seen[1]
    assert told_m(800.0, 900.0, 0.0156) == told_m(1150.0, 2.0, 0.0) == math.inf


@pytest.mark.parametrize("values", [
    {"layers[heaps].cover_oktas": 1.0},
    {"camera.altitude_m": 1000.0},  # an eye just below the bases
    {"layers[heaps].thickness_m": 6000.0, "layers[heaps].cells.size_m": 6000.0,
     "layers[heaps].cover_oktas": 1.5}])  # towers stand over the horizon from far away
def test_what_stands_no_more_far_ahead_is_not_missed(
        studio: Studio, monkeypatch: pytest.MonkeyPatch, values: dict[str, float]) -> None:
    sky = with_values(heaps(camera={"heading_deg": 60.0, "pitch_deg": 8.0}), values)
    lens, frames = picture_lens(sky.camera, 16 / 9), []
    for _ in range(2):
        preparer = Preparer(studio.workers, StageCache())
        scene = preparer.scene(sky, SKETCH.toward(lens), Cancel())
        frames.append(render_frame(scene, lens, (160, 90), QUALITIES["sketch"], studio.workers,
                                   Cancel(), False)[..., 1])
        monkeypatch.setattr(bodies, "told_m", lambda *_: math.inf)
    assert frames[0].mean() == pytest.approx(frames[1].mean(), rel=0.002)
    assert np.mean(np.abs(frames[0] / frames[1] - 1.0) > 0.05) < 0.025


@pytest.mark.parametrize("height", [40.0, 6.0])
def test_a_sketch_shows_what_all_clouds_would(studio: Studio, height: float) -> None:
    """With clouds all round and with those it can show alone, pixel by pixel."""
    sky = with_values(heaps(camera={"heading_deg": 60.0, "pitch_deg": 8.0}),
                      {"sun.elevation_deg": height})
    lens = picture_lens(sky.camera, 16 / 9)
    frames = [render_frame(studio.preparer.scene(sky, fineness, Cancel()), lens, (160, 90),
                           QUALITIES["sketch"], studio.workers, Cancel(), False)
              for fineness in (SKETCH, SKETCH.toward(lens))]
    first, second = (f[..., 1].astype(float) for f in frames)
    assert second.mean() == pytest.approx(first.mean(), rel=0.004)
    assert np.mean(np.abs(second / first - 1.0) > 0.05) < 0.02
    assert np.abs(frames[0][..., 3] - frames[1][..., 3]).mean() < 1e-3


def test_a_dome_in_sketch_quality_has_its_clouds_all_round(studio: Studio) -> None:
    sky = heaps(camera={"heading_deg": 60.0})
    picture, _ = studio.prepare(sky, Wish(240, 135, "sketch"), Cancel())
    dome, _ = studio.prepare(sky, Wish(192, 96, "sketch", "dome"), Cancel())
    counts = [len(p.bodies[0].field.instances) for p in (picture, dome)]
    assert counts[0] < 0.6 * counts[1]


@pytest.mark.parametrize("close", [heaped.SKETCH_CLOSE, 0.0])
def test_another_cover_finds_the_clouds_ahead_at_hand(
        studio: Studio, monkeypatch: pytest.MonkeyPatch, close: float) -> None:
    """A sketch of a second cover looks at those ahead alone, and the same clouds stand; but for a
    few in a hundred where a cover that is near will do."""
    monkeypatch.setattr(heaped, "SKETCH_CLOSE", close)
    sky = heaps(camera={"heading_deg": 60.0, "lens_mm": 35.0}, seed=71 + round(1e4 * close))
    ahead = SKETCH.toward(picture_lens(sky.camera))
    other = with_values(sky, {"layers[heaps].cover_oktas": 2.5})
    fresh = Studio(2)
    try:
        alone = standing(fresh, other, ahead)
        for some in (sky, other):
            again = standing(studio, some, ahead)
    finally:
        fresh.close()
    assert len(alone) > 100
    if close:
        assert len(again) == pytest.approx(len(alone), rel=0.02)
    else:
        assert (np.sort(alone, axis=0) == np.sort(again, axis=0)).all()


def test_a_sky_view_is_reckoned_from_two() -> None:
    """What air scatters grows evenly with the share of light that one layer leaves in it: a
    third sketch takes no sky view of its own, and it is the one that would be built."""
    built, views = [], []
    one, other = Studio(2), Studio(2)
    try:
        for cover in (1.0, 6.0, 3.5):
            sky = with_values(free_sun(33, layers=[HEAPS, {"genus": "cirrus", "id": "veil"}]),
                              {"layers[heaps].cover_oktas": cover})
            one.preparer.cache.reset_clock()
            views.append(one.preparer.scene(sky, SKETCH, Cancel()).scene.clear)
            built.append("sky view" in one.preparer.cache.built)
        exact = other.preparer.scene(sky, SKETCH, Cancel()).scene.clear
    finally:
        one.close()
        other.close()
    assert built == [True, True, False]
    assert np.exp(views[2].sky) == pytest.approx(np.exp(exact.sky), rel=1e-3)
    assert views[2].air == pytest.approx(exact.air, rel=1e-3, abs=1e-5 * float(exact.air.max()))


def test_a_closing_sketch_needs_two_looks(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    """Above 6 oktas most cells are full throughout: two looks find what three find."""
    sky = with_values(heaps(), {"layers[heaps].cover_oktas": 7.0})
    body = studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())

    def found() -> Any:
        return Preparer(studio.workers).all([lighting.extinction_node(body, SKETCH)], Cancel())[0]

    two = found()
    monkeypatch.setattr(lighting, "CLOSING_OKTAS", 9.0)
    three = found()
    assert np.abs(two - three).max() > 0.0  # other looks were taken
    for level in range(body.grid.levels):
        assert two[level].mean() == pytest.approx(three[level].mean(), rel=0.02)
