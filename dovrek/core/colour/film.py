"""Film: from scene light to a picture. Metering, white balance, tone curve, sRGB, dither."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import (
    LUMINANCE_RGB,
    RGB_TO_XYZ,
    XYZ_TO_RGB,
    correlated_colour_temperature,
    white_of_temperature,
)
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, solver
from dovrek.core.compile.noise import hash_unit

Array = NDArray[np.float64]

ISO_CONSTANT = 0.125  # luminance = 2^EV · 12.5 / 100 at ISO 100 (ISO 2720)
MIDDLE_GREY = 0.18
BRADFORD = np.array(
    [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]]
)
DAYLIGHT_K = 5600.0
NIGHT = 0.1  # cd/m², mean luminance of a picture below which it is night
DARKEST_EV = -6.0  # automatic exposure goes no longer: a moonless night stays dark


def white_luminance(ev: float) -> float:
    """cd/m² that linear RGB (1, 1, 1) stands for at an exposure: middle grey at 0.18."""
    return 2.0**ev * ISO_CONSTANT / MIDDLE_GREY


def meter(luminance: Array, is_sky: NDArray[np.bool_]) -> float:
    """Exposure value for a picture's luminances (cd/m²).

    Geometric mean of the sky placed near middle grey and a highlight (98th percentile) kept
    under the shoulder, by at most 1.2 stops (the sun itself may burn out); below 300 cd/m² the
    eye's own darkening is kept in part, so that dusk looks like dusk.
    Common practice; the key by adaptation after Krawczyk et al. 2005.
    """
    values = luminance[is_sky] if is_sky.any() else luminance.ravel()
    values = np.maximum(values[np.isfinite(values)], 1e-7)
    mean = float(np.exp(np.mean(np.log(values))))
    high = float(np.percentile(values, 98.0))
    key = 0.36 if mean > 300.0 else 0.36 * (mean / 300.0) ** 0.13
    if mean < NIGHT:  # a night is printed as one
        key *= max((mean / NIGHT) ** 0.12, 0.3)
    by_mean = math.log2(mean / ISO_CONSTANT * MIDDLE_GREY / key)
    by_high = math.log2(high / ISO_CONSTANT * MIDDLE_GREY / 1.9)
    return float(np.clip(max(by_mean, min(by_high, by_mean + 1.2)), DARKEST_EV, 22.0))


def automatic_white(illuminant_xyz: Array) -> float:
    """Colour temperature to balance for: daylight film moved halfway to the light at hand,
    never so far that an evening loses its warmth."""
    found = correlated_colour_temperature(illuminant_xyz)
    if found is None:
        return 6500.0
    mired = 0.5 * 1e6 / DAYLIGHT_K + 0.5 * 1e6 / found
    return float(np.clip(1e6 / mired, 5000.0, 6000.0))


def balance_matrix(kelvins: float) -> Array:
    """XYZ to linear RGB with a white of this temperature rendered neutral (Bradford, Lam 1985)."""
    source, target = white_of_temperature(kelvins), RGB_TO_XYZ @ np.ones(3)
    gain = (BRADFORD @ target) / (BRADFORD @ source)
    adapt = np.linalg.inv(BRADFORD) @ np.diag(gain) @ BRADFORD
    return XYZ_TO_RGB @ adapt


def saturated(matrix: Array, saturation: float) -> Array:
    """A matrix to linear RGB whose colours stand `saturation` times as far from the grey of their
    luminance."""
    grey = np.tile(np.asarray(LUMINANCE_RGB), (3, 1))
    return np.asarray((saturation * np.eye(3) + (1.0 - saturation) * grey) @ matrix)


@kernel
def _curve(contrast):
    """Power, knee and scale of the curve: what does not change from pixel to pixel."""
    p = 1.28 * contrast
    k = 0.80 ** p
    g = MIDDLE_GREY ** p
    return p, k, 0.186 * (g + k) / g


@kernel
def tone(y, contrast):
    """Filmic curve on relative luminance: grey 0.18 near 0.18, long shoulder, short toe.

    A rational sigmoid in y^c (after Naka & Rushton 1966), scaled to keep middle grey in place.
    """
    p, k, scale = _curve(contrast)
    v = max(y, 0.0) ** p
    return min(scale * v / (v + k), 1.0)


@kernel
def encode_srgb(value):
    """Electro-optical inverse of IEC 61966-2-1, 0 … 1."""
    if value <= 0.0031308:
        return 12.92 * max(value, 0.0)
    return 1.055 * min(value, 1.0) ** (1.0 / 2.4) - 0.055


# The same over the root of the light, which it is nearly straight in: a power costs ten look-ups.
ROOTS = 4096
_OF_ROOTS = np.array([encode_srgb.py_func((k / ROOTS) ** 2) for k in range(ROOTS + 2)])


@kernel
def encode_quickly(value):
    """`encode_srgb` for 0 … 1 by a table, within 1e-6."""
    at = math.sqrt(max(value, 0.0)) * ROOTS
    k = clamp(int(at), 0, ROOTS)
    return _OF_ROOTS[k] + (at - k) * (_OF_ROOTS[k + 1] - _OF_ROOTS[k])


@kernel
def decode_srgb(value):
    """Linear light of an sRGB code value, 0 … 1. Source: IEC 61966-2-1."""
    if value <= 0.04045:
        return value / 12.92
    return ((value + 0.055) / 1.055) ** 2.4


OF_CODE = np.array([decode_srgb.py_func(code / 255.0) for code in range(256)])  # linear light


@inner
def _noise(x, y, c):
    """Triangular noise of ± 1 from a pixel's place (high and low bits of one hash)."""
    h = hash_unit(x, y, c)
    return h + (h * 65536.0) % 1.0 - 1.0


@solver
def develop_rows(light, scale, matrix, contrast, levels, top, y0, y1, out):
    """Develop XYZ rows y0 … y1 to sRGB code values 0 … `levels` with triangular dither.

    `light` (h, w, ≥4) is XYZ and alpha times 1/scale-free; `scale` turns it into exposed light.
    The curve works on luminance; colour fades to white along the shoulder, and what lies
    outside the gamut is drawn toward grey of the same luminance. Row 0 is row `top` of the picture.
    """
    rgb = np.empty(3)
    power, knee, height = _curve(contrast)
    _, width, _ = light.shape
    for y in range(y0, y1):
        for x in range(width):
            for c in range(3):
                rgb[c] = scale * (matrix[c, 0] * light[y, x, 0] + matrix[c, 1] * light[y, x, 1]
                                  + matrix[c, 2] * light[y, x, 2])
            lum = max(0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2], 1e-9)
            raised = lum**power
            shown = min(height * raised / (raised + knee), 1.0)
            factor = shown / lum
            fade = clamp((shown - 0.62) / 0.38, 0.0, 1.0)
            keep = 1.0 - 0.9 * fade * fade
            low, high = 0.0, 0.0
            for c in range(3):
                rgb[c] = shown + (rgb[c] * factor - shown) * keep
                low, high = min(low, rgb[c]), max(high, rgb[c])
            limit = 1.0
            if low < 0.0:
                limit = min(limit, shown / (shown - low))
            if high > 1.0 and shown < 1.0:
                limit = min(limit, (1.0 - shown) / (high - shown))
            for c in range(3):
                v = encode_quickly(min(shown + (rgb[c] - shown) * limit, 1.0))
                code = v * levels + 0.5 + _noise(x, top + y, c)
                out[y, x, c] = clamp(code, 0.0, levels + 0.0)


def develop(
    light: NDArray[np.float32], ev: float, kelvins: float, contrast: float = 1.0,
    saturation: float = 1.0, bits: int = 8,
    run: Callable[[Callable[[int, int], None], int], None] = lambda f, n: f(0, n), top: int = 0,
) -> NDArray[np.uint8] | NDArray[np.uint16]:
    """An (h, w, 3) sRGB picture of (h, w, ≥3) absolute XYZ; `run` may spread rows on threads.

    `top` is the picture's row that a band of it starts with: the dither goes on over bands.
    """
    out = np.empty((*light.shape[:2], 3), dtype=np.uint8 if bits == 8 else np.uint16)
    scale, matrix = 1.0 / white_luminance(ev), saturated(balance_matrix(kelvins), saturation)

    def rows(first: int, last: int) -> None:
        develop_rows(light, scale, matrix, contrast, 2**bits - 1, top, first, last, out)

    run(rows, light.shape[0])
    return out


def undeveloped(codes: NDArray[np.float32], ev: float, kelvins: float, contrast: float = 1.0,
                saturation: float = 1.0) -> NDArray[np.float32]:
    """(h, w, 3) absolute XYZ that `develop` makes the sRGB codes (0 … 1) of: its inverse for
    whatever the film can show. A film without colour gives grey light."""
    c = np.asarray(codes, dtype=np.float64)
    shown = np.where(c <= 0.04045, c / 12.92, ((np.maximum(c, 0.0) + 0.055) / 1.055) ** 2.4)
    power, knee, height = _curve(contrast)
    lum = shown @ np.asarray(LUMINANCE_RGB)
    raised = lum * knee / np.maximum(height - lum, 1e-9)
    exposed = np.maximum(raised, 1e-12) ** (1.0 / power)
    fade = np.clip((lum - 0.62) / 0.38, 0.0, 1.0)
    keep = 1.0 - 0.9 * fade * fade
    # The curve works on luminance; along the shoulder colour had faded to white.
    spread = lum[..., None] + (shown - lum[..., None]) / keep[..., None]
    rgb = spread * (exposed / np.maximum(lum, 1e-9))[..., None]
    matrix = saturated(balance_matrix(kelvins), saturation)
    found: NDArray[np.float32] = (white_luminance(ev) * (rgb @ np.linalg.pinv(matrix).T)).astype(
        np.float32)
    return found
