"""Film: from scene light to a picture. Metering, white balance, tone curve, sRGB, dither."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.curve import (
    BRIGHTEST,
    DARKEST,
    MIDDLE_GREY,
    NODES,
    PLAIN,
    Curve,
    table_of,
)
from dovrek.core.colour.glass import CLEAR, Glass, through_whole
from dovrek.core.colour.opponent import from_opponent, in_gamut, opponent
from dovrek.core.colour.spectrum import (
    LUMINANCE_RGB,
    RGB_TO_XYZ,
    XYZ_TO_RGB,
    correlated_colour_temperature,
    white_of_temperature,
)
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, plain, solver
from dovrek.core.compile.noise import hash_unit

Array = NDArray[np.float64]

ISO_CONSTANT = 0.125  # luminance = 2^EV · 12.5 / 100 at ISO 100 (ISO 2720)
BRADFORD = np.array(
    [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]]
)
DAYLIGHT_K = 5600.0
EVEN, SUNLIT = 0.55, 0.9  # stops from mean to highlights of an even sky, of a sunlit one
EVEN_MEAN, SUNLIT_MEAN = 0.5, 1.0  # stops above middle grey at which their means are placed
LIT_HIGH, MOST_LIFT = 2.15, 0.35  # up to which highlights are lifted, and by how much at most
MOST_HIGH, MOST_HELD = 3.2, 1.2  # above which they are held back, and by how much at most
DAYLIGHT_EV = 15.0
# Shares of what is brightest above which a place is lit, below which it lies in shade; where lit
# faces are placed, stops above middle grey; share of a picture that a part must have.
LIT_PART, SHADE_PART, LIT_STOPS, LEAST_PART = 0.3, 0.12, 1.7, 0.02
NIGHT = 0.1  # cd/m², mean luminance of a picture below which it is night
FADES_FROM, FADED = 0.82, 0.9  # Oklab lightness from which colour fades to white, and how far
FADES_AT = FADES_FROM**3 * 0.75  # linear light surely below it, whatever its hue
DARKEST_EV = -6.0  # automatic exposure goes no longer: a moonless night stays dark


def white_luminance(ev: float) -> float:
    """cd/m² that linear RGB (1, 1, 1) stands for at an exposure: middle grey at 0.18."""
    return 2.0**ev * ISO_CONSTANT / MIDDLE_GREY


def meter(luminance: Array, is_sky: NDArray[np.bool_]) -> float:
    """Exposure value for a picture's luminances (cd/m²).

    An even sky's geometric mean is placed half a stop above middle grey; one with sunlit faces is
    placed by its mean, a stop above, and by its highlights (98th percentile): lifted until they
    are bright, held under the shoulder by at most 1.2 stops (the sun itself may burn out). Below
    300 cd/m² the eye's own darkening is kept in part, so that dusk looks like dusk.
    Common practice; the key by adaptation after Krawczyk et al. 2005.
    """
    values = luminance[is_sky] if is_sky.any() else luminance.ravel()
    values = np.maximum(values[np.isfinite(values)], 1e-7)
    if not values.size:
        return DAYLIGHT_EV
    mean = float(np.exp(np.mean(np.log(values))))
    range_stops = math.log2(float(np.percentile(values, 98.0)) / mean)
    sunlit = min(max((range_stops - EVEN) / (SUNLIT - EVEN), 0.0), 1.0)
    place = EVEN_MEAN + (SUNLIT_MEAN - EVEN_MEAN) * sunlit  # of the mean, stops above grey
    high = place + range_stops
    place += sunlit * min(max(LIT_HIGH - high, 0.0), MOST_LIFT)
    place -= min(max(high - MOST_HIGH, 0.0), MOST_HELD)
    if mean <= 300.0:
        place += 0.13 * math.log2(mean / 300.0)
    if mean < NIGHT:  # a night is printed as one
        place += max(0.12 * math.log2(mean / NIGHT), math.log2(0.3))
    return float(np.clip(math.log2(mean / ISO_CONSTANT) - place, DARKEST_EV, 22.0))


def meter_for(luminance: Array, seen: NDArray[np.bool_], part: str) -> float:
    """Exposure value by what is lit ("light") or what lies in shade ("shade") among the luminances
    (cd/m²) that are `seen`: lit faces stand under the shoulder, shade about middle grey. Where all
    is alike, one half counts. Common practice."""
    values = luminance[seen] if seen.any() else luminance.ravel()
    values = np.maximum(values[np.isfinite(values)], 1e-7)
    if not values.size:
        return DAYLIGHT_EV
    brightest = float(np.percentile(values, 99.0))
    if part == "light":
        chosen, place = values[values > LIT_PART * brightest], LIT_STOPS
    else:
        chosen, place = values[values < SHADE_PART * brightest], EVEN_MEAN
        chosen = chosen[chosen > np.percentile(chosen, 20.0)] if chosen.size else chosen
    if chosen.size < LEAST_PART * values.size:
        middle = float(np.median(values))
        chosen = values[values >= middle] if part == "light" else values[values <= middle]
    mean = float(np.exp(np.mean(np.log(chosen))))
    return float(np.clip(math.log2(mean / ISO_CONSTANT) - place, DARKEST_EV, 22.0))


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
def encode_srgb(value):
    """Electro-optical inverse of IEC 61966-2-1, 0 … 1."""
    if value <= 0.0031308:
        return 12.92 * max(value, 0.0)
    return 1.055 * min(value, 1.0) ** (1.0 / 2.4) - 0.055


# The same over the root of the light, which it is nearly straight in: a power costs ten look-ups.
ROOTS = 4096
_OF_ROOTS = np.array([plain(encode_srgb)((k / ROOTS) ** 2) for k in range(ROOTS + 2)])


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


OF_CODE = np.array([plain(decode_srgb)(code / 255.0) for code in range(256)])  # linear light


@inner
def _noise(x, y, c):
    """Triangular noise of ± 1 from a pixel's place (high and low bits of one hash)."""
    h = hash_unit(x, y, c)
    return h + (h * 65536.0) % 1.0 - 1.0


@inner
def faded(lightness):
    """Share of its colour that light of an Oklab lightness keeps along the shoulder."""
    fade = clamp((lightness - FADES_FROM) / (1.0 - FADES_FROM), 0.0, 1.0)
    return 1.0 - FADED * fade * fade


@solver
def develop_rows(light, scale, matrix, curve, levels, top, y0, y1, out):
    """Develop XYZ rows y0 … y1 to sRGB code values 0 … `levels` with triangular dither.

    `light` (h, w, ≥3) is XYZ; `scale` turns it into exposed light; `curve` is `table_of` a film.
    The curve works on luminance, so that ratios of colour stay; along the shoulder colour fades to
    white, and what lies outside the gamut is drawn in, both at its hue and lightness in Oklab.
    Row 0 is row `top` of the picture.
    """
    rgb = np.empty(3)
    last = len(curve) - 1
    a_stop = last / (BRIGHTEST - DARKEST)
    _, width, _ = light.shape
    for y in range(y0, y1):
        for x in range(width):
            for c in range(3):
                rgb[c] = scale * (matrix[c, 0] * light[y, x, 0] + matrix[c, 1] * light[y, x, 1]
                                  + matrix[c, 2] * light[y, x, 2])
            lum = max(0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2], 1e-9)
            at = clamp((math.log2(lum / MIDDLE_GREY) - DARKEST) * a_stop, 0.0, last - 1e-6)
            k = int(at)
            shown = curve[k] + (at - k) * (curve[k + 1] - curve[k])
            factor = shown / lum
            low, high = 1.0, 0.0
            for c in range(3):
                rgb[c] *= factor
                low, high = min(low, rgb[c]), max(high, rgb[c])
            if low < 0.0 or high > 1.0 or shown > FADES_AT:
                ok_l, ok_a, ok_b = opponent(rgb[0], rgb[1], rgb[2])
                keep = faded(ok_l)
                ok_a, ok_b = keep * ok_a, keep * ok_b
                most = in_gamut(ok_l, ok_a, ok_b)
                rgb[0], rgb[1], rgb[2] = from_opponent(ok_l, most * ok_a, most * ok_b)
            for c in range(3):
                v = encode_quickly(clamp(rgb[c], 0.0, 1.0))
                code = v * levels + 0.5 + _noise(x, top + y, c)
                out[y, x, c] = clamp(code, 0.0, levels + 0.0)


def develop(
    light: NDArray[np.float32], ev: float, kelvins: float, contrast: float = 1.0,
    saturation: float = 1.0, curve: Curve = PLAIN, glass: Glass = CLEAR, bits: int = 8,
    run: Callable[[Callable[[int, int], None], int], None] = lambda f, n: f(0, n), top: int = 0,
) -> NDArray[np.uint8] | NDArray[np.uint16]:
    """An (h, w, 3) sRGB picture of (h, w, ≥3) absolute XYZ; `run` may spread rows on threads.

    `glass` is for a whole picture: of a band, `glass.through` goes before. `top` is the picture's
    row that a band of it starts with: the dither goes on over bands.
    """
    out = np.empty((*light.shape[:2], 3), dtype=np.uint8 if bits == 8 else np.uint16)
    scale, matrix = 1.0 / white_luminance(ev), saturated(balance_matrix(kelvins), saturation)
    table = table_of(curve, contrast)
    light = through_whole(light, glass)

    def rows(first: int, last: int) -> None:
        develop_rows(light, scale, matrix, table, 2**bits - 1, top, first, last, out)

    run(rows, light.shape[0])
    return out


def undeveloped(codes: NDArray[np.float32], ev: float, kelvins: float, contrast: float = 1.0,
                saturation: float = 1.0, curve: Curve = PLAIN) -> NDArray[np.float32]:
    """(h, w, 3) absolute XYZ that `develop` makes the sRGB codes (0 … 1) of: its inverse for
    whatever the film can show. A film without colour gives grey light."""
    flat = np.ascontiguousarray(codes, dtype=np.float64).reshape(-1, 3)
    undone = np.empty_like(flat)
    _colour_back(flat, undone)
    lum = undone @ np.asarray(LUMINANCE_RGB)
    table = table_of(curve, contrast)
    rising = np.concatenate([[True], np.diff(table) > 1e-12])  # its level ends lead nowhere
    stops = np.interp(lum, table[rising], np.linspace(DARKEST, BRIGHTEST, NODES + 1)[rising])
    rgb = undone * (MIDDLE_GREY * 2.0**stops / np.maximum(lum, 1e-9))[:, None]
    matrix = saturated(balance_matrix(kelvins), saturation)
    found = white_luminance(ev) * (rgb @ np.linalg.pinv(matrix).T)
    return np.asarray(found.reshape(codes.shape), dtype=np.float32)


@solver
def _colour_back(codes, out):
    """Linear RGB (n, 3) of sRGB codes, with the colour that had faded along the shoulder."""
    for n in range(len(codes)):
        r, g, b = decode_srgb(codes[n, 0]), decode_srgb(codes[n, 1]), decode_srgb(codes[n, 2])
        ok_l, ok_a, ok_b = opponent(r, g, b)
        keep = faded(ok_l)
        if keep < 1.0:
            r, g, b = from_opponent(ok_l, ok_a / keep, ok_b / keep)
        out[n, 0], out[n, 1], out[n, 2] = r, g, b
