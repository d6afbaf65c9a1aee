"""How a cloud turns light: phase function, its scaling, and the tables of the direct beam."""

from __future__ import annotations

import math
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel

Array = NDArray[np.float64]

ORDERS = 420
ANGLES, DEPTHS, DEPTH_LIMIT = 160, 64, 40.0


class Phase(NamedTuple):
    """A phase function as Henyey–Greenstein lobes, and how it is scaled for diffusion."""

    lobes: tuple[tuple[float, float], ...]  # weight, asymmetry of each

    @property
    def asymmetry(self) -> float:
        """Mean cosine of a turn."""
        return sum(w * g for w, g in self.lobes)

    @property
    def peak(self) -> float:
        """Second moment: the share that delta scaling takes as not scattered at all."""
        return sum(w * g * g for w, g in self.lobes)

    @property
    def forward(self) -> tuple[tuple[float, float], ...]:
        """The part of the lobes, of weight `peak`, that is treated as still in the beam."""
        (w0, g0), (_, g1) = self.lobes[:2]
        return (w0, g0), (self.peak - w0, g1)

    @property
    def k_scaled(self) -> float:
        """Share of extinction left by delta scaling."""
        return 1.0 - self.peak

    @property
    def k_transport(self) -> float:
        return 1.0 - self.asymmetry

    @property
    def g_scaled(self) -> float:
        return 1.0 - self.k_transport / self.k_scaled

    @property
    def drift(self) -> float:
        return self.g_scaled / (1.0 - self.g_scaled)

    def kept_within(self, angle: float) -> float:
        """Share of scattered light that small turns leave within an angle (radians) of the beam.
        Source: the integral of Henyey & Greenstein 1941."""
        return sum(w * (1.0 - g * g) / (2.0 * g) * (
            1.0 / (1.0 - g) - 1.0 / math.sqrt(1.0 + g * g - 2.0 * g * math.cos(angle)))
            for w, g in self.forward)

    def flat(self) -> list[float]:
        """Weights and asymmetries in a row, as kernels read them."""
        return [number for lobe in self.lobes for number in lobe]


# Water droplets: mean cosine .827.
DROPLETS = Phase(((0.60, 0.95), (0.345, 0.80), (0.055, -0.35)))
# Rough ice crystals of mixed habit: mean cosine .766, no corona and no bow. Source: the severely
# roughened columns of Yang et al. 2013 and Baum et al. 2014 have .75 to .78 at 550 nm.
ICE = Phase(((0.56, 0.93), (0.375, 0.71), (0.065, -0.32)))
# Clean columns: more light goes nearly straight on (Baum et al. 2014: smooth solid columns, .80).
COLUMNS = Phase(((0.62, 0.945), (0.325, 0.74), (0.055, -0.32)))
# Water by the droplets' radius (µm): the forward peak is the narrower the larger they are, for
# diffraction turns light by about λ/r; mean cosines go from .80 to .84.
RADII = (4.0, 6.5, 16.0, 26.0)
OTHER_DROPLETS = tuple(
    Phase(((0.60, 1.0 - 0.05 * (10.0 / r) ** 0.55), (0.345, 0.80 + 0.03 * math.log10(r / 10.0)),
           (0.055, -0.35))) for r in RADII)
PHASES = (DROPLETS, ICE, COLUMNS, *OTHER_DROPLETS)
DROPLETS_AT, ICE_AT, COLUMNS_AT = 0, 1, 2
K_SCALED = DROPLETS.k_scaled


def droplets_at(radius_um: float) -> int:
    """Place in PHASES of the droplets nearest in size."""
    kinds = {10.0: DROPLETS_AT} | {r: 3 + k for k, r in enumerate(RADII)}
    return kinds[min(kinds, key=lambda r: abs(math.log(r / radius_um)))]


@kernel
def halo_at(theta, ring):
    """Light (1/sr, unit of scattering) that a ring of clear crystals adds at an angle.

    Sharp inside, fading outward. Source: minimum deviation of a 60° ice prism, 21.6° in red and
    22.4° in blue light (Greenler 1980); `ring` is that angle, radians; widths common practice.
    """
    d = math.degrees(theta - ring)
    if d < -2.0 or d > 16.0:
        return 0.0
    return HALO_GAIN / (1.0 + math.exp(-5.0 * d)) * math.exp(-max(d, 0.0) / 2.6)


HALO_GAIN = 0.65  # of a vivid display, by eye
# Of extinction, by which a ring fades: a tenth of the light that crystals turn by small angles
# stays within 3°; the rest leaves the ring.
HALO_FALL = 0.9
# Rings as X, Y and Z see them.
RINGS = (math.radians(21.75), math.radians(21.9), math.radians(22.3))


class Beam(NamedTuple):
    """Radiance (1/sr) of the sun's beam by phase function, angle (π u²) and depth (40 v²), for
    unit irradiance."""

    once: Array  # (phases, 160, 64) turned widely exactly once, any number of small turns
    narrow: Array  # (phases, 160, 64) only small turns


def phase_function(cosine: Array | float, phase: Phase = DROPLETS) -> Array:
    """Per steradian; integrates to 1. Source: Henyey & Greenstein 1941, a sum of three."""
    c = np.asarray(cosine, dtype=np.float64)
    total = np.zeros_like(c)
    for weight, g in phase.lobes:
        total += weight * (1 - g * g) / (4 * math.pi * (1 + g * g - 2 * g * c) ** 1.5)
    return total


@cache
def beam_tables() -> Beam:
    """Goudsmit–Saunderson series of the beam in cloud, for droplets and ice.

    A = Σ (2l+1)/4π (χ_l − c_l) e^(−(1−c_l)τ) P_l(cos θ), B the same with c_l alone.
    Source: Goudsmit & Saunderson 1940.
    """
    order = np.arange(ORDERS)
    theta = math.pi * (np.arange(ANGLES) / (ANGLES - 1)) ** 2
    depth = DEPTH_LIMIT * (np.arange(DEPTHS) / (DEPTHS - 1)) ** 2
    cosine = np.cos(theta)
    legendre = np.empty((ORDERS, ANGLES))
    legendre[0], legendre[1] = 1.0, cosine
    for k in range(2, ORDERS):
        legendre[k] = ((2 * k - 1) * cosine * legendre[k - 1] - (k - 1) * legendre[k - 2]) / k
    once, small = [], []
    for phase in PHASES:
        chi = np.sum([w * g**order for w, g in phase.lobes], axis=0)
        narrow = np.sum([w * g**order for w, g in phase.forward], axis=0)
        fall = np.exp(-np.outer(1.0 - narrow, depth)) * ((2 * order + 1) / (4 * math.pi))[:, None]
        once.append(legendre.T @ (fall * (chi - narrow)[:, None]))
        small.append(legendre.T @ (fall * narrow[:, None]))
    return Beam(np.maximum(once, 0.0), np.maximum(small, 0.0))


@inner
def beam_row(theta):
    """Fractional row of an angle."""
    return math.sqrt(min(max(theta, 0.0) / math.pi, 1.0)) * (ANGLES - 1)


@inner
def beam_at(table, phase, row, depth, k_scaled):
    """Bilinear look-up; beyond the last depth the value falls with the scaled extinction."""
    i = min(int(row), ANGLES - 2)
    fi = row - i
    v = math.sqrt(clamp(depth, 0.0, DEPTH_LIMIT) / DEPTH_LIMIT) * (DEPTHS - 1)
    j = min(int(v), DEPTHS - 2)
    fj = v - j
    near = table[phase, i, j] * (1 - fj) + table[phase, i, j + 1] * fj
    far = table[phase, i + 1, j] * (1 - fj) + table[phase, i + 1, j + 1] * fj
    value = near * (1 - fi) + far * fi
    if depth > DEPTH_LIMIT:
        value *= math.exp(-k_scaled * (depth - DEPTH_LIMIT))
    return value


def slab_transmittance(optical_depth: Array | float, cosine: float,
                       phase: Phase = DROPLETS) -> Array:
    """Share of a beam that passes a homogeneous conservative cloud, direct and diffuse.

    T = [(2+3µ) + (2−3µ) e^(−(1−g)τ/µ)] / (4 + 3(1−g)τ). Source: Eddington closure with
    similarity scaling (Joseph, Wiscombe & Weinman 1976).
    """
    tau = np.asarray(optical_depth, dtype=np.float64) * phase.k_transport
    mu = max(cosine, 0.03)
    return ((2 + 3 * mu) + (2 - 3 * mu) * np.exp(-tau / mu)) / (4 + 3 * tau)
