"""A turning storm: what is set is read back from its field and from a plan."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.builds import build_of
from dovrek.core.clouds.density import density
from dovrek.core.clouds.motion import spun
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.sky.advisories import advisories
from tests.conftest import free_sun, sky_of

BASE = {"genus": "cumulonimbus", "id": "a", "base_m": 600, "thickness_m": 13_000,
        "cover_oktas": 4, "cells": {"size_m": 4000},
        "body": {"density_per_km": 20, "edge_m": 200}}
STORM = {"stands": True, "sea": 0.0, "shield": 0.0}


def sky_with(camera: dict[str, Any] | None = None, sun: float = 50.0, cover: float = 4.0,
             seed: int = 1, **storm: Any) -> Any:
    return free_sun(sun, layers=[{**BASE, "cover_oktas": cover, "seed": seed,
                                  "cyclone": {**STORM, **storm}}],
                    camera={"altitude_m": 400e3, "pitch_deg": -90, **(camera or {})},
                    ground={"kind": "water"})


def body_of(studio: Studio, **storm: Any) -> LayerBody:
    sky = sky_with(**storm)
    return studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())


def thickness_at(body: LayerBody, radius_m: float, turns: Any, heights: int = 40) -> Any:
    """Depth of cloud (m) over places of a circle about the middle."""
    thick = body.layer.thickness_m
    dz = thick / heights
    return np.array([sum(density(body.field, 0, radius_m * math.cos(t), radius_m * math.sin(t),
                                 (k + 0.5) * dz, 3000.0, 0.0)[1] > 0.0 for k in range(heights)) * dz
                     for t in turns])


TURNS = np.linspace(0.0, 2.0 * math.pi, 180, endpoint=False)


def covered(body: LayerBody, low_m: float, high_m: float) -> float:
    return float(np.mean([(thickness_at(body, r, TURNS[::6], 20) > 0).mean()
                          for r in np.linspace(low_m, high_m, 7)]))


def test_an_eye_and_a_wall_where_they_are_set(studio: Studio) -> None:
    """Clear inside the eye; overcast in the wall; the border lies within 10 % of what is set."""
    for eye, wall in ((20.0, 60.0), (45.0, 120.0)):
        body = body_of(studio, eye_km=eye, wall_km=wall, radius_km=600.0)
        places = np.arange(2e3, 1.3e3 * wall, 1e3)
        share = np.array([(thickness_at(body, r, TURNS[::10], 12) > 0).mean() for r in places])
        border = places[np.abs(share - 0.5).argmin()]
        assert border == pytest.approx(1e3 * eye, rel=0.10)
        assert share[places > 1.3e3 * eye].min() > 0.9


@pytest.mark.parametrize("hemisphere", ["north", "south"])
@pytest.mark.parametrize("pitch", [14.0, 24.0])
def test_arms_wind_as_they_are_set(studio: Studio, pitch: float, hemisphere: str) -> None:
    """Angle of the arms to a circle, read from where they lie on circles of growing radius: within
    10 %, and toward the other hand south of the equator."""
    bodies = [body_of(studio, seed=seed, pitch_deg=pitch, ragged=0.0, radius_km=900.0,
                      wall_km=50.0, hemisphere=hemisphere, width=0.4) for seed in range(5)]
    radii = 1e3 * np.array([230.0, 260.0, 295.0, 335.0, 380.0])
    phases = []
    for r in radii:
        depth = np.mean([thickness_at(b, r, TURNS, 20) for b in bodies], axis=0)
        wave = np.sum(depth * np.exp(-2j * TURNS))
        phases.append(-np.angle(wave) / 2.0)  # of two arms
    bent = np.unwrap(2.0 * np.array(phases)) / 2.0
    slope = np.polyfit(np.log(radii), bent, 1)[0]
    # r, θ along an arm: θ + ln r / tan(pitch) stays, mirrored in the south.
    found = math.degrees(math.atan(1.0 / abs(slope)))
    assert found == pytest.approx(pitch, rel=0.10)
    assert (slope < 0.0) == (hemisphere == "north")


SWEEPS = [
    ("radius_km", [250, 450, 800], lambda b: covered(b, 250e3, 600e3), 1),
    ("width", [0.0, 0.5, 1.0], lambda b: covered(b, 150e3, 400e3), 1),
    ("wall_km", [30, 60, 120], lambda b: covered(b, 60e3, 200e3), 1),
    ("outer_height", [0.2, 0.5, 1.0],
     lambda b: float(np.mean([thickness_at(b, r, TURNS[::6]).max() for r in (250e3, 350e3)])), 1),
    ("sea", [0.0, 0.5, 1.0], lambda b: covered(b, 700e3, 900e3), 1),
    ("shield", [0.0, 0.5, 1.0], lambda b: ice(b), 1),
    ("ragged", [0.0, 0.5, 1.0], lambda b: roughness(b), 1),
]


def ice(body: LayerBody) -> float:
    z = 0.95 * body.layer.thickness_m
    return float(np.mean([density(body.field, 0, r * math.cos(t), r * math.sin(t), z, 3e3, 0.0)[1]
                          for r in (200e3, 300e3) for t in TURNS[::6]]))


def roughness(body: LayerBody) -> float:
    """Changes between cloud and none along circles."""
    return float(np.mean([np.abs(np.diff((thickness_at(body, r, TURNS, 12) > 0).astype(int))).sum()
                          for r in (220e3, 280e3, 340e3)]))




@pytest.mark.parametrize("sweep", SWEEPS, ids=lambda s: s[0])
def test_every_control_does_what_its_name_says(studio: Studio, sweep: Any) -> None:
    """Three values through the range change the measured quantity one way only."""
    name, values, measure, sign = sweep
    found = [measure(body_of(studio, **{"radius_km": 500.0, name: v})) for v in values]
    assert (np.diff(found) * sign > 0).all(), found


@pytest.mark.parametrize("arms", [1, 2, 4])
def test_as_many_arms_as_are_set(studio: Studio, arms: int) -> None:
    """The strongest wave along circles, mean of 5 seeds: textures differ, arms stay."""
    power = np.zeros(6)
    for r in (230e3, 280e3, 330e3):
        waves = [np.fft.rfft(thickness_at(body_of(studio, seed=seed, arms=arms, radius_km=600.0,
                                                  wall_km=50.0, ragged=0.2), r, TURNS, 20))
                 for seed in range(5)]
        power += np.abs(np.mean(waves, axis=0))[1:7] ** 2
    assert int(power.argmax()) + 1 == arms, power


def test_cover_fills_the_gaps(studio: Studio) -> None:
    found = []
    for cover in (2.0, 4.0, 6.0, 8.0):
        sky = sky_with(cover=cover)
        found.append(covered(studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel()),
                             150e3, 450e3))
    assert (np.diff(found) > 0.02).all(), found


def test_a_storm_is_seen_from_orbit_and_from_within(studio: Studio) -> None:
    """From straight above: a dark eye in a bright wall. From the sea in its eye: a wall around and
    open sky overhead."""
    above = studio.render(sky_with({"altitude_m": 900e3, "lens_mm": 40}),
                          Wish(128, 72, "proof", sun_disc=False)).light[..., 1]
    per_km = 128 / (2.0 * 900.0 * 18.0 / 40.0)
    rows, columns = np.mgrid[0:72, 0:128]
    away = np.hypot(rows - 35.5, columns - 63.5) / per_km
    eye, wall = above[away < 9].mean(), above[(away > 30) & (away < 55)].mean()
    assert wall > 4.0 * eye
    within = studio.render(sky_with({"altitude_m": 2.0, "pitch_deg": 60, "lens_mm": 10}),
                           Wish(96, 54, "draft", sun_disc=False)).light
    clouded = within[..., 4] > 0.0
    assert clouded[48:].mean() > 0.9 and clouded[:14, 30:66].mean() < 0.3


def test_the_inside_turns_faster_and_a_loop_closes() -> None:
    """In a clip arms turn and the middle winds on; in a loop all of it meets its beginning."""
    layer = sky_with(turn_h=10.0).layers[0]
    start, later = spun(layer, 0.0, 36_000.0, False), spun(layer, 0.5, 36_000.0, False)
    assert start == (0.0, 0.0, 0.0, 0.0)
    assert later[0] == pytest.approx(math.pi) and later[1] > later[0]
    first, last = spun(layer, 0.0, 36_000.0, True), spun(layer, 1.0 - 1e-12, 36_000.0, True)
    assert last[0] % (2.0 * math.pi) == pytest.approx(2.0 * math.pi)
    assert first[1] == pytest.approx(last[1], abs=1e-6) and first[3] == last[3] == 0.0
    assert spun(sky_of(layers=[{"id": "a"}]).layers[0], 0.5, 3600.0, True) == (0, 0, 0, 0)


def test_a_moment_of_a_turning_storm_is_another_picture(studio: Studio) -> None:
    """The storm turns against the clock between two moments of a clip."""
    sky = sky_with({"altitude_m": 900e3, "lens_mm": 40}, turn_h=6.0, ragged=0.3)
    sky = sky.model_copy(update={"motion": sky.motion.model_copy(update={
        "length_s": 10.0, "time_scale": 600.0})})
    first, then = (studio.render(sky, Wish(96, 54, "draft", clip_s=t)).light[..., 1]
                   for t in (0.0, 6.0))
    assert np.corrcoef(first.ravel(), then.ravel())[0, 1] < 0.98


def test_storms_too_large_for_what_holds_them_are_told() -> None:
    def ids(**parts: Any) -> set[str]:
        sky = sky_with(**parts)
        return {a.code for a in advisories(sky, 50.0)}

    assert "eye too wide" in ids(eye_km=90, wall_km=60)
    assert "eyewall too wide" in ids(wall_km=200, radius_km=300)
    small = sky_with(radius_km=500).model_copy(update={
        "air": sky_of(air={"planet_radius_km": 100}).air})
    assert "storm round the planet" in {a.code for a in advisories(small, 50.0)}


def test_any_genus_may_turn() -> None:
    for genus in ("stratus", "cirrus", "altocumulus"):
        sky = sky_of(layers=[{"genus": genus, "id": "a", "cyclone": {"stands": True}}])
        assert build_of(sky.layers[0]).name == "storm"
