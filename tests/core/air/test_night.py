"""Moonlight, the night sky, and a sun that is stronger or tinted."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.air.sources import sources
from dovrek.core.air.sun_place import Place, moon_place, toward
from dovrek.core.picture.probe import probe
from dovrek.core.picture.render import meter_sky
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.disc import sun_disc_share
from dovrek.sky.document import Sky
from tests.conftest import free_sun, sky_of

SITE = {"latitude": 53.4, "longitude": -0.2, "timezone": "Europe/London"}
FULL_MOON, NO_MOON, CRESCENT = "2026-11-24T22:00", "2026-11-09T23:00", "2026-11-12T16:50"


def night(moment: str = FULL_MOON, **parts: Any) -> Sky:
    return sky_of(site=SITE, moment=moment, **parts)


def test_full_moon_lights_as_a_full_moon_does(studio: Studio) -> None:
    """Up to 0.3 lx at the ground from a high full moon (handbook value, from memory)."""
    found = probe(night(), studio.preparer, Cancel())
    assert found["moon"]["illuminated_fraction"] > 0.98
    assert 0.12 < found["moon"]["direct_normal_lux"] < 0.32
    assert 0.005 < found["sky"]["diffuse_horizontal_lux"] < 0.08
    assert found["sun"]["direct_normal_lux"] == 0.0


def test_moonless_sky_glows_faintly(studio: Studio) -> None:
    """About 22 magnitudes a square arcsecond, 1.7e-4 cd/m² (Leinert et al. 1998), factor 2."""
    assert sources(night(NO_MOON))[0].place.elevation < 0
    found = probe(night(NO_MOON), studio.preparer, Cancel())["clear_sky"]["zenith_cd_m2"]
    assert 0.85e-4 < found < 3.4e-4


def test_the_moon_can_be_hidden_and_strengthened(studio: Studio) -> None:
    def mean(**moon: Any) -> float:
        sky = night(moon=moon, layers=[{"genus": "altocumulus", "id": "a"}],
                    camera={"heading_deg": 300, "pitch_deg": 25})
        return float(studio.render(sky, Wish(64, 36, "sketch")).light[..., 1].mean())

    plain, hidden, strong = mean(), mean(visible=False), mean(strength=10.0)
    assert hidden < 0.2 * plain
    assert strong == pytest.approx(10.0 * plain, rel=0.02)


def test_dusk_is_lit_by_both(studio: Studio) -> None:
    """With the sun 7° down a rising full moon adds its light to the dusk's."""
    dusk = night("2026-11-24T16:40")
    both = sources(dusk)
    assert [math.degrees(s.place.elevation_true) > 0 for s in both] == [False, True]

    def light(sky: Sky) -> Any:
        return studio.render(sky, Wish(64, 36, "sketch", sun_disc=False)).light[..., :3]

    alone = light(dusk.model_copy(update={"moon": dusk.moon.model_copy(
        update={"visible": False})}))
    together = light(dusk)
    assert (together >= alone * 0.98).all() and together.mean() > 1.002 * alone.mean()


def test_a_night_is_printed_as_one(studio: Studio) -> None:
    """Automatic exposure leaves a moonless night darker than a moonlit one, and both finite."""
    found = {}
    for moment in (FULL_MOON, NO_MOON):
        sky = night(moment, camera={"heading_deg": 0, "pitch_deg": 30})
        prepared = studio.preparer.scene(sky, SKETCH, Cancel())
        ev = meter_sky(sky.camera, prepared, studio.workers, Cancel()).ev
        light = studio.render(sky, Wish(64, 36, "sketch")).light[..., 1].mean()
        found[moment] = light / 2.0**ev
    assert found[NO_MOON] < 0.5 * found[FULL_MOON]


def test_lit_share_of_the_disc_is_the_phase(studio: Studio) -> None:
    """The terminator leaves the phase's share of the disc lit."""
    sky = night(CRESCENT)
    place, lit, _ = moon_place(sky)
    assert 0.05 < lit < 0.4
    prepared = studio.preparer.scene(sky, SKETCH, Cancel())
    moon = next(p for p in prepared.lights if p.sun.azimuth == place.azimuth)
    disc = moon.scene.sun
    e0, a0, radius = disc["elevation"], disc["azimuth"], disc["radius"]
    count, total = 160, 0.0
    for i in range(count):
        for j in range(count):
            u, v = (2 * (i + 0.5) / count - 1) * 1.1, (2 * (j + 0.5) / count - 1) * 1.1
            flat = disc["flattening"]
            total += sun_disc_share(moon.scene, e0 + v * radius * flat,
                                    a0 + u * radius / math.cos(e0), 1e-5)
    area = total * (2.2 / count) ** 2 / math.pi
    assert area == pytest.approx(1.0, abs=0.08)  # as much light as the whole phase gives


def test_the_lit_limb_faces_the_sun() -> None:
    moon = Place(math.radians(30), math.radians(30), math.radians(200))
    west = Place(math.radians(-8), math.radians(-8), math.radians(260))
    above = Place(math.radians(60), math.radians(60), math.radians(200))
    assert math.degrees(toward(moon, above)) == pytest.approx(0.0, abs=1e-6)
    assert 90 < math.degrees(toward(moon, west)) < 180  # to the right and down


def test_sun_strength_scales_all_light(studio: Studio) -> None:
    def light(**sun: Any) -> Any:
        sky = free_sun(35, layers=[{"genus": "cumulus", "id": "a"}])
        changed = sky.model_copy(update={"sun": sky.sun.model_copy(update=sun)})
        return studio.render(changed, Wish(64, 36, "sketch")).light

    plain = light()
    # How far a pixel is grain is decided in single precision, by differences of logarithms.
    assert light(strength=2.0)[..., :3] == pytest.approx(2.0 * plain[..., :3], rel=4e-3)
    assert light(tint="#000000")[..., :3] == pytest.approx(plain[..., :3], rel=4e-3)
    warm = light(tint="#ff8040")
    assert warm[..., 1] == pytest.approx(plain[..., 1], rel=1e-3)
    assert np.median(warm[..., 0] / warm[..., 2]) > 2.0 * np.median(plain[..., 0] / plain[..., 2])
