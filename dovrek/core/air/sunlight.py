"""Sunlight before it meets cloud: the beam by height, the disc, what falls on the ground."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import AIR_TOP_KM, Media
from dovrek.core.air.scattering import COSINES, Scattered, column_of
from dovrek.core.air.sun_place import Place
from dovrek.core.air.sun_table import SunTable, sun_transmittance
from dovrek.core.colour.spectrum import WAVES, xyz_weights
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.geometry.planet import sun_height

LIGHT_HEIGHTS, LIGHT_SUNS = 41, 49
LIGHT_TOP_M, LIGHT_SPAN_RAD = 20_000.0, math.radians(5.0)
SUN, SKY, ABOVE, UNDER = 0, 1, 2, 3  # rows of what a day is like (`day_table`)


def light_direction(sun: Place) -> tuple[float, float, float]:
    """Where cloud light comes from: never steeper below the horizon than 4°, where the last
    direct light ends anyway."""
    elevation = max(sun.elevation, math.radians(-4.0))
    c = math.cos(elevation)
    return (c * math.sin(sun.azimuth), c * math.cos(sun.azimuth), math.sin(elevation))


@kernel
def _beam_by_height(table, media, elevation, span, trans, columns, out):
    """Transmittance toward the sun at heights and sun elevations about one, (n, m, WAVES)."""
    heights, offsets, _ = out.shape
    for i in range(heights):
        height = LIGHT_TOP_M * 1e-3 * i / (heights - 1)
        for j in range(offsets):
            offset = span * (2.0 * j / (offsets - 1) - 1.0)
            sun_transmittance(table, media, height,
                              math.sin(min(elevation + offset, 0.5 * math.pi)),
                              media.haze_per_km, columns, trans)
            for w in range(WAVES):
                out[i, j, w] = trans[w]


def sunlight_table(media: Media, table: SunTable, sun: Place,
                   spans: int = 1) -> NDArray[np.float64]:
    """(41, 48 `spans` + 1, 3) irradiance by height and by the change of sun elevation over
    distance, up to 5° · `spans` to either side."""
    passed = np.empty((LIGHT_HEIGHTS, (LIGHT_SUNS - 1) * spans + 1, WAVES))
    _beam_by_height(table, media, sun.elevation_true, LIGHT_SPAN_RAD * spans, np.empty(WAVES),
                    np.empty(4), passed)
    return np.ascontiguousarray(passed @ xyz_weights())


def spans_of(arc_rad: float) -> int:
    """Spans of 5° that a table needs for places up to an arc from the camera's foot."""
    return max(math.ceil(arc_rad / LIGHT_SPAN_RAD), 1)


def day_table(media: Media, table: SunTable, scattered: Scattered, sun: Place,
              count: int) -> NDArray[np.float64]:
    """(`count`, 4, 3) XYZ under clear sky by the change of sun elevation over distance:
    radiance of the ground by the sun (`SUN`) and by the sky (`SKY`), and over those at the
    camera's foot what the sky sends down (`ABOVE`) and the ground up (`UNDER`)."""
    spans = (count - 1) // (LIGHT_SUNS - 1)
    found = np.empty((count, 4, 3))
    for k in range(count):
        offset = LIGHT_SPAN_RAD * spans * (2.0 * k / (count - 1) - 1.0)
        high = min(max(sun.elevation_true + offset, -0.5 * math.pi), 0.5 * math.pi)
        found[k, SUN], found[k, SKY] = ground_light(media, table, scattered,
                                                    replace(sun, elevation_true=high))
    here = found[(count - 1) // 2]
    found[:, ABOVE] = found[:, SKY] / np.maximum(here[SKY], 1e-30)
    found[:, UNDER] = (found[:, SUN] + found[:, SKY]) / np.maximum(here[SUN] + here[SKY], 1e-30)
    return found


@inner
def day_place(suns, sun, radius, x, y):
    """Where a place lies among `suns` columns of a table by the change of sun elevation."""
    if suns > LIGHT_SUNS:
        low, high = clamp(sun[2], -1.0, 1.0), clamp(sun_height(radius, sun, x, y), -1.0, 1.0)
        offset = math.asin(high) - math.asin(low)
    else:
        offset = (x * sun[0] + y * sun[1]) / radius
    span = LIGHT_SPAN_RAD * ((suns - 1) // (LIGHT_SUNS - 1))
    return (clamp(offset / span, -1.0, 1.0) + 1.0) * 0.5 * (suns - 1)


@kernel
def sunlight_at(t, sun, radius, x, y, h, out):
    """Irradiance (XYZ) of the sun above a place: its height and its own sun elevation count."""
    _, suns, _ = t.shape
    u = clamp(h / LIGHT_TOP_M, 0.0, 1.0) * (LIGHT_HEIGHTS - 1)
    v = day_place(suns, sun, radius, x, y)
    i, j = min(int(u), LIGHT_HEIGHTS - 2), min(int(v), suns - 2)
    fi, fj = u - i, v - j
    for c in range(3):
        out[c] = ((t[i, j, c] * (1 - fj) + t[i, j + 1, c] * fj) * (1 - fi)
                  + (t[i + 1, j, c] * (1 - fj) + t[i + 1, j + 1, c] * fj) * fi)


def disc_light(media: Media, table: SunTable, sun: Place, height_m: float = 0.0,
               columns: NDArray[np.float64] | None = None) -> NDArray[np.float64]:
    """XYZ irradiance of the whole disc as if no horizon cut it (the picture cuts it), from a
    height; `columns` (4,) receives those of the air before it."""
    columns, trans = np.empty(4) if columns is None else columns, np.ones(WAVES)
    columns[:] = (0.0, 0.0, 0.0, 1.0)
    height_km, elevation = max(height_m, 0.0) * 1e-3, sun.elevation_true
    if height_km > AIR_TOP_KM:  # what enters the air is as if seen from its top
        top = media.radius_km + AIR_TOP_KM
        across = (media.radius_km + height_km) * math.cos(elevation)
        if elevation >= 0.0 or across >= top:
            return trans @ xyz_weights()
        height_km, elevation = AIR_TOP_KM, -math.acos(across / top)
    place = math.sqrt(height_km / AIR_TOP_KM) * (len(table.horizon) - 1)
    horizon = float(np.interp(place, np.arange(len(table.horizon)), table.horizon))
    lowest = math.asin(horizon) + 0.0047
    if elevation < lowest - 0.012:
        columns[3] = 0.0
        return np.zeros(3)
    sun_transmittance(table, media, height_km, math.sin(max(elevation, lowest)),
                      media.haze_per_km, columns, trans)
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
    c = column_of(media.cosine_low, mu)
    j = min(int(c), COSINES - 2)
    f = c - j
    low, high = np.maximum(scattered.ground[j], 1e-30), np.maximum(scattered.ground[j + 1], 1e-30)
    diffuse = (returned * np.exp((1 - f) * np.log(low) + f * np.log(high))) @ weights
    return direct, diffuse
