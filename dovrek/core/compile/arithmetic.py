"""Small arithmetic shared by kernels."""

from __future__ import annotations

import math

from dovrek.core.compile.kernels import inner, kernel


@kernel
def exp_minus(x):
    """exp(−x) for x ≥ 0 by a quartic at x/64 squared six times; vectorises, 1e-6 absolute.

    The clamp at 60 matters: the quartic grows without bound beyond x of about 180.
    """
    y = min(x, 60.0) * (1.0 / 64.0)
    e = 1.0 - y * (1.0 - y * (0.5 - y * (1.0 / 6.0 - y * (1.0 / 24.0))))
    e = e * e
    e = e * e
    e = e * e
    e = e * e
    e = e * e
    return e * e


@inner
def clamp(x, low, high):
    """`x`, or the limit it lies beyond."""
    return min(max(x, low), high)


@kernel
def smoothstep(low, high, x):
    """Cubic step from 0 at `low` to 1 at `high`."""
    u = clamp((x - low) / (high - low), 0.0, 1.0)
    return u * u * (3.0 - 2.0 * u)


@kernel
def henyey_greenstein(cosine, g):
    """Phase function per steradian. Source: Henyey & Greenstein 1941."""
    d = 1.0 + g * g - 2.0 * g * cosine
    return (1.0 - g * g) / (4.0 * math.pi * d * math.sqrt(d))
