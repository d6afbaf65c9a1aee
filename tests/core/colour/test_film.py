"""The film: exposure, curve, encoding, dither."""

from __future__ import annotations

import math

import numpy as np
import pytest
from colour.models import eotf_inverse_sRGB, eotf_sRGB
from numpy.typing import NDArray

from dovrek.core.air.sunlight import illuminances
from dovrek.core.colour.film import (
    balance_matrix,
    decode_srgb,
    develop,
    encode_quickly,
    encode_srgb,
    meter,
    white_luminance,
)
from dovrek.core.colour.spectrum import LUMINANCE_RGB, RGB_TO_XYZ, white_of_temperature
from dovrek.core.photo.likeness import linear
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from tests.conftest import free_sun


def test_srgb_against_colour_science() -> None:
    """IEC 61966-2-1 both ways."""
    values = np.linspace(0, 1, 257)
    assert [encode_srgb(v) for v in values] == pytest.approx(eotf_inverse_sRGB(values), abs=1e-6)
    assert [encode_quickly(v) for v in values] == pytest.approx(eotf_inverse_sRGB(values), abs=1e-6)
    assert [encode_quickly(v) for v in (-0.1, 1.0, 1e-5)] == pytest.approx([0, 1, 1.292e-4],
                                                                           abs=1e-6)
    assert [decode_srgb(v) for v in values] == pytest.approx(eotf_sRGB(values), abs=1e-6)


@pytest.mark.parametrize("elevation", [40, 50, 60])
def test_sunny_sixteen(studio: Studio, elevation: float) -> None:
    """A level sunlit 18 % card reads EV 15 ± 0.7 at ISO 100 (common practice; L = 2^EV·12.5/100,
    ISO 2720)."""
    prepared = studio.preparer.scene(free_sun(elevation), FINE, Cancel())
    air = prepared.atmosphere
    direct, diffuse = illuminances(air.media, air.sun, air.scattered, prepared.sun)
    luminance = 0.18 / math.pi * float(direct[1] + diffuse[1])
    assert math.log2(luminance / 0.125) == pytest.approx(15.0, abs=0.7)
    assert white_luminance(15.0) == pytest.approx(2**15 * 0.125 / 0.18)


@pytest.mark.parametrize(("parts", "low", "high"), [
    ({"elevation": 50.0}, 0.25, 0.75),
    ({"elevation": 50.0, "layers": [{"genus": "stratus"}]}, 0.30, 0.80),
    ({"elevation": 2.0}, 0.20, 0.75),
    ({"elevation": -5.0}, 0.08, 0.60),
])
def test_automatic_exposure_suits_noon_overcast_and_dusk(
    studio: Studio, parts: dict[str, object], low: float, high: float
) -> None:
    """Mean code value of the sky stays in the middle of the range, and little burns out."""
    elevation = float(str(parts.pop("elevation")))
    sky = free_sun(elevation, camera={"heading_deg": 90, "pitch_deg": 20}, **parts)
    rendered = studio.render(sky, Wish(96, 54, "draft"))
    picture = develop(rendered.light, rendered.metered.ev, rendered.metered.kelvins)
    upper = picture[:30] / 255.0
    assert low < upper.mean() < high
    assert (upper.min(axis=2) > 0.995).mean() < 0.05


def test_meter_is_steady_for_one_bright_sun() -> None:
    plain = np.full((40, 60), 4000.0)
    spotted = plain.copy()
    spotted[0, :3] = 1e9
    whole = np.ones_like(plain, dtype=bool)
    assert meter(spotted, whole) == pytest.approx(meter(plain, whole), abs=0.15)


def test_balance_renders_its_white_neutral() -> None:
    for kelvins in (3000.0, 5600.0, 9000.0):
        rgb = balance_matrix(kelvins) @ white_of_temperature(kelvins)
        assert rgb == pytest.approx(np.ones(3), abs=0.01)


def test_dither_keeps_a_ramp_from_banding() -> None:
    """A ramp of one code value over 400 pixels: columns' means follow it to 0.12 of a code."""
    ramp = np.linspace(0.200, 0.2012, 400)
    light = np.repeat((ramp[:, None] * (RGB_TO_XYZ @ np.ones(3)))[None], 400, axis=0)
    picture = develop(np.ascontiguousarray(light.astype(np.float32)), math.log2(0.18 / 0.125),
                      6504.0)
    assert len(np.unique(picture[..., 1])) <= 5
    means = picture[..., 1].mean(axis=0)
    line = np.polyfit(np.arange(400), means, 1)
    assert np.abs(means - np.polyval(line, np.arange(400))).max() < 0.2
    assert np.abs(np.convolve(means, np.ones(20) / 20, "valid")
                  - np.polyval(line, np.arange(400))[10:-9]).max() < 0.06


def colours() -> NDArray[np.float32]:
    """(24, 40, 3) exposed light of soft colours from deep shade to white, as XYZ."""
    rng = np.random.default_rng(3)
    rgb = np.geomspace(0.02, 1.2, 40)[None, :, None] * rng.uniform(0.75, 1.25, (24, 40, 3))
    return np.ascontiguousarray((rgb @ RGB_TO_XYZ.T * white_luminance(12.0)).astype(np.float32))


def test_saturation_keeps_luminance_and_ends_in_grey() -> None:
    light = colours()
    plain, grey, vivid = (develop(light, 12.0, 6504.0, 1.0, s).astype(float) for s in (1, 0, 1.5))
    assert np.ptp(grey, axis=2).max() <= 3.0  # the dither's
    spread = [np.ptp(p[:, :28], axis=2).mean() for p in (plain, vivid)]
    assert 1.35 < spread[1] / spread[0] < 1.6
    means = [(linear(p.astype(np.uint8)) @ LUMINANCE_RGB)[:, :28].mean()
             for p in (plain, grey, vivid)]
    assert means[1:] == pytest.approx([means[0]] * 2, rel=0.01)
