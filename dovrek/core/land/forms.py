"""Heights of invented reliefs: an uplift of their form, uneven by noise, worn by rivers.

The noise is Perlin's (1985, an image synthesizer).
"""

from __future__ import annotations

import math
import threading
from collections.abc import Callable
from functools import lru_cache

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.land.erosion import erode
from dovrek.core.land.map_heights import heights_between
from dovrek.sky.relief import Relief

SIDE = 1024  # squares a side; heights stand at their corners
COARSE = 256  # squares a side at which rivers run
BORDER = 0.012  # of the side, beside which all is level
COARSEST = 3  # waves a side of the first octave
SUNK_M = 0.5  # that what is flat lies below the level ground, so that rays meet one of them alone
TURNS = 45  # of uplift and wear
CREEP, RUGGED_CREEP = 0.45, 0.09  # of slopes, worn and rugged
FINE = 1.0  # squares that fine noise moves a slope by

Array = NDArray[np.float64]
_one_at_a_time = threading.Lock()


def _gradients(side: int, waves: int, rng: np.random.Generator) -> Array:
    """Gradient noise of (side + 1)² places, about ±0.7."""
    angles = rng.uniform(0.0, 2.0 * math.pi, (waves + 1, waves + 1))
    gx, gy = np.cos(angles), np.sin(angles)
    at = np.arange(side + 1) / side * waves
    cell = np.minimum(at.astype(int), waves - 1)
    f = at - cell
    fade = f**3 * (f * (6.0 * f - 15.0) + 10.0)
    fx, fy = f[:, None], f[None, :]
    i, j = cell[:, None], cell[None, :]

    def corner(a: int, b: int) -> Array:
        found: Array = gx[i + a, j + b] * (fx - a) + gy[i + a, j + b] * (fy - b)
        return found

    low = corner(0, 0) * (1 - fade[:, None]) + corner(1, 0) * fade[:, None]
    high = corner(0, 1) * (1 - fade[:, None]) + corner(1, 1) * fade[:, None]
    found: Array = low * (1 - fade[None, :]) + high * fade[None, :]
    return found


def _octaves(side: int, waves: int, octaves: int, gain: float, rng: np.random.Generator) -> Array:
    """A sum of octaves of noise, of a standard deviation of about one."""
    total = np.zeros((side + 1, side + 1))
    for octave in range(octaves):
        total += gain**octave * _gradients(side, waves * 2**octave, rng)
    found: Array = total / max(float(total.std()), 1e-9)
    return found


def _ramp(x: Array) -> Array:
    t = np.clip(x, 0.0, 1.0)
    found: Array = t * t * (3.0 - 2.0 * t)
    return found


def _places(side: int) -> tuple[Array, Array]:
    """Distance from the middle and from the border, in sides."""
    at = np.arange(side + 1) / side - 0.5
    x, y = at[:, None], at[None, :]
    return np.hypot(x, y), 0.5 - np.maximum(np.abs(x), np.abs(y))


def _hills(rough: Array) -> Array:
    _, border = _places(COARSE)
    return _ramp((border - 0.02 + 0.05 * rough) / 0.22) * (1.0 + 0.35 * rough).clip(0.05)


def _mountain(rough: Array) -> Array:
    """Most in the middle, so that one summit stands there."""
    far, border = _places(COARSE)
    inside = _ramp((0.44 + 0.035 * rough - far) / 0.25)
    found: Array = inside * (0.12 + np.clip(1.0 - far / 0.4, 0.0, 1.0) ** 1.6) * (border > 0.01)
    return found


def _island(rough: Array) -> Array:
    """A shore that wanders."""
    far, border = _places(COARSE)
    inside = 0.30 + 0.075 * rough - far
    found: Array = np.where((inside > 0.0) & (border > 0.02), 0.15 + _ramp(inside / 0.2), 0.0)
    return found


FORMS: dict[str, Callable[[Array], Array]] = {"hills": _hills, "mountain": _mountain,
                                              "island": _island}


@lru_cache(maxsize=4)
def _heights(form: str, seed: int, ruggedness: float) -> NDArray[np.float32]:
    """Heights of a form, 0 … 1: worn on a coarse grid, then finer places between its own."""
    rng = np.random.default_rng(seed * 7919 + 17)
    rough = _octaves(COARSE, COARSEST, 5, 0.55, rng)
    uplift, (_, border) = FORMS[form](rough), _places(COARSE)
    uplift = np.where((uplift > 0.004) & (border > BORDER), uplift, 0.0)
    heights = 0.05 * uplift * (1.0 + 0.3 * _octaves(COARSE, 8, 4, 0.6, rng))
    erode(heights, uplift, TURNS, CREEP * (RUGGED_CREEP / CREEP) ** ruggedness)
    made = scipy.ndimage.zoom(heights / max(float(heights.max()), 1e-9),
                              (SIDE + 1) / (COARSE + 1), order=3, grid_mode=False)
    steep = scipy.ndimage.gaussian_filter(np.hypot(*np.gradient(made, 1.0 / SIDE)), 3.0)
    fine = _octaves(SIDE, COARSE // 3, 2, 0.55, rng)
    made += FINE * (0.2 + 0.8 * ruggedness) * steep * fine / SIDE
    made = np.clip(made, 0.0, None)
    found: NDArray[np.float32] = (made / max(float(made.max()), 1e-9)).astype(np.float32)
    found[:2], found[-2:], found[:, :2], found[:, -2:] = 0.0, 0.0, 0.0, 0.0
    found.flags.writeable = False
    return found


def shape_of(relief: Relief) -> Relief:
    """A relief without its place and tone, which its heights do not hang on."""
    usual = Relief()
    return relief.model_copy(update={
        name: getattr(usual, name) for name in ("east_km", "north_km", "turn_deg", "albedo",
                                             "picture")})


def heights_of(relief: Relief) -> NDArray[np.float32]:
    """(n + 1, n + 1) metres above the level ground at corners of squares, [east, north] of the
    land's own frame; just below it at the border. One corner of nothing for no land."""
    if not relief.stands:
        return np.zeros((1, 1), dtype=np.float32)
    if relief.form == "map":
        found = heights_between(relief.asset, SIDE, relief.lowest_m, relief.highest_m + SUNK_M)
        if found is None:
            return np.zeros((1, 1), dtype=np.float32)
        return found - np.float32(SUNK_M)
    with _one_at_a_time:  # a page and a picture that ask at once share one
        made = _heights(relief.form, relief.seed, relief.ruggedness)
    return made * np.float32(relief.highest_m + SUNK_M) - np.float32(SUNK_M)
