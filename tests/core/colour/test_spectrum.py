"""Weights of the wavelengths."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import CubicSpline

from dovrek.core.colour.spectrum import WAVELENGTHS_NM, natural_splines


def test_splines_are_the_natural_ones_of_scipy() -> None:
    at = np.linspace(WAVELENGTHS_NM[0], WAVELENGTHS_NM[-1], 977)
    known = CubicSpline(WAVELENGTHS_NM, np.eye(len(WAVELENGTHS_NM)), bc_type="natural")(at)
    assert natural_splines(WAVELENGTHS_NM, at) == pytest.approx(known, abs=1e-12)
