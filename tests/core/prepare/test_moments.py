"""Frames of a clip: where layers have gone, loops that close, frames that stand alone."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.air.sun_place import sun_place
from dovrek.core.clouds.motion import dissolve, moving_of, turn_of, turns_of
from dovrek.core.picture.clip import exposed_at, metered_at, seconds_of
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.moments import epoch_s, moment_of, travelled
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.clip import sky_at
from dovrek.sky.document import Sky
from dovrek.sky.layer import GENUS_DEFAULTS
from tests.conftest import free_sun, long

SMALL = Wish(96, 54, "sketch")
STATED = {"fps": 12, "length_s": 4.0}


@pytest.fixture(scope="module")
def studio() -> Iterator[Studio]:
    made = Studio(2)
    yield made
    made.close()


def moving(layers: list[dict[str, Any]], **motion: Any) -> Sky:
    return free_sun(35, layers=layers, motion={**STATED, **motion})


def frame(studio: Studio, sky: Sky, clip_s: float | None, **wish: Any) -> NDArray[np.float32]:
    from dataclasses import replace

    return studio.render(sky, replace(SMALL, clip_s=clip_s, **wish)).light


HEAPS = {"id": "heaps", "genus": "cumulus", "cover_oktas": 3.0,
         "wind": {"from_deg": 270, "speed_m_s": 10}}


@pytest.mark.parametrize("genus", [
    genus if genus in ("cumulus", "cirrus") else long(genus)
    for genus in GENUS_DEFAULTS])
def test_the_first_frame_is_the_still_and_a_loop_meets_it(studio: Studio, genus: str) -> None:
    """To the bit, with everything moving."""
    for loop in (False, True):
        sky = moving([{"id": "a", "genus": genus, "churn": {"rate": 3},
                       "wind": {"speed_m_s": 17}}], time_scale=50, loop=loop)
        first = frame(studio, sky, 0.0)
        if not loop:
            still = studio.render(sky, Wish(96, 54, "proof")).light
            assert np.array_equal(
                studio.render(sky, Wish(96, 54, "proof", clip_s=0.0)).light, still)
        else:
            assert np.array_equal(frame(studio, sky, 4.0), first)
            near = frame(studio, sky, 4.0 - 1.0 / 48)
            step = float(np.abs(near - first)[..., :3].mean() / first[..., :3].mean())
            assert 0.0 < step < 0.25  # it comes there, and does not jump


def test_wind_moves_a_layer_by_its_speed_and_the_seconds_of_the_sky(studio: Studio) -> None:
    """10 m/s for 60 s is 600 m east: what was over a place lies there then."""
    sky = moving([HEAPS | {"churn": {"rate": 0}}], time_scale=15)
    body = studio.preparer.bodies(sky, SKETCH, Cancel(), moment_of(sky, 4.0).moved)[0]
    still = studio.preparer.bodies(sky, SKETCH, Cancel())[0]
    from dovrek.core.clouds.density import density

    rng, hits = np.random.default_rng(4), 0
    for x, y, z in rng.uniform((-9000, -9000, 50), (9000, 9000, 700), (400, 3)):
        was = density(still.field, 0, x, y, z, 1.0, 0.0)
        now = density(body.field, 0, x + 600.0, y, z, 1.0, 0.0)
        assert now == pytest.approx(was, rel=1e-6, abs=1e-6)
        hits += was[1] > 0.0
    assert hits > 20


def test_nothing_moves_without_wind_and_churn(studio: Studio) -> None:
    sky = moving([HEAPS | {"churn": {"rate": 0}, "wind": {"speed_m_s": 0}}], time_scale=60)
    assert np.array_equal(frame(studio, sky, 0.0), frame(studio, sky, 2.7))


def standing(studio: Studio, sky: Sky, clip_s: float) -> NDArray[np.void]:
    moved = moment_of(sky, clip_s).moved
    return studio.preparer.bodies(sky, SKETCH, Cancel(), moved)[0].field.instances


def places(found: NDArray[np.void]) -> set[tuple[float, float]]:
    return {(float(c["x"]), float(c["y"])) for c in found}


def test_every_cloud_has_given_way_to_another_after_a_life(studio: Studio) -> None:
    """Each is born, grows, stands, decays and is dealt again within its lifetime; all the while
    as many stand as in the still, and the cover is that of the still."""
    life_s = 1500.0
    sky = moving([HEAPS | {"life": {"cycle_s": life_s}}], length_s=60.0, time_scale=60)
    turn = turn_of(sky.layers[0]) / 60.0
    assert turn == pytest.approx(life_s / 60.0 / 1.25)
    first = places(standing(studio, sky, 0.0))
    stayed = []
    for share in (0.125, 0.25, 0.5, 0.75):
        there = standing(studio, sky, share * turn)
        here = places(there)
        stayed.append(len(first & here) / len(first))
        # Those on their way in and out stand beside each other: one in three at the most.
        assert len(first) < len(there) < 1.4 * len(first)
    # Ends begin evenly from the start over three quarters of a turn, and last a quarter.
    assert stayed == pytest.approx([1.0, 1.0, 2 / 3, 1 / 3], abs=0.05)
    after = places(standing(studio, sky, turn))
    assert not first & after and len(after) == pytest.approx(len(first), rel=0.02)
    grown = standing(studio, sky, 0.04 * turn)
    young = grown[grown["late"] > 0.0]
    assert 0 < len(young) < 0.1 * len(first)
    assert young["scale"].max() < 0.5 * grown["scale"].max()  # none is there at once


def test_a_lifetime_of_nought_and_no_churn_keep_the_clouds(studio: Studio) -> None:
    for other in ({"life": {"cycle_s": 0}}, {"churn": {"rate": 0}}):
        sky = moving([HEAPS | other], length_s=60.0, time_scale=60)
        assert places(standing(studio, sky, 0.0)) == places(standing(studio, sky, 30.0))


def test_a_loop_of_heaps_has_no_seam(studio: Studio) -> None:
    """Where one turn of lives ends and the next begins, and at half of it, a frame differs from
    the one before by no more than elsewhere; drift is exact in between."""
    sky = moving([HEAPS], length_s=12.0, time_scale=240, loop=True)
    turns = turns_of(sky.layers[0], 12.0 * 240)
    assert turns == 2 and 12.0 / epoch_s(sky) % turns == 0
    step = 1.0 / 24.0

    def change(clip_s: float) -> float:
        """Of the sky: shadows on the ground come and go by themselves."""
        a, b = (frame(studio, sky, (clip_s + k * step) % 12.0)[:40, :, 1] for k in (-0.5, 0.5))
        return float(np.abs(b - a).mean() / a.mean())

    for seam in (6.0, 12.0):
        usual = float(np.median([change(seam + k * step) for k in (-3, -2, 2, 3)]))
        assert change(seam) < 1.3 * usual, seam


@pytest.mark.parametrize("layer", [
    long({"genus": "altocumulus", "id": "a", "cover_oktas": 4}),
    {"genus": "cirrus", "id": "a", "cover_oktas": 4},
    long({"genus": "stratus", "id": "a", "cover_oktas": 5, "clearings": {"share": 0.2}})],
    ids=lambda layer: layer["genus"])
def test_a_loop_of_a_sheet_or_veil_has_no_seam(studio: Studio, layer: dict[str, Any]) -> None:
    """While one copy of the field passes over into the other, frames differ from those before by
    no more than elsewhere; where the loop closes and at its half, by no more than just beside."""
    sky = moving([layer], length_s=20.0, time_scale=120, loop=True)
    step = 1.0 / 24.0

    def change(clip_s: float) -> float:
        a, b = (frame(studio, sky, (clip_s + k * step) % 20.0)[:40, :, 1] for k in (-0.5, 0.5))
        return float(np.abs(b - a).mean() / a.mean())

    passing = [change(s) for s in (3.6, 5.0, 6.4, 15.0)]  # the copies change at ¼ and ¾
    assert np.mean(passing) < 1.3 * np.median([change(s) for s in (1.0, 2.0, 8.5, 12.0)])
    for seam in (10.0, 20.0):
        assert change(seam) < 1.3 * np.mean([change(seam + k * step) for k in (-3, 3)])


def test_a_first_look_takes_what_light_is_at_hand(studio: Studio) -> None:
    """Clouds and sun are those of the moment, the light one that is solved already; it is near
    what is kept."""
    sky = moving([HEAPS], time_scale=30, length_s=5.0)
    studio.render(sky, SMALL)
    seconds = studio.render(sky, Wish(96, 54, "sketch", clip_s=2.3, soon=True)).seconds
    again = studio.render(sky, Wish(96, 54, "sketch", clip_s=3.1, soon=True))
    solved = {"extinction", "sun depth", "scattered", "sun light"}
    assert not solved & set(again.seconds), (seconds, again.seconds)
    kept = frame(studio, sky, 3.1)[..., 1]
    assert float(np.abs(again.light[..., 1] - kept).mean()) < 0.05 * float(kept.mean())


def test_churn_is_slow_beside_drift() -> None:
    """Lumps change about 25 times slower than the wind carries them (common practice)."""
    sky = moving([HEAPS | {"cells": {"size_m": 200}, "churn": {"period_s": 7200}}], time_scale=60)
    found = moving_of(sky, sky.layers[0], 4.0)
    gone = math.hypot(*found.drift)
    assert gone == pytest.approx(2400.0)
    changed = found.churn[1] * 200.0
    assert 15.0 < gone / changed < 40.0


def test_frames_are_the_same_in_any_order_and_alone() -> None:
    """To the bit: backwards, and the last alone by a studio that made no other before."""
    sky = moving([HEAPS, {"id": "veil", "genus": "cirrus", "wind": {"speed_m_s": 30}}],
                 time_scale=40)
    seconds = [0.3, 1.1, 1.7]
    one, other = Studio(2), Studio(1)
    try:
        forward = {s: frame(one, sky, s) for s in seconds}
        for s in reversed(seconds):
            assert np.array_equal(frame(other, sky, s), forward[s]), s
    finally:
        one.close()
        other.close()


def test_between_epochs_light_runs_on(studio: Studio) -> None:
    """No jump where one pair of solved moments gives way to the next, nor where grids hop."""
    sky = moving([HEAPS | {"wind": {"from_deg": 270, "speed_m_s": 25}}], time_scale=30)
    edge = epoch_s(sky)
    times = [edge + k * 0.02 for k in (-3, -2, -1, 0, 1, 2, 3)]
    seen = [frame(studio, sky, t)[..., 1] for t in times]
    steps = [float(np.abs(b - a).mean() / a.mean()) for a, b in zip(seen, seen[1:], strict=False)]
    assert max(steps) < 2.3 * float(np.median(steps)) + 0.01


def test_a_keyed_camera_looks_where_its_keys_say(studio: Studio) -> None:
    """Heading, pitch and lens together: the frame is that of a still camera turned so, to the bit,
    and differs from frames before."""
    keys = {f"camera.{name}": {"points": [[0, low, "linear"], [4, high, "linear"]]}
            for name, low, high in (("heading_deg", 10, 70), ("pitch_deg", 4, 20),
                                    ("lens_mm", 24, 48))}
    calm = {**HEAPS, "wind": {"speed_m_s": 0}, "churn": {"rate": 0}}
    sky = moving([calm], sun_moves=False, keys=keys)
    camera = sky.camera.model_copy(update={"heading_deg": 40.0, "pitch_deg": 12.0, "lens_mm": 36.0})
    still = moving([calm], sun_moves=False).model_copy(update={"camera": camera})
    found = frame(studio, sky, 2.0)
    assert np.array_equal(found, frame(studio, still, 2.0))
    assert not np.array_equal(found, frame(studio, sky, 1.9))


def test_a_travelling_camera_passes_by_distance(studio: Studio) -> None:
    """Layers shift by the same metres, whatever their height; none is dealt anew."""
    keys = {"camera.east_m": {"points": [[0, 0, "linear"], [4, 4000, "linear"]]}}
    sky = moving([HEAPS | {"wind": {"speed_m_s": 0}, "churn": {"rate": 0}}], keys=keys)
    there = moment_of(sky, 2.0)
    assert there.sky.camera.east_m == pytest.approx(2000.0)
    assert there.moved["heaps"].drift == pytest.approx((-2000.0, 0.0))
    placed = sky.model_copy(update={"camera": there.sky.camera})
    assert np.array_equal(frame(studio, placed, None, quality="proof"),
                          studio.render(sky, Wish(96, 54, "proof", clip_s=2.0)).light) or (
        np.abs(frame(studio, placed, None, quality="proof")[..., 1]
               - studio.render(sky, Wish(96, 54, "proof", clip_s=2.0)).light[..., 1]).mean()
        < 0.03 * frame(studio, placed, None, quality="proof")[..., 1].mean())


def test_cover_holds_through_a_clip_of_an_hour(studio: Studio) -> None:
    """What drifts over the site has the cover that was set, within .3 okta (clearings are larger
    than what is measured, and come and go)."""
    from dovrek.core.prepare.fields import covered
    from dovrek.core.run.stage import Tools

    sky = moving([HEAPS | {"cover_oktas": 4.0, "wind": {"speed_m_s": 8},
                            "clearings": {"share": 0.0}}], length_s=60.0,
                 time_scale=60)
    tools = Tools(studio.workers, Cancel())
    found = [8.0 * covered(studio.preparer.bodies(sky, SKETCH, Cancel(),
                                                   moment_of(sky, s).moved)[0].field, tools)
             for s in (0.0, 20.0, 40.0, 60.0)]
    assert found == pytest.approx([4.0] * 4, abs=0.3)


def test_exposure_follows_smoothly_or_stays(studio: Studio) -> None:
    keys = {"sun.elevation_deg": {"points": [[0, 30, "linear"], [4, -2, "linear"]]}}
    sky = moving([], keys=keys)
    evs = [metered_at(studio.preparer, sky, s, SKETCH, Cancel()).ev
           for s in np.linspace(0.0, 4.0, 17)]
    assert evs[0] - evs[-1] > 3.0
    assert max(abs(b - a) for a, b in zip(evs, evs[1:], strict=False)) < 1.5
    fixed = sky.model_copy(update={"motion": sky.motion.model_copy(update={"exposure": "fixed"})})
    assert metered_at(studio.preparer, fixed, 4.0, SKETCH, Cancel()).ev == evs[0]


def test_exposure_of_a_clip_is_found_once(studio: Studio) -> None:
    """However little is kept: what was metered needs no scene again."""
    preparer = Preparer(studio.workers, StageCache(1))
    sky = moving([HEAPS], time_scale=60)
    first = metered_at(preparer, sky, 0.0, SKETCH, Cancel())
    assert preparer.cache.built
    preparer.cache.reset_clock()
    assert metered_at(preparer, sky, 0.0, SKETCH, Cancel()) == first
    assert preparer.cache.built == []


def test_copies_of_a_loop_make_one_together() -> None:
    for share in np.linspace(0.0, 1.0, 41):
        assert dissolve(share) + dissolve((share + 0.5) % 1.0) == pytest.approx(1.0)
    assert dissolve(0.0) == 0.0 and dissolve(0.5) == 1.0


def test_an_open_shutter_takes_the_mean_of_its_moments(studio: Studio) -> None:
    """180° of 12 frames a second: three moments within a twenty-fourth of a second."""
    sky = moving([HEAPS], time_scale=300)
    opened = sky.model_copy(update={"motion": sky.motion.model_copy(
        update={"shutter_deg": 180.0})})
    assert exposed_at(sky, 1.0) == [1.0]
    moments = exposed_at(opened, 1.0)
    assert moments == pytest.approx([1.0, 1.0 + 1 / 72, 1.0 + 2 / 72])
    mean = np.mean([frame(studio, sky, s)[..., 1] for s in moments], axis=0)
    found = frame(studio, opened, 1.0)[..., 1]
    # Samples lie elsewhere in the pixel from moment to moment.
    assert float(np.abs(found - mean).mean()) < 0.06 * float(mean.mean())
    assert float(np.abs(found - frame(studio, sky, 1.0)[..., 1]).mean()) > 0.0


def test_seconds_of_frames() -> None:
    sky = moving([], fps=12, length_s=2.0)
    assert len(seconds_of(sky)) == 24 and seconds_of(sky)[-1] == pytest.approx(23 / 12)
    assert seconds_of(sky, 10.0, 0.5, 1.0) == pytest.approx([0.5, 0.6, 0.7, 0.8, 0.9])


@pytest.mark.parametrize(("second", "layers"), [
    (1.37, []), long(1.37, [HEAPS]), long(0.05, [HEAPS]), long(2.5, [HEAPS])])
def test_a_climb_from_the_ground_to_orbit(studio: Studio, second: float, layers: list[Any]) -> None:
    """A keyed height: every frame sees the air from where its eye is, though its light is that of
    two moments at other heights. A frame between is as bright as the still from there, and its
    horizon lies where geometry has it."""
    sky = moving(layers, time_scale=1.0, keys={"camera.altitude_m": {
        "points": [[0.0, 400.0, "linear"], [4.0, 300e3, "linear"]]}})
    camera = sky.camera.model_copy(update={"pitch_deg": -17.0, "lens_mm": 14.0})
    sky = sky.model_copy(update={"camera": camera})
    there = moment_of(sky, second).sky
    still = studio.render(there, Wish(96, 54, "sketch")).light
    found = frame(studio, sky, second)
    assert np.isfinite(found).all()
    assert found[..., 1].mean() == pytest.approx(still[..., 1].mean(), rel=0.06)
    dark = [(light[..., 1] < 0.1 * np.median(light[..., 1])).mean() for light in (found, still)]
    assert dark[0] == pytest.approx(dark[1], abs=0.02)


@pytest.mark.long
@pytest.mark.parametrize("second", [0.3, 1.9, 3.4])
def test_a_layer_that_comes_while_the_eye_climbs(studio: Studio, second: float) -> None:
    """Neither moment about a frame need be laid out as the frame is: then it is solved alone."""
    sky = moving([HEAPS, {"id": "b", "genus": "cirrus", "cover_oktas": 0.0}], time_scale=1.0, keys={
        "camera.altitude_m": {"points": [[0.0, 50.0, "linear"], [4.0, 40e3, "linear"]]},
        "layers[b].cover_oktas": {"points": [[0.0, 0.0, "linear"], [4.0, 8.0, "linear"]]}})
    assert np.isfinite(frame(studio, sky, second)).all()


def test_a_pass_in_orbit_is_solved_by_its_arc() -> None:
    """Light is solved each two degrees of the planet's round, a camera that stays or goes a few
    kilometres at the usual moments; the sun stays put while the camera goes toward it."""
    def going(metres: float) -> Sky:
        keys = {"camera.east_m": {"points": [[0, 0, "linear"], [4, metres, "linear"]]}}
        sky = moving([], time_scale=1.0, keys=keys)
        return sky.model_copy(update={
            "sun": free_sun(30).sun.model_copy(update={"azimuth_deg": 90.0}),
            "site": sky.site.model_copy(update={"latitude": 0.0})})

    far = math.radians(16.0) * 6_371_000.0
    assert travelled(going(far)) == pytest.approx(math.radians(16.0), rel=1e-3)
    assert epoch_s(going(3000.0)) == epoch_s(moving([], time_scale=1.0)) == 1.0
    assert epoch_s(going(far)) == pytest.approx(0.5)
    heights = [math.degrees(sun_place(sky_at(going(far), s)).elevation) for s in (0.0, 2.0, 4.0)]
    assert heights == pytest.approx([30.0, 37.5, 45.5], abs=0.1)
