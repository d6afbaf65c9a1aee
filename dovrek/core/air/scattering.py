"""Light scattered more than once in the air, and the ground's illumination.

Successive orders on a grid of 20 heights and 64 sun cosines, keeping six angular moments of
the incoming light; exact for scalar Rayleigh scattering, delta-scaled for haze. The table does
not depend on where the sun stands, only on the air.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import AIR_TOP_KM, Media
from dovrek.core.air.sun_table import (
    SunTable,
    left_by,
    profile,
    sun_columns,
    sun_transmittance,
)
from dovrek.core.colour.spectrum import WAVES
from dovrek.core.compile.arithmetic import clamp, exp_minus
from dovrek.core.compile.kernels import inner, kernel, part, solver

Array = NDArray[np.float64]

HEIGHTS, COSINES, MOMENTS = 20, 64, 6
COSINE_KNEE, LINEAR_NODES = 0.06, 43
KNEE_SQUARE = (1.0 - COSINE_KNEE - 0.01 * (COSINES - LINEAR_NODES)) / (COSINES - LINEAR_NODES) ** 2


class Quality(NamedTuple):
    """Directions and orders of the solve."""

    nodes: int = 8
    azimuths: int = 6
    steps: int = 20
    orders: int = 5


FULL, DRAFT = Quality(), Quality(6, 4, 14, 3)


class Scattered(NamedTuple):
    """Moments of light scattered at least once, and diffuse ground irradiance, unit sun."""

    moments: Array  # (20, 64, 6, 8)
    ground: Array  # (64, 8) diffuse irradiance on the ground


@kernel
def cosine_of(low, j):
    """Sun cosine of a grid column: even steps through twilight (0.01 on the earth, where `low` is
    −0.36), wider by day."""
    if j < LINEAR_NODES:
        return low + (COSINE_KNEE - low) / (LINEAR_NODES - 1) * j
    k = j - (LINEAR_NODES - 1)
    return COSINE_KNEE + 0.01 * k + KNEE_SQUARE * k * k


@kernel
def column_of(low, cosine):
    """Fractional grid column of a sun cosine."""
    c = clamp(cosine, low, 1.0)
    if c <= COSINE_KNEE:
        return (c - low) / (COSINE_KNEE - low) * (LINEAR_NODES - 1)
    d = c - COSINE_KNEE
    k = (-0.01 + math.sqrt(1e-4 + 4.0 * KNEE_SQUARE * d)) / (2.0 * KNEE_SQUARE)
    return min((LINEAR_NODES - 1) + k, COSINES - 1.0)


@inner
def path_length(radius_km, height_km, mu, top_km):
    """Length (km) of a ray to the ground or the top, whether it hits ground, and its tangent t."""
    r = radius_km + height_km
    tangent = -r * mu
    lowest = r * math.sqrt(max(1.0 - mu * mu, 0.0))
    if mu < 0.0 and lowest < radius_km:
        t = tangent - math.sqrt(max(radius_km * radius_km - lowest * lowest, 0.0))
        return max(t, 0.0), True, tangent
    top = radius_km + top_km
    return tangent + math.sqrt(max(top * top - lowest * lowest, 0.0)), False, tangent


@inner
def path_node(k, steps, length, hits, tangent, height_km):
    """Distance of step boundary k: dense at the ray's lowest end, where the air is."""
    u = k / steps
    if hits:
        return length * (1.0 - (1.0 - u) * (1.0 - u)) if height_km > 2.0 else length * u * u
    if tangent > 0.0:
        low, high = -math.sqrt(tangent), math.sqrt(max(length - tangent, 0.0))
        p = low + (high - low) * u
        return tangent + p * abs(p)
    return length * u * u


@inner
def _turned(a0, a1, a2, a3, a4, a5, mu, x, rayleigh, haze, chi1, chi2r, chi2h):
    """Light of given moments turned toward a direction by molecules and haze."""
    y2 = max(1.0 - mu * mu - x * x, 0.0)
    quadratic = mu * mu * a3 + x * x * a4 + y2 * (a0 - a3 - a4) + 2.0 * mu * x * a5
    return ((rayleigh + haze) * a0 + 3.0 * chi1 * haze * (mu * a1 + x * a2)
            + 2.5 * (chi2r * rayleigh + chi2h * haze) * (3.0 * quadratic - a0))


@inner
def scattered_source(moments, media, height_km, mu_sun, mu, x, rayleigh, haze, chi1, chi2h, out):
    """Light scattered again toward a direction (local zenith cosine, sunward component).

    S = (σ_R+σ_A')M0 + 3χ₁'σ_A'(μM1+xM2) + 5(χ₂Rσ_R+χ₂'σ_A')·½(3 v·Q·v − M0).
    """
    u = math.sqrt(clamp(height_km / AIR_TOP_KM, 0.0, 1.0)) * (HEIGHTS - 1)
    i = min(int(u), HEIGHTS - 2)
    fi = u - i
    c = column_of(media.cosine_low, mu_sun)
    j = min(int(c), COSINES - 2)
    fj = c - j
    w00, w01, w10, w11 = (1 - fi) * (1 - fj), (1 - fi) * fj, fi * (1 - fj), fi * fj
    m00, m01, m10, m11 = moments[i, j], moments[i, j + 1], moments[i + 1, j], moments[i + 1, j + 1]
    for w in range(WAVES):
        a0 = w00 * m00[0, w] + w01 * m01[0, w] + w10 * m10[0, w] + w11 * m11[0, w]
        a1 = w00 * m00[1, w] + w01 * m01[1, w] + w10 * m10[1, w] + w11 * m11[1, w]
        a2 = w00 * m00[2, w] + w01 * m01[2, w] + w10 * m10[2, w] + w11 * m11[2, w]
        a3 = w00 * m00[3, w] + w01 * m01[3, w] + w10 * m10[3, w] + w11 * m11[3, w]
        a4 = w00 * m00[4, w] + w01 * m01[4, w] + w10 * m10[4, w] + w11 * m11[4, w]
        a5 = w00 * m00[5, w] + w01 * m01[5, w] + w10 * m10[5, w] + w11 * m11[5, w]
        out[w] = _turned(a0, a1, a2, a3, a4, a5, mu, x, rayleigh[w], haze[w], chi1,
                         media.chi2_molecules, chi2h)


class Rays(NamedTuple):
    """What light meets on its way to every height of the grid from every direction: the same for
    all suns and all orders."""

    ends: Array  # (20, rays, 4): zenith cosine, its weight, length km, 1 when ground is met
    steps: Array  # (20, rays, steps, 4): distance km, height km, radius km, zenith cosine
    shares: Array  # (20, rays, steps, 2, 8): light from a step per source of molecules, of haze
    left: Array  # (20, rays, 8): what passes the whole way


@kernel
def _trace_rays(media, haze_ext, haze_sca, nodes, weights, ends, places, shares, left):
    """Fill the arrays of `Rays`."""
    _, rays, steps, _ = places.shape
    for i in range(HEIGHTS):
        height = AIR_TOP_KM * (i / (HEIGHTS - 1.0)) ** 2
        r = media.radius_km + height
        mu_h = -math.sqrt(max(1.0 - (media.radius_km / r) ** 2, 0.0))
        for ray in range(rays):
            up = ray < len(nodes)
            x_node = nodes[ray % len(nodes)]
            span = 1.0 - mu_h if up else 1.0 + mu_h
            mu = mu_h + span * x_node * x_node * (1.0 if up else -1.0)
            length, hits, tangent = path_length(media.radius_km, height, mu, AIR_TOP_KM)
            ends[i, ray, 0], ends[i, ray, 1] = mu, weights[ray % len(nodes)] * 2.0 * span * x_node
            ends[i, ray, 2], ends[i, ray, 3] = length, 1.0 if hits else 0.0
            left[i, ray] = 1.0
            t0 = 0.0
            for k in range(steps):
                t1 = path_node(k + 1, steps, length, hits, tangent, height)
                dt = t1 - t0
                t = 0.5 * (t0 + t1)
                t0 = t1
                rp = math.sqrt(r * r + t * t + 2.0 * r * t * mu)
                h = max(rp - media.radius_km, 0.0)
                places[i, ray, k, 0], places[i, ray, k, 1] = t, h
                places[i, ray, k, 2], places[i, ray, k, 3] = rp, (r * mu + t) / rp
                dm = profile(media.molecules, h)
                da = math.exp(-h / media.haze_height_km)
                do = profile(media.ozone, h)
                for w in range(WAVES):
                    rayleigh = media.molecules_per_km[w] * dm
                    ext = rayleigh + haze_ext[w] * da + media.ozone_per_km[w] * do
                    e = exp_minus(ext * dt)
                    share = left[i, ray, w] * (1.0 - e) / max(ext, 1e-12)
                    shares[i, ray, k, 0, w] = share * rayleigh
                    shares[i, ray, k, 1, w] = share * haze_sca[w] * da
                    left[i, ray, w] *= e


@inner
def _folded(moments, low, above, mu, rayleigh, haze, chi1, chi2r, chi2h, out):
    """Light scattered again at one place of a ray, for every sun: `_turned` of the moments between
    two heights, as its three powers of the sunward component x; `out` (64, 3, 8)."""
    level = 1.0 - mu * mu
    for j in range(COSINES):
        m0, m1, powers = moments[low, j], moments[low + 1, j], out[j]
        for w in range(WAVES):
            a0 = m0[0, w] + above * (m1[0, w] - m0[0, w])
            a1 = m0[1, w] + above * (m1[1, w] - m0[1, w])
            a2 = m0[2, w] + above * (m1[2, w] - m0[2, w])
            a3 = m0[3, w] + above * (m1[3, w] - m0[3, w])
            a4 = m0[4, w] + above * (m1[4, w] - m0[4, w])
            a5 = m0[5, w] + above * (m1[5, w] - m0[5, w])
            once, twice = 3.0 * chi1 * haze[w], 2.5 * (chi2r * rayleigh[w] + chi2h * haze[w])
            powers[0, w] = ((rayleigh[w] + haze[w]) * a0 + once * mu * a1
                            + twice * (3.0 * (mu * mu * a3 + level * (a0 - a3 - a4)) - a0))
            powers[1, w] = once * a2 + 6.0 * twice * mu * a5
            powers[2, w] = 3.0 * twice * (a3 + 2.0 * a4 - a0)


@inner
def _turning(media):
    """First and second moment of the haze's phase function, what it sends straight on left out."""
    f = media.haze_chi[3]
    return (media.haze_chi[1] - f) / (1.0 - f), (media.haze_chi[2] - f) / (1.0 - f)


@part
def _direction(rays, i, ray, azimuths):
    """Zenith cosine and sine of a ray of a height, its length and the weight of each azimuth."""
    mu = rays.ends[i, ray, 0]
    return (mu, math.sqrt(max(1.0 - mu * mu, 0.0)), rays.ends[i, ray, 2],
            rays.ends[i, ray, 1] * (2.0 * math.pi / azimuths) / (4.0 * math.pi))


@inner
def _add_moments(light, weight, mu, vx, j, i, out, out_e):
    """Add light (8,) that comes from a direction to the moments of a height and a sun, and on the
    ground to what falls there."""
    for w in range(WAVES):
        lw = light[w] * weight
        out[i, j, 0, w] += lw
        out[i, j, 1, w] += lw * mu
        out[i, j, 2, w] += lw * vx
        out[i, j, 3, w] += lw * mu * mu
        out[i, j, 4, w] += lw * vx * vx
        out[i, j, 5, w] += lw * mu * vx
    if i == 0 and mu > 0.0:
        for w in range(WAVES):
            out_e[j, w] += light[w] * weight * mu * 4.0 * math.pi


@solver
def _first_order(media, sun, haze_ext, rays, cosines, i0, i1, out, out_e):
    """Sunlight scattered once, and sent back by the ground, for grid heights i0 … i1; `cosines` of
    the azimuths from the sun's."""
    chi1, chi2 = _turning(media)
    azimuths = len(cosines)
    trans, columns, turned = np.empty(WAVES), np.empty(4), np.empty((3, WAVES))
    light = np.empty((COSINES, azimuths, WAVES))
    _, directions, steps, _ = rays.steps.shape
    for i in range(i0, i1):
        r = media.radius_km + AIR_TOP_KM * (i / (HEIGHTS - 1.0)) ** 2
        out[i] = 0.0
        for ray in range(directions):
            mu, sin_v, length, weight = _direction(rays, i, ray, azimuths)
            light[:] = 0.0
            for k in range(steps):
                t, h = rays.steps[i, ray, k, 0], rays.steps[i, ray, k, 1]
                rp = rays.steps[i, ray, k, 2]
                for w in range(WAVES):  # in powers of the cosine between sun and ray
                    rayleigh, haze = rays.shares[i, ray, k, 0, w], rays.shares[i, ray, k, 1, w]
                    second = 2.5 * (media.chi2_molecules * rayleigh + chi2 * haze)
                    turned[0, w] = (rayleigh + haze - second) / (4.0 * math.pi)
                    turned[1, w] = 3.0 * chi1 * haze / (4.0 * math.pi)
                    turned[2, w] = 3.0 * second / (4.0 * math.pi)
                for j in range(COSINES):
                    mu_s = cosine_of(media.cosine_low, j)
                    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
                    for b in range(azimuths):
                        cosine = mu * mu_s + sin_v * cosines[b] * sin_s
                        sun_columns(sun, h, (r * mu_s + t * cosine) / rp, columns)
                        if columns[3] <= 0.0:
                            continue
                        left_by(media, haze_ext, columns, trans)
                        square = cosine * cosine
                        for w in range(WAVES):
                            light[j, b, w] += trans[w] * (
                                turned[0, w] + cosine * turned[1, w] + square * turned[2, w])
            for j in range(COSINES):
                mu_s = cosine_of(media.cosine_low, j)
                sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
                for b in range(azimuths):
                    vx = sin_v * cosines[b]
                    if rays.ends[i, ray, 3] > 0.0:
                        mu_g = (r * mu_s + length * (mu * mu_s + vx * sin_s)) / media.radius_km
                        sun_transmittance(sun, media, 0.0, mu_g, haze_ext, columns, trans)
                        for w in range(WAVES):
                            light[j, b, w] += (rays.left[i, ray, w] * media.albedo[w] / math.pi
                                               * trans[w] * max(mu_g, 0.0))
                    _add_moments(light[j, b], weight, mu, vx, j, i, out, out_e)


@solver
def _next_order(media, moments, ground, rays, cosines, i0, i1, out, out_e):
    """Light of an order of scattering, scattered once more, for grid heights i0 … i1."""
    chi1, chi2 = _turning(media)
    azimuths = len(cosines)
    light = np.empty((COSINES, azimuths, WAVES))
    there = np.empty((COSINES, 3, WAVES))
    _, directions, steps, _ = rays.steps.shape
    for i in range(i0, i1):
        r = media.radius_km + AIR_TOP_KM * (i / (HEIGHTS - 1.0)) ** 2
        out[i] = 0.0
        for ray in range(directions):
            mu, sin_v, length, weight = _direction(rays, i, ray, azimuths)
            light[:] = 0.0
            for k in range(steps):
                t, h = rays.steps[i, ray, k, 0], rays.steps[i, ray, k, 1]
                rp, mu_p = rays.steps[i, ray, k, 2], rays.steps[i, ray, k, 3]
                u = math.sqrt(clamp(h / AIR_TOP_KM, 0.0, 1.0)) * (HEIGHTS - 1)
                low = min(int(u), HEIGHTS - 2)
                _folded(moments, low, u - low, mu_p, rays.shares[i, ray, k, 0],
                        rays.shares[i, ray, k, 1], chi1, media.chi2_molecules, chi2, there)
                lim = math.sqrt(max(1.0 - mu_p * mu_p, 0.0))
                for j in range(COSINES):
                    mu_s = cosine_of(media.cosine_low, j)
                    sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
                    for b in range(azimuths):
                        cosine = mu * mu_s + sin_v * cosines[b] * sin_s
                        mu_sp = (r * mu_s + t * cosine) / rp
                        s2 = math.sqrt(max(1.0 - mu_sp * mu_sp, 1e-9))
                        x = clamp((cosine - mu_p * mu_sp) / s2, -lim, lim)
                        c = column_of(media.cosine_low, mu_sp)
                        at = min(int(c), COSINES - 2)
                        f1 = c - at
                        f0 = 1.0 - f1
                        x0, x1, xx0, xx1 = f0 * x, f1 * x, f0 * x * x, f1 * x * x
                        m0, m1, sums = there[at], there[at + 1], light[j, b]
                        for w in range(WAVES):
                            sums[w] += (f0 * m0[0, w] + x0 * m0[1, w] + xx0 * m0[2, w]
                                        + f1 * m1[0, w] + x1 * m1[1, w] + xx1 * m1[2, w])
            for j in range(COSINES):
                mu_s = cosine_of(media.cosine_low, j)
                sin_s = math.sqrt(max(1.0 - mu_s * mu_s, 0.0))
                for b in range(azimuths):
                    vx = sin_v * cosines[b]
                    if rays.ends[i, ray, 3] > 0.0:
                        mu_g = (r * mu_s + length * (mu * mu_s + vx * sin_s)) / media.radius_km
                        c = column_of(media.cosine_low, mu_g)
                        at = min(int(c), COSINES - 2)
                        for w in range(WAVES):
                            e = ground[at, w] * (1.0 - c + at) + ground[at + 1, w] * (c - at)
                            light[j, b, w] += (rays.left[i, ray, w] * media.albedo[w] / math.pi
                                               * e)
                    _add_moments(light[j, b], weight, mu, vx, j, i, out, out_e)


def solve_scattering(
    media: Media,
    sun: SunTable,
    quality: Quality = FULL,
    pool: ThreadPoolExecutor | None = None,
    cancelled: Callable[[], None] = lambda: None,
) -> Scattered:
    """Sum the orders of scattering; `cancelled` is called between pieces and may raise.

    Source: successive orders (van de Hulst 1980) with delta scaling (Wiscombe 1977).
    """
    x, weights = np.polynomial.legendre.leggauss(quality.nodes)
    nodes, weights = 0.5 * (x + 1.0), 0.5 * weights
    forward, albedo = media.haze_chi[3], media.haze_albedo
    haze_ext = media.haze_per_km * (1.0 - albedo * forward)
    count = 2 * quality.nodes
    rays = Rays(np.empty((HEIGHTS, count, 4)), np.empty((HEIGHTS, count, quality.steps, 4)),
                np.empty((HEIGHTS, count, quality.steps, 2, WAVES)),
                np.empty((HEIGHTS, count, WAVES)))
    haze_sca = media.haze_per_km * albedo * (1.0 - forward)
    _trace_rays(media, haze_ext, haze_sca, nodes, weights, *rays)
    cosines = np.cos(math.pi * (np.arange(quality.azimuths) + 0.5) / quality.azimuths)
    shape = (HEIGHTS, COSINES, MOMENTS, WAVES)
    total, ground_total = np.zeros(shape), np.zeros((COSINES, WAVES))
    before, ground_before = np.zeros(shape), np.zeros((COSINES, WAVES))
    for order in range(quality.orders):
        moments, ground = np.empty(shape), np.zeros((COSINES, WAVES))

        def piece(i: int, moments: Array = moments, ground: Array = ground,
                  order: int = order) -> None:
            cancelled()
            if order == 0:
                _first_order(media, sun, haze_ext, rays, cosines, i, i + 1, moments, ground)
            else:
                _next_order(media, before, ground_before, rays, cosines, i, i + 1, moments, ground)

        list((pool.map if pool else map)(piece, range(HEIGHTS)))
        if order == quality.orders - 1 and order > 0:
            # What the later orders add, as a geometric series from the last two.
            def tail(last: Array, previous: Array) -> Array:
                ratio = np.clip(last / np.maximum(previous, 1e-30), 0.0, 0.9)
                return 1.0 / (1.0 - ratio)

            moments *= tail(moments[:, :, :1], before[:, :, :1])
            ground *= tail(ground, ground_before)
        total += moments
        ground_total += ground
        before, ground_before = moments, ground
    return Scattered(total, ground_total)
