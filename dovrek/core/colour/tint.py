"""A colour as factors of light."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.film import decode_srgb
from dovrek.core.colour.spectrum import RGB_TO_XYZ


def tint_factors(colour: str, strength: float) -> NDArray[np.float64]:
    """What a tint or a wash multiplies X, Y and Z by: the colour's own over white's, as bright.

    Black has no colour of its own and changes nothing.
    """
    found: NDArray[np.float64] = 1.0 + strength * (_ratio(colour) - 1.0)
    return found


@lru_cache(256)
def _ratio(colour: str) -> NDArray[np.float64]:
    encoded = np.array([int(colour[k : k + 2], 16) for k in (1, 3, 5)]) / 255.0
    xyz = np.array([decode_srgb(v) for v in encoded]) @ RGB_TO_XYZ.T
    white = RGB_TO_XYZ.sum(axis=1)
    if xyz[1] <= 0.0:
        return np.ones(3)
    found: NDArray[np.float64] = xyz / white / float(xyz[1])
    return found
