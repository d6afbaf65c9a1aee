"""Sun and moon as sources of light: where they stand, how strong they are."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sun_place import Place, moon_place, sun_place, toward
from dovrek.core.colour.spectrum import xyz_weights
from dovrek.core.colour.tint import tint_factors
from dovrek.sky.document import Sky

# The moon counts when the sun is so far down, and the sun no more when it is so far down.
MOONLIGHT_FROM, LAST_SUN = math.radians(-4.0), math.radians(-15.0)
MOON_RADIUS = math.radians(0.259)
MOON_COLOUR = (1.03, 1.0, 0.84)  # sunlight off a warm grey surface (about 4100 K; Krisciunas 1991)



@dataclass(frozen=True)
class Source:
    """A body that lights the sky: where it stands, how strong, how its disc looks."""

    place: Place
    weight: tuple[float, float, float]  # of X, Y and Z, over the sun's
    radius: float  # of its disc, radians
    lit: float = 1.0  # share of the disc
    limb: float = 0.0  # direction of its lit limb, clockwise from up


def sunlight_factor(sky: Sky) -> NDArray[np.float64]:
    """Of X, Y and Z: what the sky's sun gives over the real one."""
    if sky.sun.tint == "#ffffff":
        return np.full(3, sky.sun.strength)
    return tint_factors(sky.sun.tint, 1.0) * sky.sun.strength


def sources(sky: Sky) -> list[Source]:
    """Sun and moon, as far as each lights the sky."""
    sun = sun_place(sky)
    x, y, z = (float(v) for v in sunlight_factor(sky))
    found = [Source(sun, (x, y, z), math.radians(0.5 * sky.sun.diameter_deg))]
    if not sky.moon.visible or sun.elevation_true > MOONLIGHT_FROM:
        return found
    moon, lit, lux = moon_place(sky)
    if moon.elevation < math.radians(-0.3) or lit < 0.01:
        return found
    share = sky.moon.strength * lux / float(xyz_weights()[:, 1].sum())
    x, y, z = (share * c for c in MOON_COLOUR)
    moonlight = Source(moon, (x, y, z), MOON_RADIUS, min(lit, 0.999), toward(moon, sun))
    return [moonlight] if sun.elevation_true < LAST_SUN else [*found, moonlight]
