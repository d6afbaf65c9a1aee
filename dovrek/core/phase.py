"""How a cloud turns light: phase function, its scaling, and the tables of the direct beam."""

from __future__ import annotations

import math
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.kernels import kernel

Array = NDArray[np.float64]

# Weight and asymmetry of three Henyey–Greenstein lobes; mean cosine .827.
LOBES = ((0.60, 0.95), (0.345, 0.80), (0.055, -0.35))
FORWARD = ((0.60, 0.95), (0.169, 0.80))  # the part treated as still in the beam
ORDERS = 420
ANGLES, DEPTHS, DEPTH_LIMIT = 160, 64, 40.0

ASYMMETRY = sum(w * g for w, g in LOBES)
PEAK = sum(w * g * g for w, g in LOBES)  # second moment: what delta scaling takes as unscattered
K_SCALED = 1.0 - PEAK
K_TRANSPORT = 1.0 - ASYMMETRY
G_SCALED = 1.0 - K_TRANSPORT / K_SCALED
DRIFT = G_SCALED / (1.0 - G_SCALED)


class Beam(NamedTuple):
    """Radiance (1/sr) of the sun's beam by angle (π u²) and depth (40 v²), unit irradiance."""

    once: Array  # (160, 64) turned widely exactly once, any number of small turns
    narrow: Array  # (160, 64) only small turns


def phase_function(cosine: Array | float) -> Array:
    """Per steradian; integrates to 1. Source: Henyey & Greenstein 1941, a sum of three."""
    c = np.asarray(cosine, dtype=np.float64)
    total = np.zeros_like(c)
    for weight, g in LOBES:
        total += weight * (1 - g * g) / (4 * math.pi * (1 + g * g - 2 * g * c) ** 1.5)
    return total


@cache
def beam_tables() -> Beam:
    """Goudsmit–Saunderson series of the beam in cloud.

    A = Σ (2l+1)/4π (χ_l − c_l) e^(−(1−c_l)τ) P_l(cos θ), B the same with c_l alone.
    Source: Goudsmit & Saunderson 1940.
    """
    order = np.arange(ORDERS)
    chi = np.sum([w * g**order for w, g in LOBES], axis=0)
    narrow = np.sum([w * g**order for w, g in FORWARD], axis=0)
    theta = math.pi * (np.arange(ANGLES) / (ANGLES - 1)) ** 2
    depth = DEPTH_LIMIT * (np.arange(DEPTHS) / (DEPTHS - 1)) ** 2
    cosine = np.cos(theta)
    legendre = np.empty((ORDERS, ANGLES))
    legendre[0], legendre[1] = 1.0, cosine
    for k in range(2, ORDERS):
        legendre[k] = ((2 * k - 1) * cosine * legendre[k - 1] - (k - 1) * legendre[k - 2]) / k
    fall = np.exp(-np.outer(1.0 - narrow, depth)) * ((2 * order + 1) / (4 * math.pi))[:, None]
    once = legendre.T @ (fall * (chi - narrow)[:, None])
    small = legendre.T @ (fall * narrow[:, None])
    return Beam(np.maximum(once, 0.0), np.maximum(small, 0.0))


@kernel
def beam_row(theta):
    """Fractional row of an angle."""
    return math.sqrt(min(max(theta, 0.0) / math.pi, 1.0)) * (ANGLES - 1)


@kernel
def beam_at(table, row, depth):
    """Bilinear look-up; beyond the last depth the value falls with the scaled extinction."""
    i = min(int(row), ANGLES - 2)
    fi = row - i
    v = math.sqrt(min(max(depth, 0.0), DEPTH_LIMIT) / DEPTH_LIMIT) * (DEPTHS - 1)
    j = min(int(v), DEPTHS - 2)
    fj = v - j
    value = ((table[i, j] * (1 - fj) + table[i, j + 1] * fj) * (1 - fi)
             + (table[i + 1, j] * (1 - fj) + table[i + 1, j + 1] * fj) * fi)
    if depth > DEPTH_LIMIT:
        value *= math.exp(-K_SCALED * (depth - DEPTH_LIMIT))
    return value


def slab_transmittance(optical_depth: Array | float, cosine: float) -> Array:
    """Share of a beam that passes a homogeneous conservative cloud, direct and diffuse.

    T = [(2+3µ) + (2−3µ) e^(−(1−g)τ/µ)] / (4 + 3(1−g)τ). Source: Eddington closure with
    similarity scaling (Joseph, Wiscombe & Weinman 1976).
    """
    tau = np.asarray(optical_depth, dtype=np.float64) * K_TRANSPORT
    mu = max(cosine, 0.03)
    return ((2 + 3 * mu) + (2 - 3 * mu) * np.exp(-tau / mu)) / (4 + 3 * tau)
