"""Eight wavelengths, the solar spectrum, and the way from spectra to colour.

Light is solved for unit extraterrestrial irradiance at each wavelength; `XYZ_WEIGHTS` then
carries the sun's spectrum and the observer, so XYZ is absolute (Y in cd/m² or lx).
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

WAVELENGTHS_NM = np.arange(400.0, 681.0, 40.0)
WAVES = 8  # constant count: kernels unroll over it
LUMINOUS_EFFICACY_LM_W = 683.002  # CIE, at 555 nm

# IEC 61966-2-1 (sRGB) and ITU-R BT.709 primaries, D65 white.
XYZ_TO_RGB = np.array(
    [
        [3.2404542, -1.5371385, -0.4985314],
        [-0.9692660, 1.8760108, 0.0415560],
        [0.0556434, -0.2040259, 1.0572252],
    ]
)
RGB_TO_XYZ = np.linalg.inv(XYZ_TO_RGB)
LUMINANCE_RGB = np.array([0.2126, 0.7152, 0.0722])


@cache
def _table() -> Array:
    text = files("dovrek.core.data").joinpath("spectra.csv").read_text()
    rows = [line.split(",") for line in text.splitlines() if not line.startswith("#")]
    return np.array(rows, dtype=np.float64)


def extraterrestrial_irradiance() -> tuple[Array, Array]:
    """Wavelengths (nm, every 1) and irradiance (W/m²/nm) above the air. Source: ASTM G173-03."""
    table = _table()
    return table[:, 0], table[:, 1]


def natural_splines(knots: Array, at: Array) -> Array:
    """(len(at), len(knots)) values of the natural cubic splines through one at a knot and nought at
    the others; knots are evenly spaced, `at` lies between the first and the last.

    Every process needs this once, and scipy's splines take most of a second to load.
    """
    count, step = len(knots), float(knots[1] - knots[0])
    inner = count - 2
    bends = np.zeros((count, count))
    bends[1:-1] = np.linalg.solve(
        4.0 * np.eye(inner) + np.eye(inner, k=1) + np.eye(inner, k=-1),
        6.0 / step**2 * (np.eye(inner, count) - 2.0 * np.eye(inner, count, 1)
                         + np.eye(inner, count, 2)))
    piece = np.clip(np.searchsorted(knots, at, side="right") - 1, 0, count - 2)
    after = ((at - knots[piece]) / step)[:, None]
    before, unit = 1.0 - after, np.eye(count)
    return np.asarray(before * unit[piece] + after * unit[piece + 1] + step**2 / 6.0 * (
        (before**3 - before) * bends[piece] + (after**3 - after) * bends[piece + 1]))


@cache
def xyz_weights() -> Array:
    """(8, 3) weights: XYZ of light whose ratio to the extraterrestrial sun is known at 8 waves.

    W_i = 683.002 ∫ E0(λ) (x̄, ȳ, z̄)(λ) φ_i(λ) dλ with φ_i the natural cubic spline through
    unit samples, held constant outside 400–680 nm. Source: CIE 015:2018 for the integral.
    """
    table = _table()
    wavelengths = np.clip(table[:, 0], WAVELENGTHS_NM[0], WAVELENGTHS_NM[-1])
    weights = LUMINOUS_EFFICACY_LM_W * (
        natural_splines(WAVELENGTHS_NM, wavelengths) * table[:, 1:2]).T @ table[:, 2:5]
    return np.ascontiguousarray(weights)


def xyz_to_rgb(xyz: Array) -> Array:
    """Linear Rec. 709 RGB of XYZ, any leading shape."""
    return xyz @ XYZ_TO_RGB.T


def correlated_colour_temperature(xyz: Array) -> float | None:
    """Kelvins, or None for light too faint or too far from white. Source: McCamy 1992, with
    Hernández-Andrés et al. 1999 above 12,500 K not needed for daylight on a horizontal plane."""
    total = float(np.sum(xyz))
    if xyz[1] < 0.01 or total <= 0:
        return None
    x, y = xyz[0] / total, xyz[1] / total
    n = (x - 0.3320) / (0.1858 - y)
    kelvins = 449.0 * n**3 + 3525.0 * n**2 + 6823.3 * n + 5520.33
    return float(kelvins) if 1000.0 < kelvins < 1e5 else None


def white_of_temperature(kelvins: float) -> Array:
    """XYZ (Y = 1) of the Planckian radiator, 1700–25,000 K. Source: Kim et al. 2002 (cubic fit).

    Direct sunlight and a clear noon lie on this locus rather than on CIE daylight's.
    """
    t = float(np.clip(kelvins, 1700.0, 25000.0))
    u = 1e3 / t
    if t < 4000:
        x = -0.2661239 * u**3 - 0.2343589 * u**2 + 0.8776956 * u + 0.179910
    else:
        x = -3.0258469 * u**3 + 2.1070379 * u**2 + 0.2226347 * u + 0.240390
    if t < 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif t < 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    return np.array([x / y, 1.0, (1.0 - x - y) / y])
