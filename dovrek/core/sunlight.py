"""Light before it meets cloud: sun and moon as sources, their beam by height, ground light."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dovrek.core.kernels import kernel
from dovrek.core.media import Media
from dovrek.core.scattering import COSINES, Scattered, column_of
from dovrek.core.scene import LIGHT_HEIGHTS, LIGHT_SPAN_RAD, LIGHT_SUNS, LIGHT_TOP_M
from dovrek.core.spectrum import WAVES, xyz_weights
from dovrek.core.sun_place import Place, moon_place, sun_place, toward
from dovrek.core.sun_table import SunTable, sun_transmittance
from dovrek.core.tint import tint_factors
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


def light_direction(sun: Place) -> tuple[float, float, float]:
    """Where cloud light comes from: never steeper below the horizon than 4°, where the last
    direct light ends anyway."""
    elevation = max(sun.elevation, math.radians(-4.0))
    c = math.cos(elevation)
    return (c * math.sin(sun.azimuth), c * math.cos(sun.azimuth), math.sin(elevation))


@kernel
def _beam_by_height(table, media, elevation, trans, columns, out):
    """Transmittance toward the sun at heights and sun elevations about one, (n, m, WAVES)."""
    heights, offsets, _ = out.shape
    for i in range(heights):
        height = LIGHT_TOP_M * 1e-3 * i / (heights - 1)
        for j in range(offsets):
            offset = LIGHT_SPAN_RAD * (2.0 * j / (offsets - 1) - 1.0)
            sun_transmittance(table, media, height,
                              math.sin(min(elevation + offset, 0.5 * math.pi)),
                              media.haze_per_km, columns, trans)
            for w in range(WAVES):
                out[i, j, w] = trans[w]


def sunlight_table(media: Media, table: SunTable, sun: Place) -> NDArray[np.float64]:
    """(41, 49, 3) irradiance by height and by the change of sun elevation over distance."""
    passed = np.empty((LIGHT_HEIGHTS, LIGHT_SUNS, WAVES))
    _beam_by_height(table, media, sun.elevation_true, np.empty(WAVES), np.empty(4), passed)
    return np.ascontiguousarray(passed @ xyz_weights())


def disc_light(media: Media, table: SunTable, sun: Place) -> NDArray[np.float64]:
    """XYZ irradiance of the whole disc as if no horizon cut it (the picture cuts it)."""
    columns, trans = np.empty(4), np.empty(WAVES)
    lowest = math.asin(table.horizon[0]) + 0.0047
    if sun.elevation_true < lowest - 0.012:
        return np.zeros(3)
    elevation = max(sun.elevation_true, lowest)
    sun_transmittance(table, media, 0.0, math.sin(elevation), media.haze_per_km, columns, trans)
    return trans @ xyz_weights()


def illuminances(media: Media, table: SunTable, scattered: Scattered,
                 sun: Place) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """XYZ illuminance (lx) of level ground by the clear sky's direct and diffuse light."""
    white = media._replace(albedo=np.full(WAVES, math.pi))
    return ground_light(white, table, scattered, sun)


def ground_light(media: Media, table: SunTable, scattered: Scattered,
                 sun: Place) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Radiance (XYZ) of the ground from the clear sky's direct and diffuse light."""
    mu = math.sin(sun.elevation_true)
    columns, trans = np.empty(4), np.empty(WAVES)
    sun_transmittance(table, media, 0.0, mu, media.haze_per_km, columns, trans)
    weights = xyz_weights()
    returned = media.albedo / math.pi
    direct = max(mu, 0.0) * (returned * trans) @ weights
    c = column_of(mu)
    j = min(int(c), COSINES - 2)
    f = c - j
    low, high = np.maximum(scattered.ground[j], 1e-30), np.maximum(scattered.ground[j + 1], 1e-30)
    diffuse = (returned * np.exp((1 - f) * np.log(low) + f * np.log(high))) @ weights
    return direct, diffuse
