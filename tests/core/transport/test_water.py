"""Water: waves, glint, what it mirrors."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.transport.water import fresnel, glint, slope_variance
from tests.conftest import free_sun

WATER = {"ground": {"kind": "water", "waves": 5.0}}


@pytest.mark.parametrize(("degrees", "known"), [(0, 0.0211), (40, 0.0250), (60, 0.0608),
                                                (80, 0.350)])
def test_reflection_at_an_angle(degrees: float, known: float) -> None:
    """Fresnel's equations for an index of 1.34: ((n − 1)/(n + 1))² straight down; the others by
    Snell's law written out."""
    angle = math.radians(degrees)
    inside = math.asin(math.sin(angle) / 1.34)
    if degrees:
        a = math.sin(angle - inside) / math.sin(angle + inside)
        b = math.tan(angle - inside) / math.tan(angle + inside)
        assert fresnel(math.cos(angle)) == pytest.approx(0.5 * (a * a + b * b), rel=1e-6)
    assert fresnel(math.cos(angle)) == pytest.approx(known, rel=0.03)


def vector(elevation_deg: float, azimuth_deg: float) -> Any:
    e, a = math.radians(elevation_deg), math.radians(azimuth_deg)
    return np.array([math.cos(e) * math.sin(a), math.cos(e) * math.cos(a), math.sin(e)])


UP = np.array([0.0, 0.0, 1.0])


@pytest.mark.parametrize("wind", [2.0, 7.0, 14.0])
def test_glint_has_the_width_of_the_slopes(wind: float) -> None:
    """Straight above, with the sun at the zenith, the glint falls to 1/e of the slopes' chance
    where tan² of half the angle is their variance, .003 + .00512 U (Cox & Munk 1954); its peak is
    F/(4π σ²)."""
    variance = 0.003 + 0.00512 * wind
    assert slope_variance(wind) == pytest.approx(variance)
    sun = vector(90, 0)
    peak = glint(sun, vector(90, 0), UP, variance)
    assert peak == pytest.approx(fresnel(1.0) / (4.0 * math.pi * variance), rel=1e-3)
    tilt = math.atan(math.sqrt(variance))
    off = glint(sun, vector(90 - 2.0 * math.degrees(tilt), 30), UP, variance)
    seen, steep = math.cos(2.0 * tilt), math.cos(tilt)
    shape = fresnel(math.cos(tilt)) / fresnel(1.0) / seen / steep**4
    assert off / peak == pytest.approx(math.exp(-1.0) * shape, rel=0.01)


@pytest.mark.parametrize("sun", [70.0, 40.0])
def test_glint_sends_back_what_facets_do(sun: float) -> None:
    """All directions together: as much as mirrors dealt by the slopes' chances send up (energy of
    Fresnel reflection), within 3 %."""
    variance, rng = slope_variance(7.0), np.random.default_rng(3)
    s = vector(sun, 200)
    slopes = rng.normal(0.0, math.sqrt(0.5 * variance), (200_000, 2))
    n = np.column_stack([-slopes, np.ones(len(slopes))])
    n /= np.linalg.norm(n, axis=1)[:, None]
    facing = n @ s
    mirrored = 2.0 * facing[:, None] * n - s
    good = (facing > 0) & (mirrored[:, 2] > 0)
    share = np.array([fresnel(c) for c in facing[good][:40_000]])
    # Each facet stands for its slope's chance on the level: area 1/n_z, light by its facing.
    known = float((share * (facing / n[:, 2])[good][:40_000]).mean() * good.mean())
    found = 0.0
    for e in np.arange(0.5, 90.0, 1.0):
        for a in np.arange(1.0, 360.0, 2.0):
            weight = math.cos(math.radians(e)) * math.radians(1.0) * math.radians(2.0)
            found += glint(s, vector(e, a), UP, variance) * math.sin(math.radians(e)) * weight
    assert found == pytest.approx(known, rel=0.03)


def rows_of(studio: Studio, sky: Any, wish: Wish) -> Any:
    return studio.render(sky, wish).light[..., :3]


def test_calm_water_mirrors_the_clouds(studio: Studio) -> None:
    """Flat calm: columns below the horizon follow those above it, upside down; in a breeze they
    follow less."""
    found = []
    for waves in (0.0, 12.0):
        sky = free_sun(35, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 4}],
                       ground={"kind": "water", "waves": waves},
                       camera={"heading_deg": 20, "pitch_deg": 0, "lens_mm": 24})
        light = rows_of(studio, sky, Wish(128, 72, "final", sun_disc=False))[..., 1]
        above, below = np.log(light[8:33][::-1]), np.log(light[39:64])
        above, below = (a - a.mean(axis=1, keepdims=True) for a in (above, below))
        found.append(float(np.corrcoef(above.ravel(), below.ravel())[0, 1]))
    assert found[0] > 0.5 and found[0] > found[1] + 0.2, found


def test_water_is_bright_toward_the_sun_alone(studio: Studio) -> None:
    """The glint lies below the sun; away from it the sea is dark and blue."""
    light = {}
    for heading in (180, 0):
        sky = free_sun(40, camera={"heading_deg": heading, "pitch_deg": -40, "lens_mm": 35,
                                   "altitude_m": 200}, **WATER)
        light[heading] = rows_of(studio, sky, Wish(64, 36, "draft")).mean(axis=(0, 1))
    assert light[180][1] > 5.0 * light[0][1]
    assert light[0][2] > 1.2 * light[0][0]


@pytest.mark.parametrize(("sun", "heading", "altitude", "pitch", "within"), [
    (40, 180, 200.0, -20.0, 0.1), (40, 90, 200.0, -20.0, 0.12), (12, 90, 200.0, -10.0, 0.1),
    (60, 0, 400e3, -80.0, 0.06), (15, 0, 400e3, -80.0, 0.06)])
def test_a_clear_sea_is_as_bright_as_traced(studio: Studio, sun: float, heading: float,
                                            altitude: float, pitch: float, within: float) -> None:
    """The path tracer sends paths on by facets dealt from the slopes of Cox & Munk 1954; the march
    mirrors a sky that is as soft as they make it (ours). Toward the sun, aside, from orbit."""
    sky = free_sun(sun, air={"haze": 0.1}, camera={
        "heading_deg": heading, "pitch_deg": pitch, "lens_mm": 24, "altitude_m": altitude}, **WATER)
    wish = Wish(32, 18, "final", sun_disc=False)
    traced = studio.trace(sky, wish, 300).light[..., :3].mean(axis=(0, 1))
    assert rows_of(studio, sky, wish).mean(axis=(0, 1)) == pytest.approx(traced, rel=within)


@pytest.mark.long
def test_cloud_over_the_sea_from_orbit_is_as_bright_as_traced(studio: Studio) -> None:
    """Heaps of four oktas from 400 km, means within 15 % (ours)."""
    for sun in (60.0, 15.0):
        sky = free_sun(sun, air={"haze": 0.1}, layers=[{"genus": "cumulus", "cover_oktas": 4}],
                       camera={"pitch_deg": -70, "lens_mm": 24, "altitude_m": 400e3}, **WATER)
        wish = Wish(32, 18, "final", sun_disc=False)
        traced = studio.trace(sky, wish, 300).light[..., 1].mean()
        assert studio.render(sky, wish).light[..., 1].mean() == pytest.approx(traced, rel=0.15)


def test_continents_take_their_share(studio: Studio) -> None:
    """Share of land in a plan 3000 km across, mean of 4 seeds: it grows with what is set."""
    def land(share: float) -> float:
        total = 0.0
        for seed in range(4):
            sky = free_sun(60, ground={"kind": "continents", "land_share": share, "size_km": 400,
                                       "seed": seed}, air={"haze": 0.02, "ground_albedo": 0.5,
                                                           "ground_variety": 0.0})
            light = rows_of(studio, sky, Wish(96, 96, "draft", "plan", extent_km=3000.0))[..., 1]
            total += float((light > 0.5 * (light.min() + light.max())).mean()) / 4
        return total

    found = [land(s) for s in (0.1, 0.3, 0.6, 0.9)]
    assert (np.diff(found) > 0.1).all() and abs(found[1] - 0.3) < 0.12, found
