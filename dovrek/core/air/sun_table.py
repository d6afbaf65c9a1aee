"""Columns of air between any height and the sun, with refraction.

The table holds slant columns of the three constituents and the dilution of sunlight by
refraction; it depends on profiles and radius only, not on wavelength or amount of haze.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import (
    AIR_TOP_KM,
    PROFILE_NODES,
    PROFILE_STEP_KM,
    Media,
)
from dovrek.core.colour.spectrum import WAVES
from dovrek.core.compile.arithmetic import clamp, exp_minus, smoothstep
from dovrek.core.compile.kernels import inner, kernel

Array = NDArray[np.float64]

HEIGHTS, COSINES = 64, 256
LAUNCHES = 420
TRACE_STEPS = 120
SUN_RADIUS_RAD = math.radians(0.2665)


class SunTable(NamedTuple):
    """Columns (km at unit relative density) and dilution on heights 120 x² and cosines of y²."""

    columns: Array  # (64, 256, 4): molecules, haze, ozone, dilution
    horizon: Array  # (64,) refracted geometric cosine of the sun's lowest visible centre


@kernel
def profile(table, height_km):
    """Linear look-up in a profile on the 0.25 km grid."""
    u = clamp(height_km / PROFILE_STEP_KM, 0.0, PROFILE_NODES - 1.001)
    i = int(u)
    f = u - i
    return table[i] * (1.0 - f) + table[i + 1] * f


@inner
def _refractive_index(media, height_km):
    return 1.0 + media.refractivity * profile(media.molecules, height_km)


@inner
def _branch(media, low_km, high_km, invariant, out):
    """Add columns and bending along one branch of a ray, from `low_km` up to `high_km`.

    n r sin θ = `invariant` (Bouguer); steps h = low + Δ x² take the root at a tangent point.
    """
    span = high_km - low_km
    if span <= 0.0:
        return
    for k in range(TRACE_STEPS):
        x = (k + 0.5) / TRACE_STEPS
        h = low_km + span * x * x
        dh = 2.0 * span * x / TRACE_STEPS
        n = _refractive_index(media, h)
        sine = min(invariant / (n * (media.radius_km + h)), 1.0)
        cosine = math.sqrt(max(1.0 - sine * sine, 1e-10))
        ds = dh / cosine
        i = min(int(h / PROFILE_STEP_KM), PROFILE_NODES - 2)
        slope = (media.molecules[i + 1] - media.molecules[i]) / PROFILE_STEP_KM
        out[0] += ds * profile(media.molecules, h)
        out[1] += ds * math.exp(-h / media.haze_height_km)
        out[2] += ds * profile(media.ozone, h)
        out[3] += -media.refractivity * slope / n * sine / cosine * dh


@kernel
def _trace(media, height_km, zenith_apparent, out):
    """Columns and bending from a height along an apparent zenith angle (radians) to space."""
    out[:] = 0.0
    n = _refractive_index(media, height_km)
    invariant = n * (media.radius_km + height_km) * math.sin(zenith_apparent)
    if zenith_apparent <= 0.5 * math.pi:
        _branch(media, height_km, AIR_TOP_KM, invariant, out)
        return
    low, high = -0.5, height_km
    for _ in range(60):  # bisect for the tangent height, n r = invariant
        middle = 0.5 * (low + high)
        if _refractive_index(media, middle) * (media.radius_km + middle) > invariant:
            high = middle
        else:
            low = middle
    tangent = max(high, 0.0)
    _branch(media, tangent, height_km, invariant, out)
    _branch(media, tangent, AIR_TOP_KM, invariant, out)


@kernel
def _row(media, height_km, traced, angles):
    """All launches of one height: columns, bending and apparent angles, horizon first."""
    n0 = _refractive_index(media, 0.0)
    n = _refractive_index(media, height_km)
    sine = n0 * media.radius_km / (n * (media.radius_km + height_km))
    lowest = math.pi - math.asin(min(sine, 1.0)) if height_km > 0.0 else 0.5 * math.pi
    for k in range(LAUNCHES):
        w = k / (LAUNCHES - 1)
        angles[k] = lowest * (1.0 - w * w)
        _trace(media, height_km, angles[k], traced[k])


def build_sun_table(media: Media) -> SunTable:
    """Trace the table (about 0.2 s).

    Source: Bouguer's invariant for spherical refraction; columns as in Bruneton & Neyret 2008, §4.
    """
    columns = np.empty((HEIGHTS, COSINES, 4))
    horizon = np.empty(HEIGHTS)
    traced = np.empty((LAUNCHES, 4))
    angles = np.empty(LAUNCHES)
    for i in range(HEIGHTS):
        _row(media, AIR_TOP_KM * (i / (HEIGHTS - 1)) ** 2, traced, angles)
        geometric = angles + traced[:, 3]
        dilution = np.gradient(angles, geometric)
        horizon[i] = math.cos(geometric[0])
        y = np.arange(COSINES) / (COSINES - 1)
        wanted = np.arccos(np.clip(horizon[i] + (1.0 - horizon[i]) * y * y, -1.0, 1.0))
        order = np.argsort(geometric)
        for c in range(3):
            columns[i, :, c] = np.interp(wanted, geometric[order], traced[order, c])
        columns[i, :, 3] = np.clip(np.interp(wanted, geometric[order], dilution[order]), 0.0, 1.0)
    return SunTable(columns, horizon)


@kernel
def sun_columns(table, height_km, cosine, out):
    """Columns and dilution toward the sun's centre; `out[3]` is 0 below the horizon.

    The disc fades over ± its radius at the refracted horizon.
    """
    u = math.sqrt(clamp(height_km / AIR_TOP_KM, 0.0, 1.0)) * (HEIGHTS - 1)
    i = min(int(u), HEIGHTS - 2)
    fi = u - i
    mu_h = table.horizon[i] * (1.0 - fi) + table.horizon[i + 1] * fi
    above = (cosine - mu_h) / math.sqrt(max(1.0 - mu_h * mu_h, 1e-6))
    if above <= -SUN_RADIUS_RAD:
        out[3] = 0.0
        return
    y = math.sqrt(clamp((cosine - mu_h) / (1.0 - mu_h), 0.0, 1.0)) * (COSINES - 1)
    j = min(int(y), COSINES - 2)
    fj = y - j
    for c in range(4):
        low = table.columns[i, j, c] * (1.0 - fj) + table.columns[i, j + 1, c] * fj
        high = table.columns[i + 1, j, c] * (1.0 - fj) + table.columns[i + 1, j + 1, c] * fj
        out[c] = low * (1.0 - fi) + high * fi
    out[3] *= smoothstep(-SUN_RADIUS_RAD, SUN_RADIUS_RAD, above)


@inner
def left_by(media, haze_extinction, columns, out):
    """Fraction of sunlight (8 waves) that columns of air with some sun leave; `haze_extinction`
    1/km may be scaled."""
    for w in range(WAVES):
        out[w] = columns[3] * exp_minus(media.molecules_per_km[w] * columns[0]
                                        + haze_extinction[w] * columns[1]
                                        + media.ozone_per_km[w] * columns[2])


@kernel
def sun_transmittance(table, media, height_km, cosine, haze_extinction, columns, out):
    """Fraction of sunlight (8 waves) that reaches a point; `haze_extinction` 1/km may be scaled."""
    sun_columns(table, height_km, cosine, columns)
    if columns[3] > 0.0:
        left_by(media, haze_extinction, columns, out)
    else:
        out[:] = 0.0
