"""A photograph's own contrast and saturation: what a camera's picture style does to its codes.

Our film bends light before it becomes codes; a camera's style, or a hand at a screen, bends the
codes themselves, each channel by a curve about the middle, and colours away from their luma
(common practice). No film of ours can follow a strong one closely, so fits to photographs have
this beside the film.
"""

from __future__ import annotations

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.colour.film import develop
from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.likeness import Pixels

Array = NDArray[np.float64]
Grade = tuple[float, float]  # contrast, saturation

UNGRADED: Grade = (1.0, 1.0)
CODES = 65535.0
# Of the film: stops over an exposure plus one, for steps are shares of what they change; contrast,
# saturation (`sky.document.Film` has the limits).
FILM_LOW, FILM_HIGH = (-0.5, 0.5, 0.0), (2.5, 1.6, 2.0)
FILM_START, FILM_STEP = (1.0, 1.0, 1.0), 0.02


def _curved(codes: Array, slope: float) -> Array:
    """A curve through black, middle and white with a slope in the middle; that of the inverse is
    its reciprocal."""
    raised, rest = codes**slope, (1.0 - codes) ** slope
    return np.asarray(raised / (raised + rest))


def _spread(codes: Array, by: float) -> Array:
    luma = (codes @ np.asarray(LUMINANCE_RGB))[..., None]
    return np.clip(luma + by * (codes - luma), 0.0, 1.0)


def graded(codes: Array, grade: Grade) -> Array:
    """(…, 3) codes 0 … 1 under a contrast and saturation."""
    contrast, saturation = grade
    return _spread(_curved(np.clip(codes, 0.0, 1.0), contrast), saturation)


def ungraded(codes: Array, grade: Grade) -> Array:
    """The inverse of `graded`, but for what was clipped."""
    contrast, saturation = grade
    return _curved(_spread(np.clip(codes, 0.0, 1.0), 1.0 / saturation), 1.0 / contrast)


def developed(light: NDArray[np.float32], ev: float, kelvins: float, grade: Grade) -> Array:
    """(h, w, 3) codes 0 … 1 of light on the film, graded."""
    codes = np.asarray(develop(light, ev, kelvins, bits=16) / CODES)
    return codes if grade == UNGRADED else graded(codes, grade)


def as_pixels(codes: Array) -> Pixels:
    """Codes 0 … 1 in eight bits."""
    return np.asarray(np.rint(255.0 * codes), dtype=np.uint8)


def film_for(light: NDArray[np.float32], ev: float, kelvins: float, grade: Grade
             ) -> tuple[float, float, float]:
    """Exposure, contrast and saturation of the film, under which light comes out nearest to how
    it is when graded."""
    if grade == UNGRADED:
        return ev, 1.0, 1.0
    wanted = developed(light, ev, kelvins, grade)

    def apart(film: Array) -> Array:
        stops, contrast, saturation = (float(v) for v in film)
        shown = develop(light, ev + stops - 1.0, kelvins, contrast, saturation, bits=16)
        return np.asarray(shown / CODES - wanted).ravel()

    found = scipy.optimize.least_squares(apart, FILM_START, bounds=(FILM_LOW, FILM_HIGH),
                                         diff_step=FILM_STEP, max_nfev=20)
    stops, contrast, saturation = (float(v) for v in found.x)
    return ev + stops - 1.0, contrast, saturation
