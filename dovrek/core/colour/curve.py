"""How films answer to light: code values over stops from middle grey.

A film's curve is straight about middle grey and bends softly to black and to white; how hard it
bends follows from where it must arrive, so that more contrast does not burn more.
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.sky.document import Film

Array = NDArray[np.float64]

MIDDLE_GREY = 0.18
GREY_CODE = 0.461  # of sRGB, 0 … 1
REACH = 1.02  # a bend's end over where it is cut, so that it arrives within finite light
LEAST_BEND = 1.05  # of the straight way to an end, that a curve has room for
DARKEST, BRIGHTEST, NODES = -24.0, 24.0, 6144  # stops of a table, and its steps


class Curve(NamedTuple):
    """One film's answer."""

    slope: float  # of code value (0 … 1) a stop, at middle grey
    toe: float  # stops below middle grey at which it is black
    shoulder: float  # stops above at which it is white
    plain: bool = False  # a rational one instead, whose ratios differ least from the light's


FILMS = {
    "plain": Curve(0.166, 9.0, 3.2, True),
    "soft": Curve(0.185, 8.0, 4.6),
    "standard": Curve(0.276, 13.0, 4.2),
    "strong": Curve(0.33, 6.5, 4.0),
}
PLAIN = FILMS["plain"]


def curve_of(film: Film) -> Curve:
    """The curve that a document asks for: a named film's, with what is set by hand."""
    named = FILMS[film.curve]
    if film.toe_stops is None and film.shoulder_stops is None:
        return named
    return Curve(named.slope,
                 named.toe if film.toe_stops is None else film.toe_stops,
                 named.shoulder if film.shoulder_stops is None else film.shoulder_stops)


def _bend(u: Array, hardness: float) -> Array:
    """From 0 with slope 1 toward 1."""
    return np.asarray(u / (1.0 + u**hardness) ** (1.0 / hardness))


def _hardness(u: float) -> float:
    """With which a bend arrives at its end at u > 1."""
    low, high = 0.3, 40.0
    for _ in range(50):
        middle = 0.5 * (low + high)
        if REACH * float(_bend(np.array(u), middle)) < 1.0:
            low = middle
        else:
            high = middle
    return low


def _half(stops: Array, slope: float, end: float, room: float) -> Array:
    """Way that a curve has gone at stops ≥ 0 from middle grey: `room` at its end."""
    u = slope / (room * REACH)
    end = max(end, LEAST_BEND / u)
    return np.minimum(room * REACH * _bend(u * stops, _hardness(u * end)), room)


def codes_of(stops: Array, curve: Curve, contrast: float = 1.0) -> Array:
    """Code values of sRGB (0 … 1) that light so many stops from middle grey becomes."""
    if curve.plain:  # a sigmoid in y^c (after Naka & Rushton 1966) that keeps middle grey
        p = 1.28 * contrast
        v, k, g = (MIDDLE_GREY * 2.0**stops) ** p, 0.80**p, MIDDLE_GREY**p
        shown = np.minimum(0.186 * (g + k) / g * v / (v + k), 1.0)
        return np.where(shown <= 0.0031308, 12.92 * shown,
                        1.055 * np.maximum(shown, 1e-9) ** (1.0 / 2.4) - 0.055)
    slope = curve.slope * contrast
    up = _half(np.maximum(stops, 0.0), slope, curve.shoulder, 1.0 - GREY_CODE)
    down = _half(np.maximum(-stops, 0.0), slope, curve.toe, GREY_CODE)
    return GREY_CODE + up - down


@lru_cache(maxsize=64)
def table_of(curve: Curve, contrast: float) -> Array:
    """(NODES + 1,) linear light shown, 0 … 1, from DARKEST to BRIGHTEST stops; never falling."""
    codes = codes_of(np.linspace(DARKEST, BRIGHTEST, NODES + 1), curve, contrast)
    shown = np.where(codes <= 0.04045, codes / 12.92, ((codes + 0.055) / 1.055) ** 2.4)
    shown.setflags(write=False)
    return shown


def white_from(curve: Curve, contrast: float = 1.0) -> float:
    """Stops above middle grey from which light is shown as white, within two codes of 255."""
    stops = np.linspace(0.0, BRIGHTEST, NODES)
    white = np.flatnonzero(codes_of(stops, curve, contrast) >= 253.0 / 255.0)
    return float(stops[white[0]]) if white.size else BRIGHTEST
