"""The round planet from any height: geometry, the air from outside, light of the day far away."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.air.media import AIR_TOP_KM
from dovrek.core.air.sky_looks import air_between, sky_radiance
from dovrek.core.air.sky_view import (
    SHADE_NODES,
    Observer,
    _along,
    build_sky_view,
    haze_phase,
)
from dovrek.core.colour.film import develop
from dovrek.core.colour.spectrum import WAVES, xyz_weights
from dovrek.core.geometry.planet import (
    EARTH_M,
    air_stretch,
    arc_share,
    lit_m,
    sight_m,
    stretch_place,
    stretch_share,
)
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import ALPHA
from tests.conftest import free_sun, long, sky_of

AT_SUN = float(xyz_weights().sum(axis=0)[1])  # lx of the sun before the air
OCEAN = {"ground": {"kind": "water"}, "air": {"haze": 0.08}}


def dip(height_m: float) -> float:
    return math.acos(EARTH_M / (EARTH_M + height_m))


@pytest.mark.parametrize("height", [12e3, 400e3, 35_786e3])
def test_the_horizon_lies_where_geometry_has_it(studio: Studio, height: float) -> None:
    """Dip acos(R/(R + h)): 3.5° at 12 km, 19.8° at 400 km; the earth's angular radius 8.7° from
    35,786 km (geometry); each within a pixel."""
    far = height > 1e7
    mm, rows = (60.0, 216) if far else (200.0, 216)
    sky = free_sun(40, camera={"altitude_m": height, "lens_mm": mm,
                               "pitch_deg": -90.0 if far else -math.degrees(dip(height))})
    wish = Wish(384, rows, "draft", ground=False, sun_disc=False)
    alpha = studio.render(sky, wish).light[..., ALPHA]
    per_rad = 384 / 36.0 * mm  # pixels of a tangent of one
    if far:
        across = float((alpha[rows // 2] < 0.5).sum())
        assert across == pytest.approx(2.0 * math.tan(0.5 * math.pi - dip(height)) * per_rad,
                                       abs=1.5)
        return
    middle = alpha[:, 191:193].mean(axis=1)
    assert float(middle.sum()) == pytest.approx(0.5 * rows, abs=1.0)
    # Toward the sides it falls away: tan of the dip there, by the angle from the middle.
    side = float(alpha[:, 0].sum())
    ray = np.array([191.5 / per_rad, 1.0])  # aside, ahead
    theta = dip(height)
    # A point (aside, y) of the frame looks down by theta: solve for y about the pitch.
    ys = np.linspace(-0.1, 0.1, 4001)
    up = ys * math.cos(theta) - math.sin(theta)
    sines = up / np.sqrt(ray[0]**2 + 1.0 + ys**2)
    y = float(ys[np.abs(sines + math.sin(theta)).argmin()])
    assert side == pytest.approx(0.5 * rows - y * per_rad, abs=1.0)


def test_what_stands_behind_the_limb_rises_where_it_should() -> None:
    """A top of 12 km is first seen from 12 km over 2·acos(R/(R + h)) of arc: 781 km (geometry)."""
    arc = 2.0 * math.acos(EARTH_M / (EARTH_M + 12e3))
    assert EARTH_M * arc == pytest.approx(781e3, rel=0.002)
    assert lit_m(12e3, 12e3) == pytest.approx(EARTH_M * arc, rel=0.2)  # eyes go by steps
    assert sight_m(12e3, 400e3) / 1.02 == pytest.approx(
        math.sqrt(12e3 * (2 * EARTH_M + 12e3)) + math.sqrt(400e3 * (2 * EARTH_M + 400e3)))


@pytest.mark.parametrize("height", [3.0, 90.0, 400.0, 36_000.0])
def test_places_along_a_stretch_of_air_and_back(height: float) -> None:
    """Shares of a stretch and distances along it are inverse, within what the air holds."""
    stretch = np.empty(3)

    def both(mu: float) -> Any:
        hits = air_stretch.py_func(6371.0, height, mu, AIR_TOP_KM, stretch)
        shares = np.linspace(0.0, 1.0, 21)
        places = np.array([stretch_place.py_func(u, stretch, hits) for u in shares])
        again = np.array([stretch_share.py_func(t, stretch, hits) for t in places])
        return hits, places, again - shares

    horizon = -math.sqrt(1.0 - (6371.0 / (6371.0 + height)) ** 2)
    for mu in (-1.0, horizon - 1e-4, horizon + 1e-4):
        hits, places, off = both(mu)
        assert hits == (mu < horizon)
        assert (np.diff(places) > 0).all() and np.abs(off).max() < 1e-6
        radii = np.sqrt((6371.0 + height) ** 2 + places**2 + 2 * (6371.0 + height) * places * mu)
        assert radii.min() > 6371.0 - 0.01 and radii.max() < 6371.0 + max(AIR_TOP_KM, height) + 0.01


def test_arcs_over_the_ground() -> None:
    """Near, an arc is the level way; straight down none; at the limb the planet's radius times the
    angle at its middle."""
    r0 = EARTH_M + 1.6
    assert arc_share.py_func(EARTH_M, r0, 10e3, 0.0, 1.0) == pytest.approx(1.0, abs=2e-6)
    h = 36e6
    theta = dip(h)
    t = math.sqrt(h * (2 * EARTH_M + h))
    share = arc_share.py_func(EARTH_M, EARTH_M + h, t, -math.sin(theta), math.cos(theta))
    assert share * t * math.cos(theta) == pytest.approx(EARTH_M * theta, rel=1e-9)


def brute(studio: Studio, sky: Any, height_m: float, elevation: float, azimuth: float,
          end_km: float | None, steps: int = 3000) -> Any:
    """Light along a ray by even steps through the shell, by the sources of the same tables."""
    prepared, _ = studio.prepare(sky, Wish(16, 9, "final"), Cancel())
    air, sun = prepared.atmosphere, prepared.sun
    media = air.media
    r, mu = media.radius_km + height_m * 1e-3, math.sin(elevation)
    stretch = np.empty(3)
    air_stretch.py_func(media.radius_km, height_m * 1e-3, mu, AIR_TOP_KM, stretch)
    bounds = np.linspace(stretch[0], stretch[1] if end_km is None else end_km, steps + 1)
    marks = np.full(steps, -1)
    marks[-1] = 0
    out, passed = np.empty((1, 6 + WAVES)), np.empty(WAVES)
    mu_s = math.sin(sun.elevation_true)
    vx = math.cos(elevation) * math.cos(azimuth - sun.azimuth)
    cosine = mu * mu_s + vx * math.cos(sun.elevation_true)
    _along(media, air.sun, air.scattered.moments, air.scattered.ground, np.ones(SHADE_NODES), 1.0,
           xyz_weights(), r - media.radius_km, mu, vx, mu_s, cosine, bounds, marks, out, passed)
    return out[0, :3] + haze_phase(cosine) * out[0, 3:6], prepared, cosine


@pytest.mark.parametrize("height", [40e3, 119e3, 121e3, 400e3, 36_000e3])
def test_limb_and_nadir_against_fine_steps(studio: Studio, height: float) -> None:
    """Limb profile and nadir radiance of the tables against even steps through the same air, within
    2 % of the brightest for the limb, 2 % for what lies before the ground (checks: no outside
    value; ours)."""
    sky = free_sun(35, camera={"altitude_m": height})
    found, known = [], []
    for tangent in (2e3, 8e3, 15e3, 30e3, 60e3):
        elevation = -math.acos((EARTH_M + tangent) / (EARTH_M + height)) if tangent < height else 0
        for azimuth in (0.4, 2.6):
            true, prepared, cosine = brute(studio, sky, height, elevation, azimuth, None)
            light = np.empty(3)
            sky_radiance(prepared.scene.clear, elevation, azimuth, cosine, np.empty(14), light)
            found.append(light)
            known.append(true)
    found_, known_ = np.array(found), np.array(known)
    assert np.abs(found_ - known_).max() < 0.02 * known_.max()
    for down in (0.5 * math.pi - 1e-3, dip(height) + 0.35 * (0.5 * math.pi - dip(height))):
        stretch = np.empty(3)
        air_stretch.py_func(EARTH_M, height, -math.sin(down), 1e3 * AIR_TOP_KM, stretch)
        true, prepared, cosine = brute(studio, sky, height, -down, 0.4, 1e-3 * stretch[1])
        scatter, passed = np.empty(3), np.empty(3)
        air_between(prepared.scene.clear, -down, 0.4, cosine, float(stretch[1]), np.empty(9),
                    scatter, passed)
        assert scatter == pytest.approx(true, rel=0.02)


def test_no_height_shows_a_seam(studio: Studio) -> None:
    """Mean luminance along heights in steps of 5 % never jumps by more than 2 % a step, sun 40°:
    where low eyes give way to high ones, and where an eye leaves the air."""
    for low, high in ((2500.0, 3700.0), (100e3, 145e3)):
        heights = low * 1.05 ** np.arange(int(math.log(high / low) / math.log(1.05)) + 1)
        means = [float(studio.render(
            free_sun(40, camera={"altitude_m": float(h), "lens_mm": 20, "pitch_deg": -20,
                                 "heading_deg": 60}, air={"ground_variety": 0.0}),
            Wish(96, 54, "draft", sun_disc=False)).light[..., 1].mean()) for h in heights]
        assert np.abs(np.diff(np.log(means))).max() < 0.02, means


def reflectance(studio: Studio, sun: float, height: float, **parts: Any) -> float:
    """Of a small field straight below: π L over the sun's light on the level."""
    sky = free_sun(sun, camera={"altitude_m": height, "pitch_deg": -90, "lens_mm": 200}, **parts)
    light = studio.render(sky, Wish(32, 18, "draft", sun_disc=False)).light[..., 1].mean()
    return float(math.pi * light / (AT_SUN * math.sin(math.radians(sun))))


def test_reflectances_from_orbit(studio: Studio) -> None:
    """Ocean under clear air .05 to .12 with the sun at 60°, thick stratus .6 to .85 (planetary
    albedos, from memory)."""
    assert 0.05 < reflectance(studio, 60, 400e3, **OCEAN) < 0.12
    stratus = {"genus": "stratus", "id": "a", "cover_oktas": 8, "thickness_m": 1500,
               "body": {"density_per_km": 60}}
    assert 0.6 < reflectance(studio, 60, 400e3, layers=[stratus], **OCEAN) < 0.85


def test_the_whole_disc_shines_as_the_earth_does(studio: Studio) -> None:
    """Half-clouded sea, seen whole from where the sun stands: geometric albedo .2 to .45. The
    earth's is .37 to .43 with .29 to .31 of Bond albedo (Goode et al. 2001, from memory)."""
    sky = free_sun(89.9, camera={"altitude_m": 1e8, "pitch_deg": -90, "lens_mm": 120},
                   layers=[{"genus": "stratocumulus", "id": "a", "cover_oktas": 5,
                            "thickness_m": 800, "body": {"density_per_km": 60}}], **OCEAN)
    light = studio.render(sky, Wish(256, 144, "draft", sun_disc=False)).light[..., 1]
    per_rad = 256 / 36.0 * 120.0
    far = EARTH_M + 1e8
    sent = float(light.sum()) / per_rad**2  # illuminance at the eye, small angles
    geometric = sent / (AT_SUN * (EARTH_M / far) ** 2)
    assert 0.2 < geometric < 0.45


def test_day_and_night_side(studio: Studio) -> None:
    """Seen from far above the terminator, the side under the sun is lit and the other dark."""
    sky = free_sun(0, camera={"altitude_m": 30_000e3, "pitch_deg": -90, "lens_mm": 50},
                   layers=[{"genus": "stratus", "id": "a", "cover_oktas": 8}])
    light = studio.render(sky, Wish(128, 72, "proof", sun_disc=False)).light
    # The sun bears south, which lies at the lower edge of the frame.
    day, night = light[50:56, 60:68], light[16:22, 60:68]
    assert day[..., 1].mean() > 1000.0 * max(night[..., 1].mean(), 1e-6)


def test_a_ring_of_sunset_about_the_limb(studio: Studio) -> None:
    """With the sun behind the limb, air low over the ground is redder than all above it."""
    height = 400e3
    sky = free_sun(-math.degrees(dip(height)) - 0.4, camera={"altitude_m": height})
    prepared, _ = studio.prepare(sky, Wish(16, 9, "final"), Cancel())
    ratios = []
    for tangent in (6e3, 20e3, 45e3):
        elevation = -math.acos((EARTH_M + tangent) / (EARTH_M + height))
        cosine = math.cos(prepared.sun.elevation_true - elevation)
        light = np.empty(3)
        sky_radiance(prepared.scene.clear, elevation, prepared.sun.azimuth, cosine, np.empty(14),
                     light)
        ratios.append(light[0] / light[2])
    assert ratios[0] > 1.5 * max(ratios[1:]), ratios


@pytest.mark.parametrize(("radius", "height"), [
    (10.0, 2.0), (100.0, 3e4), long(63_710.0, 3e4), long(10.0, 3e4), long(100.0, 2.0),
    long(63_710.0, 2.0)])
def test_other_planets(studio: Studio, radius: float, height: float) -> None:
    """A horizon where a small or a great planet has it; no light is lost to rounding."""
    sky = sky_of(sun={"mode": "free", "elevation_deg": 50}, air={"planet_radius_km": radius},
                 layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3}],
                 camera={"altitude_m": height, "pitch_deg": 0 if height < 10 else -90,
                         "lens_mm": 14})
    light = studio.render(sky, Wish(96, 54, "draft", ground=False)).light
    assert np.isfinite(light).all() and light[..., 1].max() > 100.0
    if height > 10 and radius < 1000.0:
        hole = float((light[..., ALPHA] < 0.999).any(axis=0).sum())
        r = 1e3 * radius
        sine = min((r + 1500.0) / (r + height), 1.0)
        wide = 2.0 * math.tan(math.asin(sine)) * 96 / 36.0 * 14.0
        assert hole <= wide + 3.0




def test_observers_keep_their_tables_small(studio: Studio) -> None:
    """A high eye's table has more rows, a low one's as many as ever."""
    prepared, _ = studio.prepare(free_sun(30), Wish(16, 9, "draft"), Cancel())
    air, sun = prepared.atmosphere, prepared.sun
    low, high = (build_sky_view(air.media, air.sun, air.scattered, Observer(
        h, sun.elevation_true, sun.azimuth, 6e4), np.ones(SHADE_NODES), lambda f, n: f(0, n))
        for h in (2.0, 400e3))
    assert low.air.shape[:2] == (40, 20) and high.air.shape[:2] == (80, 40)
    assert not low.high and high.high and high.top < 0.0 < low.top


def test_either_side_of_the_terminator_can_be_exposed_for(studio: Studio) -> None:
    """Seen from above the edge of the day: by the light its clouds keep their modelling, by shade
    the dusk beyond is readable."""
    found = {}
    for part in ("light", "all", "shade"):
        sky = free_sun(2, camera={"altitude_m": 2_000e3, "pitch_deg": -90, "lens_mm": 20},
                       layers=[{"genus": "stratus", "id": "a", "cover_oktas": 8}],
                       film={"expose_for": part})
        made = studio.render(sky, Wish(96, 54, "draft", sun_disc=False))
        picture = develop(made.light, *made.metered).mean(axis=2)
        found[part] = made.metered.ev, picture[40:50].mean(), picture[8:20].mean()
    evs = [found[part][0] for part in ("light", "all", "shade")]
    assert min(evs[:2]) > evs[2] + 1.0, found
    assert 120 < found["light"][1] < 245  # the lit side, not burnt
    assert found["shade"][2] > found["light"][2] + 15  # the dark side opens


@pytest.mark.parametrize("eye", [2.0, 200e3])
def test_a_plan_shows_the_ground_as_it_is_lit(studio: Studio, eye: float) -> None:
    """From over high ice, where a plan looks down from above 3 km, open ground is about as bright
    as from near, whatever height the camera has."""
    sky = free_sun(45, camera={"altitude_m": eye}, layers=[
        {"genus": "cirrus", "id": "a", "cover_oktas": 0.5}], air={"ground_variety": 0.0})
    light = studio.render(sky, Wish(48, 48, "draft", "plan", extent_km=40.0)).light[..., 1]
    prepared, _ = studio.prepare(sky, Wish(16, 9, "draft"), Cancel())
    ground = prepared.scene.ground
    assert float(np.median(light)) == pytest.approx(
        float(ground["by_sun"][1] + ground["by_sky"][1]), rel=0.35)
