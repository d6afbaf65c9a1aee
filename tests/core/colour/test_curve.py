"""Films: their curves, and colours along them."""

from __future__ import annotations

import math

import colour
import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.colour.curve import (
    FILMS,
    GREY_CODE,
    Curve,
    codes_of,
    curve_of,
    white_from,
)
from dovrek.core.colour.film import develop, undeveloped, white_luminance
from dovrek.core.colour.opponent import from_opponent, opponent
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.core.compile.kernels import kernel
from dovrek.sky.document import Film

EV, WHITE = 12.0, 6504.0
STOPS = np.linspace(-14.0, 14.0, 1401)


def exposed(rgb: NDArray[np.float64], stops: float = 0.0) -> NDArray[np.float32]:
    """XYZ of linear RGB, 1 at the film's white, some stops brighter."""
    return np.ascontiguousarray(
        (rgb @ RGB_TO_XYZ.T * white_luminance(EV) * 2.0**stops).astype(np.float32))


def oklab(codes: NDArray[np.float64]) -> NDArray[np.float64]:
    linear = colour.models.eotf_sRGB(codes)
    return np.asarray(colour.XYZ_to_Oklab(linear @ RGB_TO_XYZ.T))


@pytest.mark.parametrize("name", FILMS)
@pytest.mark.parametrize("contrast", [0.5, 0.8, 1.0, 1.25, 1.6])
def test_curves_rise_and_hold_grey(name: str, contrast: float) -> None:
    codes = codes_of(STOPS, FILMS[name], contrast)
    assert (np.diff(codes) >= 0.0).all() and codes.min() >= 0.0 and codes.max() <= 1.0
    assert float(np.interp(0.0, STOPS, codes)) == pytest.approx(GREY_CODE, abs=0.011)
    # as steep at middle grey as it says: its own slope times the contrast
    found = float(np.interp(0.1, STOPS, codes) - np.interp(-0.1, STOPS, codes)) / 0.2
    near = 0.2 if name == "plain" else 0.08
    assert found == pytest.approx(FILMS[name].slope * contrast, rel=near)


@pytest.mark.parametrize("toe", [3.0, 6.0, 14.0])
@pytest.mark.parametrize("shoulder", [2.5, 4.0, 10.0])
@pytest.mark.parametrize("name", FILMS)
def test_toe_and_shoulder_set_by_hand_end_where_they_say(name: str, toe: float,
                                                         shoulder: float) -> None:
    """Unless the straight way to there is longer: a curve never rises faster than at its middle."""
    curve = curve_of(Film(curve=name, toe_stops=toe, shoulder_stops=shoulder))  # type: ignore[arg-type]
    codes = codes_of(STOPS, curve)
    assert (np.diff(codes) >= 0.0).all()
    straight = 1.1 * (1.0 - GREY_CODE) / curve.slope
    assert white_from(curve) <= max(shoulder, straight)
    black = STOPS[np.flatnonzero(codes > 0.0)[0]]
    assert black == pytest.approx(-max(toe, 1.05 * 1.02 * GREY_CODE / curve.slope), abs=0.1)


def test_more_contrast_burns_no_more() -> None:
    """The shoulder follows: white begins no lower than a tenth of a stop below where it did."""
    for name in ("soft", "standard", "strong"):
        whites = [white_from(FILMS[name], c) for c in (1.0, 1.25, 1.6)]
        assert min(whites) > whites[0] - 0.35
        assert whites[0] > 3.0


def test_films_stand_in_their_order() -> None:
    """From soft to strong, shade is deeper and light brighter; plain holds its ratios best."""
    shade, light = (
        [float(codes_of(np.array([s]), FILMS[n])[0]) for n in ("soft", "standard", "strong")]
        for s in (-1.5, 1.5))
    assert shade == sorted(shade, reverse=True) and light == sorted(light)


@kernel
def _there_and_back(r, g, b):  # type: ignore[no-untyped-def]
    lightness, one, two = opponent(r, g, b)
    return lightness, one, two, *from_opponent(lightness, one, two)


def test_opponent_values_against_colour_science() -> None:
    """Oklab, Ottosson 2020, by the colour-science package (its XYZ matrix differs by rounding)."""
    for rgb in np.random.default_rng(4).uniform(0.0, 1.0, (50, 3)):
        found = _there_and_back(*rgb)
        assert found[:3] == pytest.approx(colour.XYZ_to_Oklab(rgb @ RGB_TO_XYZ.T), abs=2e-3)
        assert found[3:] == pytest.approx(rgb, abs=1e-5)


# A sunset's orange and red, skin of a cloud at last light, blue of the zenith, twilight's violet.
COLOURS = np.array([[0.30, 0.15, 0.06], [0.28, 0.08, 0.05], [0.25, 0.17, 0.13],
                    [0.08, 0.16, 0.36], [0.14, 0.11, 0.26], [0.10, 0.22, 0.12]])


@pytest.mark.parametrize("name", FILMS)
def test_hue_holds_from_three_stops_under_to_four_over(name: str) -> None:
    """Within 2° in Oklab wherever there is colour to speak of, and colour fades without a jump."""
    stops = np.arange(-3.0, 4.01, 0.25)
    for rgb in COLOURS:
        rows = np.concatenate([exposed(np.broadcast_to(rgb, (4, 8, 3)), s) for s in stops])
        codes = develop(rows, EV, WHITE, 1.0, 1.0, FILMS[name], bits=16) / 65535.0
        lab = oklab(codes).reshape(len(stops), -1, 3).mean(axis=1)
        chroma = np.hypot(lab[:, 1], lab[:, 2])
        hue = np.degrees(np.unwrap(np.arctan2(lab[:, 2], lab[:, 1])))
        strong = chroma > 0.015
        assert np.ptp(hue[strong]) < 2.0
        assert chroma[-1] < 0.6 * chroma.max()  # toward white
        assert np.abs(np.diff(chroma)).max() < 0.06


def test_colours_outside_the_gamut_come_in_along_their_hue() -> None:
    """Greens and violets that sRGB does not hold: hue within 2°, no channel cut alone."""
    outside = np.array([[-0.10, 0.30, 0.05], [0.35, -0.04, 0.02], [0.06, -0.02, 0.40],
                        [-0.03, 0.12, 0.45]])
    for rgb in outside:
        codes = develop(exposed(np.broadcast_to(rgb, (8, 8, 3))), EV, WHITE, 1.0, 1.0,
                        FILMS["standard"], bits=16) / 65535.0
        lab = oklab(codes).mean(axis=(0, 1))
        wanted = _there_and_back(*rgb)
        turn = math.degrees(math.atan2(lab[2], lab[1]) - math.atan2(wanted[2], wanted[1]))
        assert abs(math.remainder(turn, 360.0)) < 2.0
        assert math.hypot(lab[1], lab[2]) > 0.03


@pytest.mark.parametrize("name", FILMS)
@pytest.mark.parametrize("ev", [-20.0, 0.0, 22.0])
def test_whatever_the_light_there_is_a_picture(name: str, ev: float) -> None:
    light = np.zeros((4, 6, 5), dtype=np.float32)
    assert develop(light, ev, WHITE, 1.0, 1.0, FILMS[name]).max() <= 1  # the dither's
    light[..., :3] = 1e9
    light[0, 0, :3] = (3e9, 1e9, 0.0)
    shown = develop(light, ev, WHITE, 1.6, 2.0, FILMS[name])
    assert shown[1:].min() >= 253 and np.isfinite(shown).all()


@pytest.mark.parametrize("name", FILMS)
def test_developing_is_undone(name: str) -> None:
    """Codes come back within one, but where a film has no light for them."""
    rng = np.random.default_rng(6)
    codes = np.round(rng.uniform(8.0, 235.0, (40, 60, 3)))
    light = undeveloped((codes / 255.0).astype(np.float32), EV, WHITE, 1.1, 1.2, FILMS[name])
    again = np.asarray(develop(light, EV, WHITE, 1.1, 1.2, FILMS[name]), dtype=float)
    assert np.quantile(np.abs(again - codes), 0.999) <= 1.0


def test_a_curve_named_by_a_document() -> None:
    assert curve_of(Film()) == FILMS["standard"]
    assert curve_of(Film(curve="plain")) == FILMS["plain"]
    bent = curve_of(Film(curve="plain", shoulder_stops=6.0))
    assert bent == Curve(FILMS["plain"].slope, FILMS["plain"].toe, 6.0)
