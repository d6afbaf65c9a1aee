"""Looks into the tables of one observer: the clear sky in a direction, the air up to a distance."""

from __future__ import annotations

import math

from dovrek.core.air.media import AIR_TOP_KM
from dovrek.core.air.sky_view import (
    AIR_ABOVE,
    AIR_SLICES,
    AZIMUTHS,
    ELEVATIONS,
    haze_phase,
)
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.geometry.planet import air_stretch, stretch_share

# Places (XYZ each) among the parts of the air: light without the haze's single scattering, that
# scattering without its phase function, transmittance.
OWN, HAZE, PASSED = 0, 3, 6
AIR_TOP_M = 1e3 * AIR_TOP_KM


@inner
def _cubic(u, weights):
    """Catmull–Rom weights of four neighbours."""
    weights[0] = u * (-0.5 + u * (1.0 - 0.5 * u))
    weights[1] = 1.0 + u * u * (-2.5 + 1.5 * u)
    weights[2] = u * (0.5 + u * (2.0 - 1.5 * u))
    weights[3] = u * u * (-0.5 + 0.5 * u)


@inner
def _azimuth_node(j, n):
    """Mirror a column index at the sun's meridian and opposite it."""
    if j < 0:
        return -j
    if j > n - 1:
        return 2 * (n - 1) - j
    return j


@inner
def _from_sun(turn):
    """A difference of azimuths folded into 0 … π."""
    folded = abs(turn) % (2.0 * math.pi)
    return 2.0 * math.pi - folded if folded > math.pi else folded


@inner
def sky_parts(view, elevation, azimuth, wi, wj, parts):
    """Clear sky in a direction: A and B (XYZ each, see `_along`) into `parts` (6,); `wi`, `wj` (4,)
    are scratch."""
    e = max(elevation, view.horizon)
    if e > view.top:
        for c in range(6):
            parts[c] = 0.0
        return
    v = math.sqrt(max((e - view.horizon) / (view.top - view.horizon), 0.0)) * (ELEVATIONS - 1)
    i = min(int(v), ELEVATIONS - 2)
    phi = _from_sun(azimuth - view.sun_azimuth) / math.pi * (AZIMUTHS - 1)
    j = min(int(phi), AZIMUTHS - 2)
    _cubic(v - i, wi)
    _cubic(phi - j, wj)
    s0 = s1 = s2 = s3 = s4 = s5 = 0.0
    for a in range(4):
        ia = clamp(i - 1 + a, 0, ELEVATIONS - 1)
        for b in range(4):
            jb = _azimuth_node(j - 1 + b, AZIMUTHS)
            w = wi[a] * wj[b]
            cell = view.sky[ia, jb]
            s0 += w * cell[0]
            s1 += w * cell[1]
            s2 += w * cell[2]
            s3 += w * cell[3]
            s4 += w * cell[4]
            s5 += w * cell[5]
    parts[0], parts[1], parts[2] = math.exp(s0), math.exp(s1), math.exp(s2)
    parts[3], parts[4], parts[5] = math.exp(s3), math.exp(s4), math.exp(s5)


@kernel
def sky_radiance(view, elevation, azimuth, cosine, scratch, out):
    """XYZ radiance of the clear sky in a direction; `scratch` (14,)."""
    parts = scratch[8:14]
    sky_parts(view, elevation, azimuth, scratch[0:4], scratch[4:8], parts)
    phase = haze_phase(cosine)
    for c in range(3):
        out[c] = parts[OWN + c] + phase * parts[HAZE + c]


@inner
def air_parts(view, elevation, azimuth, distance_m, parts):
    """Air up to a distance into `parts` (9,): A and B (XYZ each, see `_along`), transmittance."""
    d, below = elevation - view.horizon, view.below
    if elevation > view.top:
        for c in range(9):
            parts[c] = 0.0 if c < PASSED else 1.0
        return
    if d < 0.0:
        v = math.sqrt(-d / (0.5 * math.pi + view.horizon)) * (below - 0.5)
        y = below - 0.5 - v
        i = clamp(int(y), 0, below - 2)
    else:
        v = math.sqrt(d / (view.top - view.horizon)) * (AIR_ABOVE - 0.5)
        y = below - 0.5 + v
        i = clamp(int(y), below, below + AIR_ABOVE - 2)
    fi = clamp(y - i, 0.0, 1.0)
    _, azimuths, _, _ = view.air.shape
    phi = _from_sun(azimuth - view.sun_azimuth) / math.pi * (azimuths - 1)
    j = min(int(phi), azimuths - 2)
    fj = phi - j
    if view.high:
        hits = air_stretch(view.radius_m, view.height_m, math.sin(elevation), AIR_TOP_M, parts)
        u = stretch_share(distance_m, parts, hits) * AIR_SLICES
    else:
        u = math.sqrt(clamp(distance_m / view.air_far_m, 0.0, 1.0)) * AIR_SLICES
    k = min(int(u), AIR_SLICES - 1)
    fk = u - k
    for c in range(9):
        parts[c] = 0.0
    for a in range(2):
        wa = fi if a == 1 else 1.0 - fi
        for b in range(2):
            wab = wa * (fj if b == 1 else 1.0 - fj)
            for e in range(2):
                w = wab * (fk if e == 1 else 1.0 - fk)
                cell = view.air[i + a, j + b, k + e]
                for c in range(9):
                    parts[c] += w * cell[c]


@kernel
def air_between(view, elevation, azimuth, cosine, distance_m, parts, scatter, passed):
    """In-scatter (XYZ) and transmittance (XYZ channels) of the air up to a distance; `parts`
    (9,) is scratch."""
    air_parts(view, elevation, azimuth, distance_m, parts)
    phase = haze_phase(cosine)
    for c in range(3):
        scatter[c] = parts[OWN + c] + phase * parts[HAZE + c]
        passed[c] = parts[PASSED + c]
