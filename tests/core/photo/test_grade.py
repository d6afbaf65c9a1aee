"""A photograph's own contrast and saturation: what they do to codes, and the film nearest to it.
Other hands than ours bend the pictures: Pillow's, and a curve by a sine."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image, ImageEnhance

from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.colour.spectrum import LUMINANCE_RGB, RGB_TO_XYZ
from dovrek.core.photo.grade import UNGRADED, as_pixels, developed, film_for, graded, ungraded
from tools.judging import styled, vivid

EV, WHITE = 12.0, 6504.0


def codes() -> NDArray[np.float64]:
    """(40, 60, 3) soft colours over the whole range, none near its ends."""
    rng = np.random.default_rng(11)
    return np.linspace(0.15, 0.85, 60)[None, :, None] + rng.uniform(-0.08, 0.08, (40, 60, 3))


def light() -> NDArray[np.float32]:
    """(24, 40, 3) exposed light of soft colours from deep shade to white, as XYZ."""
    rng = np.random.default_rng(3)
    rgb = np.geomspace(0.02, 1.2, 40)[None, :, None] * rng.uniform(0.75, 1.25, (24, 40, 3))
    return np.ascontiguousarray((rgb @ RGB_TO_XYZ.T * white_luminance(EV)).astype(np.float32))


@pytest.mark.parametrize("grade", [(1.0, 1.0), (1.3, 0.7), (0.75, 1.4), (1.5, 1.1)])
def test_a_grade_can_be_taken_off(grade: Any) -> None:
    assert ungraded(graded(codes(), grade), grade) == pytest.approx(codes(), abs=1e-9)


def test_contrast_keeps_black_middle_and_white() -> None:
    """Its slope in the middle is the contrast; greys stay grey."""
    greys = np.array([0.0, 0.495, 0.5, 0.505, 1.0])[:, None] * np.ones(3)
    shown = graded(greys, (1.4, 1.6))
    assert shown[[0, 2, 4], 0] == pytest.approx([0.0, 0.5, 1.0])
    assert np.ptp(shown, axis=1).max() < 1e-12
    assert (shown[3, 0] - shown[1, 0]) / 0.01 == pytest.approx(1.4, rel=0.01)


def test_saturation_keeps_luma_and_can_end_in_grey() -> None:
    weights = np.asarray(LUMINANCE_RGB)
    assert graded(codes(), (1.0, 1.15)) @ weights == pytest.approx(codes() @ weights)
    assert np.ptp(graded(codes(), (1.0, 0.0)), axis=2).max() < 1e-12


def test_no_grade_is_the_film_s_own_picture() -> None:
    shown = as_pixels(developed(light(), EV, WHITE, UNGRADED))
    assert np.abs(shown.astype(int) - develop(light(), EV, WHITE).astype(int)).max() <= 2  # dither
    assert film_for(light(), EV, WHITE, UNGRADED) == (EV, 1.0, 1.0)


@pytest.mark.parametrize("bend", [vivid, styled])
def test_what_others_bend_can_be_followed(bend: Any) -> None:
    """The best of some thousand grades leaves less than half of what an enhanced picture is off."""
    plain = as_pixels(codes())
    wanted = bend(plain) / 255.0
    off = [float(np.sqrt(np.mean((graded(plain / 255.0, (c, s)) - wanted) ** 2)))
           for c in np.linspace(0.8, 1.6, 33) for s in np.linspace(0.8, 1.6, 33)]
    assert min(off) < 0.5 * float(np.sqrt(np.mean((plain / 255.0 - wanted) ** 2)))
    assert min(off) < 0.03


def test_pillow_s_colour_and_ours_are_alike() -> None:
    """Both blend codes with their grey; its grey is the luma of Rec. ITU-R BT.601."""
    plain = as_pixels(codes())
    theirs = np.asarray(ImageEnhance.Color(Image.fromarray(plain)).enhance(1.3)) / 255.0
    assert np.abs(graded(plain / 255.0, (1.0, 1.3)) - theirs).max() < 0.03


@pytest.mark.parametrize("grade", [(1.15, 1.1), (1.3, 1.25), (0.85, 0.8)])
def test_the_film_follows_a_grade(grade: Any) -> None:
    """Exposure, contrast and saturation of the film bring most of a grade; which way they go is
    plain."""
    wanted = developed(light(), EV, WHITE, grade)
    ev, contrast, saturation = film_for(light(), EV, WHITE, grade)
    off = [float(np.sqrt(np.mean((developed_so - wanted) ** 2))) for developed_so in (
        develop(light(), ev, WHITE, contrast, saturation, bits=16) / 65535.0,
        developed(light(), EV, WHITE, UNGRADED))]
    assert off[0] < 0.5 * off[1]
    assert (contrast > 1.0) == (grade[0] > 1.0)
    assert abs(ev - EV) < 0.7
