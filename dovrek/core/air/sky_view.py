"""The clear sky as one observer sees it, and the air between the observer and anything.

Two tables for one observer and sun: the whole sky (radiance by direction) and the aerial
perspective (in-scatter and transmittance by direction and distance). Both keep the single
scattering of haze without its phase function, so that the aureole stays sharp.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import AIR_TOP_KM, HAZE_LOBES, Media
from dovrek.core.air.scattering import (
    COSINES,
    Scattered,
    column_of,
    path_length,
    path_node,
    scattered_source,
)
from dovrek.core.air.sun_table import SunTable, profile, sun_transmittance
from dovrek.core.colour.spectrum import WAVES, xyz_weights
from dovrek.core.compile.arithmetic import clamp, exp_minus, henyey_greenstein
from dovrek.core.compile.kernels import inner, kernel, solver
from dovrek.core.geometry.planet import air_stretch, high_eye, stretch_place

Array = NDArray[np.float64]
Array32 = NDArray[np.float32]

ELEVATIONS, AZIMUTHS = 48, 48
AIR_BELOW, AIR_ABOVE, AIR_AZIMUTHS, AIR_SLICES = 16, 24, 20, 32
# From high up the day's edge may lie across what is seen below: more rows, more bearings.
HIGH_BELOW, HIGH_AZIMUTHS = 56, 40
SKY_STEPS = 32
SHADE_NODES, SHADE_TOP_KM = 65, 16.0
TINY = 1e-12
W0, G0 = HAZE_LOBES[0]
W1, G1 = HAZE_LOBES[1]


class SkyView(NamedTuple):
    """Tables as the march reads them."""

    horizon: float  # elevation of the observer's horizon, radians (≤ 0)
    top: float  # elevation up to which there is air: the zenith's, unless the eye is outside
    sun_azimuth: float  # radians
    sky: Array32  # (48, 48, 6) log A (XYZ), log B (XYZ)
    air: Array32  # (below + 24, azimuths, 33, 9) A, B, transmittance by XYZ channel
    below: int  # rows of `air` below the horizon
    air_far_m: float  # the farthest cloud, metres; unless high, of the last slice: (k/32)² of it
    high: bool  # slices lie at shares k/32 of the ray's stretch of air (`planet.stretch_place`)
    radius_m: float  # of the ground
    height_m: float  # of the eye above it


@kernel
def haze_phase(cosine):
    """Double Henyey–Greenstein phase function of the haze, per steradian."""
    return W0 * henyey_greenstein(cosine, G0) + W1 * henyey_greenstein(cosine, G1)


@solver
def _along(media, sun, moments, ground, shade, haze_shaded, weights, height, mu, vx, mu_s, cosine,
           bounds, marks, out, passed):
    """March one ray through the air; write A, B (XYZ) and transmittance at marked bounds.

    `bounds` are distances in km, `marks[k]` the row of `out` to write after bound k (or −1).
    out rows: A xyz, B xyz, then 8 transmittances; `passed` (8,) is left at the ray's end. Where
    `haze_shaded` is 0, clouds take nothing from B: the march finds their shadows itself.
    """
    f = media.haze_chi[3]
    chi1 = (media.haze_chi[1] - f) / (1.0 - f)
    chi2 = (media.haze_chi[2] - f) / (1.0 - f)
    albedo = media.haze_albedo
    r = media.radius_km + height
    a = np.zeros(WAVES)
    b = np.zeros(WAVES)
    rayleigh, haze_scaled = np.empty(WAVES), np.empty(WAVES)
    trans, again, columns = np.empty(WAVES), np.empty(WAVES), np.empty(4)
    haze_ext = media.haze_per_km * (1.0 - albedo * f)
    passed[:] = 1.0
    rayleigh_phase = (1.0 + 5.0 * media.chi2_molecules * (1.5 * cosine * cosine - 0.5)) / (
        4.0 * math.pi)
    for k in range(len(bounds) - 1):
        dt = bounds[k + 1] - bounds[k]
        if dt > 0.0:
            t = 0.5 * (bounds[k] + bounds[k + 1])
            rp = math.sqrt(r * r + t * t + 2.0 * r * t * mu)
            h = max(rp - media.radius_km, 0.0)
            mu_p = (r * mu + t) / rp
            mu_sp = (r * mu_s + t * cosine) / rp
            dm = profile(media.molecules, h)
            da = math.exp(-h / media.haze_height_km)
            do = profile(media.ozone, h)
            for w in range(WAVES):
                rayleigh[w] = media.molecules_per_km[w] * dm
                haze_scaled[w] = media.haze_per_km[w] * albedo * (1.0 - f) * da
            sun_transmittance(sun, media, h, mu_sp, haze_ext, columns, trans)
            s2 = math.sqrt(max(1.0 - mu_sp * mu_sp, 1e-9))
            lim = math.sqrt(max(1.0 - mu_p * mu_p, 0.0))
            xp = clamp((cosine - mu_p * mu_sp) / s2, -lim, lim)
            scattered_source(moments, media, h, mu_sp, mu_p, xp, rayleigh, haze_scaled,
                             chi1, chi2, again)
            s = min(h / SHADE_TOP_KM, 0.9999) * (SHADE_NODES - 1)
            i = int(s)
            lit = shade[i] * (1.0 - s + i) + shade[i + 1] * (s - i)
            haze_lit = lit if haze_shaded > 0.0 else 1.0
            for w in range(WAVES):
                ext = rayleigh[w] + haze_ext[w] * da + media.ozone_per_km[w] * do
                e = exp_minus(ext * dt)
                gain = passed[w] * (1.0 - e) / max(ext, 1e-12)
                a[w] += lit * gain * (rayleigh[w] * rayleigh_phase * trans[w] + again[w])
                b[w] += haze_lit * gain * media.haze_per_km[w] * albedo * da * trans[w]
                passed[w] *= e
        row = marks[k]
        if row >= 0:
            for c in range(3):
                sa, sb = 0.0, 0.0
                for w in range(WAVES):
                    sa += a[w] * weights[w, c]
                    sb += b[w] * weights[w, c]
                out[row, c] = sa
                out[row, 3 + c] = sb
            for w in range(WAVES):
                out[row, 6 + w] = passed[w]


@solver
def _sky_rows(media, sun, moments, ground, shade, haze_shaded, weights, height, horizon, top,
              mu_s, i0, i1, sky):
    bounds, marks = np.empty(SKY_STEPS + 1), np.full(SKY_STEPS, -1)
    marks[SKY_STEPS - 1] = 0
    out, passed, stretch = np.empty((1, 6 + WAVES)), np.empty(WAVES), np.empty(3)
    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
    for i in range(i0, i1):
        v = i / (ELEVATIONS - 1.0)
        elevation = horizon + (top - horizon) * v * v
        mu = math.sin(elevation) + (1e-6 if i == 0 else 0.0)
        sin_v = math.cos(elevation)
        # The lowest row grazes the horizon rather than hits it.
        air_stretch(media.radius_km, height, mu, AIR_TOP_KM, stretch)
        if i == 0:
            reach = (media.radius_km + AIR_TOP_KM) ** 2 - media.radius_km**2
            stretch[1] = stretch[2] + math.sqrt(reach)
        for k in range(SKY_STEPS + 1):
            bounds[k] = max(stretch_place(k / SKY_STEPS, stretch, False), 0.0)
        bounds[0] = stretch[0]
        for j in range(AZIMUTHS):
            phi = math.pi * j / (AZIMUTHS - 1.0)
            vx = sin_v * math.cos(phi)
            cosine = clamp(mu * mu_s + vx * sin_s, -1.0, 1.0)
            _along(media, sun, moments, ground, shade, haze_shaded, weights, height, mu, vx, mu_s,
                   cosine, bounds, marks, out, passed)
            for c in range(6):
                sky[i, j, c] = math.log(max(out[0, c], TINY))


@inner
def air_elevation(i, below, horizon, top):
    """Elevation of a row of the aerial table: `below` rows below the horizon, 24 above."""
    if i < below:
        v = (below - 0.5 - i) / (below - 0.5)
        return horizon - (0.5 * math.pi + horizon) * v * v
    v = (i - below + 0.5) / (AIR_ABOVE - 0.5)
    return horizon + (top - horizon) * v * v


@solver
def _air_rows(media, sun, moments, ground, shade, haze_shaded, weights, seen, height, horizon,
              top, below, high, mu_s, far_km, i0, i1, air):
    bounds = np.empty(2 * AIR_SLICES + 1)
    marks = np.full(2 * AIR_SLICES, -1)
    for k in range(AIR_SLICES):
        marks[2 * k + 1] = k
    _, azimuths, _, _ = air.shape
    out, passed, stretch = np.empty((AIR_SLICES, 6 + WAVES)), np.empty(WAVES), np.empty(3)
    total = np.zeros(3)
    for c in range(3):
        for w in range(WAVES):
            total[c] += seen[w] * weights[w, c]
    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
    for i in range(i0, i1):
        elevation = air_elevation(i, below, horizon, top)
        mu, sin_v = math.sin(elevation), math.cos(elevation)
        hits = air_stretch(media.radius_km, height, mu, AIR_TOP_KM, stretch)
        for k in range(2 * AIR_SLICES + 1):
            u = k / (2.0 * AIR_SLICES)
            if high:
                bounds[k] = stretch_place(u, stretch, hits)
            else:
                bounds[k] = min(far_km * u * u, stretch[1])
        for j in range(azimuths):
            vx = sin_v * math.cos(math.pi * j / (azimuths - 1.0))
            cosine = clamp(mu * mu_s + vx * sin_s, -1.0, 1.0)
            _along(media, sun, moments, ground, shade, haze_shaded, weights, height, mu, vx, mu_s,
                   cosine, bounds, marks, out, passed)
            air[i, j, 0, :6] = 0.0
            air[i, j, 0, 6:] = 1.0
            for k in range(AIR_SLICES):
                for c in range(6):
                    air[i, j, k + 1, c] = out[k, c]
                for c in range(3):
                    t = 0.0
                    for w in range(WAVES):
                        t += out[k, 6 + w] * seen[w] * weights[w, c]
                    air[i, j, k + 1, 6 + c] = t / total[c]


@solver
def ground_radiance(media, sun, ground, mu_s, direct_share, diffuse_share, out):
    """Radiance (8 waves, unit sun) of the Lambert ground under a sun cosine: what haze turns by
    small angles counts with the beam, for it is not in the diffuse light."""
    columns, trans = np.empty(4), np.empty(WAVES)
    scaled = media.haze_per_km * (1.0 - media.haze_albedo * media.haze_chi[3])
    sun_transmittance(sun, media, 0.0, mu_s, scaled, columns, trans)
    c = column_of(media.cosine_low, mu_s)
    j = min(int(c), COSINES - 2)
    f = c - j
    for w in range(WAVES):
        diffuse = ground[j, w] * (1.0 - f) + ground[j + 1, w] * f
        out[w] = media.albedo[w] / math.pi * (
            direct_share * trans[w] * max(mu_s, 0.0) + diffuse_share * diffuse)


@solver
def _hemispheres(media, sun, moments, ground, shade, weights, height, mu_s, ground_share, out):
    """Mean radiance (XYZ) at a height (km), into `out` (4, 3): from above and from below weighted
    by the cosine, then the same weighted by solid angle alone."""
    n_mu, n_phi, steps = 6, 6, 16
    bounds, marks = np.empty(steps + 1), np.full(steps, -1)
    marks[steps - 1] = 0
    row, passed, lit = np.empty((1, 6 + WAVES)), np.empty(WAVES), np.empty(WAVES)
    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
    r = media.radius_km + height
    out[:] = 0.0
    for side in range(2):
        weight_sum, even_sum = 0.0, 0.0
        for a in range(n_mu):
            mu = math.sqrt((a + 0.5) / n_mu) * (1.0 if side == 0 else -1.0)
            sin_v = math.sqrt(1.0 - mu * mu)
            length, hits, tangent = path_length(media.radius_km, height, mu, AIR_TOP_KM)
            for k in range(steps + 1):
                bounds[k] = path_node(k, steps, length, hits, tangent, height)
            bounds[0] = 0.0
            for b in range(n_phi):
                vx = sin_v * math.cos(math.pi * (b + 0.5) / n_phi)
                cosine = clamp(mu * mu_s + vx * sin_s, -1.0, 1.0)
                _along(media, sun, moments, ground, shade, 1.0, weights, height, mu, vx, mu_s,
                       cosine, bounds, marks, row, passed)
                phase = haze_phase(cosine)
                weight_sum += 1.0
                even_sum += 1.0 / abs(mu)
                if hits:
                    mu_g = (r * mu_s + length * cosine) / media.radius_km
                    ground_radiance(media, sun, ground, mu_g, ground_share, ground_share, lit)
                for c in range(3):
                    light = row[0, c] + phase * row[0, 3 + c]
                    if hits:
                        for w in range(WAVES):
                            light += passed[w] * lit[w] * weights[w, c]
                    out[side, c] += light
                    out[2 + side, c] += light / abs(mu)
        for c in range(3):
            out[side, c] /= weight_sum
            out[2 + side, c] /= even_sum


@solver
def _looks(media, sun, moments, ground, shade, weights, height, mu_s, looks, out):
    """Radiance (XYZ) of the clear sky along rays, into `out` (n, 3); `looks` (n, 2) are radians up
    and away from the sun's bearing."""
    bounds, marks = np.empty(SKY_STEPS + 1), np.full(SKY_STEPS, -1)
    marks[SKY_STEPS - 1] = 0
    row, passed = np.empty((1, 6 + WAVES)), np.empty(WAVES)
    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
    for n in range(len(looks)):
        mu, sin_v = math.sin(looks[n, 0]), math.cos(looks[n, 0])
        vx = sin_v * math.cos(looks[n, 1])
        cosine = clamp(mu * mu_s + vx * sin_s, -1.0, 1.0)
        length, _, tangent = path_length(media.radius_km, height, mu, AIR_TOP_KM)
        for k in range(SKY_STEPS + 1):
            bounds[k] = path_node(k, SKY_STEPS, length, False, tangent, height)
        bounds[0] = 0.0
        _along(media, sun, moments, ground, shade, 1.0, weights, height, mu, vx, mu_s, cosine,
               bounds, marks, row, passed)
        phase = haze_phase(cosine)
        for c in range(3):
            out[n, c] = row[0, c] + phase * row[0, 3 + c]


class Observer(NamedTuple):
    """For whom the tables are made."""

    height_m: float  # above the ground
    sun_elevation_true: float  # radians
    sun_azimuth: float  # radians
    far_m: float  # farthest cloud that can be seen
    round_earth: bool = True  # False: tables of a low eye, however high (`planet.high_eye`)
    haze_shaded: bool = True  # False: the march finds the clouds' shadows in the haze


def build_sky_view(
    media: Media,
    sun: SunTable,
    scattered: Scattered,
    observer: Observer,
    shade: Array,
    run: Callable[[Callable[[int, int], None], int], None],
) -> SkyView:
    """Both tables for an observer. `shade` (65,) is the share of light that clouds leave in the
    air by height up to 16 km; `run` calls a function over row ranges, on threads if it likes."""
    weights = xyz_weights()
    height_km = max(observer.height_m, 0.2) * 1e-3
    r = media.radius_km + height_km
    horizon = -math.acos(min(media.radius_km / r, 1.0))
    mu_s = math.sin(observer.sun_elevation_true)
    high = observer.round_earth and high_eye(observer.height_m, 1e3 * media.radius_km)
    outside = height_km > AIR_TOP_KM
    top = -math.acos((media.radius_km + AIR_TOP_KM) / r) if outside else 0.5 * math.pi
    below, azimuths = (HIGH_BELOW, HIGH_AZIMUTHS) if high else (AIR_BELOW, AIR_AZIMUTHS)
    sky = np.empty((ELEVATIONS, AZIMUTHS, 6), dtype=np.float32)
    air = np.empty((below + AIR_ABOVE, azimuths, AIR_SLICES + 1, 9), dtype=np.float32)
    # The light whose loss the transmittance stands for: sunlight as it reaches cloud height.
    seen, columns = np.empty(WAVES), np.empty(4)
    sun_transmittance(sun, media, 4.0, max(mu_s, math.sin(math.radians(-1.0))),
                      media.haze_per_km, columns, seen)
    seen = 0.8 * seen + 0.2 * float(np.mean(seen)) + 1e-9
    common = (media, sun, scattered.moments, scattered.ground, shade,
              1.0 if observer.haze_shaded else 0.0, weights)
    run(lambda i0, i1: _sky_rows(*common, height_km, horizon, top, mu_s, i0, i1, sky), ELEVATIONS)
    run(lambda i0, i1: _air_rows(*common, seen, height_km, horizon, top, below, high, mu_s,
                                 observer.far_m * 1e-3, i0, i1, air), below + AIR_ABOVE)
    return SkyView(horizon, top, observer.sun_azimuth, sky, air, below, observer.far_m, high,
                   media.radius_km * 1e3, height_km * 1e3)


def between(one: SkyView, other: SkyView, share: float) -> SkyView:
    """The view for a shade that lies a share of the way from one's to the other's.

    What air scatters grows evenly with the light that clouds leave in it: this is exact but for
    rounding, beyond the two as well.
    """
    def mixed(a: Array, b: Array) -> Array:
        return np.maximum((1.0 - share) * a + share * b, TINY)

    air = one.air.copy()
    air[..., :6] = (1.0 - share) * one.air[..., :6] + share * other.air[..., :6]
    sky = np.log(mixed(np.exp(one.sky), np.exp(other.sky))).astype(np.float32)
    return one._replace(sky=sky, air=air)


def hemispheres(media: Media, sun: SunTable, scattered: Scattered, shade: Array,
                height_m: float, sun_elevation_true: float, ground_share: float) -> Array:
    """(4, 3) mean radiance (XYZ, cd/m²) from above and from below, as it falls on a level plate;
    then the same as it falls on a ball.

    `ground_share` is the part of its clear-sky light the ground receives under the clouds.
    """
    out = np.empty((4, 3))
    _hemispheres(media, sun, scattered.moments, scattered.ground, shade, xyz_weights(),
                 max(height_m, 1.0) * 1e-3, math.sin(sun_elevation_true), ground_share, out)
    return out


def radiances(media: Media, sun: SunTable, scattered: Scattered, sun_elevation_true: float,
              looks: Array) -> Array:
    """(n, 3) radiance (XYZ, cd/m²) of the clear sky from the ground along (n, 2) looks: radians
    above the horizon, and of bearing away from the sun's."""
    out = np.empty((len(looks), 3))
    _looks(media, sun, scattered.moments, scattered.ground, np.ones(SHADE_NODES), xyz_weights(),
           2e-3, math.sin(sun_elevation_true), np.ascontiguousarray(looks, dtype=float), out)
    return out
