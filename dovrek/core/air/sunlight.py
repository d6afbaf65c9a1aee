"""Sunlight before it meets cloud: the beam by height, the disc, what falls on the ground."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import Media
from dovrek.core.air.scattering import COSINES, Scattered, column_of
from dovrek.core.air.sun_place import Place
from dovrek.core.air.sun_table import SunTable, sun_transmittance
from dovrek.core.colour.spectrum import WAVES, xyz_weights
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import kernel

LIGHT_HEIGHTS, LIGHT_SUNS = 41, 49
LIGHT_TOP_M, LIGHT_SPAN_RAD = 20_000.0, math.radians(5.0)



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


@kernel
def sunlight_at(t, sun, radius, x, y, h, out):
    """Irradiance (XYZ) of the sun above a place: its height and its own sun elevation count."""
    u = clamp(h / LIGHT_TOP_M, 0.0, 1.0) * (LIGHT_HEIGHTS - 1)
    offset = (x * sun[0] + y * sun[1]) / radius
    v = (clamp(offset / LIGHT_SPAN_RAD, -1.0, 1.0) + 1.0) * 0.5 * (LIGHT_SUNS - 1)
    i, j = min(int(u), LIGHT_HEIGHTS - 2), min(int(v), LIGHT_SUNS - 2)
    fi, fj = u - i, v - j
    for c in range(3):
        out[c] = ((t[i, j, c] * (1 - fj) + t[i, j + 1, c] * fj) * (1 - fi)
                  + (t[i + 1, j, c] * (1 - fj) + t[i + 1, j + 1, c] * fj) * fi)


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
